"""IK of a chain of any number of joints without limits, compiled.

All bends are scaled by one factor, found by bisection, until the span fits, and the chain is swung onto its goal: it keeps
its character, and the goal is met to rounding. Where that cannot bring the ends together, forward and backward reaching
goes on from there (Aristidou, Lasenby, "FABRIK: a fast, iterative solver for the inverse kinematics problem", Graphical
Models 73, 2011).
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    aim_frame,
    blend_rotation,
    cross,
    least_turn,
    norm,
    on,
    product,
    put_chain,
    signed_angle,
    size_of,
    square_to,
    times,
    turn_vector,
    turned,
    vector_turn,
    whole_until,
)

ROUNDS = 100
MET = 1e-9
"""Share of the length that reaching may leave open."""
MOST_BENT = 0.95 * np.pi
"""A bend is scaled up to this."""
BENT = np.deg2rad(10.0)
"""A chain bent less in all has no side of its own to bend to: its joints' bend axes say it."""
PREBENT = np.deg2rad(6.0)
NEAR = 1e-13
"""Share of the length within which a tip is on its goal already."""
FLAT = 0.05
"""A chain that stands out from its line by less than this share of its length is only partly swung to its pole."""


@njit(cache=True)
def reached(points, lengths, goal):
    """Some rounds of reaching, in place: points (n, 3), the first stays, the last goes toward the goal (3,)."""
    n = len(points)
    start, close = points[0].copy(), MET * np.sum(lengths)
    for _ in range(ROUNDS):
        if norm(points[n - 1] - goal) < close:
            break
        points[n - 1] = goal
        for i in range(n - 2, -1, -1):
            points[i] = points[i + 1] + toward(points[i + 1], points[i]) * lengths[i]
        points[0] = start
        for i in range(n - 1):
            points[i + 1] = points[i] + toward(points[i], points[i + 1]) * lengths[i]


@njit(cache=True)
def toward(a, b):
    gap = b - a
    length = norm(gap)
    return gap / length if length > 1e-15 else np.array([0.0, 1.0, 0.0])


@njit(cache=True)
def bent(frame, bends, lengths, factor, out):
    """Points of a chain (n, 3) into out, from the origin, with all its bends scaled: rotation vectors (m, 3), each in the
    axes of the bone before; frame (3, 3) of the first bone, along its y."""
    turn = frame.copy()
    out[0] = 0.0
    for i in range(len(lengths)):
        if i > 0:
            angle = norm(bends[i])
            scaled = factor if factor <= 1.0 or angle * factor <= MOST_BENT else max(MOST_BENT / angle, 1.0)
            turn = times(turn, vector_turn(bends[i] * scaled))
        out[i + 1] = out[i] + turn[:, 1] * lengths[i]
    return norm(out[len(lengths)])


@njit(cache=True)
def fitted(points, lengths, distance):
    """Scale the bends of points (n, 3) until first and last stand `distance` apart, as far as that goes; in place. Gives
    what is left."""
    m = len(lengths)
    first = toward(points[0], points[1])
    frame = aim_frame(first, square_to(np.array([0.3, 0.5, 0.8]), first, np.array([1.0, 0.0, 0.0])))
    bends = np.zeros((m, 3))
    turn = frame.copy()
    y = np.array([0.0, 1.0, 0.0])
    least = np.pi
    for i in range(1, m):
        local = on(turn.T, toward(points[i], points[i + 1]))
        step = least_turn(y, local)
        bends[i] = turn_vector(step)
        if norm(bends[i]) > 1e-9:
            least = min(least, norm(bends[i]))
        turn = times(turn, step)
    out = np.empty((m + 1, 3))
    low, high = 0.0, 1.0
    # Bent on until it is short enough, or every joint is folded.
    while bent(frame, bends, lengths, high, out) > distance and high * least < np.pi:
        low, high = high, high * 1.2
    for _ in range(100):
        middle = 0.5 * (low + high)
        if bent(frame, bends, lengths, middle, out) > distance:
            low = middle
        else:
            high = middle
    left = bent(frame, bends, lengths, high, out) - distance
    start = points[0].copy()
    for i in range(m + 1):
        points[i] = start + out[i]
    return abs(left)


@njit(cache=True)
def swung(points, goal):
    """Turn a chain about its start so that its tip lies toward the goal; in place."""
    start = points[0].copy()
    swing = least_turn(toward(start, points[len(points) - 1]), toward(start, goal))
    for i in range(1, len(points)):
        points[i] = start + on(swing, points[i] - start)


@njit(cache=True)
def solved_chain(begin, goal, axes, pole, pole_rest, poled, stretch, turns):
    """Turns (n, 3, 3) of a chain's joints so that the last stands at the goal (3,); gives by how much it is longer.

    begin (n, 4, 4) : where it starts from. axes (n, 3) : each joint's bend axis in its own axes, for a chain that is
    straight. pole (3,), pole_rest : how the chain's side is turned from it at rest, radians, where `poled`.
    """
    n = len(begin)
    points, lengths = np.empty((n, 3)), np.empty(n - 1)
    for i in range(n):
        points[i] = begin[i, :3, 3]
    for i in range(n - 1):
        lengths[i] = norm(points[i + 1] - points[i])
    whole, longer = np.sum(lengths), 1.0
    start = points[0].copy()
    length = norm(goal - start)
    if length > whole and stretch > 0.0:
        longer = 1.0 + stretch * (length / whole - 1.0)
        for i in range(n):
            points[i] = start + (points[i] - start) * longer
        lengths = lengths * longer
        whole = whole * longer
    distance = min(length, whole)
    aim = toward(start, goal)
    goal = start + aim * distance
    if norm(points[n - 1] - goal) > NEAR * whole:
        total = 0.0
        for i in range(1, n - 1):
            a, b = toward(points[i - 1], points[i]), toward(points[i], points[i + 1])
            total += np.arctan2(norm(cross(a, b)), np.sum(a * b))
        pre = PREBENT * whole_until(total, BENT)
        if pre > 0.0:
            old, turn = points.copy(), np.eye(3)
            for i in range(n - 1):
                if i > 0:
                    axis = on(begin[i], axes[i])
                    turn = times(turn, vector_turn(axis * (pre / norm(axis))))
                points[i + 1] = points[i] + on(turn, old[i + 1] - old[i])
        left = fitted(points, lengths, distance)
        swung(points, goal)
        if left > MET * whole:
            reached(points, lengths, goal)
            fitted(points, lengths, distance)
            swung(points, goal)
    if poled:
        side = np.zeros(3)
        for i in range(1, n - 1):
            off = points[i] - start
            side += off - aim * np.sum(off * aim)
        out = norm(side) / ((n - 2) * whole)
        if out > 1e-9:
            wanted = turned(square_to(pole - start, aim, side), aim, pole_rest)
            angle = signed_angle(side / norm(side), wanted, aim) * (1.0 - whole_until(out, FLAT))
            for i in range(1, n):
                points[i] = start + turned(points[i] - start, aim, angle)
    change = np.eye(3)
    for i in range(n):
        if i + 1 < n:
            bone = on(change, begin[i + 1, :3, 3] - begin[i, :3, 3])
            change = times(least_turn(bone / max(norm(bone), 1e-30), toward(points[i], points[i + 1])), change)
        turns[i] = times(change, begin[i, :3, :3] / size_of(begin[i]))
    return longer


@njit(cache=True)
def chain(world, ints, values, floats):
    """Work out one chain: world of its joints, FK blended toward IK.

    ints : how many joints; their nodes; the nodes they start from; goal, pole (-1 for none); slots of its amount, of how
    much the tip takes the goal's turn, and of stretch (-1 for none).
    floats : end_offset (16), the pole's turn at rest, what the two settings are without a slot, bend axes (n, 3).
    """
    n = ints[0]
    begin = np.empty((n, 4, 4))
    for k in range(n):
        begin[k] = world[ints[1 + n + k]]
    tail = ints[1 + 2 * n :]
    amount = values[tail[2]]
    turns = np.empty((n, 3, 3))
    longer = 1.0
    if amount > 0.0:
        goal = product(world[tail[0]], floats[:16].reshape(4, 4))
        tip = floats[17] if tail[3] < 0 else values[tail[3]]
        stretch = floats[18] if tail[4] < 0 else values[tail[4]]
        pole = world[max(tail[1], 0)][:3, 3].copy()
        axes = floats[19 : 19 + 3 * n].reshape(n, 3)
        longer = solved_chain(begin, goal[:3, 3].copy(), axes, pole, floats[16], tail[1] >= 0, stretch, turns)
        turns[n - 1] = blend_rotation(turns[n - 1], goal[:3, :3] / size_of(goal), tip)
    put_chain(world, ints[1 : 1 + n], begin, turns, longer, amount)
