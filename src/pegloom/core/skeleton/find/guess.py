"""Which body plan a mesh looks like, from its ends and where they stand."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import sample_surface
from pegloom.core.geometry.standing import WINGSPAN, ground_contact
from pegloom.core.geometry.symmetry import plane_score
from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.find.creatures import feet_of, on_middle
from pegloom.core.skeleton.find.shape import Shape, Tip

THIN = 0.045
"""Thickness over longest side under which a mesh is a cut-out."""
CUT, HEAD_SHARE = 0.55, 0.33
"""Of a head or a bust: area of the lowest layer over that a little higher; share of the height that is the head."""
ROUND, FILLED = (0.45, 1.5), 0.2
"""Narrower side of a head's bulk over its height; least share of its box that it fills, what is hollow left out."""
FINGER, EVEN = 0.16, 0.6
"""Least length of a finger in shares of the longest side; a hand mirrors less well than this."""
SLENDER = 9.0
"""Way from end to end over the thickness there above which a body without legs is a serpent."""


def guess_pattern(points: FloatArray, triangles: IntArray, *, middle: float = 0.0) -> str:
    """Name of the shipped pattern a stood-up mesh looks most like. Raises FindError for an empty mesh."""
    shape = Shape(points, triangles, middle=middle, cells=80)
    size = shape.size
    if float(size.min()) < THIN * shape.longest and float(np.sort(size)[1]) > 0.15 * shape.longest:
        return "flat"
    if head_alone(shape):
        return "face"
    tips = shape.tips(0.06 * shape.longest)
    if _hand_alone(shape, tips, points):
        return "hand"
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


def head_alone(shape: Shape) -> bool:
    """Whether a mesh is a head on its neck, or a bust: cut off below, with a head that is much of its height."""
    y = shape.graph_cells.index[:, 1] - int(shape.graph_cells.index[:, 1].min())
    layers = int(y.max()) + 1
    if layers < 12:
        return False
    # What is cut off is often open there, and hollow: its layers count filled.
    filled_in = [ndimage.binary_fill_holes(shape.solid.filled[:, k]).sum() for k in range(shape.solid.filled.shape[1])]
    start = int(shape.graph_cells.index[:, 1].min())
    area = ndimage.uniform_filter1d(np.array(filled_in[start : start + layers], dtype=np.float64), 3, mode="nearest")
    # What is cut off, be it raggedly, goes straight on over its lowest layers; a belly or a seat grows wider.
    crossing = (np.abs(shape.centres[:, 0] - shape.middle) < 1.5 * shape.cell) & (y < layers // 12)
    if not crossing.any() or area[layers // 20] < CUT * area[layers // 8]:
        return False
    head = _head_of(area)
    if (layers - head) / layers < HEAD_SHARE:
        return False
    own = shape.centres[y >= head]
    # Ears, hats and plaits stand out of it; so its bulk is measured.
    bulk = np.quantile(own, 0.97, axis=0) - np.quantile(own, 0.03, axis=0)
    round_ = min(bulk[0], bulk[2]) / max(float(bulk[1]), 1e-12)
    filled = len(own) * shape.cell**3 / max(float(np.prod(bulk)), 1e-12)
    return bool(ROUND[0] < round_ < ROUND[1] and bulk.max() < 2.2 * bulk.min() and filled > FILLED)


def _head_of(area: FloatArray) -> int:
    """The layer at which the head begins: the narrowest under the widest of the upper part; 0 where there is none."""
    layers = len(area)
    widest = layers // 2 + int(np.argmax(area[layers // 2 :]))
    edge = layers // 20
    neck = edge + int(np.argmin(area[edge : widest + 1]))
    return neck if neck > edge and area[neck] < 0.8 * area[widest] else 0


def _hand_alone(shape: Shape, tips: list[Tip], points: FloatArray) -> bool:
    """Whether a mesh is a hand: long, thin ends that all point much the same way, from one broad piece cut off."""
    fingers = [t for t in tips if t.length > FINGER * shape.longest]
    if not 3 <= len(fingers) <= 6:
        return False
    core = shape.centres[shape.core]
    ways = [normalised(t.place - core) for t in fingers]
    lead = normalised(np.sum(ways, axis=0))
    along = sorted((float(w @ lead) for w in ways), reverse=True)
    # The wrist may be an end of its own, on the other side.
    ahead = [a for a in along if a > 0.35]
    if len(ahead) < 3 or len(along) - len(ahead) > 1 or plane_score(points, 0, shape.middle) > EVEN:
        return False
    thin = [float(np.median(shape.depth[t.cells])) for t in fingers]
    return bool(np.median(thin) < 0.75 * float(shape.depth.max()))


def _standing(shape: Shape) -> bool:
    """Taller than deep, with something of a head: the top is narrower than the widest place."""
    if shape.size[1] < 1.1 * shape.size[2]:
        return False
    y = shape.graph_cells.index[:, 1]
    area = np.bincount(y - y.min()).astype(np.float64)
    top = area[int(0.9 * len(area)) :].mean()
    return bool(top < 0.75 * area.max())
