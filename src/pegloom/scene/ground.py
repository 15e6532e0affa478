"""The ground in the view: tones to choose from, and how it fades into what is behind it."""

from __future__ import annotations

from collections.abc import Iterable
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray

CELLS = 64
REACH = 2.6
"""How far the ground is seen, in heights of the figure."""

AROUND = 0.75
"""How much of the way to the farthest figure counts as a height of the ground."""


class Tone(Enum):
    """How light the ground is. The member's value says it to a person."""

    INK = "ink"
    SLATE = "slate"
    ASH = "ash"
    LINEN = "linen"

    @property
    def colour(self) -> tuple[int, int, int]:
        return {
            Tone.INK: (26, 31, 42), Tone.SLATE: (56, 63, 78), Tone.ASH: (112, 116, 122), Tone.LINEN: (196, 190, 178),
        }[self]  # fmt: skip


def ground_picture(tone: Tone) -> np.ndarray:
    """The ground as a picture (CELLS, CELLS, 4) uint8: whole under the figure, fading out to its edge."""
    at = (np.arange(CELLS) + 0.5) / CELLS * 2 - 1
    far = np.hypot(*np.meshgrid(at, at))
    fade = np.clip(1.0 - far, 0.0, 1.0)
    picture = np.zeros((CELLS, CELLS, 4), dtype=np.uint8)
    picture[..., :3] = tone.colour
    picture[..., 3] = np.round(235 * (fade * fade * (3.0 - 2.0 * fade)))
    return picture


def ground_corners(height: float) -> FloatArray:
    """Corners (4, 3) of the ground's picture."""
    half = REACH * max(height, 0.1)
    return np.array([[-half, 0.0, -half], [half, 0.0, -half], [half, 0.0, half], [-half, 0.0, half]])


def ground_size(placed: Iterable[tuple[float, FloatArray]]) -> float:
    """The height that a ground for several figures is laid out for. placed : height and world_from_figure (4, 4) of each."""
    tallest, farthest = 0.0, 0.0
    for height, world in placed:
        tallest = max(tallest, height * float(np.linalg.norm(world[:3, 0])))
        farthest = max(farthest, float(np.hypot(world[0, 3], world[2, 3])))
    return max(tallest, AROUND * farthest)
