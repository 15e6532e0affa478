"""Skin weights of one part: sparse rows that add up to 1."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy import sparse

from pegloom.core.arrays import BoolArray, FloatArray, IntArray, frozen
from pegloom.core.errors import ShapeError
from pegloom.core.memo import of_the_latest
from pegloom.core.tolerances import WEIGHT_SUM, WEIGHT_TINY

EVEN = 1e-7
"""Weights nearer than this count as equal when rows are cut."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Weights:
    """Weights of n vertices. joint_ids: the columns. CSR arrays: indptr (n + 1,), indices (w,), values (w,).

    Made with 32-bit indices: the undo history keeps many.
    """

    joint_ids: tuple[str, ...]
    indptr: IntArray
    indices: IntArray
    values: FloatArray

    @property
    def vertex_count(self) -> int:
        return len(self.indptr) - 1

    def matrix(self) -> sparse.csr_matrix:
        """The same as a SciPy CSR matrix (n, j), sharing the arrays."""
        shape = (self.vertex_count, len(self.joint_ids))
        return sparse.csr_matrix((self.values, self.indices, self.indptr), shape=shape)

    def column(self, joint_id: str) -> FloatArray:
        """Weight (n,) of one joint; zeros where it is no influence."""
        values = np.zeros(self.vertex_count)
        if joint_id in self.joint_ids:
            mine = np.flatnonzero(self.indices == self.joint_ids.index(joint_id))
            values[np.searchsorted(self.indptr, mine, side="right") - 1] = self.values[mine]
        return values


@of_the_latest(6)
def dense(weights: Weights) -> FloatArray:
    """All weights as a read-only (n, j) array."""
    return np.asarray(frozen(weights.matrix().toarray()))


def dense_over(weights: Weights, joint_ids: Sequence[str]) -> FloatArray:
    """All weights as an own (n, j) array over these columns, which must hold the weights' own."""
    values = np.zeros((weights.vertex_count, len(joint_ids)))
    place = {joint: c for c, joint in enumerate(joint_ids)}
    values[:, [place[joint] for joint in weights.joint_ids]] = dense(weights)
    return values


def from_dense(
    values: FloatArray, joint_ids: Sequence[str], *, influences: int | None = None, locked: BoolArray | None = None
) -> Weights:
    """Weights of a dense (n, j) array: cut to the largest `influences` a row, tiny ones dropped, rows normalised.

    locked : (j,) columns that keep what they hold to the last digit; the others make up for what is dropped.

    Raises
    ------
    ShapeError
        Negative or non-finite values, or a row of zeros: the caller must say who holds such a vertex.
    """
    w = np.array(values, dtype=np.float64)
    if w.ndim != 2 or w.shape[1] != len(joint_ids):
        raise ShapeError(f"weights: expected (n, {len(joint_ids)}), got {w.shape}")
    if not np.isfinite(w).all() or (w < 0).any():
        raise ShapeError("weights must be finite and not negative")
    w = limited_rows(w, influences, locked=locked)
    matrix = sparse.csr_matrix(w)
    return Weights(
        tuple(joint_ids),
        np.asarray(frozen(matrix.indptr.astype(np.int32))),
        np.asarray(frozen(matrix.indices.astype(np.int32))),
        np.asarray(frozen(matrix.data.astype(np.float64))),
    )


def from_entries(columns: IntArray, values: FloatArray, joint_ids: Sequence[str]) -> tuple[Weights, int]:
    """Weights of rows as files store them: columns (n, k), values (n, k); and how many rows held nothing.

    The same as `from_dense`, without a matrix of all joints: a file may bring thousands. Negative values count as 0,
    a joint named twice in a row holds the sum, a row of nothing goes to the first joint.
    """
    n, k = columns.shape
    shape = (n, len(joint_ids))
    flat = np.maximum(values, 0.0).ravel()
    matrix = sparse.csr_matrix((flat, (np.repeat(np.arange(n), k), columns.ravel())), shape=shape)
    empty = np.flatnonzero(np.asarray(matrix.sum(axis=1)).ravel() <= 0)
    if len(empty):
        matrix = matrix + sparse.csr_matrix((np.ones(len(empty)), (empty, np.zeros(len(empty), np.int64))), shape=shape)
    for least in (WEIGHT_TINY, 0.0):
        total = np.asarray(matrix.sum(axis=1)).ravel()
        matrix.data /= np.repeat(total, np.diff(matrix.indptr))
        matrix.data[matrix.data < least] = 0.0
    matrix.eliminate_zeros()
    matrix.sort_indices()
    result = Weights(
        tuple(joint_ids),
        np.asarray(frozen(matrix.indptr.astype(np.int32))),
        np.asarray(frozen(matrix.indices.astype(np.int32))),
        np.asarray(frozen(matrix.data.astype(np.float64))),
    )
    return result, len(empty)


def limited_rows(values: FloatArray, influences: int | None, *, locked: BoolArray | None = None) -> FloatArray:
    """Rows (n, j) reduced to their largest `influences` entries above WEIGHT_TINY and normalised.

    locked : (j,) columns that keep what they hold; rows that hold nothing else stay as they are. Raises ShapeError naming the first row that holds nothing.
    """
    w = np.array(values, dtype=np.float64, order="C")
    if influences is not None and influences < w.shape[1]:
        _keep_strongest(w, influences)
    total = w.sum(axis=1, keepdims=True)
    empty = np.flatnonzero(total[:, 0] <= 0)
    if len(empty):
        raise ShapeError(f"vertex {int(empty[0])} (and {len(empty) - 1} more) would be left without any weight")
    if locked is not None and locked.any():
        return _cut_around(w, locked)
    w /= total
    w[w < WEIGHT_TINY] = 0.0
    return np.asarray(w / w.sum(axis=1, keepdims=True))


def _cut_around(w: FloatArray, locked: BoolArray) -> FloatArray:
    """Rows (n, j) with tiny entries dropped that are not locked; what else is free makes the row add up to 1."""
    free = w[:, ~locked]
    free[free < WEIGHT_TINY] = 0.0
    left, total = 1.0 - w[:, locked].sum(axis=1), free.sum(axis=1)
    some = total > 0
    free[some] *= (left[some] / total[some])[:, None]
    result = w.copy()
    result[np.ix_(some, ~locked)] = free[some]
    return result


@njit(cache=True, nogil=True)
def _keep_strongest(w, influences):  # type: ignore[no-untyped-def]  # pragma: no cover
    """All but the largest few of each row set to 0, in place.

    Where the last to stay and the first to go are equal (a left and a right joint at the middle), both go, so that a
    mirrored row chooses alike; unless nothing larger would be left.
    """
    kept = np.empty(influences, dtype=np.int64)
    for r in range(w.shape[0]):
        count = 0
        for j in range(w.shape[1]):
            count += w[r, j] > 0.0
        if count <= influences:
            continue
        first, last, out = 0.0, 0.0, 0.0
        for rank in range(influences + 1):
            best = -1
            for j in range(w.shape[1]):
                taken = False
                for k in range(min(rank, influences)):
                    taken = taken or kept[k] == j
                if not taken and (best < 0 or w[r, j] > w[r, best]):
                    best = j
            if rank < influences:
                kept[rank] = best
                last = w[r, best]
                first = last if rank == 0 else first
            else:
                out = w[r, best]
        tied = last - out <= EVEN and out > 0 and first > last + EVEN
        for j in range(w.shape[1]):
            stays = False
            for k in range(influences):
                stays = stays or kept[k] == j
            if not stays or (tied and w[r, j] <= last + EVEN):
                w[r, j] = 0.0


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Packed:
    """The k largest influences of each vertex: indices (n, k) int32 into joint_ids, values (n, k) float64."""

    indices: np.ndarray
    values: np.ndarray


@of_the_latest(8)
def packed(weights: Weights, k: int = 0) -> Packed:
    """Rows of fixed length for skinning and files; k = 0 takes as many as the fullest row needs."""
    counts = np.diff(weights.indptr)
    width = k or max(int(counts.max(initial=0)), 1)
    indices, values = np.zeros((len(counts), width), dtype=np.int32), np.zeros((len(counts), width))
    _pack(weights.indptr, weights.indices, weights.values, indices, values)
    return Packed(np.asarray(frozen(indices)), np.asarray(frozen(values)))


@njit(cache=True, nogil=True)
def _pack(indptr, columns, value, indices, values):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Each row's largest put in, falling, equal ones in the order they stand in; rows normalised."""
    width = indices.shape[1]
    for r in range(len(indptr) - 1):
        count = 0
        for e in range(indptr[r], indptr[r + 1]):
            w = value[e]
            place = count
            while place > 0 and values[r, place - 1] < w:
                place -= 1
            if place >= width:
                continue
            for p in range(min(count, width - 1), place, -1):
                values[r, p], indices[r, p] = values[r, p - 1], indices[r, p - 1]
            values[r, place], indices[r, place] = w, columns[e]
            count = min(count + 1, width)
        total = 0.0
        for p in range(count):
            total += values[r, p]
        for p in range(count):
            values[r, p] /= total


def with_rows(
    weights: Weights, joint_ids: Sequence[str], vertices: IntArray, rows: FloatArray, *, locked: BoolArray | None = None
) -> Weights:
    """Some rows replaced, the others shared: what a stroke changes costs what it touches.

    joint_ids : the columns of `rows` (r, j); they begin with the weights' own.
    vertices (r,) : which rows. Crumbs are dropped and the new rows normalised around the columns `locked` (j,).
        Raises ShapeError for columns in another order, or an empty row.
    """
    if tuple(joint_ids[: len(weights.joint_ids)]) != weights.joint_ids:
        raise ShapeError("new rows must keep the columns the weights have")
    new = from_dense(rows, joint_ids, locked=locked)
    counts = np.diff(weights.indptr)
    fresh = counts.copy()
    fresh[vertices] = np.diff(new.indptr)
    indptr = np.concatenate([[0], np.cumsum(fresh)])
    indices, values = np.empty(indptr[-1], dtype=np.int32), np.empty(indptr[-1])
    stays = np.ones(len(counts), dtype=bool)
    stays[vertices] = False
    for source, columns, starts in (
        (weights, np.flatnonzero(stays), indptr[:-1][stays]),
        (new, None, indptr[:-1][vertices]),
    ):
        own = source.indptr[:-1] if columns is None else source.indptr[:-1][columns]
        size = np.diff(source.indptr) if columns is None else counts[columns]
        within = np.arange(int(size.sum())) - np.repeat(np.cumsum(size) - size, size)
        source_slots, here = np.repeat(starts, size) + within, np.repeat(own, size) + within
        indices[source_slots], values[source_slots] = source.indices[here], source.values[here]
    return Weights(
        tuple(joint_ids),
        np.asarray(frozen(indptr.astype(np.int32))),
        np.asarray(frozen(indices)),
        np.asarray(frozen(values)),
    )


def without_columns(weights: Weights, joints: Sequence[str]) -> Weights:
    """The weights without columns nothing is held in. Raises ShapeError where something is."""
    if not joints:
        return weights
    kept = [joint for joint in weights.joint_ids if joint not in joints]
    number = {joint: c for c, joint in enumerate(kept)}
    column = np.array([number.get(joint, -1) for joint in weights.joint_ids], dtype=np.int32)
    indices = column[weights.indices]
    if (indices < 0).any():
        holder = weights.joint_ids[int(weights.indices[np.argmax(indices < 0)])]
        raise ShapeError(f"{holder} still holds weight; hand it over before its column goes")
    return Weights(tuple(kept), weights.indptr, np.asarray(frozen(indices)), weights.values)


def row_sums_hold(weights: Weights) -> bool:
    """Every row adds up to 1 within WEIGHT_SUM and holds nothing negative."""
    total = np.asarray(weights.matrix().sum(axis=1)).ravel()
    return bool((np.abs(total - 1.0) <= WEIGHT_SUM).all() and (weights.values >= 0).all())


def most_influences(weights: Weights) -> int:
    """The fullest row's number of influences."""
    return int(np.diff(weights.indptr).max()) if weights.vertex_count else 0


def carried_over(weights: Weights, to: Mapping[str, str], joint_ids: Sequence[str]) -> Weights:
    """What some joints hold, given to others: `to` by id; a joint not named keeps what it holds. joint_ids : the new columns.

    Raises KeyError for a column with no place among them.
    """
    place = {joint: k for k, joint in enumerate(joint_ids)}
    rows = np.arange(len(weights.joint_ids))
    columns = np.array([place[to.get(j, j)] for j in weights.joint_ids], dtype=np.int64)
    give = sparse.csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(len(rows), len(joint_ids)))
    matrix = sparse.csr_matrix(weights.matrix() @ give)
    matrix.sort_indices()
    return Weights(
        tuple(joint_ids), np.asarray(frozen(matrix.indptr.astype(np.int32))), np.asarray(frozen(matrix.indices.astype(np.int32))),
        np.asarray(frozen(matrix.data.astype(np.float64))),
    )  # fmt: skip
