"""The mirror plane of a figure, how well it holds, and each vertex's partner."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.geometry.mesh import Mesh, bounds, diagonal, weld
from pegloom.core.memo import by_identity
from pegloom.core.tolerances import PARTNER_OF_SIZE


@dataclass(frozen=True, slots=True)
class Symmetry:
    """Mirror plane square to `axis` (0, 1, 2) at `offset` metres; score 0..1, 1 where every point has its partner."""

    axis: int
    offset: float
    score: float


def mirror_gap(points: FloatArray, axis: int, offset: float, tree: cKDTree | None = None) -> FloatArray:
    """Distance (n,) from each mirrored point to the nearest point of the figure."""
    mirrored = points.copy()
    mirrored[:, axis] = 2 * offset - mirrored[:, axis]
    distance, _ = (tree or cKDTree(points)).query(mirrored)
    return np.asarray(distance)


def plane_score(points: FloatArray, axis: int, offset: float, tree: cKDTree | None = None) -> float:
    """Mean over points of exp(-(gap / 1% of the diagonal)^2): 1 for a perfect mirror, near 0 for none."""
    gap = mirror_gap(points, axis, offset, tree) / (0.01 * max(diagonal(points), 1e-12))
    return float(np.mean(np.exp(-(gap**2))))


def find_plane(points: FloatArray, axis: int) -> Symmetry:
    """Best mirror plane square to one axis: the box's middle, the median and the mean are tried, then refined."""
    low, high = bounds(points)
    sample = points if len(points) <= 6000 else points[:: len(points) // 6000 + 1]
    tree = cKDTree(sample)
    span = float(high[axis] - low[axis])
    starts = [(low[axis] + high[axis]) / 2, float(np.median(sample[:, axis])), float(sample[:, axis].mean())]
    best = max(starts, key=lambda o: plane_score(sample, axis, o, tree))
    step = span * 0.02
    for _ in range(7):
        options = [best - step, best, best + step]
        best = max(options, key=lambda o: plane_score(sample, axis, o, tree))
        step *= 0.5
    best = _polish(sample, axis, best, tree)
    return Symmetry(axis, best, plane_score(sample, axis, best, tree))


def _polish(sample: FloatArray, axis: int, offset: float, tree: cKDTree) -> float:
    """Move the plane to the median midpoint of close partner pairs: exact where the figure is exact."""
    mirrored = sample.copy()
    mirrored[:, axis] = 2 * offset - mirrored[:, axis]
    distance, found = tree.query(mirrored)
    partner, near = np.asarray(found), np.asarray(distance) < 0.01 * diagonal(sample)
    if near.sum() < 10:
        return offset
    return float(np.median((sample[near, axis] + sample[partner[near]][:, axis]) / 2))


@by_identity
def partners(mesh: Mesh, offset: float = 0.0) -> IntArray:
    """For each vertex (n,) the vertex at its mirrored place across x = offset, or -1 where none is near.

    Near means within PARTNER_OF_SIZE of the height. A vertex on the plane is its own partner.
    """
    g = weld(mesh)
    places = mesh.points[g.first]
    low, high = bounds(mesh.points)
    reach = PARTNER_OF_SIZE * max(float(high[1] - low[1]), 1e-12)
    mirrored = places * [-1.0, 1.0, 1.0] + [2 * offset, 0.0, 0.0]
    distance, nearest = cKDTree(places).query(mirrored)
    partner = np.where(distance <= reach, nearest, -1)
    # Only pairs that agree about each other: mirroring there and back then changes nothing.
    partner = np.where(partner[np.maximum(partner, 0)] == np.arange(len(places)), partner, -1)
    result = np.where(partner[g.group] >= 0, g.first[np.maximum(partner[g.group], 0)], -1)
    return np.asarray(frozen(result.astype(np.int64)))
