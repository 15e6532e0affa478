"""What the view shows, handed to the renderer: surfaces, lenses, pictures. Nothing is worked out while painting but what
has changed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.app.context import Context
from pegloom.app.stage.lens import lens_key, lens_values
from pegloom.app.stage.tools import AnyStroke
from pegloom.app.state.state import GroundSettings
from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import spots_on
from pegloom.core.geometry.subdivide import Smoothed, catmull_clark, loop
from pegloom.core.memo import by_identity
from pegloom.core.rig.evaluate import skin_matrices
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Image, Part, Subdivision
from pegloom.files.images import pixels
from pegloom.render.renderer import OTHER, Look, Renderer
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.contact import contact_shadow
from pegloom.scene.display import Display
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import Lens

BOARD_AXES = {"x": ([0, 0, -1], [0, 1, 0]), "y": ([1, 0, 0], [0, 0, -1]), "z": ([1, 0, 0], [0, 1, 0])}
"""Right and up of a reference picture seen along an axis."""


SPOTS = 6000
"""Places on each part that cast its shadow."""


class Buffers:
    def __init__(self, c: Context) -> None:
        self.c = c
        self._ground_for: object = None
        self._shadow_for: tuple[object, ...] = (None, None)
        self._images: dict[str, Image] = {}
        self._matrices: tuple[object, FloatArray] = (None, np.zeros((0, 4, 4)))

    def send_ground(self, renderer: Renderer) -> None:
        """The ground, and the figure as it stood before."""
        state = self.c.state
        height = state.character.height if state.character is not None else 1.7
        bare = "ground" in state.viewing.hidden
        ghost = state.viewing.ghost
        tone = state.settings.of(GroundSettings).tone
        wanted = (height, bare, id(ghost), tone)
        if self._ground_for == wanted:
            return
        self._ground_for = wanted
        renderer.set_floor(None if bare else tone, height)
        ground = DrawList()
        if not bare:
            drawing.draw_ground(ground, height)
        renderer.set_lines("behind", ground.behind.packed())
        before = DrawList()
        if ghost is not None:
            drawing.draw_ghost(before, ghost)
        renderer.set_lines("ghost", before.behind.packed())

    def send_shadow(self, renderer: Renderer, character: Character | None, frame: PosedFrame | None) -> None:
        """The soft shadow of what is shown, on the ground where that shows."""
        state = self.c.state
        hidden = state.viewing.hidden
        shown = self.c.frames.seen_parts if frame is not None and character is not None and "ground" not in hidden else ()
        key = (frame, tuple(part.id for part in shown))
        if self._shadow_for[0] is frame and self._shadow_for[1:] == key[1:]:
            return
        self._shadow_for = key
        if not shown or character is None or frame is None:
            renderer.set_shadow(None)
            return
        spots = {part.id: spots_on(character.part(part.id).mesh, SPOTS) for part in shown}
        points = np.concatenate([some.at(frame.points[part]) for part, some in spots.items()])
        areas = np.concatenate([np.full(len(some.shares), some.area) for some in spots.values()])
        renderer.set_shadow(contact_shadow(points, areas, character.height))

    def send_parts(self, renderer: Renderer, stroke: AnyStroke) -> None:
        """Every shown part, and left of the seam the compared weave's."""
        c = self.c
        character, frame = c.state.character, c.frames.frame()
        assert character is not None and frame is not None
        parts = c.frames.seen_parts
        other, other_frame = c.frames.other, c.frames.other_frame()
        shown = {part.id for part in parts} | ({part.id + OTHER for part in parts} if other is not None else set())
        renderer.keep_parts(shown)
        for part in parts:
            points = frame.points[part.id]
            if stroke is not None and stroke.part.id == part.id and character.skeleton is not None:
                points = stroke.points(self.matrices(character, frame))
            self._send(renderer, character, part, part.id, frame, points, stroke)
            if other is not None and other_frame is not None:
                self._send(renderer, other, part, part.id + OTHER, other_frame, other_frame.points[part.id], None)

    def _send(
        self, renderer: Renderer, character: Character, part: Part, key: str, frame: PosedFrame, points: FloatArray,
        stroke: AnyStroke,
    ) -> None:  # fmt: skip
        """A part's points and lens, smoothed where it is a cage."""
        fine = smoothed(part) if part.smooth is not Subdivision.NONE else None
        if fine is not None:
            renderer.show_part(key, fine.mesh, fine.matrix @ points)
        else:
            renderer.show_part(key, part.mesh, points)
        if self.c.state.viewing.lens is Lens.NONE:
            return
        known = lens_key(self.c, character, stroke, part, frame)
        if fine is None and renderer.surfaces[key].lens_from is known:
            return
        values = lens_values(self.c, character, stroke, part, frame, points)
        renderer.set_lens(
            key, values if fine is None else fine.matrix @ values, known if fine is None else object()
        )

    def matrices(self, character: Character, frame: PosedFrame) -> FloatArray:
        """Skin matrices of the shown frame, the same object as long as the frame stays."""
        if self._matrices[0] is not frame:
            assert character.skeleton is not None
            self._matrices = (frame, skin_matrices(character.skeleton, frame.joints))
        return self._matrices[1]

    def looks(self, renderer: Renderer, character: Character) -> dict[str, list[Look]]:
        """Materials as the renderer has them, by part."""
        looks = []
        images = {image.name: image for image in character.images}
        for material in character.materials:
            textured = self.c.state.viewing.display is Display.TEXTURED
            base, relief, metal, occlusion, emissive = (
                self._picture(renderer, images[name]) if textured and name in images else None
                for name in (
                    material.base_image, material.normal_image, material.metal_image, material.occlusion_image,
                    material.emissive_image,
                )
            )  # fmt: skip
            r, g, b, a = material.base_colour
            alpha = a if material.see_through else 1.0
            look = Look((r, g, b), alpha, material.metallic, material.roughness, base, relief, material.normal_scale, metal)
            looks.append(
                replace(look, occlusion=occlusion, shaded=material.occlusion, emissive=emissive, glow=material.emissive)
            )
        return {key: looks for part in character.included for key in (part.id, part.id + OTHER)}

    def _picture(self, renderer: Renderer, image: Image) -> str:
        """The renderer's key of a picture, sent at its first use. The picture is held as long as it is on the card:
        another at the same address would pass for it."""
        key = str(id(image))
        if key not in renderer.pictures:
            character = self.c.character
            present = {str(id(i)) for i in (*character.images, *(r.image for r in character.references))}
            renderer.keep_pictures(present)
            self._images = {k: i for k, i in self._images.items() if k in present} | {key: image}
            renderer.set_picture(key, pixels(image))
        return key

    def boards(
        self, renderer: Renderer, character: Character | None, camera: Camera
    ) -> list[tuple[str, FloatArray, float]]:
        """Reference pictures that face the way the camera looks."""
        result = []
        for reference in character.references if character is not None and self.c.area.boards else ():
            facing = dict(zip("xyz", (float(v) for v in camera.backward), strict=True))
            if abs(facing[reference.along]) < 0.5:
                continue
            key = self._picture(renderer, reference.image)
            wide, tall = renderer.pictures[key].size
            half = np.array([reference.height * wide / max(tall, 1), reference.height]) / 2
            right, up = BOARD_AXES[reference.along]
            sign = -1.0 if facing[reference.along] < 0 else 1.0
            a, b = np.array(right) * half[0] * sign, np.array(up) * half[1]
            assert character is not None
            depth = 0.75 * character.height * np.array([reference.along == axis for axis in "xyz"]) * -sign
            at = np.array(reference.centre) + depth
            result.append((key, np.array([at - a - b, at + a - b, at + a + b, at - a + b]), reference.alpha))
        return result


@by_identity
def smoothed(part: Part) -> Smoothed:
    """A part's cage smoothed as it asks; the topology is worked out once, points follow by one product."""
    return (catmull_clark if part.smooth is Subdivision.CATMULL_CLARK else loop)(part.mesh, part.levels)
