"""Two-joint IK in closed form, compiled.

The law of cosines gives the fold, the pole the plane (Tolani, Goswami, Badler, "Real-time inverse
kinematics techniques for anthropomorphic limbs", Graphical Models 62, 2000). Joints keep their length: a goal out
of reach is reached for as far as the limb goes.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    aim_frame,
    blend_rotation,
    cross,
    flip,
    least_turn,
    norm,
    product,
    put_chain,
    signed_angle,
    size_of,
    square_to,
    times,
    turned,
    whole_until,
)

FADE = np.deg2rad(10.0)
"""Folded by this much more or less than at rest, a limb bends in its pole's plane."""
STRAIGHT = np.deg2rad(1.0)
"""A limb folded less has no plane of its own to speak of."""
OVER = np.deg2rad(2.0)
"""A limb bent against its pole's side by up to this counts as straight; by twice this, its pole stands on that side."""
ROUNDED = 1e-13
"""Share of its length by which a limb at rest may seem longer or shorter by rounding."""
NEAREST = 1e-9
"""Share of the limb's length its end keeps from where it would be folded whole, so that there is a line to it."""


@njit(cache=True)
def plane_normal(direction, pole, spare):
    """Unit normal of the plane through a line (unit direction) and a pole (3,) from its start.

    spare (3,) : a normal to use where the pole lies on the line.
    """
    normal = cross(direction, pole)
    length = norm(normal)
    if length < 1e-9 * norm(pole):
        normal = spare - direction * np.sum(spare * direction)
        length = norm(normal)
        if length < 1e-9:
            normal = cross(direction, np.array([0.0, 0.0, 1.0]))
            length = norm(normal)
            if length < 1e-9:
                normal = cross(direction, np.array([1.0, 0.0, 0.0]))
                length = norm(normal)
    return normal / length


@njit(cache=True)
def fold_of(distance, a, b):
    """How far two bones of lengths a, b are folded when their ends stand `distance` apart: radians, 0 straight."""
    cosine = (distance * distance - a * a - b * b) / max(2.0 * a * b, 1e-30)
    return np.arccos(min(max(cosine, -1.0), 1.0))


@njit(cache=True)
def two_joint(distance, direction, normal, a, b):
    """The middle joint from the start, where the end stands `distance` along a unit direction, in a plane's normal.

    It lies on the side cross(normal, direction). distance must be within the limb's reach.
    """
    along = (a * a - b * b + distance * distance) / (2.0 * distance)
    off = np.sqrt(max(a * a - along * along, 0.0))
    return direction * along + cross(normal, direction) * off


@njit(cache=True)
def fk_normal(ru, first, second, a, b, frames, bends):
    """Unit normal of the plane in which an FK limb's pole would stand.

    ru (3, 3) : turn of its upper.
    first, second : unit bones of lengths a, b; see `limb` for the others. A straight limb has no plane: there it is
        the one its upper carries.
    """
    line = a * first + b * second
    line = line / max(norm(line), 1e-30)
    carried = square_to(ru @ frames[2, 0], line, ru[:, 2].copy())
    fold = np.arccos(min(max(np.sum(first * second), -1.0), 1.0))
    flat = whole_until(fold, STRAIGHT)
    if flat >= 1.0:
        return carried
    aside = cross(second, first)
    plane = turned(aside / max(norm(aside), 1e-30), line, -bends[0] * whole_until(abs(fold - bends[1]), FADE))
    # Bent straight the other way by a little, as measured motion is when a limb is straight, it keeps its side.
    over = 1.0 - whole_until(max(-np.sum(plane * carried) - 0.6, 0.0), 0.3)
    if over > 0.0:
        plane = turned(plane, line, np.pi * over * whole_until(max(fold - OVER, 0.0), OVER))
    return square_to(flat * carried + (1.0 - flat) * plane, line, carried)


@njit(cache=True)
def limb_twists(ru, rl, first, second, a, b, frames, bends):
    """What an FK limb's two bones are turned by about themselves, against its pole's plane; see `fk_normal`."""
    normal = fk_normal(ru, first, second, a, b, frames, bends)
    here = square_to(times(ru, frames[0])[:, 0].copy(), first, ru[:, 2].copy())
    upper = signed_angle(square_to(normal, first, here), here, first)
    here = square_to(times(rl, frames[1])[:, 0].copy(), second, rl[:, 2].copy())
    return upper, signed_angle(square_to(normal, second, here), here, second)


@njit(cache=True)
def solved_limb(begin, goal, pole, frames, bends, settings, turns):
    """Turns (3, 3, 3) of a limb's joints on IK, into `turns`; gives by how much its bones are longer.

    begin (3, 4, 4) : upper, lower and end joint on FK. goal (4, 4) : where the end goes. pole (3,).
    frames (3, 3, 3): of the upper and the lower joint, their bone (y) and the normal of the pole's plane (x, square to
    the bone) at rest, in their own axes; and that normal itself in the upper's, as its first row. bends (5,): by how much the limb's plane at rest is turned from the pole's,
    and the fold at rest, radians; then, as shares of the two bones' length, how far the ends stand apart at rest, and
    the middle joint along and aside of the line between them. The bones aim exactly; that turn is whole at rest and has
    faded out once the limb has folded FADE more or less. What the FK limb is twisted by about its bones stays.
    settings (6,) : shares of the goal's place, the goal's turn and the pole; swivel; stretch; soft.
    """
    fu, fl, fe = begin[0], begin[1], begin[2]
    size = size_of(fu)
    start = fu[:3, 3].copy()
    a, b = norm(fl[:3, 3] - start), norm(fe[:3, 3] - fl[:3, 3])
    ru, rl, re = fu[:3, :3] / size, fl[:3, :3] / size_of(fl), fe[:3, :3] / size_of(fe)
    if a <= 1e-12 or b <= 1e-12:
        turns[0], turns[1], turns[2] = ru, rl, re
        return 1.0
    down = flip(ru) @ (fl[:3, 3] - start)
    out = flip(rl) @ (fe[:3, 3] - fl[:3, 3])
    to = settings[0] * (goal[:3, 3] - fe[:3, 3]) + (fe[:3, 3] - start)
    if settings[0] == 1.0:
        to = goal[:3, 3] - start
    length = norm(to)
    direction = to / length if length > 1e-12 else np.array([0.0, -1.0, 0.0])
    bone, tail = down / a, out / b
    # Out of reach the end lies on the line to the goal.
    distance = softened(length, a + b, settings[5])
    longer = 1.0
    if settings[4] > 0.0 and length > distance:
        longer = 1.0 + settings[4] * (length / max(distance, 1e-12) - 1.0)
        a, b, distance = a * longer, b * longer, distance * longer
    distance = min(max(distance, abs(a - b) + NEAREST * (a + b)), a + b)
    spare = times(ru, frames[0])[:, 0].copy()
    normal = plane_normal(direction, pole - start, spare)
    if settings[2] < 1.0:
        own = carried_normal(ru, ru @ bone, rl @ tail, a, b, frames, bends, direction)
        normal = turned(normal, direction, -(1.0 - settings[2]) * signed_angle(own, normal, direction))
    if settings[3] != 0.0:
        normal = turned(normal, direction, settings[3])
    swivel = bends[0] * whole_until(abs(fold_of(distance, a, b) - bends[1]), FADE)
    joint = two_joint(distance, direction, turned(normal, direction, swivel), a, b)
    if abs(distance / (a + b) - bends[2]) < ROUNDED:
        # Near straight the fold is the square root of what distances are rounded by: at rest it is known.
        side = cross(turned(normal, direction, bends[0]), direction)
        joint = (direction * bends[3] + side * bends[4]) * (a + b)
    first, second = joint / a, (direction * distance - joint) / b
    upper_twist, lower_twist = limb_twists(ru, rl, ru @ bone, rl @ tail, a, b, frames, bends)
    own = aim_frame(bone, square_to(frames[0][:, 0].copy(), bone, frames[0][:, 2].copy()))
    carried = turned(square_to(normal, first, spare), first, upper_twist)
    turns[0] = times(aim_frame(first, carried), flip(own))
    own = aim_frame(tail, square_to(frames[1][:, 0].copy(), tail, frames[1][:, 2].copy()))
    carried = turned(square_to(normal, second, spare), second, lower_twist)
    turns[1] = times(aim_frame(second, carried), flip(own))
    turns[2] = goal[:3, :3] / size_of(goal)
    if settings[1] < 1.0:
        turns[2] = blend_rotation(times(turns[1], times(flip(rl), re)), turns[2], settings[1])
    return longer


@njit(cache=True)
def carried_normal(ru, first, second, a, b, frames, bends, direction):
    """The normal of an FK limb's plane once its line points along `direction`."""
    normal = fk_normal(ru, first, second, a, b, frames, bends)
    line = a * first + b * second
    line = line / max(norm(line), 1e-30)
    return square_to(least_turn(line, direction) @ normal, direction, normal)


@njit(cache=True)
def softened(length, whole, soft):
    """How far a limb of length `whole` reaches for a goal `length` away: over the last `soft` of it, it eases into its
    full length and never gets there."""
    if soft <= 0.0:
        return min(length, whole)
    room = soft * whole
    if length <= whole - room:
        return length
    return whole - room * np.exp(-(length - whole + room) / room)


@njit(cache=True)
def limb(world, ints, values, floats):
    """Work out one IK limb: world of its three joints, FK blended toward IK.

    ints : nodes of the three joints, of the three they start from, of goal and pole; slots of its amount and of the
    six settings of `solved_limb`, -1 where it has none. floats : frames (27), bends (5), end_offset (16).
    """
    begin = np.empty((3, 4, 4))
    for k in range(3):
        begin[k] = world[ints[3 + k]]
    amount = values[ints[8]]
    turns = np.empty((3, 3, 3))
    longer = 1.0
    if amount > 0.0:
        settings = settings_of(values, ints[9:15], floats[48:54])
        goal = product(world[ints[6]], floats[32:48].reshape(4, 4))
        pole = world[ints[7]][:3, 3].copy()
        longer = solved_limb(begin, goal, pole, floats[:27].reshape(3, 3, 3), floats[27:32], settings, turns)
    put_chain(world, ints[:3], begin, turns, longer, amount)


@njit(cache=True)
def settings_of(values, slots, usual):
    """Values of slots, the usual one where there is none."""
    result = usual.copy()
    for k in range(len(slots)):
        if slots[k] >= 0:
            result[k] = values[slots[k]]
    return result
