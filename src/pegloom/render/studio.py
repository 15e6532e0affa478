"""Pictures of a document without a window: all shown figures at a moment, drawn off the screen."""

from __future__ import annotations

from types import TracebackType
from typing import Any

import moderngl
import numpy as np

from pegloom.core.errors import PegLoomError
from pegloom.core.rig.outputs import PART
from pegloom.core.rig.pose import JointPose, Shown
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Document, Part
from pegloom.document.world import seen_in
from pegloom.render.looks import Pictures, images_of
from pegloom.render.renderer import Look, Renderer
from pegloom.render.surfaces import beside_key, shadow_of, show_smooth
from pegloom.scene import drawing
from pegloom.scene.display import Display
from pegloom.scene.drawlist import DrawList
from pegloom.scene.ground import ground_size
from pegloom.scene.rig_drawing import draw_controls
from pegloom.scene.shot import Backdrop, Shot

SAMPLES = 4
"""Places of a pixel that are looked at, where the card can."""


class NoScreenError(PegLoomError):
    """This machine cannot draw without a display."""


def off_screen() -> Any:
    """An OpenGL context of its own, off the screen. Raises NoScreenError where the machine has none."""
    tried = []
    backends: tuple[dict[str, Any], ...] = ({"backend": "egl"}, {})
    for backend in backends:
        try:
            return moderngl.create_context(standalone=True, require=330, **backend)
        except Exception as error:
            # What a driver raises is its own.
            tried.append(str(error).splitlines()[0] if str(error) else type(error).__name__)
    raise NoScreenError(f"this machine cannot draw off-screen ({'; '.join(tried)}); install libegl1 and Mesa's drivers, or film in the window")


class Studio:
    """Draws documents off the screen; a context manager. All calls on one thread."""

    def __init__(self) -> None:
        self.gl = off_screen()
        try:
            self.renderer = Renderer(self.gl)
        except Exception:
            self.gl.release()
            raise
        self.pictures = Pictures()
        self.size = (0, 0)
        self.held: list[Any] = []
        self.drawn_into: Any = None
        self.read_from: Any = None

    def __enter__(self) -> Studio:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Give back what is held on the card."""
        for piece in self.held:
            piece.release()
        self.held = []
        self.gl.release()

    def picture(self, document: Document, shot: Shot, time: float) -> np.ndarray:
        """All shown figures at a time (seconds) of what is played: (h, w, 4) uint8, first row at the top, not premultiplied."""
        self._begin(shot.size)
        active = document.require_character()
        looks: dict[str, list[Look]] = {}
        marks = DrawList()
        placed: list[tuple[float, np.ndarray]] = []
        present = images_of(document.characters)
        seen = seen_in(document, time, shot.clip)
        self.renderer.keep_shadows({one.character.id for one in seen})
        grounded = shot.backdrop is not Backdrop.SEE_THROUGH and shot.tone is not None
        for character, pose, frame, world in seen:
            parts = _seen(character, frame, shot if character is active else None)
            theirs = self.pictures.looks(self.renderer, character, present, textured=shot.display is Display.TEXTURED)
            for part in parts:
                key = beside_key(character, part)
                looks[key] = theirs
                show_smooth(self.renderer, key, part, frame.points[part.id] @ world[:3, :3].T + world[:3, 3])
            if character.bare and character.skeleton is not None:
                drawing.draw_skeleton(marks, character.skeleton, world @ frame.joints, drawing.Marks(frozenset(), ""))
            placed.append((character.height, world))
            self.renderer.set_shadow(character.id, shadow_of(character, parts, frame.points, world) if grounded and parts else None)
            if shot.controls and character is active and character.rig is not None and not isinstance(pose, JointPose):
                _controls(marks, character, frame, pose, world)
        self.renderer.keep_parts(set(looks))
        self._ground(shot, ground_size(placed))
        self.renderer.set_draw_list(marks)
        self.renderer.frame(
            shot.camera.world, shot.size, looks, display=shot.display, wire_over=False, lens_mode=0, framebuffer=self.drawn_into,
            behind=None if shot.backdrop is Backdrop.VIEW else (0.0, 0.0, 0.0, 0.0) if shot.backdrop is Backdrop.SEE_THROUGH else (*shot.colour, 1.0),
        )  # fmt: skip
        if self.read_from is not self.drawn_into:
            self.gl.copy_framebuffer(self.read_from, self.drawn_into)
        wide, high = shot.size
        pixels = np.frombuffer(self.read_from.read(components=4), np.uint8).reshape(high, wide, 4)[::-1]
        return straight(pixels) if shot.backdrop is Backdrop.SEE_THROUGH else pixels

    def _begin(self, size: tuple[int, int]) -> None:
        if size == self.size:
            return
        for piece in self.held:
            piece.release()
        gl = self.gl
        samples = min(SAMPLES, int(gl.max_samples))
        colour = gl.renderbuffer(size, 4, samples=samples)
        depth = gl.depth_renderbuffer(size, samples=samples)
        self.drawn_into = gl.framebuffer([colour], depth)
        plain = gl.renderbuffer(size, 4)
        self.read_from = gl.framebuffer([plain]) if samples else self.drawn_into
        self.held, self.size = [self.drawn_into, colour, depth, plain, *([self.read_from] if samples else [])], size

    def _ground(self, shot: Shot, tallest: float) -> None:
        ground = DrawList()
        shown = shot.backdrop is Backdrop.VIEW and shot.tone is not None and tallest > 0.0
        if shown:
            drawing.draw_ground(ground, tallest)
        self.renderer.set_floor(shot.tone if shown else None, max(tallest, 0.1))
        self.renderer.set_lines("behind", ground.behind.packed())


def _seen(character: Character, frame: PosedFrame, shot: Shot | None) -> list[Part]:
    hidden = shot.hidden if shot is not None else frozenset()
    return [p for p in character.at_level(0) if f"{PART}{p.id}" not in frame.unseen and p.id not in hidden]


def _controls(marks: DrawList, character: Character, frame: PosedFrame, pose: Shown, world: np.ndarray) -> None:
    assert character.rig is not None
    skeleton = character.skeleton
    joints = {} if skeleton is None else {j.id: world @ m for j, m in zip(skeleton.joints, frame.joints, strict=True)}
    draw_controls(marks, character.rig, world @ frame.shown, joints, pose, drawing.Marks(frozenset(), ""), frame.unseen)


def straight(pixels: np.ndarray) -> np.ndarray:
    """Premultiplied pixels (h, w, 4) uint8 as files keep them, colours not multiplied by alpha."""
    alpha = pixels[..., 3:].astype(np.float64) / 255.0
    colour = np.where(alpha > 0.0, pixels[..., :3] / np.maximum(alpha, 1e-6), 0.0)
    return np.concatenate([np.clip(np.round(colour), 0, 255), pixels[..., 3:]], axis=-1).astype(np.uint8)

