"""Which points lie at one place, in time that grows with the points and not with how many share a place."""

from __future__ import annotations

import itertools

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray

CROWD = 60
"""Pairs a point, on average, over which they are not listed one by one."""
FEW = 64
"""Pairs of points of two cells that are tried one by one; more go through a tree."""


def near_groups(points: FloatArray, reach: float) -> IntArray:
    """A label (n,) for each point (n, 3): the same where a chain of points no more than `reach` apart joins them.

    Points that agree in all digits are one first. Where the others crowd, pairs would be as many as their square:
    they are put into cells instead, of which all points are within reach of each other (Bentley, Stanat, Williams,
    "The complexity of finding fixed-radius near neighbors", 1977), and only neighbouring cells are compared.
    """
    if len(points) == 0:
        return np.zeros(0, dtype=np.int64)
    own, inverse = _distinct(points)
    tree = cKDTree(own)
    # Counting goes by whole branches of the tree and is quick however many pairs there are.
    if tree.count_neighbors(tree, reach) > CROWD * len(own):
        return np.asarray(_by_cells(own, reach)[inverse])
    return np.asarray(_joined(tree.query_pairs(reach, output_type="ndarray"), len(own))[inverse])


def _joined(pairs: IntArray, count: int) -> IntArray:
    graph = sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    return np.asarray(connected_components(graph, directed=False)[1])


def _runs(rows: FloatArray) -> tuple[IntArray, IntArray]:
    """Order (n,) that puts equal rows (n, 3) together, and where each run of them begins in it, its end last."""
    order = np.lexsort(rows.T)
    ordered = rows[order]
    fresh = np.concatenate([[True], (ordered[1:] != ordered[:-1]).any(axis=1)])
    return order, np.append(np.flatnonzero(fresh), len(order))


def _distinct(points: FloatArray) -> tuple[FloatArray, IntArray]:
    """Points that differ in any digit (m, 3), and which of them each point (n,) is."""
    order, starts = _runs(points)
    inverse = np.empty(len(points), dtype=np.int64)
    inverse[order] = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    return points[order[starts[:-1]]], inverse


def _by_cells(points: FloatArray, reach: float) -> IntArray:
    """Labels (n,) of points (n, 3) that all differ."""
    cells = np.floor((points - points.min(axis=0)) / (reach / np.sqrt(3.0) * (1.0 - 1e-9)))
    order, starts = _runs(cells)
    where = {tuple(cell): k for k, cell in enumerate(cells[order[starts[:-1]]].tolist())}
    members = [order[a:b] for a, b in itertools.pairwise(starts)]
    trees: dict[int, cKDTree] = {}

    def meet(a: int, b: int) -> bool:
        few, many = (a, b) if len(members[a]) <= len(members[b]) else (b, a)
        if len(members[few]) * len(members[many]) <= FEW:
            gap = points[members[few]][:, None] - points[members[many]][None]
            return bool((np.einsum("abd,abd->ab", gap, gap) <= reach * reach).any())
        if many not in trees:
            trees[many] = cKDTree(points[members[many]])
        return bool(np.any(trees[many].query(points[members[few]])[0] <= reach))

    # Half of the neighbours that can hold a point within reach; the other half finds this one.
    steps = [s for s in itertools.product((-2, -1, 0, 1, 2), repeat=3) if s > (0, 0, 0)]
    links = [
        (here, neighbour)
        for (x, y, z), here in where.items()
        for dx, dy, dz in steps
        if (neighbour := where.get((x + dx, y + dy, z + dz))) is not None and meet(here, neighbour)
    ]
    group = _joined(np.array(links, dtype=np.int64).reshape(-1, 2), len(where))
    label = np.empty(len(points), dtype=np.int64)
    label[order] = np.repeat(group, np.diff(starts))
    return label
