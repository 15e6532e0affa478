"""Helper joints of a skeleton, as their kernel takes them."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.memo import by_identity
from pegloom.core.skeleton.joints import Skeleton


@by_identity
def halfway_rows(skeleton: Skeleton) -> tuple[IntArray, FloatArray]:
    """rows (h, 3) : joint, whom it follows, what both hang on (-1: nothing). floats (h, 22) : see `kernels/halfway`. Helper joints whose
    joint is not there ride along and have no row."""
    rows, floats = [], []
    for i, joint in enumerate(skeleton.joints):
        if joint.halfway is None or joint.halfway.of not in skeleton.index:
            continue
        of, against = skeleton.index[joint.halfway.of], int(skeleton.parents[i])
        above = skeleton.world[against, :3, :3].T if against >= 0 else np.eye(3)
        rest, own = above @ skeleton.world[of, :3, :3], above @ skeleton.world[i, :3, :3]
        rows.append((i, of, against))
        floats.append([*rest.ravel().tolist(), joint.halfway.share, *joint.halfway.push, *own.ravel().tolist()])
    return (
        np.asarray(frozen(np.array(rows, dtype=np.int64).reshape(-1, 3))),
        np.asarray(frozen(np.array(floats, dtype=np.float64).reshape(-1, 22))),
    )  # fmt: skip
