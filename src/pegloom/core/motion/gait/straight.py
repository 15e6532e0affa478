"""Where joints are between two moments, each turned straight from one to the next, as players of sampled motion do."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.skeleton.joints import Skeleton


def places_between(skeleton: Skeleton, rows: FloatArray, share: float, joints: Sequence[int]) -> FloatArray:
    """Places (k - 1, len(joints), 3) at a share of the way from each moment to the next.

    rows : (k, j, 10) of each joint in its parent, neighbours' quaternions in one half space, see `Figure.rows`.
    """
    needed: set[int] = set()
    for joint in joints:
        while joint >= 0 and joint not in needed:
            needed.add(joint)
            joint = int(skeleton.parents[joint])
    order = sorted(needed)
    a, b = rows[:-1, order, 3:7], rows[1:, order, 3:7]
    # Slerp: the angle between two unit quaternions is the half of the turn.
    angle = np.arccos(np.clip((a * b).sum(axis=-1, keepdims=True), -1.0, 1.0))
    near = angle < 1e-6
    sine = np.where(near, 1.0, np.sin(angle))
    mixed = np.where(near, (1.0 - share) * a + share * b, (np.sin((1.0 - share) * angle) * a + np.sin(share * angle) * b) / sine)
    moved = (1.0 - share) * rows[:-1, order, :3] + share * rows[1:, order, :3]
    local = Rotation.from_quat(mixed.reshape(-1, 4)).as_matrix().reshape(*mixed.shape[:2], 3, 3)
    turned: dict[int, FloatArray] = {}
    at: dict[int, FloatArray] = {}
    for k, j in enumerate(order):
        parent = int(skeleton.parents[j])
        if parent < 0:
            turned[j], at[j] = local[:, k], moved[:, k]
            continue
        turned[j] = turned[parent] @ local[:, k]
        at[j] = at[parent] + np.einsum("kab,kb->ka", turned[parent], moved[:, k])
    return np.stack([at[j] for j in joints], axis=1)
