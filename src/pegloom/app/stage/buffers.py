"""What the view shows, handed to the renderer: surfaces, lenses, pictures. Nothing is worked out while painting but what
has changed."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.app.context import Context
from pegloom.app.stage.lens import lens_key, lens_values
from pegloom.app.stage.tools import AnyStroke
from pegloom.app.state.state import CAPTURE, GroundSettings
from pegloom.core.arrays import FloatArray
from pegloom.core.rig.evaluate import skin_matrices
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Image, Part
from pegloom.render.looks import Pictures, images_of
from pegloom.render.renderer import OTHER, Look, Renderer
from pegloom.render.surfaces import FEWER, SPOTS, beside_key, shadow_of, show_smooth
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.display import Display
from pegloom.scene.drawlist import DrawList
from pegloom.scene.ground import ground_size
from pegloom.scene.lenses import Lens

BOARD_AXES = {"x": ([0, 0, -1], [0, 1, 0]), "y": ([1, 0, 0], [0, 0, -1]), "z": ([1, 0, 0], [0, 1, 0])}
"""Right and up of a reference picture seen along an axis."""


class Buffers:
    def __init__(self, c: Context) -> None:
        self.c = c
        self._ground_for: object = None
        self._shadow_for: dict[str, tuple[object, ...]] = {}
        self.pictures = Pictures()
        self._matrices: tuple[object, FloatArray] = (None, np.zeros((0, 4, 4)))

    def send_ground(self, renderer: Renderer) -> None:
        """The ground, and the figure as it stood before."""
        state = self.c.state
        height = state.character.height if state.character is not None else 1.7
        if self.c.frames.together and state.character is not None:
            worlds = self.c.frames.worlds()
            height = ground_size((one.height, worlds[one.id]) for one in state.document.characters if one.figure.shown or one is state.character)
            # Not laid anew at every step of somebody who walks.
            height = float(2.0 ** (np.ceil(4.0 * np.log2(height)) / 4.0))
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
        """The soft shadows of what is shown, on the ground where that shows."""
        c = self.c
        wanted: list[tuple[str, Character, tuple[Part, ...], Mapping[str, FloatArray], object]] = []
        if frame is not None and character is not None and "ground" not in c.state.viewing.hidden:
            wanted.append(("", character, c.frames.seen_parts, frame.points, frame))
            wanted += [(one.character.id, one.character, one.parts, one.points, one) for one in c.frames.others()]
        placed, moving = self.placed, c.state.clock.playing or c.state.clock.source == CAPTURE
        world = np.eye(4) if placed is None else np.array(placed).reshape(4, 4)
        renderer.keep_shadows({key for key, *_ in wanted})
        self._shadow_for = {key: known for key, known in self._shadow_for.items() if any(key == k for k, *_ in wanted)}
        for name, one, parts, points, source in wanted:
            key = (source, tuple(part.id for part in parts), placed, moving)
            known = self._shadow_for.get(name)
            if known is not None and known[0] is source and known[1:] == key[1:]:
                continue
            self._shadow_for[name] = key
            renderer.set_shadow(name, shadow_of(one, parts, points, world, FEWER if moving else SPOTS) if parts else None)

    @property
    def placed(self) -> tuple[float, ...] | None:
        """Where the figure in hand stands."""
        return self.c.frames.placed

    def send_parts(self, renderer: Renderer, stroke: AnyStroke) -> None:
        """Every shown part, and left of the seam the compared weave's."""
        c = self.c
        character, frame = c.state.character, c.frames.frame()
        assert character is not None and frame is not None
        parts = c.frames.seen_parts
        other, other_frame = c.frames.other, c.frames.other_frame()
        shown = {part.id for part in parts} | ({part.id + OTHER for part in parts} if other is not None else set())
        beside = c.frames.others()
        shown |= {beside_key(one.character, part) for one in beside for part in one.parts}
        renderer.keep_parts(shown)
        for one in beside:
            for part in one.parts:
                show_smooth(renderer, beside_key(one.character, part), part, one.points[part.id])
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
        fine = show_smooth(renderer, key, part, points)
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
        """Materials as the renderer has them, by part; those of the figures beside, too."""
        textured = self.c.state.viewing.display is Display.TEXTURED
        present = images_of(self.c.state.document.characters)
        own = self.pictures.looks(renderer, character, present, textured=textured)
        found = {key: own for part in character.included for key in (part.id, part.id + OTHER)}
        for one in self.c.frames.others():
            theirs = self.pictures.looks(renderer, one.character, present, textured=textured)
            found |= {beside_key(one.character, part): theirs for part in one.parts}
        return found

    def _picture(self, renderer: Renderer, image: Image) -> str:
        """The renderer's key of a picture, sent at its first use."""
        return self.pictures.key(renderer, image, images_of(self.c.state.document.characters))

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
