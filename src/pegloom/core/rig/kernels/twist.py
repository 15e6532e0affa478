"""A twist joint, compiled: its share of how far another joint turned about the bone."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

from numba import njit

from pegloom.core.rig.kernels.algebra import about, at, times
from pegloom.core.rig.kernels.formula import from_rest, turn_about


@njit(cache=True)
def twist(world, ints, values, floats, node):
    """Turn a node about the bone, in place.

    ints : what turns, in what, slot of the amount (-1: whole). floats : the bone in the axes of what turns (3), its rest
    there (9), the bone in the node's own axes (3), the node's share.
    """
    angle = turn_about(from_rest(world, ints[0], ints[1], floats[3:12]), floats[:3])
    angle = angle * floats[15] * at(values, ints[2], 1.0)
    world[node, :3, :3] = times(world[node, :3, :3], about(floats[12:15], angle))
