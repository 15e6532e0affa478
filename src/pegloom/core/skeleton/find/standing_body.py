"""A standing human's solid cut into legs and the rest: what the searches for legs, arms and trunk have in common."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from pegloom.core.arrays import BoolArray, FloatArray
from pegloom.core.errors import FindError
from pegloom.core.geometry.solid import CellGraph, Solid, cell_graph

PINCHED = 0.82
"""Depth at the middle over the thighs' depth under which a layer still shows two legs."""


@dataclass
class StandingBody:
    """The solid cut into legs and the rest, with what several searches need."""

    solid: Solid
    height: float
    middle: float

    def __post_init__(self) -> None:
        filled = self.solid.filled
        blobs, count = ndimage.label(filled, np.ones((3, 3, 3)))
        sizes = np.bincount(blobs.ravel())[1:]
        # Loose bits (eyes, a hat's brim) do not steer the search; the largest connected solid does.
        self.filled: BoolArray = blobs == 1 + int(np.argmax(sizes)) if count else filled
        self.centre_i = filled.shape[0] // 2
        self.y = self.solid.origin[1] + (np.arange(filled.shape[1]) + 0.5) * self.solid.cell
        self.crotch, self.crotch_sure = self._find_crotch()
        self.legs = self._find_legs()
        self.rest: BoolArray = self.filled & ~self.legs
        self.cells: CellGraph = cell_graph(self.rest, self.solid.cell)
        if len(self.cells.index) == 0:
            raise FindError("no body is left above the legs, so no landmarks can be found; check the up axis")
        self.centres = self.solid.centres(self.cells.index)

    def _find_crotch(self) -> tuple[float, float]:
        c = self.centre_i
        middle_filled: BoolArray = np.asarray(self.filled[c - 1 : c + 1].any(axis=(0, 2)))
        layers = [k for k in range(len(self.y)) if 0.12 * self.height < self.y[k] < 0.62 * self.height]
        open_layers = [k for k in layers if not middle_filled[k] and self.filled[:, k].any()]
        if len(open_layers) < 0.04 * len(self.y):
            return 0.47 * self.height, 0.25
        top = float(self.y[max(open_layers)] + self.solid.cell)
        if top >= 0.41 * self.height:
            return top, 0.9
        # Thighs that touch are still two: pinched at the middle. The crotch is where the pinch ends.
        pinched = [k for k in layers if self.y[k] > top and self._pinch(k) < PINCHED]
        if pinched:
            end = float(self.y[max(pinched)] + self.solid.cell)
            if end > 0.36 * self.height:
                return min(end, 0.5 * self.height), 0.75
        return (0.45 * self.height, 0.4) if top < 0.3 * self.height else (max(top, 0.42 * self.height), 0.5)

    def _pinch(self, layer: int) -> float:
        """Depth at the mirror plane over the greatest depth of a layer's thighs."""
        cut = self.filled[:, layer]
        depth = cut.sum(axis=1).astype(float)
        c = self.centre_i
        reach = max(round(0.1 * self.height / self.solid.cell), 2)
        widest = depth[c - reach : c + reach].max()
        return float(depth[c - 1 : c + 1].mean() / widest) if widest > 0 else 1.0

    def _find_legs(self) -> BoolArray:
        below = self.filled & (self.y < self.crotch)[None, :, None]
        c = self.centre_i
        if self.crotch_sure < 0.5:  # touching legs are parted at the mirror plane
            below[c - 1 : c + 1] = False
        blobs, _ = ndimage.label(below, np.ones((3, 3, 3)))
        floor = blobs[:, self.y < 0.08 * self.height]
        return np.asarray(np.isin(blobs, np.unique(floor[floor > 0])) & below)

    def top_over(self, place: FloatArray, reach_: float) -> float | None:
        """Height up to which the body goes on over a place (3,), within a reach along z, or None where there is none.

        A brim or hair over a shoulder, with air between, is not it.
        """
        i, j, k = np.floor((place - self.solid.origin) / self.solid.cell).astype(int)
        r = max(round(reach_ / self.solid.cell), 1)
        if not 1 <= i < self.rest.shape[0] - 1 or not 0 <= j < self.rest.shape[1]:
            return None
        column: BoolArray = np.asarray(self.rest[i - 1 : i + 2, j:, max(k - r, 0) : k + r + 1].any(axis=(0, 2)))
        over = np.flatnonzero(column) + j
        if len(over) == 0:
            return None
        gaps = np.flatnonzero(np.diff(over) > 1)
        top = over[gaps[0]] if len(gaps) else over[-1]
        return float(self.y[top] + self.solid.cell / 2)

    def depth_range(self, x: float, y: float) -> tuple[float, float] | None:
        """Back and front (z) of the solid at a place seen from ahead, or None where nothing is."""
        i, j = (int(np.floor((v - o) / self.solid.cell)) for v, o in zip((x, y), self.solid.origin[:2], strict=True))
        if not (1 <= i < self.filled.shape[0] - 1 and 0 <= j < self.filled.shape[1]):
            return None
        filled = np.flatnonzero(self.filled[i - 1 : i + 2, j].any(axis=0))
        if len(filled) == 0:
            return None
        back, front = self.solid.origin[2] + np.array([filled[0], filled[-1] + 1]) * self.solid.cell
        return float(back), float(front)

    def aside(self, sign: int) -> BoolArray:
        """Which x cells lie on one side."""
        half: BoolArray = np.arange(self.filled.shape[0]) >= self.centre_i
        return half if sign > 0 else np.logical_not(half)
