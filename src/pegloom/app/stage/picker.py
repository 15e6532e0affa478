"""What lies under a pixel of the view. It knows kinds of things and no work area."""

from __future__ import annotations

import numpy as np

from pegloom.app.context import Context
from pegloom.app.spec import SHOWN_AS
from pegloom.app.stage.tools import Size
from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import triangulate
from pegloom.core.rig.shapes import rig_shapes
from pegloom.core.rig.use import out_of_use
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Part
from pegloom.scene.camera import Camera
from pegloom.scene.picking import Hit, all_hits, best_shape, hit_surface, near_shapes, nearest_dot
from pegloom.scene.rig_drawing import drawn
from pegloom.scene.stroke import Facing


class Picker:
    """Asked with the camera and the size of the view in pixels."""

    def __init__(self, c: Context) -> None:
        self.c = c
        self._hit: tuple[object, object, tuple[Part, Hit] | None] | None = None

    def things(self, kind: str) -> tuple[list[str], FloatArray]:
        """Ids and places (n, 3) of all things of a kind."""
        character, frame = self.c.state.character, self.c.frames.frame()
        if character is None or frame is None:
            return [], np.zeros((0, 3))
        if kind == "peg" and character.pegs is not None and character.pegs.pegs:
            return [p.name for p in character.pegs.pegs], np.array([p.position for p in character.pegs.pegs])
        if kind == "joint" and character.skeleton is not None:
            return [j.id for j in character.skeleton.joints], frame.joints[:, :3, 3]
        if kind == "control" and character.rig is not None:
            unseen = self.c.frames.unseen
            some = [i for i, control in enumerate(character.rig.controls) if drawn(control, unseen)]
            return [character.rig.controls[i].id for i in some], frame.shown[some, :3, 3]
        return [], np.zeros((0, 3))

    def kinds(self) -> list[str]:
        """Kinds a press picks here, the first one first: those of the area that there are and that show."""
        character, hidden = self.c.state.character, self.c.state.viewing.hidden
        if character is None:
            return []
        wanted = self.c.state.tooling.wanted
        area = self.c.area
        some = list(wanted.kinds) if wanted is not None else [k for k in area.picks if k not in area.passes_by(self.c.state)]
        exists = {"peg": character.pegs is not None}
        return [k for k in some if SHOWN_AS.get(k, "") not in hidden and exists.get(k, True)]

    def selected_points(self) -> FloatArray:
        """Places (n, 3) of what is picked, things or vertices."""
        state, frame = self.c.state, self.c.frames.frame()
        ids, points = self.things(state.selection.kind)
        chosen = [p for i, p in zip(ids, points, strict=True) if i in state.selection.ids]
        if not chosen and state.vertices and frame is not None:
            return np.concatenate([frame.points[p][v] for p, v in state.vertices.items() if p in frame.points])
        return np.array(chosen).reshape(-1, 3)

    def thing_at(self, x: float, y: float, camera: Camera, size: Size, *, mesh: bool) -> tuple[str, str]:
        """(kind, id) under a pixel, ("", "") for nothing. Joints and pegs are found through the mesh; mesh: whether it
        shows."""
        character, frame = self.c.state.character, self.c.frames.frame()
        if character is None or frame is None:
            return "", ""
        for kind in self.kinds():
            found: str = ""
            if kind in ("peg", "joint"):
                ids, points = self.things(kind)
                at = nearest_dot(points, x, y, camera, size)
                found = ids[at] if at is not None else ""
            elif kind == "control" and character.rig is not None:
                found = self._control_at(character, frame, x, y, camera, size)
            elif kind == "part" and mesh:
                hit = self.surface_at(x, y, camera, size)
                found = hit[0].id if hit is not None else ""
            if found:
                return kind, found
        return "", ""

    def _control_at(
        self, character: Character, frame: PosedFrame, x: float, y: float, camera: Camera, size: Size
    ) -> str:
        rig = character.rig
        assert rig is not None
        shapes, unseen = rig_shapes(rig), self.c.frames.unseen
        near = near_shapes(shapes, frame.shown, x, y, camera, size)
        dim = out_of_use(rig, self.c.frames.control_pose)
        some = [n for n in near if drawn(rig.controls[n.row], unseen)]
        if not some:
            return ""
        # What the mesh covers is drawn faintly through it; it comes after what is plain to see.
        hit = None if "mesh" in self.c.state.viewing.hidden else self.surface_at(x, y, camera, size)
        covered = np.inf if hit is None else float(camera.project(hit[1].point[None], *size)[0, 2])
        return rig.controls[best_shape(some, {n.row for n in some if rig.controls[n.row].id in dim}, covered)].id

    def surface_at(
        self, x: float, y: float, camera: Camera, size: Size, *, instead: tuple[str, FloatArray] | None = None
    ) -> tuple[Part, Hit] | None:
        """The nearest part under a pixel. instead: (part id, points) of a part that stands otherwise just now."""
        frame = self.c.frames.frame()
        if frame is None:
            return None
        asked = (x, y, camera, size)
        surface = instead[1] if instead is not None else frame
        if self._hit is None or self._hit[0] is not surface or self._hit[1] != asked:
            self._hit = (surface, asked, self._surface_at(frame, x, y, camera, size, instead))
        return self._hit[2]

    def _surface_at(
        self, frame: PosedFrame, x: float, y: float, camera: Camera, size: Size, instead: tuple[str, FloatArray] | None
    ) -> tuple[Part, Hit] | None:
        ray = camera.ray(x, y, *size)
        best: tuple[Part, Hit] | None = None
        for part in self.c.frames.seen_parts:
            points = instead[1] if instead is not None and instead[0] == part.id else frame.points[part.id]
            hit = hit_surface(ray, points, triangulate(part.mesh).vertices)
            if hit is not None and (best is None or hit.distance < best[1].distance):
                best = (part, hit)
        return best

    def seeds(
        self, x: float, y: float, camera: Camera, size: Size, *, through: bool,
        instead: tuple[str, FloatArray] | None = None,
    ) -> list[tuple[Part, IntArray]]:  # fmt: skip
        """Parts and vertices of the triangles under a pixel: the nearest, or with `through` every layer."""
        found, frame = self.surface_at(x, y, camera, size, instead=instead), self.c.frames.frame()
        if found is None or frame is None:
            return []
        part, hit = found
        triangles = triangulate(part.mesh).vertices
        if not through:
            return [(part, triangles[hit.triangle])]
        points = instead[1] if instead is not None and instead[0] == part.id else frame.points[part.id]
        layers = all_hits(camera.ray(x, y, *size), points, triangles)
        return [(part, triangles[k]) for k in layers] or [(part, triangles[hit.triangle])]

    def vertex_under(self, part: Part, hit: Hit) -> int:
        """The vertex of a hit triangle that is nearest to the hit."""
        frame = self.c.frames.frame()
        tri = triangulate(part.mesh).vertices[hit.triangle]
        points = frame.points[part.id] if frame is not None else part.mesh.points
        return int(tri[np.argmin(np.linalg.norm(points[tri] - hit.point, axis=1))])

    def influence_at(self, x: float, y: float, camera: Camera, size: Size) -> str:
        """The strongest joint of the vertex under a pixel, "" for none."""
        character = self.c.state.character
        hit = self.surface_at(x, y, camera, size)
        if hit is None or character is None or character.skin is None or hit[0].id not in character.skin.weights:
            return ""
        weights = character.skin.weights[hit[0].id]
        vertex = int(triangulate(hit[0].mesh).vertices[hit[1].triangle][0])
        row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
        if not len(weights.values[row]):
            return ""
        return weights.joint_ids[int(weights.indices[row][int(np.argmax(weights.values[row]))])]


def facing_of(points: FloatArray, normals: FloatArray, camera: Camera) -> Facing:
    """Which vertices are turned to the eye, of a surface with these points and normals (n, 3)."""

    def turned(vertices: IntArray) -> BoolArray:
        to_eye = camera.eye - points[vertices]
        if not camera.perspective:
            to_eye = np.broadcast_to(camera.backward, to_eye.shape)
        # A little past the edge counts, so that a stroke along the outline is not broken.
        along = np.einsum("nd,nd->n", normals[vertices], to_eye)
        return np.asarray(along > -0.2 * np.linalg.norm(to_eye, axis=1))

    return turned
