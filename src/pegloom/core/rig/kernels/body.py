"""The steps that run `tree.py`: a chain with limits, and a whole body that starts from what its FK channels say."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    at,
    blend_rotation,
    flip,
    on,
    product,
    put_chain,
    put_channels,
    size_of,
    times,
)
from pegloom.core.rig.kernels.tree import solved_tree


@njit(cache=True)
def body(world, ints, values, floats):
    """Work out a whole body: world of its joints, FK blended toward what meets its goals.

    ints : how many joints n, how many goals g, slot of the amount, slot of how stiff the root's place is (-1 for free);
    for each joint its node, the joint of the set above it (-1), what its FK control rides on: an outer node (0), a joint
    (1) or a control (2) of the set, the number of that, and the slots of the control's channels (7); for each goal its
    joint in the set, its node, slots of its shares of place and turn.
    floats : size at rest; for each joint: its control in what that rides on (16), the joint in its control (16), its turn
    in the joint above at rest (9), low and high (6), give (3); for each goal the joint in its node (16), usual shares (2).
    """
    n, m = ints[0], ints[1]
    amount = values[ints[2]]
    rows, goal_rows = ints[4 : 4 + 11 * n], ints[4 + 11 * n :]
    held, begin, turn = np.empty((n, 4, 4)), np.empty((n, 4, 4)), np.empty((4, 4))
    parents = np.empty(n, dtype=np.int64)
    for i in range(n):
        row, f = rows[11 * i : 11 * i + 11], 1 + 50 * i
        parents[i] = row[1]
        carrier = np.eye(4)
        if row[2] == 0 and row[3] >= 0:
            carrier = world[row[3]].copy()
        elif row[2] == 1:
            carrier = begin[row[3]].copy()
        elif row[2] == 2:
            carrier = held[row[3]].copy()
        put_channels(
            turn, at(values, row[4], 0.0), at(values, row[5], 0.0), at(values, row[6], 0.0), at(values, row[7], 0.0),
            at(values, row[8], 0.0), at(values, row[9], 0.0), at(values, row[10], 1.0),
        )  # fmt: skip
        held[i] = product(product(carrier, floats[f : f + 16].reshape(4, 4)), turn)
        begin[i] = product(held[i], floats[f + 16 : f + 32].reshape(4, 4))
    if amount <= 0.0:
        for i in range(n):
            world[rows[11 * i]] = begin[i]
        return
    resting, low, high, give = np.empty((n, 3, 3)), np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3))
    for i in range(n):
        f = 1 + 50 * i + 32
        resting[i] = floats[f : f + 9].reshape(3, 3)
        low[i], high[i], give[i] = floats[f + 9 : f + 12], floats[f + 12 : f + 15], floats[f + 15 : f + 18]
    goals, wanted, shares = np.empty(m, dtype=np.int64), np.empty((m, 4, 4)), np.empty((m, 2))
    for g in range(m):
        row, f = goal_rows[4 * g : 4 * g + 4], 1 + 50 * n + 18 * g
        goals[g] = row[0]
        wanted[g] = product(world[row[1]], floats[f : f + 16].reshape(4, 4))
        shares[g, 0] = at(values, row[2], floats[f + 16])
        shares[g, 1] = at(values, row[3], floats[f + 17])
    root_give = 1.0
    if ints[3] >= 0:
        root_give = (1.0 - values[ints[3]]) ** 2
    size = floats[0] * size_of(begin[0])
    turns, places = np.empty((n, 3, 3)), np.empty((n, 3))
    solved_tree(begin, parents, resting, low, high, give, root_give, goals, wanted, shares, size, turns, places)
    out = np.empty((n, 3, 3))
    spots = np.empty((n, 3))
    for i in range(n):
        scale, p = size_of(begin[i]), parents[i]
        start = begin[i, :3, :3] / scale
        if p < 0:
            out[i] = blend_rotation(start, turns[i], amount)
            spots[i] = begin[i, :3, 3] + amount * (places[i] - begin[i, :3, 3])
        else:
            above = begin[p, :3, :3] / size_of(begin[p])
            local = blend_rotation(times(flip(above), start), times(flip(turns[p]), turns[i]), amount)
            out[i] = times(out[p], local)
            spots[i] = spots[p] + on(out[p], on(flip(above), begin[i, :3, 3] - begin[p, :3, 3]))
        node = world[rows[11 * i]]
        node[:3, :3] = out[i] * scale
        node[:3, 3] = spots[i]
        node[3, :3] = 0.0
        node[3, 3] = 1.0


@njit(cache=True)
def limited_chain(world, ints, values, floats):
    """Work out a chain with limits or stiffness: world of its joints, FK blended toward IK.

    ints : as `chain.chain`. floats : as there, then size at rest and for each joint its turn in the one above at rest (9),
    low and high (6), give (3).
    """
    n = ints[0]
    begin, parents = np.empty((n, 4, 4)), np.arange(n) - 1
    for k in range(n):
        begin[k] = world[ints[1 + n + k]]
    tail = ints[1 + 2 * n :]
    amount = values[tail[2]]
    turns, places = np.empty((n, 3, 3)), np.empty((n, 3))
    if amount > 0.0:
        goal = product(world[tail[0]], floats[:16].reshape(4, 4))
        first = 19 + 3 * n
        resting, low, high, give = np.empty((n, 3, 3)), np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3))
        for i in range(n):
            f = first + 1 + 18 * i
            resting[i] = floats[f : f + 9].reshape(3, 3)
            low[i], high[i], give[i] = floats[f + 9 : f + 12], floats[f + 12 : f + 15], floats[f + 15 : f + 18]
        shares = np.zeros((1, 2))
        shares[0, 0] = 1.0
        wanted = np.empty((1, 4, 4))
        wanted[0] = goal
        goals = np.array([n - 1])
        size = floats[first] * size_of(begin[0])
        solved_tree(begin, parents, resting, low, high, give, 0.0, goals, wanted, shares, size, turns, places)
        tip = at(values, tail[3], floats[17])
        turns[n - 1] = blend_rotation(turns[n - 1], goal[:3, :3] / size_of(goal), tip)
    put_chain(world, ints[1 : 1 + n], begin, turns, 1.0, amount)
