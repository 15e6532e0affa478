"""What the renderer is told to draw: plain data, no meaning."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from pegloom.core.arrays import FloatArray


@dataclass
class Lines:
    """Thick antialiased segments gathered piece by piece."""

    rows: list[FloatArray] = field(default_factory=list)
    looks: list[tuple[float, float, float, float, float]] = field(default_factory=list)

    def add(self, line: FloatArray, colour: FloatArray, width: float, alpha: float = 1.0) -> None:
        """A polyline (m, 3), colour (3,), width in pixels."""
        self.rows.append(line)
        self.looks.append((float(colour[0]), float(colour[1]), float(colour[2]), alpha, width))

    def packed(self) -> np.ndarray:
        """(s, 11) float32: start, end, rgba, width."""
        if not self.rows:
            return np.zeros((0, 11), dtype=np.float32)
        counts = np.array([len(line) for line in self.rows])
        points = np.concatenate(self.rows)
        last = np.zeros(len(points), dtype=bool)
        last[np.cumsum(counts) - 1] = True
        first = np.flatnonzero(~last)
        out = np.empty((len(first), 11), dtype=np.float32)
        out[:, :3], out[:, 3:6] = points[first], points[first + 1]
        out[:, 6:] = np.repeat(np.array(self.looks, dtype=np.float32), counts - 1, axis=0)
        return out


@dataclass
class Dots:
    """Round dots with a ring, facing the eye."""

    rows: list[tuple[float, ...]] = field(default_factory=list)

    def add(
        self, point: FloatArray, colour: FloatArray, radius: float, *, hollow: float = 0.0, alpha: float = 1.0
    ) -> None:
        """hollow: 0 a full dot, 1 a ring with a dark middle, 2 a soft halo. radius in pixels."""
        self.rows.append((*point.tolist(), *colour.tolist(), alpha, radius, hollow))

    def packed(self) -> np.ndarray:
        """(d, 9) float32: point, rgba, radius, hollow."""
        return np.array(self.rows, dtype=np.float32).reshape(-1, 9)


@dataclass
class DrawList:
    """behind : lines on the ground.
    through : lines seen dimly through the mesh and plainly in front of it.
    over, dots : always on top.
    """

    behind: Lines = field(default_factory=Lines)
    through: Lines = field(default_factory=Lines)
    over: Lines = field(default_factory=Lines)
    dots: Dots = field(default_factory=Dots)
