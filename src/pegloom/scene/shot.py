"""What a film shows: from where, how large, which frames, what of the view."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.document.model import Document
from pegloom.document.world import scene_length, scene_rate, seen_in
from pegloom.scene.camera import Camera
from pegloom.scene.display import Display
from pegloom.scene.ground import Tone

LEAST, MOST = 16, 4096
"""Pixels a film is wide and high."""
MOST_FRAMES = 20_000
RATES = (1.0, 240.0)
LOOKED = 25
"""Moments of a film that are looked at to have all of it in the picture."""


class Backdrop(Enum):
    """What stands behind the figures. The member's value says it to a person."""

    VIEW = "as in the view"
    PLAIN = "plain"
    SEE_THROUGH = "see-through"


@dataclass(frozen=True, slots=True)
class Shot:
    """camera : in the world. size : (width, height) pixels. first, last : seconds of what is played. rate : frames a second.
    clip : id of the clip that the character in hand plays; "" where every figure plays its own on the common time.
    controls : whether those of the character in hand are shown. hidden : ids of its parts that are not.
    colour : (r, g, b) 0 to 1 behind a plain backdrop. tone : of the ground, None for none. named, counted : whether the clip's
    name and the number of the frame are written into the picture.
    """

    camera: Camera
    size: tuple[int, int] = (1280, 720)
    first: float = 0.0
    last: float = 2.0
    rate: float = 30.0
    clip: str = ""
    display: Display = Display.TEXTURED
    controls: bool = False
    hidden: frozenset[str] = frozenset()
    backdrop: Backdrop = Backdrop.VIEW
    colour: tuple[float, float, float] = (0.16, 0.18, 0.23)
    tone: Tone | None = Tone.INK
    named: bool = False
    counted: bool = False

    @property
    def count(self) -> int:
        """Frames of the film."""
        return int(np.floor((self.last - self.first) * self.rate + 1e-6)) + 1

    def time(self, frame: int) -> float:
        """Seconds of what is played at a frame, 0 the first."""
        return min(self.first + frame / self.rate, self.last)


def check(shot: Shot) -> None:
    """Raises EditError for what no film can be."""
    wide, high = shot.size
    if not (LEAST <= wide <= MOST and LEAST <= high <= MOST):
        raise EditError(f"a film is {LEAST} to {MOST} pixels wide and high; {wide} by {high} is asked for")
    if not RATES[0] <= shot.rate <= RATES[1]:
        raise EditError(f"a film has {RATES[0]:g} to {RATES[1]:g} frames a second; {shot.rate:g} are asked for")
    if not np.isfinite([shot.first, shot.last]).all() or shot.last < shot.first:
        raise EditError("a film ends after it begins")
    if shot.count > MOST_FRAMES:
        raise EditError(f"a film has at most {MOST_FRAMES} frames; {shot.count} are asked for")


def span_of(document: Document, clip: str) -> tuple[float, float]:
    """Seconds and frames a second of a clip of the character in hand, or with "" of all figures."""
    if not clip:
        return scene_length(document), scene_rate(document)
    found = document.require_character().clip(clip)
    return found.length, found.rate


def looking_at(document: Document, shot: Shot, *, yaw: float, pitch: float) -> Camera:
    """A camera that has all shown figures in the picture over the whole shot. yaw, pitch : radians, of where it looks from."""
    found: list[FloatArray] = []
    for time in np.linspace(shot.first, shot.last, LOOKED if shot.last > shot.first else 1).tolist():
        for one in seen_in(document, time, shot.clip):
            found += [p[:: max(len(p) // 400, 1)] @ one.world[:3, :3].T + one.world[:3, 3] for p in one.frame.places]
    wide, high = shot.size
    return Camera(yaw=yaw, pitch=pitch).framing(np.concatenate(found) if found else np.zeros((0, 3)), aspect=wide / high)
