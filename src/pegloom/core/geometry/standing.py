"""How a mesh lies and how to stand it up: up axis, facing, height, mirror plane, parts and shells.

The figure is expected to be a character: two mirrored halves, a head end near the mirror plane and a foot end
away from it (two legs or more), feet longer to the front than to the back. Guesses carry their confidence; the
user has the last word.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import bounds, sample_surface
from pegloom.core.geometry.symmetry import Symmetry, find_plane

AXES = {"+X": (1, 0, 0), "-X": (-1, 0, 0), "+Y": (0, 1, 0), "-Y": (0, -1, 0), "+Z": (0, 0, 1), "-Z": (0, 0, -1)}


class Direction(Enum):
    """A signed coordinate axis."""

    PLUS_X = "+X"
    MINUS_X = "-X"
    PLUS_Y = "+Y"
    MINUS_Y = "-Y"
    PLUS_Z = "+Z"
    MINUS_Z = "-Z"

    @property
    def vector(self) -> FloatArray:
        return np.array(AXES[self.value], dtype=np.float64)


@dataclass(frozen=True, slots=True)
class Stance:
    """Guess of how the figure stands. height in the file's units; confidence 0..1 of up and of facing."""

    up: Direction
    facing: Direction
    height: float
    symmetry: Symmetry
    up_confidence: float
    facing_confidence: float


def guess_stance(points: FloatArray, triangles: IntArray | None = None) -> Stance:
    """Guess up, facing and the mirror plane of a character's points (n, 3); triangles (t, 3) let sparse faces count."""
    low, high = bounds(points)
    span = np.maximum(high - low, 1e-12)
    seen = points if triangles is None else np.concatenate([points, sample_surface(points, triangles)])
    planes = [find_plane(points, axis) for axis in range(3)]
    # A flat or tube-like figure mirrors across its thin axis as well; the lateral axis is the one that mirrors
    # well and is not the thinnest by far, judged after the foot end is known.
    best: tuple[float, int, int, int, float] | None = None
    for lateral in range(3):
        for up_axis in range(3):
            if up_axis == lateral:
                continue
            depth_axis = 3 - lateral - up_axis
            feet_low, certainty = _foot_end(seen, lateral, up_axis, planes[lateral].offset)
            upright = float(span[up_axis] / span.max())
            shallow = float(span[depth_axis] / span.max())
            score = 1.6 * planes[lateral].score + 0.9 * certainty + 0.6 * upright - 0.8 * shallow
            score += 0.05 * (up_axis == 1) + 0.05 * (lateral == 0)
            if best is None or score > best[0]:
                best = (score, lateral, up_axis, 1 if feet_low else -1, certainty)
    assert best is not None
    _, lateral, up_axis, sign, certainty = best
    up = _direction(up_axis, sign)
    depth_axis = 3 - lateral - up_axis
    facing_sign, facing_certainty = _facing(seen, up_axis, sign, depth_axis, lateral, planes[lateral].offset)
    return Stance(
        up, _direction(depth_axis, facing_sign), float(span[up_axis]), planes[lateral], certainty, facing_certainty
    )


def _direction(axis: int, sign: int) -> Direction:
    return Direction(("+" if sign > 0 else "-") + "XYZ"[axis])


def _foot_end(points: FloatArray, lateral: int, up_axis: int, offset: float) -> tuple[bool, float]:
    """Whether the feet are at the low end of `up_axis`, and how sure: the head end is the one on the mirror plane."""
    low, high = bounds(points)
    height, width = high[up_axis] - low[up_axis], max(high[lateral] - low[lateral], 1e-12)
    h = (points[:, up_axis] - low[up_axis]) / max(height, 1e-12)
    aside = np.abs(points[:, lateral] - offset) / width

    def off_centre(end: np.ndarray) -> float:
        # A gap at the mirror plane is what two legs have and a head has not.
        return float(np.quantile(aside[end], 0.08)) if end.sum() >= 3 else 0.0

    at_low = max(off_centre((h > a) & (h < a + 0.06)) for a in (0.0, 0.06, 0.12, 0.18))
    at_high = max(off_centre((h < 1 - a) & (h > 1 - a - 0.06)) for a in (0.0, 0.06, 0.12, 0.18))
    difference = at_low - at_high
    return difference >= 0, float(np.clip(abs(difference) / 0.06, 0.0, 1.0))


def _facing(
    points: FloatArray, up_axis: int, sign: int, depth_axis: int, lateral: int, offset: float
) -> tuple[int, float]:
    """Sign along `depth_axis` the toes point to, and how sure."""
    h = points[:, up_axis] * sign
    h = (h - h.min()) / max(float(np.ptp(h)), 1e-12)
    depth = points[:, depth_axis]
    foot, shin = h < 0.035, (h > 0.09) & (h < 0.2)
    width = max(float(np.ptp(points[:, lateral])), 1e-12)
    # Hands of hanging arms are no shins.
    near = np.abs(points[:, lateral] - offset) < 0.5 * width
    if foot.sum() < 3 or (shin & near).sum() < 3:
        return 1, 0.0
    shin_middle = float(np.median(depth[shin & near]))
    ahead, behind = float(depth[foot].max()) - shin_middle, shin_middle - float(depth[foot].min())
    difference = (ahead - behind) / max(ahead + behind, 1e-12)
    return (1 if difference >= 0 else -1), float(np.clip(abs(difference) / 0.3, 0.0, 1.0))


def standing_matrix(
    points: FloatArray, up: Direction, facing: Direction, *, height: float | None, lateral_offset: float | None = None
) -> FloatArray:
    """4x4 map that stands points up: up to +Y, facing to +Z, feet on y = 0, middle on the origin.

    height : wanted height in metres, or None to keep the units. lateral_offset : where the mirror plane lies along
    the lateral axis (the file's coordinates); None takes the box's middle.
    """
    y, z = up.vector, facing.vector
    x = np.cross(y, z)
    if np.linalg.norm(x) < 0.5:  # facing along up: any lateral will do
        z = np.roll(y, 1)
        x = np.cross(y, z)
    turn = np.stack([x, y, z])
    turned = points @ turn.T
    low, high = bounds(turned)
    scale = 1.0 if height is None else height / max(float(high[1] - low[1]), 1e-12)
    middle = (low + high) / 2
    if lateral_offset is not None:
        middle[0] = lateral_offset * float(x.sum())
    matrix = np.eye(4)
    matrix[:3, :3] = turn * scale
    matrix[:3, 3] = -scale * np.array([middle[0], low[1], middle[2]])
    return matrix


def guess_height(raw_height: float) -> float:
    """A plausible height in metres for a figure `raw_height` units tall: metres, centimetres, inches or millimetres.

    The first unit that gives 0.2 to 4 m is taken; with none the figure is made 1.75 m tall.
    """
    for unit in (1.0, 0.01, 0.001, 0.0254, 0.3048):
        if 0.2 <= raw_height * unit <= 4.0:
            return raw_height * unit
    return 1.75
