"""The way a gait goes over the ground: straight, turning, or along points; level or on a slope."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import CubicSpline

from pegloom.core.arrays import FloatArray

FINE = 400
"""Pieces a way through points is measured by."""


@dataclass(frozen=True, slots=True)
class Way:
    """turn : radians a metre. points : places (x, z) in metres the way goes through, from the first on; empty: straight on, or
    turning. slope : metres up a metre ahead along the world's z, and along its x."""

    turn: float = 0.0
    points: tuple[tuple[float, float], ...] = ()
    slope: tuple[float, float] = (0.0, 0.0)

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
        points = np.array(self.points, dtype=np.float64)
        knots = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
        spline = CubicSpline(knots, points, bc_type="natural")
        fine = np.linspace(0.0, knots[-1], FINE * (len(points) - 1))
        places = spline(fine)
        lengths = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1))])
        inside = np.clip(along, 0.0, lengths[-1])
        u = np.interp(inside, lengths, fine)
        flat, ahead = spline(u), spline(u, 1)
        ahead = ahead / np.maximum(np.linalg.norm(ahead, axis=-1, keepdims=True), 1e-9)
        flat = flat + (along - inside)[..., None] * ahead
        return flat, np.unwrap(np.arctan2(ahead[..., 0], ahead[..., 1]))
