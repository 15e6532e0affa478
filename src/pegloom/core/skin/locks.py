"""Locked joints keep what they hold, whatever computed the new weights."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from pegloom.core.errors import ShapeError
from pegloom.core.skin.weights import Weights, dense_over, with_rows


def held(before: Weights, after: Weights, locked: Collection[str], influences: int | None = None) -> Weights:
    """The weights `after`, but that locked joints hold what they held `before`, to the last digit.

    The joints that are free share what is left as `after` has it; where it gives them nothing, as they shared it before.
    influences : most a row, but for what is locked. A locked joint that held nothing is given nothing.

    Raises ShapeError for another number of vertices.
    """
    if before.vertex_count != after.vertex_count:
        raise ShapeError(f"weights of {before.vertex_count} vertices cannot be held in weights of {after.vertex_count}")
    known = {*before.joint_ids, *after.joint_ids}
    if before is after or not known & set(locked):
        return after
    ids = (*after.joint_ids, *(j for j in before.joint_ids if j not in set(after.joint_ids)))
    lock = np.array([j in locked for j in ids])
    old, new = dense_over(before, ids), dense_over(after, ids)
    rows = np.flatnonzero((old[:, lock] != new[:, lock]).any(axis=1))
    if len(rows) == 0:
        return after
    was, row = old[rows], new[rows]
    row[:, lock] = was[:, lock]
    left = np.maximum(1.0 - was[:, lock].sum(axis=1), 0.0)
    # Who takes what is left: the new shares, else the old ones.
    free = np.where((row[:, ~lock].sum(axis=1) > 1e-9)[:, None], row[:, ~lock], was[:, ~lock])
    if influences is not None:
        # Locked ones are never dropped; of the others at least one stays.
        room = np.maximum(influences - (was[:, lock] > 0).sum(axis=1), 1)
        rank = np.argsort(np.argsort(-free, axis=1, kind="stable"), axis=1)
        free = np.where(rank < room[:, None], free, 0.0)
    total = free.sum(axis=1)
    row[:, ~lock] = free * np.where(total > 0, left / np.maximum(total, 1e-300), 0.0)[:, None]
    # With nobody free to take it, the row stays what it was.
    nobody = (total <= 0) & (left > 1e-9)
    row[nobody] = was[nobody]
    return with_rows(after, ids, rows, row, locked=lock)
