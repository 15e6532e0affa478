"""Figures of a deformation."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, IntArray


def edge_stretch(rest: FloatArray, posed: FloatArray, edges: IntArray) -> FloatArray:
    """Length ratio posed / rest (e,) of each edge; 1 for edges without length at rest."""
    before = np.linalg.norm(rest[edges[:, 0]] - rest[edges[:, 1]], axis=1)
    after = np.linalg.norm(posed[edges[:, 0]] - posed[edges[:, 1]], axis=1)
    return np.where(before > 1e-9, after / np.maximum(before, 1e-9), 1.0)


def vertex_strain(rest: FloatArray, posed: FloatArray, edges: IntArray) -> FloatArray:
    """Mean log2 of the stretch of the edges at each vertex (n,): 0 unchanged, 1 twice as long, -1 half."""
    strain = np.log2(np.clip(edge_stretch(rest, posed, edges), 0.05, 20.0))
    n = len(rest)
    total = np.bincount(edges[:, 0], strain, n) + np.bincount(edges[:, 1], strain, n)
    count = np.bincount(edges[:, 0], minlength=n) + np.bincount(edges[:, 1], minlength=n)
    return np.asarray(total / np.maximum(count, 1))


def enclosed_volume(points: FloatArray, triangles: IntArray) -> float:
    """Signed volume of a closed surface, by the divergence theorem."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("td,td->t", a, np.cross(b, c)).sum() / 6.0)


def neighbour_pairs(triangles: IntArray) -> IntArray:
    """Pairs (p, 2) of triangles that share an edge."""
    edges = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    face = np.repeat(np.arange(len(triangles)), 3)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    edges, face = edges[order], face[order]
    same = (edges[:-1] == edges[1:]).all(axis=1)
    return np.stack([face[:-1][same], face[1:][same]], axis=1)


def _cosines(points: FloatArray, triangles: IntArray, pairs: IntArray) -> FloatArray:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    unit = normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-30)[:, None]
    return np.asarray(np.einsum("pd,pd->p", unit[pairs[:, 0]], unit[pairs[:, 1]]))


def flat_pairs(rest: FloatArray, triangles: IntArray) -> IntArray:
    """Neighbouring triangles (p, 2) within 60 degrees of each other at rest: those that could fold back."""
    pairs = neighbour_pairs(triangles)
    return np.asarray(pairs[_cosines(rest, triangles, pairs) > 0.5])


def folded_faces(rest: FloatArray, posed: FloatArray, triangles: IntArray) -> IntArray:
    """Triangles (f,) folded back on a neighbour: normals within 60 degrees at rest, over 120 degrees apart posed."""
    pairs = flat_pairs(rest, triangles)
    return np.unique(pairs[folded_back(posed, triangles, pairs)])


def folded_back(posed: FloatArray, triangles: IntArray, pairs: IntArray) -> BoolArray:
    """Which pairs (p, 2) of triangles lie over 120 degrees apart."""
    return np.asarray(_cosines(posed, triangles, pairs) < -0.5)
