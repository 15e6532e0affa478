"""Vertex selections: grown, shrunk, spread over a shell, taken by their weights. Vertices at one place go together."""

from __future__ import annotations

import numpy as np
from scipy.sparse.csgraph import dijkstra

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_lengths, place_neighbours, shells, weld
from pegloom.core.skin.weights import Weights


def _marked(mesh: Mesh, vertices: IntArray) -> BoolArray:
    g = weld(mesh)
    marked = np.zeros(g.count, dtype=bool)
    marked[g.group[np.asarray(vertices, dtype=np.int64)]] = True
    return marked


def _vertices(mesh: Mesh, marked: BoolArray) -> IntArray:
    return np.flatnonzero(marked[weld(mesh).group])


def grown(mesh: Mesh, vertices: IntArray) -> IntArray:
    """The selection with all neighbours."""
    marked = _marked(mesh, vertices)
    return _vertices(mesh, marked | (np.asarray(place_neighbours(mesh) @ marked.astype(float)) > 0))


def shrunk(mesh: Mesh, vertices: IntArray) -> IntArray:
    """The selection without those next to one that is not selected."""
    marked = _marked(mesh, vertices)
    outside = np.asarray(place_neighbours(mesh) @ (~marked).astype(float)) > 0
    return _vertices(mesh, marked & ~outside)


def whole_shells(mesh: Mesh, vertices: IntArray) -> IntArray:
    """Every vertex of the connected shells the selection touches."""
    label = shells(mesh)
    return np.flatnonzero(np.isin(label, np.unique(label[np.asarray(vertices, dtype=np.int64)])))


def others(mesh: Mesh, vertices: IntArray) -> IntArray:
    """Every vertex that is not selected."""
    return _vertices(mesh, ~_marked(mesh, vertices))


def rim(mesh: Mesh, vertices: IntArray) -> IntArray:
    """Only those next to one that is not selected."""
    return np.setdiff1d(_vertices(mesh, _marked(mesh, vertices)), shrunk(mesh, vertices))


def held_between(weights: Weights, joint_id: str, low: float, high: float) -> IntArray:
    """Vertices (k,) on which a joint's weight is from `low` to `high`; zero weight counts only where low is 0."""
    values = weights.column(joint_id)
    inside = (values >= low) & (values <= high)
    if low <= 0.0 < high:
        inside &= values > 0.0
    return np.flatnonzero(inside)


def over_influenced(weights: Weights, limit: int) -> IntArray:
    """Vertices moved by more joints than `limit`."""
    return np.flatnonzero(np.diff(weights.indptr) > limit)


def softened(mesh: Mesh, vertices: IntArray, border: float) -> FloatArray:
    """1 on the selection, falling smoothly to 0 over `border` metres along the surface beyond it. (n,)"""
    g = weld(mesh)
    marked = _marked(mesh, vertices)
    share = marked.astype(float)
    if border > 0 and marked.any():
        way = dijkstra(place_lengths(mesh), directed=False, indices=np.flatnonzero(marked), min_only=True, limit=border)
        t = np.clip(1.0 - np.asarray(way) / border, 0.0, 1.0)
        share = np.where(np.isfinite(t), t * t * (3.0 - 2.0 * t), 0.0)
    return np.asarray(share[g.group])
