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
    norm,
    product,
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
def limb(world, row, frames, bends, end_offset, amount):
    """Work out one IK limb: world of its three joints, FK blended toward IK.

    row (8,) : nodes of the upper, lower and end joint, of their FK controls, of goal and pole.
    frames (3, 3, 3): of the upper and the lower joint, their bone (y) and the normal of the pole's plane (x, square to
    the bone) at rest, in their own axes; and that normal itself in the upper's, as its first row. bends (5,): by how much the limb's plane at rest is turned from the pole's,
    and the fold at rest, radians; then, as shares of the two bones' length, how far the ends stand apart at rest, and
    the middle joint along and aside of the line between them. The bones aim exactly; that turn is whole at rest and has
    faded out once the limb has folded FADE more or less. What the FK limb is twisted by about its bones stays.
    """
    fu, fl, fe = world[row[3]], world[row[4]], world[row[5]]
    size = size_of(fu)
    start = fu[:3, 3].copy()
    a, b = norm(fl[:3, 3] - start), norm(fe[:3, 3] - fl[:3, 3])
    ru, rl, re = fu[:3, :3] / size, fl[:3, :3] / size, fe[:3, :3] / size
    down = flip(ru) @ (fl[:3, 3] - start)
    out = flip(rl) @ (fe[:3, 3] - fl[:3, 3])
    if amount > 0.0 and a > 1e-12 and b > 1e-12:
        goal = product(world[row[6]], end_offset)
        to = goal[:3, 3] - start
        length = norm(to)
        direction = to / length if length > 1e-12 else np.array([0.0, -1.0, 0.0])
        # Out of reach the end lies on the line to the goal.
        distance = min(max(length, abs(a - b) + NEAREST * (a + b)), a + b)
        spare = times(ru, frames[0])[:, 0].copy()
        normal = plane_normal(direction, world[row[7]][:3, 3] - start, spare)
        swivel = bends[0] * whole_until(abs(fold_of(distance, a, b) - bends[1]), FADE)
        joint = two_joint(distance, direction, turned(normal, direction, swivel), a, b)
        if abs(distance / (a + b) - bends[2]) < ROUNDED:
            # Near straight the fold is the square root of what distances are rounded by: at rest it is known.
            side = cross(turned(normal, direction, bends[0]), direction)
            joint = (direction * bends[3] + side * bends[4]) * (a + b)
        first, second = joint / a, (direction * distance - joint) / b
        bone, tail = down / a, out / b
        upper_twist, lower_twist = limb_twists(ru, rl, ru @ bone, rl @ tail, a, b, frames, bends)
        own = aim_frame(bone, square_to(frames[0][:, 0].copy(), bone, frames[0][:, 2].copy()))
        carried = turned(square_to(normal, first, spare), first, upper_twist)
        iu = times(aim_frame(first, carried), flip(own))
        own = aim_frame(tail, square_to(frames[1][:, 0].copy(), tail, frames[1][:, 2].copy()))
        carried = turned(square_to(normal, second, spare), second, lower_twist)
        il = times(aim_frame(second, carried), flip(own))
        ie = goal[:3, :3] / size_of(goal)
        lower_fk, lower_ik = times(flip(ru), rl), times(flip(iu), il)
        end_fk, end_ik = times(flip(rl), re), times(flip(il), ie)
        ru = blend_rotation(ru, iu, amount)
        rl = times(ru, blend_rotation(lower_fk, lower_ik, amount))
        re = times(rl, blend_rotation(end_fk, end_ik, amount))
    world[row[0]] = 0.0
    world[row[1]] = 0.0
    world[row[2]] = 0.0
    middle = start + ru @ down
    tip = middle + rl @ out
    for i in range(3):
        for j in range(3):
            world[row[0], i, j] = ru[i, j] * size
            world[row[1], i, j] = rl[i, j] * size
            world[row[2], i, j] = re[i, j] * size
        world[row[0], i, 3] = start[i]
        world[row[1], i, 3] = middle[i]
        world[row[2], i, 3] = tip[i]
    for k in range(3):
        world[row[k], 3, 3] = 1.0
