"""The way a gait goes over the ground: straight, turning, or along points; level or on a slope."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from scipy.interpolate import CubicSpline

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError

FINE = 400
"""Pieces a way through points is measured by."""
MOST_TURN, MOST_SLOPE, MOST_POINTS, FARTHEST, NEAREST = math.radians(720.0), 1.0, 200, 1e4, 1e-3


@dataclass(frozen=True, slots=True)
class Way:
    """turn : radians a metre. points : places (x, z) in metres the way goes through, from the first on; empty: straight on, or
    turning. slope : metres up a metre ahead along the world's z, and along its x."""

    turn: float = 0.0
    points: tuple[tuple[float, float], ...] = ()
    slope: tuple[float, float] = (0.0, 0.0)

    def __post_init__(self) -> None:
        numbers = (self.turn, *self.slope, *(v for point in self.points for v in point))
        if not all(math.isfinite(v) for v in numbers) or abs(self.turn) > MOST_TURN or max(map(abs, self.slope)) > MOST_SLOPE:
            raise EditError(f"a way turns at most {math.degrees(MOST_TURN):.0f} degrees a metre, and climbs at most {MOST_SLOPE:g} metres a metre")
        if len(self.points) > MOST_POINTS or any(abs(v) > FARTHEST for point in self.points for v in point):
            raise EditError(f"a way goes through at most {MOST_POINTS} points, within {FARTHEST:g} m")
        if any(math.dist(a, b) < NEAREST for a, b in pairwise(self.points)):
            raise EditError("two points of a way stand at one place")

    @property
    def length(self) -> float:
        """Metres from the first point to the last; 0 where there are none."""
        return _measured(self.points)[2][-1] if len(self.points) >= 2 else 0.0

    def at(self, along: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Places (k, 3) and headings (k,), radians about the vertical from +Z, at lengths along the way (k,)."""
        along = np.asarray(along, dtype=np.float64)
        if len(self.points) >= 2:
            flat, heading = self._through(along)
        elif abs(self.turn) > 1e-9:
            r = 1.0 / self.turn
            heading = self.turn * along
            flat = np.stack([r * (1.0 - np.cos(heading)), r * np.sin(heading)], axis=-1)
        else:
            heading = np.zeros_like(along)
            flat = np.stack([np.zeros_like(along), along], axis=-1)
        return np.stack([flat[..., 0], self.ground(flat), flat[..., 1]], axis=-1), heading

    def ground(self, flat: FloatArray) -> FloatArray:
        """How high the ground is at places (k, 2) x, z."""
        return np.asarray(self.slope[1] * flat[..., 0] + self.slope[0] * flat[..., 1])

    def _through(self, along: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Along a smooth curve by its length; straight on before its first and after its last point."""
        spline, fine, lengths = _measured(self.points)
        inside = np.clip(along, 0.0, lengths[-1])
        u = np.interp(inside, lengths, fine)
        flat, ahead = spline(u), spline(u, 1)
        ahead = ahead / np.maximum(np.linalg.norm(ahead, axis=-1, keepdims=True), 1e-9)
        flat = flat + (along - inside)[..., None] * ahead
        return flat, np.unwrap(np.arctan2(ahead[..., 0], ahead[..., 1]))


@lru_cache(maxsize=16)
def _measured(points: tuple[tuple[float, float], ...]) -> tuple[CubicSpline, FloatArray, FloatArray]:
    """A smooth curve through points, knots along it, and how long it is up to each."""
    places = np.array(points, dtype=np.float64)
    knots = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1))])
    spline = CubicSpline(knots, places, bc_type="natural")
    fine = np.linspace(0.0, knots[-1], FINE * (len(points) - 1))
    lengths = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(spline(fine), axis=0), axis=1))])
    return spline, fine, lengths
