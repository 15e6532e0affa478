"""What lies under the pointer on the stage, and what is said of it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPoint

from pegloom.app.session import Area, Selection, Session, Tool
from pegloom.app.stage.lens import difference
from pegloom.core.geometry.mesh import place_edges, triangulate, weld
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.skin.measures import edge_stretch
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Part
from pegloom.render.renderer import Renderer
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.lenses import Lens, thickness_kept
from pegloom.scene.picking import NEAR_ENOUGH, Hit, all_hits, hit_surface, line_distance, nearest_dot
from pegloom.scene.stroke import Facing


class Pointing:
    """The stage's eyes: a part of `Stage`, which has the session, the camera and the renderer."""

    session: Session
    camera: Camera
    size_in_points: tuple[int, int]
    pointer: tuple[float, float] | None
    brush_hit: tuple[Part, Hit] | None
    renderer: Renderer | None
    _hit_of: tuple[PosedFrame, object, tuple[Part, Hit] | None] | None

    def _selected_points(self) -> np.ndarray:
        _, ids, points = self._things(self.session.selection.kind)
        chosen = [p for i, p in zip(ids, points, strict=True) if i in self.session.selection.ids]
        frame = self.session.frame()
        if not chosen and self.session.vertices and frame is not None:
            return np.concatenate([frame.points[p][v] for p, v in self.session.vertices.items() if p in frame.points])
        return np.array(chosen).reshape(-1, 3)

    def _things(self, kind: str) -> tuple[str, list[str], np.ndarray]:
        character, frame = self.session.character, self.session.frame()
        none = (kind, [], np.zeros((0, 3)))
        if character is None or frame is None:
            return none
        if kind == "peg" and character.pegs is not None:
            return kind, [p.name for p in character.pegs.pegs], np.array([p.position for p in character.pegs.pegs])
        if kind == "joint" and character.skeleton is not None:
            return kind, [j.id for j in character.skeleton.joints], frame.joints[:, :3, 3]
        if kind == "control" and character.rig is not None:
            return kind, [c.id for c in character.rig.controls], frame.controls[:, :3, 3]
        return none

    def pickable(self) -> str:
        """The kind of thing a click picks in this area."""
        character = self.session.character
        if character is None:
            return ""
        hidden = self.session.hidden
        if self.session.area is Area.JOINTS:
            return (
                "peg"
                if character.pegs is not None and "pegs" not in hidden
                else "joint"
                if "joints" not in hidden
                else ""
            )
        if self.session.area is Area.WEIGHTS:
            return "joint" if "joints" not in hidden else ""
        if self.session.area in (Area.CONTROLS, Area.MOTION):
            return "control" if "controls" not in hidden else ""
        return "part"

    def thing_at(self, x: float, y: float) -> tuple[str, str]:
        """(kind, id) under a pixel, ("", "") for nothing. Joints and pegs are found through the mesh."""
        kind = self.pickable()
        size = self.size_in_points
        if kind in ("peg", "joint"):
            for option in dict.fromkeys([kind, *(["joint"] if "joints" not in self.session.hidden else [])]):
                _, ids, points = self._things(option)
                found = nearest_dot(points, x, y, self.camera, size)
                if found is not None:
                    return option, ids[found]
            return "", ""
        character, frame = self.session.character, self.session.frame()
        if kind == "control" and character.rig is not None and frame is not None:
            dim = drawing.out_of_use(character.rig, character.pose)
            best = (NEAR_ENOUGH * 0.75, "")
            for i, control in enumerate(character.rig.controls):
                extra = 3.0 if control.id in dim else 0.0
                for line in shape_lines(control):
                    world = line @ frame.controls[i][:3, :3].T + frame.controls[i][:3, 3]
                    best = min(best, (line_distance(world, x, y, self.camera, size) + extra, control.id))
            if best[1]:
                return "control", best[1]
            return "", ""
        if kind != "part":
            return "", ""
        hit = self.surface_at(x, y)
        return ("part", hit[0].id) if hit else ("", "")

    def surface_at(self, x: float, y: float) -> tuple[Part, Hit] | None:
        """The nearest part under a pixel."""
        character, frame = self.session.character, self.session.frame()
        if character is None or frame is None or self.mesh_hidden:
            return None
        asked = (x, y, self.camera, self.size_in_points)
        if self._hit_of is None or self._hit_of[0] is not frame or self._hit_of[1] != asked:
            self._hit_of = (frame, asked, self._surface_at(character, frame, x, y))
        return self._hit_of[2]

    def _surface_at(self, character: Character, frame: PosedFrame, x: float, y: float) -> tuple[Part, Hit] | None:
        ray = self.camera.ray(x, y, *self.size_in_points)
        best: tuple[Part, Hit] | None = None
        for part in self.session.shown_parts:
            hit = hit_surface(ray, frame.points[part.id], triangulate(part.mesh).vertices)
            if hit is not None and (best is None or hit.distance < best[1].distance):
                best = (part, hit)
        return best

    def _middle_at(self, x: float, y: float) -> bool:
        session, character = self.session, self.session.character
        if session.area is not Area.MESH or not session.middle_shown or character is None or character.standing is None:
            return False
        line = drawing.middle_line(character.standing.middle, character.height, self._depth(character))
        return line_distance(line, x, y, self.camera, self.size_in_points) < NEAR_ENOUGH

    def _seam_at(self, x: float) -> bool:
        return self.session.other is not None and abs(x - self.session.seam * self.width()) < 7

    def _reach_at(self, x: float, y: float) -> bool:
        """Whether the drawn reach is under a pixel; the brush paints through it."""
        if self.session.tool in (Tool.BRUSH, Tool.SELECT):
            return False
        return any(line_distance(line, x, y, self.camera, self.size_in_points) < 6 for line in self.session.reach())

    def _words(self, kind: str, found: str) -> str:
        character = self.session.character
        if self.pointer is not None and self._seam_at(self.pointer[0]):
            return "The seam: drag it to compare"
        if found == "reach":
            factor = character.reaches.get(self.session.influence, 1.0)
            return f"Reach of {character.skeleton.joint(self.session.influence).name}: {factor:.2f}, {100 * self.session.reach_radius:.1f} cm; drag it"
        if self.brush_hit is not None and character is not None and character.skin is not None:
            part, hit = self.brush_hit
            weights = character.skin.weights.get(part.id)
            if weights is not None and character.skeleton is not None:
                tri = triangulate(part.mesh).vertices[hit.triangle]
                vertex = int(
                    tri[np.argmin(np.linalg.norm(self.session.frame().points[part.id][tri] - hit.point, axis=1))]
                )
                row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
                pairs = sorted(zip(weights.values[row], weights.indices[row], strict=True), reverse=True)
                listed = ", ".join(
                    f"{character.skeleton.joint(weights.joint_ids[j]).name} {w:.2f}" for w, j in pairs[:4]
                )
                return f"vertex {vertex}: {listed}{self._lens_words(part, vertex)}"
        if kind == "control":
            control = character.rig.control(found)
            limb = character.rig.limb_of(found)
            if found in drawing.out_of_use(character.rig, character.pose) and limb is not None:
                side = "IK" if found in limb.fk else "FK"
                return f"{control.name}: out of use while this limb is on {side}; move its blend slider"
            return control.name
        if kind == "joint":
            return character.skeleton.joint(found).name
        if found == "middle":
            return "The centre line: drag it"
        return found.replace("_", " ") if kind == "peg" else ""

    def _lens_words(self, part: Part, vertex: int) -> str:
        """What the lens in hand says of one vertex, as a number."""
        session = self.session
        if session.lens is Lens.DIFFERENCE:
            found = difference(session, part.id)
            if found is None:
                return ""
            values, _, metres = found
            return f"; apart {1000 * values[vertex]:.1f} mm" if metres else f"; apart {values[vertex]:.2f} of weight"
        points = session.frame().points[part.id]
        character = session.character
        if session.lens is Lens.VOLUME:
            weights, joints = character.skin.weights[part.id], session.frame().joints
            kept = thickness_kept(part, weights, character.skeleton, points, joints, np.array([vertex]))
            return f"; {100 * float(kept[0]):.0f} % of its thickness kept"
        if session.lens is Lens.STRAIN:
            g = weld(part.mesh)
            place = g.group[vertex]
            edges = place_edges(part.mesh)
            mine = edges[(edges == place).any(axis=1)]
            if len(mine):
                ratio = edge_stretch(part.mesh.points[g.first], points[g.first], mine)
                return f"; edges {ratio.min():.2f} to {ratio.max():.2f} of rest"
        return ""

    def influence_at_pointer(self) -> str:
        """The strongest joint of the vertex under the pointer, "" for none."""
        character = self.session.character
        if self.pointer is None or character is None or character.skin is None:
            return ""
        hit = self.surface_at(*self.pointer)
        if hit is None or hit[0].id not in character.skin.weights:
            return ""
        weights = character.skin.weights[hit[0].id]
        vertex = int(triangulate(hit[0].mesh).vertices[hit[1].triangle][0])
        row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
        return weights.joint_ids[int(weights.indices[row][int(np.argmax(weights.values[row]))])]

    def pixel_of(self, selection: Selection) -> QPoint | None:
        """Where the leading thing of a selection is drawn."""
        _, ids, points = self._things(selection.kind)
        lead = selection.lead
        if lead not in ids:
            return None
        x, y, depth = self.camera.project(points[ids.index(lead)], *self.size_in_points)[0]
        return QPoint(int(x), int(y)) if depth > 0 else None

    @staticmethod
    def _depth(character: Character) -> float:
        points = character.all_points()
        return float(points[:, 2].max()) + 0.02 * character.height if len(points) else 0.3

    def _facing(self, part: Part) -> Facing | None:
        """Which vertices may be painted: with Front only, those turned to the eye."""
        brush = self.session.brush
        if not brush.front or brush.through:
            return None
        surface = self.renderer.surfaces.get(part.id) if self.renderer is not None else None
        if surface is None or len(surface.normals) != part.mesh.vertex_count:
            return None
        points, normals, camera = self.session.frame().points[part.id], surface.normals, self.camera

        def turned(vertices: np.ndarray) -> np.ndarray:
            to_eye = camera.eye - points[vertices]
            if not camera.perspective:
                to_eye = np.broadcast_to(camera.backward, to_eye.shape)
            # A little past the edge counts, so that a stroke along the outline is not broken.
            return np.einsum("nd,nd->n", normals[vertices], to_eye) > -0.2 * np.linalg.norm(to_eye, axis=1)

        return turned

    def _seeds(self, x: float, y: float) -> list[tuple[Part, np.ndarray]]:
        """Parts and vertices of the triangles under a pixel: the nearest, or with Through every layer."""
        found = self.surface_at(x, y)
        if found is None:
            return []
        part, hit = found
        triangles = triangulate(part.mesh).vertices
        seeds = [(part, triangles[hit.triangle])]
        if self.session.brush.through:
            ray = self.camera.ray(x, y, *self.size_in_points)
            points = self.session.frame().points[part.id]
            seeds = [(part, triangles[k]) for k in all_hits(ray, points, triangles)] or seeds
        return seeds
