"""Formulas and couplings, compiled: a small stack of numbers, what is read from nodes, one coupling on one slot."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.curves.kernel import PackedCurves, value_at
from pegloom.core.rig.kernels.algebra import flip, on, quaternion, size_of, times

DEPTH = 32
"""Numbers a formula may hold at once."""
(
    PUSH, READ, ADD, SUB, MUL, DIV, MOD, POW, NEGATE, NOT, LESS, LESS_EQUAL, MORE, MORE_EQUAL, EQUAL, UNEQUAL, BOTH, EITHER, CHOOSE,
    ABS, SIN, COS, TAN, ASIN, ACOS, SQRT, FLOOR, ATAN2, CLAMP, MIX, SMOOTH, LEAST, MOST,
) = range(33)  # fmt: skip
"""What a step of a formula does."""
CHANNEL, DISTANCE, ALONG, TURN, SWING = range(5)
"""What a reading is: a slot's value; how far two nodes stand apart; how far along an axis of the other; how far it turned
about an axis of its own; how far that axis swung away."""
SET, PLUS, TIMES = range(3)
"""What a coupling does to the value that stands there."""
EMPTY = np.zeros(0)


@njit(cache=True)
def formula(ints, floats, inputs):
    """The value of a program: ints (what, operand) in a row, floats its constants, inputs its readings. What has no value
    (a division by nothing, the root of less than nothing) counts as 0."""
    stack = np.empty(DEPTH)
    top = 0
    for k in range(len(ints) // 2):
        what, operand = ints[2 * k], ints[2 * k + 1]
        if what == PUSH:
            stack[top] = floats[operand]
            top += 1
            continue
        if what == READ:
            stack[top] = inputs[operand]
            top += 1
            continue
        if what in (NEGATE, NOT) or ABS <= what <= FLOOR:
            stack[top - 1] = _one(what, stack[top - 1])
            continue
        if what == CHOOSE or CLAMP <= what <= SMOOTH:
            a, b, c = stack[top - 3], stack[top - 2], stack[top - 1]
            top -= 2
            if what == CHOOSE:
                stack[top - 1] = b if a != 0.0 else c
            elif what == CLAMP:
                stack[top - 1] = min(max(a, b), c)
            elif what == MIX:
                stack[top - 1] = a + (b - a) * c
            else:
                t = 1.0 if c >= b else 0.0
                if b > a:
                    t = min(max((c - a) / (b - a), 0.0), 1.0)
                stack[top - 1] = t * t * (3.0 - 2.0 * t)
            continue
        top -= 1
        stack[top - 1] = _two(what, stack[top - 1], stack[top])
    result = stack[0]
    return result if np.isfinite(result) else 0.0


@njit(cache=True)
def _one(what, a):
    if what == NEGATE:
        return -a
    if what == NOT:
        return 1.0 if a == 0.0 else 0.0
    if what == ABS:
        return abs(a)
    if what == SIN:
        return np.sin(a)
    if what == COS:
        return np.cos(a)
    if what == TAN:
        return np.tan(a)
    if what == ASIN:
        return np.arcsin(min(max(a, -1.0), 1.0))
    if what == ACOS:
        return np.arccos(min(max(a, -1.0), 1.0))
    if what == SQRT:
        return np.sqrt(a) if a > 0.0 else 0.0
    return np.floor(a)


@njit(cache=True)
def _two(what, a, b):
    if what == ADD:
        return a + b
    if what == SUB:
        return a - b
    if what == MUL:
        return a * b
    if what == DIV:
        return a / b if b != 0.0 else 0.0
    if what == MOD:
        return a - b * np.floor(a / b) if b != 0.0 else 0.0
    if what == POW:
        if (a < 0.0 and b != np.floor(b)) or (a == 0.0 and b < 0.0):
            return 0.0
        return a**b
    if what == LESS:
        return 1.0 if a < b else 0.0
    if what == LESS_EQUAL:
        return 1.0 if a <= b else 0.0
    if what == MORE:
        return 1.0 if a > b else 0.0
    if what == MORE_EQUAL:
        return 1.0 if a >= b else 0.0
    if what == EQUAL:
        return 1.0 if a == b else 0.0
    if what == UNEQUAL:
        return 1.0 if a != b else 0.0
    if what == BOTH:
        return 1.0 if a != 0.0 and b != 0.0 else 0.0
    if what == EITHER:
        return 1.0 if a != 0.0 or b != 0.0 else 0.0
    if what == LEAST:
        return min(a, b)
    if what == MOST:
        return max(a, b)
    return np.arctan2(a, b)


@njit(cache=True)
def turn_about(now, axis):
    """Angle of the part of a turn (3, 3) that goes about a unit axis, -pi to pi."""
    q = quaternion(now)
    along = q[0] * axis[0] + q[1] * axis[1] + q[2] * axis[2]
    angle = 2.0 * np.arctan2(along, q[3])
    if angle > np.pi:
        angle -= 2.0 * np.pi
    elif angle < -np.pi:
        angle += 2.0 * np.pi
    return angle


@njit(cache=True)
def from_rest(world, node, other, rest):
    """How a node turned from where it rests in another (3, 3), in its own axes at rest. rest (9,): its turn in the other."""
    turn = world[node, :3, :3] / size_of(world[node])
    if other >= 0:
        turn = times(flip(world[other, :3, :3] / size_of(world[other])), turn)
    return times(flip(rest.reshape(3, 3)), turn)


@njit(cache=True)
def reading(world, ints, values, floats):
    """One reading. ints : what it is, slot or node, the other node (-1: the world). floats : axis (3), rest in the other (9)."""
    what, node, other = ints[0], ints[1], ints[2]
    if what == CHANNEL:
        return values[node]
    axis = floats[:3]
    if what in (TURN, SWING):
        now = from_rest(world, node, other, floats[3:12])
        if what == TURN:
            return turn_about(now, axis)
        return np.arccos(min(max(np.sum(on(now, axis) * axis), -1.0), 1.0))
    gap = world[node, :3, 3].copy()
    size = 1.0
    if other >= 0:
        gap = gap - world[other, :3, 3]
        size = size_of(world[other])
    if what == DISTANCE:
        return np.sqrt(np.sum(gap * gap)) / size
    if other >= 0:
        gap = on(flip(world[other, :3, :3] / size), gap) / size
    return np.sum(gap * axis)


@njit(cache=True)
def couple(world, ints, values, floats, slot):
    """One coupling on a slot.

    ints : how it combines, slot of its amount (-1: whole), how many readings, program steps, constants, curve keys; then three a
    reading, two a program step, two ends and one run a curve key.
    floats : gain, offset; twelve a reading; constants; times, values, slopes before and after of the curve's keys.
    """
    combine, amount, count, steps, constants, keys = ints[0], ints[1], ints[2], ints[3], ints[4], ints[5]
    inputs = np.empty(count)
    i, f = 6, 2
    for k in range(count):
        inputs[k] = reading(world, ints[i : i + 3], values, floats[f : f + 12])
        i, f = i + 3, f + 12
    value = formula(ints[i : i + 2 * steps], floats[f : f + constants], inputs)
    i, f = i + 2 * steps, f + constants
    if keys > 0:
        starts = np.array([0, keys])
        ends = ints[i : i + 2].copy().reshape(1, 2)
        runs = ints[i + 2 : i + 2 + keys]
        curve = PackedCurves(
            starts, floats[f : f + keys], floats[f + keys : f + 2 * keys], runs, floats[f + 2 * keys : f + 3 * keys],
            floats[f + 3 * keys : f + 4 * keys], ends,
        )  # fmt: skip
        value = value_at(curve, 0, value)
    value = floats[0] * value + floats[1]
    share = 1.0 if amount < 0 else values[amount]
    if not np.isfinite(value):
        return
    if combine == SET:
        values[slot] += share * (value - values[slot])
    elif combine == PLUS:
        values[slot] += share * value
    else:
        values[slot] *= 1.0 + share * (value - 1.0)
