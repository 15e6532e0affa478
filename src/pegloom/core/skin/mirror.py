"""Weights across the mirror plane."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError


def mirror_rows(
    values: FloatArray, points_x: FloatArray, partners: IntArray, joint_partners: IntArray, *, from_left: bool = True
) -> tuple[FloatArray, int]:
    """Copy one half's weights to the other, joints swapped for their partners.

    values (n, j); points_x (n,) distance from the mirror plane, left positive; partners (n,) vertex across, -1 for
    none; joint_partners (j,) column across, its own index for a centre joint. Vertices on the plane share evenly
    between the two sides. Returns new values and how many vertices of the receiving half had no partner.

    Raises EditError when a joint that carries weight there has no partner.
    """
    swapped = values[:, joint_partners]
    if (joint_partners < 0).any():
        lost = np.flatnonzero(joint_partners < 0)
        if (values[:, lost] > 0).any():
            raise EditError("a joint that carries weight has no partner on the other side; name the pair alike")
        swapped[:, lost] = 0.0
    side = points_x if from_left else -points_x
    middle = partners == np.arange(len(values))
    receiving = (side < 0) & ~middle
    has = receiving & (partners >= 0)
    result = values.copy()
    result[has] = swapped[partners[has]]
    result[middle] = 0.5 * (values[middle] + swapped[middle])
    total = result.sum(axis=1, keepdims=True)
    return np.asarray(result / total), int((receiving & (partners < 0)).sum())
