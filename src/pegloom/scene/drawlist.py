"""What the renderer is told to draw: plain data, no meaning."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from pegloom.core.arrays import FloatArray


@dataclass
class Lines:
    """Thick antialiased segments gathered piece by piece."""

    starts: list[FloatArray] = field(default_factory=list)
    ends: list[FloatArray] = field(default_factory=list)
    colours: list[FloatArray] = field(default_factory=list)
    widths: list[FloatArray] = field(default_factory=list)

    def add(self, line: FloatArray, colour: FloatArray, width: float, alpha: float = 1.0) -> None:
        """A polyline (m, 3), colour (3,), width in pixels."""
        n = len(line) - 1
        self.starts.append(line[:-1])
        self.ends.append(line[1:])
        self.colours.append(np.tile(np.append(colour, alpha), (n, 1)))
        self.widths.append(np.full(n, width))

    def packed(self) -> np.ndarray:
        """(s, 11) float32: start, end, rgba, width."""
        if not self.starts:
            return np.zeros((0, 11), dtype=np.float32)
        columns = [np.concatenate(self.starts), np.concatenate(self.ends), np.concatenate(self.colours)]
        return np.column_stack([*columns, np.concatenate(self.widths)]).astype(np.float32)


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
    """behind: lines on the ground. through: lines seen dimly through the mesh and plainly in front of it.
    over, dots: always on top."""

    behind: Lines = field(default_factory=Lines)
    through: Lines = field(default_factory=Lines)
    over: Lines = field(default_factory=Lines)
    dots: Dots = field(default_factory=Dots)
