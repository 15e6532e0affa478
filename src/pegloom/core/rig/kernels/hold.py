"""One constraint on one node, compiled: a mix of targets by weight, then toward it by its amount."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    aim_frame,
    blend_rotation,
    flip,
    norm,
    on,
    product,
    quaternion,
    rotation,
    size_of,
    square_to,
    times,
    turn_vector,
    vector_turn,
)

POSITION, ROTATION, AIM, PARENT, SIZE = 0, 1, 2, 3, 4
"""What a target gives: its place, its turn, the direction to it, all of it, its scale."""
EMPTY = 1e-9


@njit(cache=True)
def hold(world, ints, values, floats):
    """Bring a node toward its targets, in place.

    ints : the node, what it rides on (-1 for the world), what is followed, slot of the amount, an up node (-1 for none),
    how many targets; then each target's node and the slot of its weight.
    floats : which axes (3); the node's own aim and up axes (6); the up node's axis (3); each target's offset (16).
    Weights that add up to less than one leave the rest to where the node is; more count as shares of their sum.
    """
    node, amount = world[ints[0]], values[ints[3]]
    if amount <= 0.0:
        return
    what, count = ints[2], ints[5]
    carrier = np.eye(4)
    if ints[1] >= 0:
        carrier = world[ints[1]].copy()
    carrier_size = size_of(carrier)
    carrier_turn = carrier[:3, :3] / carrier_size
    total = 0.0
    for k in range(count):
        total += max(values[ints[7 + 2 * k]], 0.0)
    if total <= EMPTY:
        return
    scale = 1.0 / total if total > 1.0 else 1.0
    rest = max(1.0 - total, 0.0)
    size = size_of(node)
    own_turn, own_place = node[:3, :3] / size, node[:3, 3].copy()
    place = rest * own_place
    turning = np.zeros(4)
    lead = np.zeros(4)
    bigger = 0.0
    for k in range(count):
        weight = max(values[ints[7 + 2 * k]], 0.0) * scale
        if weight <= 0.0:
            continue
        offset = floats[12 + 16 * k : 28 + 16 * k].reshape(4, 4)
        target = np.eye(4)
        if ints[6 + 2 * k] >= 0:
            target = world[ints[6 + 2 * k]].copy()
        if what == POSITION:
            place += weight * (target[:3, 3] + on(carrier, offset[:3, 3]))
            continue
        if what == AIM:
            place += weight * target[:3, 3]
            continue
        there = product(target, offset)
        there_size = size_of(there)
        place += weight * there[:3, 3]
        bigger += weight * np.log(max(there_size, 1e-9) / max(size, 1e-9))
        q = quaternion(there[:3, :3] / there_size)
        if norm_4(lead) == 0.0:
            lead = q
        if np.sum(q * lead) < 0.0:
            q = -q
        turning += weight * q
    new_turn, new_place, new_size = own_turn, own_place, size
    if what == AIM:
        gap = place / max(1.0 - rest, EMPTY)
        if rest > 0.0:
            gap = (place - rest * own_place) / (1.0 - rest)
        gap = gap - own_place
        far = norm(gap)
        if far > 1e-12:
            aim, up = floats[3:6], floats[6:9]
            side = on(own_turn, up)
            if ints[4] >= 0:
                side = on(world[ints[4]], floats[9:12])
            along = gap / far
            there_frame = aim_frame(along, square_to(side, along, own_turn[:, 0].copy()))
            own_frame = aim_frame(aim, square_to(up, aim, np.array([1.0, 0.0, 0.0])))
            new_turn = times(there_frame, flip(own_frame))
            if rest > 0.0:
                new_turn = blend_rotation(own_turn, new_turn, 1.0 - rest)
    elif what != POSITION:
        if rest > 0.0:
            q = quaternion(own_turn)
            turning += rest * (q if np.sum(q * lead) >= 0.0 else -q)
        length = norm_4(turning)
        if length > 1e-9 and what != SIZE:
            new_turn = rotation(turning / length)
        if what in (SIZE, PARENT):
            new_size = size * np.exp(bigger)
    if what in (POSITION, PARENT):
        new_place = place
    every = floats[0] == 1.0 and floats[1] == 1.0 and floats[2] == 1.0
    if not every:
        shift = on(flip(carrier_turn), new_place - own_place)
        new_place = own_place + on(carrier_turn, shift * floats[:3])
        turn = turn_vector(times(times(flip(carrier_turn), times(new_turn, flip(own_turn))), carrier_turn))
        new_turn = times(times(times(carrier_turn, vector_turn(turn * floats[:3])), flip(carrier_turn)), own_turn)
    if amount < 1.0:
        new_place = own_place + amount * (new_place - own_place)
        new_turn = blend_rotation(own_turn, new_turn, amount)
        new_size = size * (new_size / size) ** amount
    for i in range(3):
        for j in range(3):
            node[i, j] = new_turn[i, j] * new_size
        node[i, 3] = new_place[i]


@njit(cache=True)
def norm_4(q):
    return np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
