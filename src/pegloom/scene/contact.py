"""The soft shadow a figure casts on the ground it stands on: dark where it touches, fading out around and under it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter

from pegloom.core.arrays import FloatArray

CELLS = 96
"""Cells along a side of the picture."""
TOUCHES, LOOMS = 0.035, 0.45
"""Shares of the figure's height over which what touches the ground, and all of the figure, darken it less and less."""
SOFT = 1.6, 6.0
"""How far both are spread, in cells."""
DEEP = 1.5, 0.55
"""How dark a surface that lies on the ground makes it by both, before both are limited."""
DARKEST = 0.62
ROUND = 0.22
"""How far the picture goes beyond the figure, in shares of its height."""


@dataclass(frozen=True, eq=False)
class Shadow:
    """alpha : (CELLS, CELLS) 0 to 1, first row at the least z. corners : (4, 3) least x and z, then round, metres."""

    alpha: FloatArray
    corners: FloatArray


def contact_shadow(points: FloatArray, areas: FloatArray, height: float) -> Shadow | None:
    """The shadow of places (n, 3) spread over a posed figure on y = 0; None where nothing of it is near the ground.

    areas (n,) : square metres of surface that each place stands for. height : the figure's, metres.
    """
    if len(points) == 0 or height <= 0 or points[:, 1].min() > LOOMS * height:
        return None
    low, high = points[:, [0, 2]].min(axis=0), points[:, [0, 2]].max(axis=0)
    half = float((high - low).max()) / 2 + ROUND * height
    middle = (low + high) / 2
    cell = 2 * half / CELLS
    at = np.clip(((points[:, [0, 2]] - middle + half) / cell).astype(np.int64), 0, CELLS - 1)
    index = at[:, 1] * CELLS + at[:, 0]
    over = np.maximum(points[:, 1], 0.0) / height
    dark = np.zeros((CELLS, CELLS))
    for fades, soft, deep in zip((TOUCHES, LOOMS), SOFT, DEEP, strict=True):
        weight = areas * np.exp(-over / fades) / cell**2
        flat = np.bincount(index, weights=weight, minlength=CELLS**2).reshape(CELLS, CELLS)
        dark += deep * np.minimum(gaussian_filter(flat, soft, mode="constant"), 2.0)
    alpha = DARKEST * (1.0 - np.exp(-dark))
    # The picture ends in nothing.
    side = np.clip(np.minimum(np.arange(CELLS), np.arange(CELLS)[::-1]) / 6.0, 0.0, 1.0)
    alpha *= side[:, None] * side[None, :]
    (x0, z0), (x1, z1) = middle - half, middle + half
    lift = 0.0005 * height
    corners = np.array([[x0, lift, z0], [x1, lift, z0], [x1, lift, z1], [x0, lift, z1]])
    return Shadow(alpha, corners)
