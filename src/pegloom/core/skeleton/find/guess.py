"""Which body plan a mesh looks like, from its ends and where they stand."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import sample_surface
from pegloom.core.geometry.standing import WINGSPAN, ground_contact
from pegloom.core.skeleton.find.creatures import feet_of, on_middle
from pegloom.core.skeleton.find.shape import Shape

THIN = 0.045
"""Thickness over longest side under which a mesh is a cut-out."""
SLENDER = 9.0
"""Way from end to end over the thickness there above which a body without legs is a serpent."""


def guess_pattern(points: FloatArray, triangles: IntArray, *, middle: float = 0.0) -> str:
    """Name of the shipped pattern a stood-up mesh looks most like. Raises FindError for an empty mesh."""
    shape = Shape(points, triangles, middle=middle, cells=80)
    size = shape.size
    if float(size.min()) < THIN * shape.longest and float(np.sort(size)[1]) > 0.15 * shape.longest:
        return "flat"
    tips = shape.tips(0.06 * shape.longest)
    thick = float(shape.depth.max())
    feet = [t for t in feet_of(shape, tips) if not on_middle(shape, t, 0.04)]
    left = [t for t in feet if t.place[0] > shape.middle]
    right = [t for t in feet if t.place[0] < shape.middle]
    pairs = min(len(left), len(right))
    deep = float(size[2] / max(size[1], 1e-12))
    wide = float(size[0] / max(size[1], 1e-12))
    z = [t.place[2] for t in (*left, *right)]
    stretch = (max(z) - min(z)) / shape.longest if z else 0.0
    seen = sample_surface(points, triangles)
    for slab in (0.03, 0.06, 0.1):
        ground = ground_contact(seen, 0, 1, 1, middle, shape.longest, slab)
        if ground.pairs >= 2 and ground.on_plane < 0.15 and ground.stable:
            pairs, stretch = max(pairs, ground.pairs), max(stretch, ground.stretch)
    if pairs >= 3:
        return "many-legged"
    if pairs == 2 and stretch > 0.18:
        return "four-legged"
    long_way = float(shape.far.max())
    if len(tips) <= 2 and pairs == 0:
        end = shape.ways(int(np.argmax(shape.far)))
        long_way = float(end[np.isfinite(end)].max())
        if long_way > SLENDER * 2 * thick:
            upright = float(size[1]) > 0.7 * shape.longest and deep < 0.3 and wide < 0.3
            return "rope" if upright else "serpent"
    if pairs >= 1 or _standing(shape):
        body = shape.centres[shape.core]
        upper = [t for t in tips if t.place[1] > shape.low[1] + 0.25 * shape.height]
        rear = [
            t
            for t in upper
            if on_middle(shape, t) and t.place[2] < body[2] - 1.2 * thick and t.place[1] < body[1] + 2.5 * thick
        ]
        ahead = [t for t in upper if on_middle(shape, t) and t.place[2] > body[2] + 1.2 * thick]
        if pairs and deep > 0.42 and rear and (ahead or upper):
            return "winged" if stretch < 0.18 else "four-legged"
        if deep < 0.75:
            return "human"
        if deep >= 0.75 and pairs:
            return "four-legged" if stretch > 0.1 else "winged"
    if not pairs and size[0] > WINGSPAN * size[2] and size[1] < size[2]:
        return "winged"
    return "human" if size[1] >= 0.9 * shape.longest and _standing(shape) else "hinge"


def _standing(shape: Shape) -> bool:
    """Taller than deep, with something of a head: the top is narrower than the widest place."""
    if shape.size[1] < 1.1 * shape.size[2]:
        return False
    y = shape.graph_cells.index[:, 1]
    area = np.bincount(y - y.min()).astype(np.float64)
    top = area[int(0.9 * len(area)) :].mean()
    return bool(top < 0.75 * area.max())
