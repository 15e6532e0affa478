"""Weights from one mesh to another by the nearest surface."""

from __future__ import annotations

from dataclasses import dataclass

import igl
import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, diagonal, triangulate, weld
from pegloom.core.skin.weights import Weights, dense, from_dense

FAR_OF_SIZE = 0.02
"""Share of the bounding diagonal beyond which a vertex counts as far from the surface it was read from."""


@dataclass(frozen=True, slots=True, eq=False)
class Nearest:
    """distance (n,) metres to the surface, triangle (n,), shares (n, 3) of its corners."""

    distance: FloatArray
    triangle: IntArray
    shares: FloatArray


def nearest_on(points: FloatArray, surface: FloatArray, triangles: IntArray) -> Nearest:
    """Nearest place of a surface (s, 3), triangles (t, 3), to each point (n, 3)."""
    squared, triangle, place = igl.point_mesh_squared_distance(
        np.ascontiguousarray(points, dtype=np.float64), np.ascontiguousarray(surface, dtype=np.float64),
        np.ascontiguousarray(triangles, dtype=np.int64),
    )[:3]  # fmt: skip
    triangle = np.asarray(triangle, dtype=np.int64)
    a, b, c = (surface[triangles[triangle, k]] for k in range(3))
    u, v, w = b - a, c - a, np.asarray(place) - a
    uu, uv, vv = (u * u).sum(1), (u * v).sum(1), (v * v).sum(1)
    wu, wv = (w * u).sum(1), (w * v).sum(1)
    bottom = np.where(np.abs(uu * vv - uv * uv) < 1e-30, 1.0, uu * vv - uv * uv)
    s, t = (vv * wu - uv * wv) / bottom, (uu * wv - uv * wu) / bottom
    shares = np.clip(np.stack([1 - s - t, s, t], axis=1), 0.0, 1.0)
    shares /= np.maximum(shares.sum(axis=1, keepdims=True), 1e-12)
    return Nearest(np.sqrt(np.maximum(np.asarray(squared), 0.0)), triangle, shares)


def transfer_weights(
    source: Mesh, weights: Weights, target: Mesh, *, influences: int | None = None
) -> tuple[Weights, int]:
    """Weights of `target` read from the nearest place of `source`. Also how many vertices lie far from it.

    Vertices at one place read as one, so that seams stay closed.
    """
    triangles = triangulate(source).vertices
    g = weld(target)
    places = target.points[g.first]
    near = nearest_on(places, source.points, triangles)
    values = dense(weights)
    rows = np.einsum("nk,nkj->nj", near.shares, values[triangles[near.triangle]])
    far = int((near.distance > FAR_OF_SIZE * max(diagonal(source.points), 1e-12)).sum())
    return from_dense(rows[g.group], weights.joint_ids, influences=influences), far
