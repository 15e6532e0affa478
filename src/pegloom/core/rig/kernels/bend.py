"""IK of a limb with a hock: three bones in closed form, compiled.

How far the hock is folded follows from how far away the goal is, in proportion to its fold at rest and to the share it is
given; what is left is a limb of two bones (see `limb.py`), the second from the middle joint to the end. Every distance
the three bones can span is met.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    about,
    blend_rotation,
    flip,
    norm,
    on,
    product,
    put_chain,
    signed_angle,
    size_of,
    square_to,
    times,
)
from pegloom.core.rig.kernels.limb import ROUNDED, settings_of, softened, solved_limb


@njit(cache=True)
def span_of(fold, b, c, flat):
    """How far two bones of lengths b, c span, folded by `fold`; flat : the part of the second that lies in the fold's plane."""
    return np.sqrt(max(b * b + c * c + 2.0 * b * flat * np.cos(fold), 0.0))


@njit(cache=True)
def fold_for(span, b, c, flat):
    """`span_of` the other way round."""
    cosine = (span * span - b * b - c * c) / max(2.0 * b * flat, 1e-30)
    return np.arccos(min(max(cosine, -1.0), 1.0))


@njit(cache=True)
def hock_fold(distance, bones, share, more, rest):
    """The fold of the hock, radians, for ends that stand `distance` apart.

    bones (4,) : lengths, and the part of the last that lies in the fold's plane. share : of the fold that the hock takes
    beside the middle joint. more : radians added by hand. rest (3,) : at rest, the ends' distance and that from middle
    joint to end, as shares of the bones; the fold.
    """
    a, b, c, flat = bones[0], bones[1], bones[2], bones[3]
    shortest, longest = span_of(np.pi, b, c, flat), span_of(0.0, b, c, flat)
    whole = a + longest
    apart = rest[0] * whole
    if abs(distance - apart) <= ROUNDED * whole and more == 0.0:
        return rest[2]
    span = span_of(rest[2], b, c, flat)
    if distance >= apart:
        held = min(max(span, distance - a), longest)
        even = span + (longest - span) * (distance - apart) / max(whole - apart, 1e-30)
        span = held + (even - held) * min(2.0 * share, 1.0)
    else:
        span += share * (shortest - span) * (1.0 - distance / max(apart, 1e-30))
    if more != 0.0:
        span = span_of(min(max(fold_for(span, b, c, flat) + more, 0.0), np.pi), b, c, flat)
    least, most = max(shortest, abs(a - distance)), min(longest, a + distance)
    return fold_for(min(max(span, least), most), b, c, flat)


@njit(cache=True)
def hock_turn(turn, tail, hinge):
    """What a hock's turn (3, 3) against its rest does: angle about its hinge, and the turn (3, 3) before that.

    tail (3,) : from hock to end at rest, square to the hinge. All in the middle joint's axes.
    """
    flat = square_to(on(turn, tail), hinge, tail)
    angle = signed_angle(tail / norm(tail), flat, hinge)
    return angle, times(about(hinge, -angle), turn)


@njit(cache=True)
def in_plane(vector, hinge):
    """How much of a vector is square to a unit hinge."""
    return norm(vector - hinge * np.sum(vector * hinge))


@njit(cache=True)
def bend(world, ints, values, floats):
    """Work out one limb with a hock: world of its four joints, FK blended toward IK.

    ints : nodes of the four joints, of the four they start from, of goal and pole; slots of its amount, of the six
    settings of `solved_limb`, of the hock's share and of its fold by hand.
    floats : as a limb's, for upper, middle and end joint (54); what the two last settings are without a slot (2); the
    hinge in the middle joint's axes (3); the hock's turn in it at rest (9); `rest` of `hock_fold` (3).
    """
    begin = np.empty((4, 4, 4))
    for k in range(4):
        begin[k] = world[ints[4 + k]]
    amount = values[ints[10]]
    turns = np.empty((4, 3, 3))
    longer = 1.0
    if amount > 0.0:
        settings = settings_of(values, ints[11:19], floats[48:56])
        goal = product(world[ints[8]], floats[32:48].reshape(4, 4))
        end = begin[3, :3, 3].copy()
        goal[:3, 3] = end + settings[0] * (goal[:3, 3] - end)
        hinge, resting = floats[56:59], floats[59:68].reshape(3, 3)
        middle, hock = begin[1, :3, :3] / size_of(begin[1]), begin[2, :3, :3] / size_of(begin[2])
        bone = on(flip(middle), begin[2, :3, 3] - begin[1, :3, 3])
        tail = on(times(resting, flip(hock)), begin[3, :3, 3] - begin[2, :3, 3])
        _, own = hock_turn(times(times(flip(middle), hock), flip(resting)), tail, hinge)
        flat = in_plane(on(own, tail), hinge)
        bones = np.array([norm(begin[1, :3, 3] - begin[0, :3, 3]), norm(bone), norm(tail), flat])
        whole = bones[0] + span_of(0.0, bones[1], bones[2], flat)
        length = norm(goal[:3, 3] - begin[0, :3, 3])
        distance = softened(length, whole, settings[5])
        if settings[4] > 0.0 and length > distance:
            longer = 1.0 + settings[4] * (length / max(distance, 1e-12) - 1.0)
            distance = min(distance, whole)
        fold = hock_fold(distance, bones, settings[6], settings[7], floats[68:71])
        turn = times(about(hinge, fold - floats[70]), own)
        # The limb of two bones that is left: the hock is stiff in it.
        stiff = np.empty((3, 4, 4))
        stiff[0], stiff[1], stiff[2] = begin[0], begin[1], begin[3]
        start = begin[0, :3, 3]
        stiff[1, :3, 3] = start + longer * (begin[1, :3, 3] - start)
        stiff[2, :3, 3] = stiff[1, :3, 3] + on(middle, bone + on(turn, tail)) * longer
        inner = np.array([1.0, 1.0, settings[2], settings[3], 0.0, 0.0])
        if longer == 1.0:
            # Beyond reach, or eased off before it.
            to = goal[:3, 3] - start
            goal[:3, 3] = start + to * (distance / max(length, 1e-30))
        parts = np.empty((3, 3, 3))
        solved_limb(stiff, goal, world[ints[9]][:3, 3].copy(), floats[:27].reshape(3, 3, 3), floats[27:32], inner, parts)
        turns[0], turns[1] = parts[0], parts[1]
        turns[2] = times(parts[1], times(turn, resting))
        turns[3] = parts[2]
        if settings[1] < 1.0:
            foot = begin[3, :3, :3] / size_of(begin[3])
            turns[3] = blend_rotation(times(turns[2], times(flip(hock), foot)), turns[3], settings[1])
    put_chain(world, ints[:4], begin, turns, longer, amount)
