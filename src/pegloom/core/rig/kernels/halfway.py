"""A helper joint, compiled: part of the turn of the joint it stands at."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import on, times, turn_vector, vector_turn
from pegloom.core.rig.kernels.formula import from_rest


@njit(cache=True)
def halfway(world, of, against, floats, node):
    """Turn a node part of the way with another, and bring it to where that is, in place; whatever a pose says of the node itself.

    of, against : what it follows, and what both hang on (-1: the world). floats : the turn of `of` in that at rest (9), the share,
    the push in the node's own axes (3), the turn of the node in what both hang on at rest (9).
    """
    turn = turn_vector(from_rest(world, of, against, floats[:9]))
    angle = np.sqrt(np.sum(turn * turn))
    own = times(floats[13:22].copy().reshape(3, 3), vector_turn(turn * floats[9]))
    world[node, :3, :3] = times(world[against, :3, :3], own) if against >= 0 else own
    away = on(world[node, :3, :3], floats[10:13]) * (1.0 - np.cos(angle))
    for d in range(3):
        world[node, d, 3] = world[of, d, 3] + away[d]


@njit(cache=True, nogil=True)
def all_halfway(world, rows, floats):  # pragma: no cover
    """Every helper joint of a pose told by joints, in place: rows (h, 3) of node, of, against; floats (h, 22)."""
    for h in range(len(rows)):
        halfway(world, rows[h, 1], rows[h, 2], floats[h], rows[h, 0])
