"""Joints posed without controls: from values in their parents to where they stand, compiled."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def put_rows(local, which, rows):  # pragma: no cover
    """parent_from_joint of some joints (which (n,)) from position, quaternion, scale (n, 10), in place."""
    for n in range(len(which)):
        j = which[n]
        x, y, z, w = rows[n, 3], rows[n, 4], rows[n, 5], rows[n, 6]
        a, b, c = rows[n, 7], rows[n, 8], rows[n, 9]
        local[j, 0, 0], local[j, 0, 1], local[j, 0, 2] = (
            (1 - 2 * (y * y + z * z)) * a,
            2 * (x * y - z * w) * b,
            2 * (x * z + y * w) * c,
        )
        local[j, 1, 0], local[j, 1, 1], local[j, 1, 2] = (
            2 * (x * y + z * w) * a,
            (1 - 2 * (x * x + z * z)) * b,
            2 * (y * z - x * w) * c,
        )
        local[j, 2, 0], local[j, 2, 1], local[j, 2, 2] = (
            2 * (x * z - y * w) * a,
            2 * (y * z + x * w) * b,
            (1 - 2 * (x * x + y * y)) * c,
        )
        local[j, 0, 3], local[j, 1, 3], local[j, 2, 3] = rows[n, 0], rows[n, 1], rows[n, 2]


@njit(cache=True, nogil=True)
def down(parents, local):  # pragma: no cover
    """character_from_joint (j, 4, 4), parents first (-1 for none)."""
    world = np.empty_like(local)
    for j in range(len(parents)):
        p = parents[j]
        if p < 0:
            world[j] = local[j]
            continue
        for i in range(3):
            for k in range(4):
                total = world[p, i, 3] if k == 3 else 0.0
                for m in range(3):
                    total += world[p, i, m] * local[j, m, k]
                world[j, i, k] = total
        world[j, 3, 0], world[j, 3, 1], world[j, 3, 2], world[j, 3, 3] = 0.0, 0.0, 0.0, 1.0
    return world
