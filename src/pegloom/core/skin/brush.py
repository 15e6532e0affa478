"""Changing weights by hand: fill, set, smooth, with a clear rule of who receives.

The rule: the joint in hand gets what is asked; the others of that row give or take in proportion to what they hold,
locked ones nothing. Where the joint in hand held everything, what it gives up goes to the joints of the neighbouring
vertices by their shares; where those hold nothing else either, to its parent. Rows always add up to 1.
All functions work on places (welded vertices), so that seams stay closed.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import EditError


def change_weight(
    values: FloatArray,
    column: int,
    rows: IntArray,
    wanted: FloatArray,
    *,
    neighbours: sparse.csr_matrix,
    heir: int,
    locked: BoolArray | None = None,
) -> FloatArray:
    """Give one joint `wanted` (r,) in some rows.

    Parameters
    ----------
    values : (g, j) rows adding to 1. column : the joint in hand. rows : (r,) places. wanted : (r,) 0..1.
    neighbours : (g, g) adjacency. heir : the joint that receives where no other holds anything (its parent).
    locked : (j,) joints that keep their weights.

    Returns a new (g, j) array. Raises EditError when the joint in hand is locked.
    """
    result = values.copy()
    result[rows] = changed_rows(values, column, rows, wanted, neighbours=neighbours, heir=heir, locked=locked)
    return result


def changed_rows(
    values: FloatArray, column: int, rows: IntArray, wanted: FloatArray,
    *, neighbours: sparse.csr_matrix, heir: int, locked: BoolArray | None = None,
) -> FloatArray:  # fmt: skip
    """Only the new rows (r, j) of `change_weight`: what a dab costs does not grow with the mesh."""
    lock = np.zeros(values.shape[1], dtype=bool) if locked is None else locked.copy()
    if lock[column]:
        raise EditError("the active joint is locked; unlock it or pick another")
    row = values[rows]
    kept = row[:, lock].sum(axis=1)
    free = ~lock
    free[column] = False
    others = row[:, free]
    left = others.sum(axis=1)
    goal = np.clip(wanted, 0.0, 1.0 - kept)
    rest = 1.0 - kept - goal
    shares = np.where(left[:, None] > 1e-9, others / np.maximum(left, 1e-12)[:, None], 0.0)
    alone = (left <= 1e-9) & (rest > 1e-12)
    if alone.any():
        shares[alone] = _from_neighbours(values, rows[alone], free, heir, neighbours)
        nobody = shares.sum(axis=1) <= 1e-9
        goal = np.where(nobody & alone, 1.0 - kept, goal)
        rest = 1.0 - kept - goal
    row[:, free] = shares * rest[:, None]
    row[:, column] = goal
    return np.asarray(row / row.sum(axis=1, keepdims=True))


def _from_neighbours(
    values: FloatArray, rows: IntArray, free: BoolArray, heir: int, neighbours: sparse.csr_matrix
) -> FloatArray:
    around = np.asarray(neighbours[rows] @ values)[:, free]
    total = around.sum(axis=1)
    shares = np.where(total[:, None] > 1e-9, around / np.maximum(total, 1e-12)[:, None], 0.0)
    bare = total <= 1e-9
    if bare.any() and free[heir]:
        shares[np.ix_(bare, np.flatnonzero(np.flatnonzero(free) == heir))] = 1.0
    return np.asarray(shares)


def smooth_rows(
    values: FloatArray,
    rows: IntArray,
    strength: FloatArray,
    neighbours: sparse.csr_matrix,
    *,
    steps: int = 1,
    locked: BoolArray | None = None,
) -> FloatArray:
    """Blend rows toward the mean of their neighbours.

    values (g, j); rows (r,); strength (r,) 0..1 a step. Locked joints (j,) keep their weights; the others share
    what is left. Returns a new array.
    """
    result = values.copy()
    smooth_in_place(result, rows, strength, neighbours, steps=steps, locked=locked)
    return result


def smooth_in_place(
    result: FloatArray, rows: IntArray, strength: FloatArray, neighbours: sparse.csr_matrix,
    *, steps: int = 1, locked: BoolArray | None = None,
) -> None:  # fmt: skip
    """`smooth_rows` on the array itself (g, j)."""
    before = result[rows]
    near = neighbours[rows]
    # Only the columns the rows' neighbourhood holds at all.
    around = np.unique(near.indices)
    near = near[:, around]
    degree = np.maximum(np.asarray(near.sum(axis=1)).ravel(), 1.0)
    amount = np.clip(strength, 0.0, 1.0)[:, None]
    for _ in range(steps):
        mean = np.asarray(near @ result[around]) / degree[:, None]
        mean = np.where(mean.sum(axis=1, keepdims=True) > 0.5, mean, result[rows])
        result[rows] = _around_locked(result[rows] * (1 - amount) + mean * amount, before, locked)


def sharpened(
    values: FloatArray, rows: IntArray, strength: FloatArray, neighbours: sparse.csr_matrix,
    *, locked: BoolArray | None = None,
) -> FloatArray:  # fmt: skip
    """New rows (r, j) driven away from the mean of their neighbours: what is strong gets stronger, edges get crisp."""
    degree = np.maximum(np.asarray(neighbours[rows].sum(axis=1)).ravel(), 1.0)
    mean = np.asarray(neighbours[rows] @ values) / degree[:, None]
    before = values[rows]
    # A little of the row's own contrast too, or a flat blend would have nothing to sharpen.
    own = before**1.5
    own /= np.maximum(own.sum(axis=1, keepdims=True), 1e-12)
    force = np.clip(strength, 0.0, 1.0)[:, None]
    new = np.clip(before + force * (before - mean) + 0.5 * force * (own - before), 0.0, None)
    return _around_locked(new, before, locked)


def evened_along(
    values: FloatArray, rows: IntArray, strength: FloatArray, along: FloatArray, width: float,
    *, locked: BoolArray | None = None,
) -> FloatArray:  # fmt: skip
    """New rows (r, j) that depend only on how far along the limb they lie: rings of one weight.

    along (g,) : metres along the limb of every place.
    width : metres over which rows at like distance are averaged.
    """
    before = values[rows]
    place = along[rows] / max(width, 1e-9)
    first = np.floor(place.min())
    low = (place - first).astype(np.int64)
    share = place - first - low
    count = int(low.max()) + 2
    # Each row counts into the two stations it lies between, and reads back from them.
    total, weight = np.zeros((count, before.shape[1])), np.zeros(count)
    for station, part in ((low, 1.0 - share), (low + 1, share)):
        amount = part * np.maximum(strength, 1e-3)
        np.add.at(total, station, amount[:, None] * before)
        weight += np.bincount(station, amount, count)
    mean = total / np.maximum(weight, 1e-12)[:, None]
    wanted = (1.0 - share)[:, None] * mean[low] + share[:, None] * mean[low + 1]
    force = np.clip(strength, 0.0, 1.0)[:, None]
    return _around_locked(before + force * (wanted - before), before, locked)


def _around_locked(new: FloatArray, before: FloatArray, locked: BoolArray | None) -> FloatArray:
    """Rows adding up to 1 with locked joints (j,) as they were held."""
    if locked is not None and locked.any():
        new = new.copy()
        new[:, locked] = before[:, locked]
        left = 1.0 - new[:, locked].sum(axis=1)
        free = new[:, ~locked]
        total = free.sum(axis=1)
        new[:, ~locked] = np.where(
            total[:, None] > 1e-9, free * (left / np.maximum(total, 1e-12))[:, None], before[:, ~locked]
        )
    return np.asarray(new / np.maximum(new.sum(axis=1, keepdims=True), 1e-12))


def limit_rows(
    values: FloatArray,
    rows: IntArray,
    influences: int,
    *,
    keep: int | None = None,
    locked: BoolArray | None = None,
) -> FloatArray:
    """Cut rows (r,) to their largest `influences`.

    The joint `keep` and locked joints (j,) are never among the dropped, and locked ones keep what they hold: what is
    dropped goes to the other free joints of the row, by their shares.
    """
    result = values.copy()
    result[rows] = limited(values[rows], influences, keep=keep, locked=locked)
    return result


def limited(
    row: FloatArray, influences: int, *, keep: int | None = None, locked: BoolArray | None = None
) -> FloatArray:
    """`limit_rows` of rows (r, j) alone."""
    row = row.copy()
    if row.shape[1] > influences:
        lock = np.zeros(row.shape[1], dtype=bool) if locked is None else locked
        # Most rows of a dab hold few already, and sorting is what costs.
        over = np.flatnonzero(np.count_nonzero(row, axis=1) > influences)
        cut = row[over]
        rank = cut.copy()
        if keep is not None:
            rank[:, keep] = np.where(cut[:, keep] > 0, 2.0, cut[:, keep])
        rank[:, lock] = np.where(cut[:, lock] > 0, 3.0, 0.0)
        order = np.argsort(-rank, axis=1, kind="stable")
        np.put_along_axis(cut, order[:, influences:], 0.0, axis=1)
        row[over] = cut
        if keep is not None:
            # What was asked for stays what was asked for; what is dropped goes to the others.
            lock = lock.copy()
            lock[keep] = True
        locked_sum = row[:, lock].sum(axis=1)
        free = row[:, ~lock]
        total = free.sum(axis=1)
        row[:, ~lock] = np.where(total[:, None] > 0, free * ((1.0 - locked_sum) / np.maximum(total, 1e-12))[:, None], 0.0)
        row = row / row.sum(axis=1, keepdims=True)
    return row


def _among(graph: sparse.csr_matrix, nodes: IntArray) -> sparse.csr_matrix:
    """The graph (m, m) between some nodes (m,) in rising order; what slicing gives, at the cost of these alone."""
    rows = graph[nodes]
    column = np.minimum(np.searchsorted(nodes, rows.indices), len(nodes) - 1)
    keep = nodes[column] == rows.indices
    before = np.concatenate([[0], np.cumsum(keep)])
    return sparse.csr_matrix((rows.data[keep], column[keep], before[rows.indptr]), shape=(len(nodes), len(nodes)))


def dab(
    points: FloatArray, lengths: sparse.csr_matrix, seed: IntArray, reach: float, *, hardness: float = 0.3
) -> tuple[IntArray, FloatArray]:
    """Which places a brush touches, and how strongly: spread along the surface from the pointer's triangle.

    points (g, 3) posed; lengths (g, g) rest edge lengths; seed: places of the triangle under the pointer;
    reach: metres. Returns places (r,) and falloff (r,) in 0..1.
    """
    # Only what is near enough in a straight line can be near enough along the surface.
    away = points - points[seed].mean(axis=0)
    near = np.flatnonzero(np.einsum("nd,nd->n", away, away) <= (1.2 * reach + np.abs(away[seed]).max()) ** 2)
    near = np.union1d(near, seed)
    small = _among(lengths, near)
    way_near = dijkstra(small, directed=False, indices=np.searchsorted(near, seed), min_only=True, limit=reach)
    inside = np.isfinite(way_near)
    rows = near[inside]
    way = np.asarray(way_near)[inside]
    u = np.clip((way / max(reach, 1e-9) - hardness) / max(1.0 - hardness, 1e-6), 0.0, 1.0)
    return rows, np.asarray(1.0 - u * u * (3.0 - 2.0 * u))
