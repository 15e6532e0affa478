"""The renderer: buffers that are filled once and updated where something changed, and the passes of a frame."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from typing import Any

import moderngl
import numpy as np
from numpy.typing import NDArray

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, is_watertight, normal_groups, place_edges, triangulate, weld
from pegloom.core.geometry.split import split_vertices
from pegloom.core.memo import by_identity
from pegloom.core.skin.deform import add_normals
from pegloom.core.skin.measures import enclosed_volume
from pegloom.render.finer import Finer
from pegloom.scene.camera import Camera
from pegloom.scene.cavity import cavity
from pegloom.scene.contact import Shadow
from pegloom.scene.display import Display
from pegloom.scene.drawlist import DrawList
from pegloom.scene.ground import Tone, ground_corners, ground_picture
from pegloom.scene.lenses import RAMP, rgb

OTHER = "\0other"
"""Ends the id of a part as it stands right of the seam."""
BESIDE = "\0beside:"
"""Begins the id of a part of a figure that is not in hand."""
SHADOW = (6, 8, 12)
CLAY = (0.63, 0.61, 0.60)
SKY_TOP, SKY_BOTTOM = (0.135, 0.162, 0.215), (0.062, 0.072, 0.098)


@dataclass
class Surface:
    """One part on the card. slots: (material number, first index, count)."""

    mesh: Mesh
    vertex: np.ndarray
    points: Any
    lens: Any
    array: Any
    edges: Any
    slots: list[tuple[int, int, int]]
    normals: FloatArray
    shown: FloatArray | None = None
    lens_from: object | None = None
    closed: bool = False
    """Closed and facing outward: its back faces are never seen and need no drawing."""


@dataclass(frozen=True)
class Look:
    """How a material is shown: glTF's metallic-roughness.

    picture, relief, metal, occlusion, emissive : keys of uploaded textures for its base colour, its normals, its metallic and
        roughness, what light does not reach, what shines by itself.
    bumps, shaded : strength of the normals and of the occlusion. glow : emissive colour.
    """

    colour: tuple[float, float, float]
    alpha: float = 1.0
    metallic: float = 0.0
    roughness: float = 0.72
    picture: str | None = None
    relief: str | None = None
    bumps: float = 1.0
    metal: str | None = None
    occlusion: str | None = None
    shaded: float = 1.0
    emissive: str | None = None
    glow: tuple[float, float, float] = (0.0, 0.0, 0.0)


PLAIN = Look(CLAY)


Index = NDArray[np.int32]
"""Numbers of vertices, as the card reads them."""


@dataclass(frozen=True, slots=True, eq=False)
class Drawn:
    """What is drawn of a mesh: triangles (f, 3) by material, each material's (slot, first corner, corners), edges (e, 2).

    closed : as of Surface.
    """

    triangles: Index
    slots: tuple[tuple[int, int, int], ...]
    edges: Index
    closed: bool


@by_identity
def _drawn(mesh: Mesh) -> Drawn:
    split = split_vertices(mesh)
    # By material, then by vertex: neighbours in the list share vertices still in the cache.
    order = np.lexsort((split.triangles.min(axis=1), split.triangle_material))
    material = split.triangle_material[order]
    slots = []
    for slot in np.unique(material):
        rows = np.flatnonzero(material == slot)
        slots.append((int(slot), int(rows[0]) * 3, len(rows) * 3))
    edges = weld(mesh).first[place_edges(mesh)].astype(np.int32)
    closed = is_watertight(mesh) and enclosed_volume(mesh.points, triangulate(mesh).vertices) > 0
    return Drawn(split.triangles[order].astype(np.int32), tuple(slots), edges, closed)


def get_ready(mesh: Mesh) -> None:
    """Work out what `show_part` asks of a mesh, so that it finds it known. May run on any thread."""
    _drawn(mesh)
    normal_groups(mesh)
    cavity(mesh)


class Renderer:
    """Draws frames into whatever framebuffer is bound. Make it with the OpenGL context current, or with one of its own."""

    def __init__(self, gl: Any = None) -> None:
        self.gl = moderngl.create_context(require=330) if gl is None else gl
        self.programs = {name: self._program(name) for name in ("mesh", "line", "dot", "sky", "plain", "picture", "copy")}
        self.surfaces: dict[str, Surface] = {}
        self.pictures: dict[str, Any] = {}
        corners = np.array([[0, -1], [1, -1], [0, 1], [1, 1]], dtype=np.float32)
        self.line_corners = self.gl.buffer(corners.tobytes())
        square = np.array([[-1, -1], [1, -1], [-1, 1], [1, 1]], dtype=np.float32)
        self.square = self.gl.buffer(square.tobytes())
        self.sky = self.gl.vertex_array(self.programs["sky"], [(self.square, "2f", "in_corner")])
        self.finer = Finer(self.gl, self.programs["copy"], self.square)
        self.sets: dict[str, tuple[Any, Any, int]] = {}
        self.boards: list[tuple[str, FloatArray, float]] = []
        self.shadows: dict[str, tuple[Any, FloatArray]] = {}
        self.floor: tuple[Any, FloatArray] | None = None
        self.white = self.gl.texture((1, 1), 4, b"\xff" * 4)
        self.programs["mesh"]["ramp"].value = [tuple(rgb(c)) for c in RAMP]
        for unit, name in enumerate(("picture", "relief", "metal", "hidden_light", "lit_by_itself")):
            self.programs["mesh"][name].value = unit

    @property
    def software(self) -> bool:
        """Whether a processor, not a card, does the drawing."""
        name = str(self.gl.info["GL_RENDERER"]).lower()
        return "llvmpipe" in name or "softpipe" in name or "swrast" in name

    def _program(self, name: str) -> Any:
        folder = resources.files("pegloom.render") / "shaders"
        return self.gl.program(
            vertex_shader=(folder / f"{name}.vert").read_text(), fragment_shader=(folder / f"{name}.frag").read_text()
        )

    def set_picture(self, key: str, pixels: np.ndarray) -> None:
        """Upload a picture (h, w, 4) uint8, first row at the top."""
        if key in self.pictures:
            return
        flipped = np.ascontiguousarray(pixels[::-1])
        texture = self.gl.texture((pixels.shape[1], pixels.shape[0]), 4, flipped.tobytes())
        texture.build_mipmaps()
        texture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        self.pictures[key] = texture

    def keep_pictures(self, keys: set[str]) -> None:
        """Drop pictures that are no longer needed."""
        for key in [k for k in self.pictures if k not in keys]:
            self.pictures.pop(key).release()

    def keep_parts(self, ids: set[str]) -> None:
        """Drop what is no longer shown."""
        for part_id in [p for p in self.surfaces if p not in ids]:
            self._release(self.surfaces.pop(part_id))

    def _release(self, surface: Surface) -> None:
        for piece in (surface.array, surface.edges, surface.points, surface.lens):
            piece.release()

    def show_part(self, part_id: str, mesh: Mesh, points: FloatArray) -> None:
        """Put a part's present points on the card; only what changed is computed and sent."""
        surface = self.surfaces.get(part_id)
        if surface is None or surface.mesh.corners is not mesh.corners or surface.mesh.uvs is not mesh.uvs:
            if surface is not None:
                self._release(surface)
            surface = self._upload(mesh)
            self.surfaces[part_id] = surface
        if surface.shown is points:
            return
        surface.mesh = mesh
        add_normals(points, triangulate(mesh).vertices, normal_groups(mesh), surface.normals)
        data = np.empty((len(surface.vertex), 6), dtype=np.float32)
        data[:, :3] = points[surface.vertex]
        data[:, 3:] = surface.normals[surface.vertex]
        if len(data):
            surface.points.write(data)
        surface.shown = points

    def _upload(self, mesh: Mesh) -> Surface:
        split = split_vertices(mesh)
        n = max(len(split.vertex), 1)
        points, lens = self.gl.buffer(reserve=n * 24, dynamic=True), self.gl.buffer(reserve=n * 16, dynamic=True)
        lens.write(np.zeros((n, 4), dtype=np.float32).tobytes())
        uv = split.uvs if split.uvs is not None else np.zeros((n, 2))
        uvs = self.gl.buffer(uv.astype(np.float32).tobytes())
        deep = cavity(mesh)[split.vertex].astype(np.float32) if len(split.vertex) else np.zeros(n, dtype=np.float32)
        hollow = self.gl.buffer(deep.tobytes())
        listed = _drawn(mesh)
        index = self.gl.buffer(listed.triangles.tobytes() or b"\0" * 12)
        program = self.programs["mesh"]
        array = self.gl.vertex_array(
            program,
            [(points, "3f 3f", "in_point", "in_normal"), (uvs, "2f", "in_uv"), (hollow, "1f", "in_hollow"), (lens, "4f", "in_lens")],
            index,
        )
        edge_array = self.gl.vertex_array(
            self.programs["plain"],
            [(points, "3f 12x", "in_point")],
            self.gl.buffer(listed.edges.tobytes() or b"\0" * 8),
        )
        normals = np.zeros((mesh.vertex_count, 3))
        slots = list(listed.slots)
        return Surface(mesh, split.vertex, points, lens, array, edge_array, slots, normals, closed=listed.closed)

    def set_lens(self, part_id: str, values: FloatArray | None, source: object) -> None:
        """Lens values (n, 4) of a part; source: an object whose identity says when they changed."""
        surface = self.surfaces[part_id]
        if surface.lens_from is source:
            return
        n = len(surface.vertex)
        data = np.zeros((n, 4), dtype=np.float32) if values is None else values[surface.vertex].astype(np.float32)
        if n:
            surface.lens.write(data)
        surface.lens_from = source

    def set_lines(self, name: str, rows: np.ndarray, *, dots: bool = False) -> None:
        """Fill a named set of lines (s, 11) or dots (d, 9)."""
        data = np.ascontiguousarray(rows, dtype=np.float32)
        line_set = self.sets.get(name)
        if line_set is None or line_set[0].size < data.nbytes or line_set[0].size > 8 * data.nbytes + 4096:
            if line_set is not None:
                line_set[1].release()
                line_set[0].release()
            buffer = self.gl.buffer(reserve=max(int(data.nbytes * 1.3), 256), dynamic=True)
            if dots:
                content = [(self.square, "2f", "in_corner"),
                           (buffer, "3f 4f 1f 1f/i", "in_point", "in_colour", "in_radius", "in_hollow")]  # fmt: skip
                array = self.gl.vertex_array(self.programs["dot"], content)
            else:
                content = [(self.line_corners, "2f", "in_corner"),
                           (buffer, "3f 3f 4f 1f/i", "in_start", "in_end", "in_colour", "in_width")]  # fmt: skip
                array = self.gl.vertex_array(self.programs["line"], content)
            line_set = (buffer, array, 0)
        if data.nbytes:
            line_set[0].write(data)
        self.sets[name] = (line_set[0], line_set[1], len(data))

    def set_draw_list(self, draw: DrawList) -> None:
        """The marks of a frame, save the ground."""
        self.set_lines("through", draw.through.packed())
        self.set_lines("over", draw.over.packed())
        self.set_lines("dots", draw.dots.packed(), dots=True)

    def frame(
        self,
        camera: Camera,
        size: tuple[int, int],
        looks: dict[str, list[Look]],
        *,
        display: Display,
        wire_over: bool,
        lens_mode: int,
        framebuffer: Any = None,
        seam: float | None = None,
        ratio: float = 1.0,
        aside: tuple[float, float] = (0.0, 0.0),
        behind: tuple[float, float, float, float] | None = None,
    ) -> None:
        """Draw everything.

        aside : pixels by which all of it is moved, for a pass of a finer picture.

        behind : the colour behind all of it instead of the sky; what is drawn is multiplied by its alpha then.

        size : of the stage, in device pixels.
        ratio : device pixels to one of the screen's own; lines and dots are as many of those wide.
        seam : share of the width right of which parts whose id ends in OTHER are drawn instead of the plain ones.
        """
        gl = self.gl
        if framebuffer is not None:
            framebuffer.use()
        gl.viewport = (0, 0, *size)
        gl.clear(*((0.08, 0.09, 0.12, 1.0) if behind is None else behind), depth=1.0)
        gl.disable(moderngl.DEPTH_TEST | moderngl.CULL_FACE)
        gl.enable(moderngl.BLEND)
        gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA
        if behind is None:
            self.programs["sky"]["top"].value, self.programs["sky"]["bottom"].value = SKY_TOP, SKY_BOTTOM
            self.sky.render(moderngl.TRIANGLE_STRIP)
        else:
            gl.blend_func = moderngl.SRC_ALPHA, moderngl.ONE_MINUS_SRC_ALPHA, moderngl.ONE, moderngl.ONE_MINUS_SRC_ALPHA
        projection = camera.projection(*size)
        projection[0] += 2.0 * aside[0] / max(size[0], 1) * projection[3]
        projection[1] += 2.0 * aside[1] / max(size[1], 1) * projection[3]
        # The ground is the world's, all else is told in the space of the figure in hand.
        ground, full = (tuple((projection @ one.view()).T.ravel().astype("f4")) for one in (camera.world, camera))
        for name in ("mesh", "dot", "plain"):
            self.programs[name]["clip_from_world"].value = full
        for name in ("line", "picture"):
            self.programs[name]["clip_from_world"].value = ground
        for name in ("line", "dot"):
            self.programs[name]["stage"].value = tuple(float(v) / ratio for v in size)
        # Without depth: what lies in the same plane is drawn over it. From below nobody looks through the ground.
        above = camera.world.eye[1] > 0.0
        for flat in (self.floor, *self.shadows.values()):
            if flat is not None and above:
                self._picture(*flat, 1.0)
        gl.enable(moderngl.DEPTH_TEST)
        gl.depth_func = "<="
        self._lines("behind", 1.0)
        for name in ("line", "picture"):
            self.programs[name]["clip_from_world"].value = full
        self._boards()
        if seam is None:
            self._meshes(camera, looks, display, wire_over, lens_mode, right=False)
        else:
            edge = round(size[0] * min(max(seam, 0.0), 1.0))
            for right, box in ((False, (0, 0, edge, size[1])), (True, (edge, 0, size[0] - edge, size[1]))):
                gl.scissor = box
                self._meshes(camera, looks, display, wire_over, lens_mode, right=right)
            gl.scissor = None
        self._lines("ghost", 1.0)
        gl.disable(moderngl.DEPTH_TEST)
        self._lines("through", 0.32 if display is not Display.SEE_THROUGH else 1.0)
        if display is not Display.SEE_THROUGH:
            gl.enable(moderngl.DEPTH_TEST)
            self._lines("through", 1.0)
            gl.disable(moderngl.DEPTH_TEST)
        self._lines("over", 1.0)
        self._dots()

    def set_boards(self, boards: list[tuple[str, FloatArray, float]]) -> None:
        """Pictures behind the mesh: (key of an uploaded picture, corners (4, 3) from its lower left, alpha)."""
        self.boards = boards

    def set_floor(self, tone: Tone | None, height: float) -> None:
        """The ground's own tone, none where there is none."""
        if self.floor is not None:
            self.floor[0].release()
        self.floor = None
        if tone is not None:
            pixels = ground_picture(tone)
            texture = self.gl.texture(pixels.shape[1::-1], 4, pixels.tobytes())
            texture.filter = (moderngl.LINEAR, moderngl.LINEAR)
            self.floor = (texture, ground_corners(height))

    def set_shadow(self, key: str, shadow: Shadow | None) -> None:
        """A figure's soft shadow on the ground, none where there is none."""
        held = self.shadows.pop(key, None)
        if shadow is None:
            if held is not None:
                held[0].release()
            return
        pixels = np.zeros((*shadow.alpha.shape, 4), dtype=np.uint8)
        pixels[..., :3] = SHADOW
        pixels[..., 3] = np.round(255 * shadow.alpha)
        texture = held[0] if held is not None else self.gl.texture(shadow.alpha.shape[::-1], 4)
        texture.filter = (moderngl.LINEAR, moderngl.LINEAR)
        texture.write(pixels.tobytes())
        self.shadows[key] = (texture, shadow.corners)

    def keep_shadows(self, keys: set[str]) -> None:
        """Drop those of figures that are no longer shown."""
        for key in [k for k in self.shadows if k not in keys]:
            self.set_shadow(key, None)

    def _boards(self) -> None:
        for key, corners, alpha in self.boards:
            if key in self.pictures:
                self._picture(self.pictures[key], corners, alpha)

    def _picture(self, texture: Any, corners: FloatArray, alpha: float) -> None:
        """A flat picture in space, its corners (4, 3) from its first row's left."""
        program = self.programs["picture"]
        uv = np.array([[0, 0], [1, 0], [0, 1], [1, 1]], dtype=np.float32)
        data = np.concatenate([corners[[0, 1, 3, 2]].astype(np.float32), uv], axis=1)
        buffer = self.gl.buffer(np.ascontiguousarray(data).tobytes())
        array = self.gl.vertex_array(program, [(buffer, "3f 2f", "in_point", "in_uv")])
        texture.use(0)
        program["alpha"].value = alpha
        array.render(moderngl.TRIANGLE_STRIP)
        array.release()
        buffer.release()

    def _meshes(
        self, camera: Camera, looks: dict[str, list[Look]], display: Display, wire_over: bool, lens_mode: int,
        *, right: bool,
    ) -> None:  # fmt: skip
        program = self.programs["mesh"]
        program["eye"].value = tuple(camera.eye if camera.perspective else camera.eye + camera.backward * 100)
        program["right"].value, program["up"].value = tuple(camera.right), tuple(camera.up)
        see_through = display is Display.SEE_THROUGH
        for part_id, surface in self.surfaces.items():
            # Other figures stand on both sides of a seam, and no lens tells of them.
            beside = part_id.startswith(BESIDE)
            if part_id.endswith(OTHER) is not right and not beside:
                continue
            mode = 0 if beside else lens_mode
            program["lens_mode"].value = mode
            if display is Display.WIRE:
                self._edges(surface, (0.62, 0.66, 0.74, 0.75))
                continue
            if surface.closed and not see_through:
                self.gl.enable(moderngl.CULL_FACE)
            for slot, first, count in surface.slots:
                part_looks = looks.get(part_id, [])
                # Under a lens the surface is plain: its colours are the lens's.
                textured = display is Display.TEXTURED and mode == 0
                look = part_looks[slot] if textured and slot < len(part_looks) else PLAIN
                keys = (look.picture, look.relief, look.metal, look.occlusion, look.emissive)
                textures = [self.pictures.get(key or "") for key in keys]
                relief, metal, occlusion = textures[1:4]
                for unit, texture in enumerate(textures):
                    (texture or self.white).use(unit)
                for name, value in (
                    ("textured", int(look is not PLAIN)), ("base_colour", look.colour), ("metallic", look.metallic),
                    ("roughness", look.roughness), ("bumps", look.bumps if relief is not None else 0.0),
                    ("metal_known", int(metal is not None)), ("shaded", look.shaded if occlusion is not None else 0.0), ("glow", look.glow), ("alpha", 0.34 if see_through else look.alpha),
                ):  # fmt: skip
                    program[name].value = value
                surface.array.render(moderngl.TRIANGLES, vertices=count, first=first)
            self.gl.disable(moderngl.CULL_FACE)
            if wire_over:
                self._edges(surface, (0.05, 0.06, 0.09, 0.55))

    def _edges(self, surface: Surface, tint: tuple[float, float, float, float]) -> None:
        self.programs["plain"]["tint"].value = tint
        surface.edges.render(moderngl.LINES)

    def _lines(self, name: str, dim: float) -> None:
        line_set = self.sets.get(name)
        if line_set and line_set[2]:
            self.programs["line"]["dim"].value = dim
            line_set[1].render(moderngl.TRIANGLE_STRIP, vertices=4, instances=line_set[2])

    def _dots(self) -> None:
        dot_set = self.sets.get("dots")
        if dot_set and dot_set[2]:
            dot_set[1].render(moderngl.TRIANGLE_STRIP, vertices=4, instances=dot_set[2])
