"""The compiled walk through a plan, with two-joint IK in closed form.

Two-joint IK: the law of cosines gives the fold, the pole the plane (Tolani, Goswami, Badler, "Real-time inverse
kinematics techniques for anthropomorphic limbs", Graphical Models 62, 2000). Joints keep their length: a goal out
of reach is reached for as far as the limb goes.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

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
def cross(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


@njit(cache=True)
def norm(a):
    return np.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])


@njit(cache=True)
def product(a, b):
    out = np.zeros((4, 4))
    for i in range(3):
        for j in range(4):
            out[i, j] = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]
        out[i, 3] += a[i, 3]
    out[3, 3] = 1.0
    return out


@njit(cache=True)
def channel_matrix(values):
    """Move, turn about fixed x, y, z, then grow evenly."""
    cx, sx = np.cos(values[3]), np.sin(values[3])
    cy, sy = np.cos(values[4]), np.sin(values[4])
    cz, sz = np.cos(values[5]), np.sin(values[5])
    s = max(1.0 + values[6], 0.01)
    out = np.zeros((4, 4))
    out[0, 0], out[0, 1], out[0, 2] = s * cz * cy, s * (cz * sy * sx - sz * cx), s * (cz * sy * cx + sz * sx)
    out[1, 0], out[1, 1], out[1, 2] = s * sz * cy, s * (sz * sy * sx + cz * cx), s * (sz * sy * cx - cz * sx)
    out[2, 0], out[2, 1], out[2, 2] = -s * sy, s * cy * sx, s * cy * cx
    out[0, 3], out[1, 3], out[2, 3], out[3, 3] = values[0], values[1], values[2], 1.0
    return out


@njit(cache=True)
def aim_frame(aim, normal):
    """3x3 rotation: y along aim, x along normal (square to aim), z the rest."""
    out = np.empty((3, 3))
    z = cross(normal, aim)
    for i in range(3):
        out[i, 0], out[i, 1], out[i, 2] = normal[i], aim[i], z[i]
    return out


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
def turned(vector, axis, angle):
    """vector (3,) turned about a unit axis (Rodrigues)."""
    c, s = np.cos(angle), np.sin(angle)
    return vector * c + cross(axis, vector) * s + axis * (np.sum(axis * vector) * (1.0 - c))


@njit(cache=True)
def square_to(vector, direction, spare):
    """Unit part of `vector` square to a unit direction; of `spare` where there is none."""
    out = vector - direction * np.sum(vector * direction)
    length = norm(out)
    if length < 1e-9:
        out = spare - direction * np.sum(spare * direction)
        length = norm(out)
        if length < 1e-9:
            out = cross(direction, np.array([0.3, 0.5, 0.8]))
            length = norm(out)
    return out / length


@njit(cache=True)
def fold_of(distance, a, b):
    """How far two bones of lengths a, b are folded when their ends stand `distance` apart: radians, 0 straight."""
    cosine = (distance * distance - a * a - b * b) / max(2.0 * a * b, 1e-30)
    return np.arccos(min(max(cosine, -1.0), 1.0))


@njit(cache=True)
def whole_until(x, end):
    """1 at 0, 0 from `end` on, smooth between."""
    t = 1.0 - min(max(x / end, 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@njit(cache=True)
def signed_angle(a, b, axis):
    """Angle about `axis` from a to b, both square to it."""
    return np.arctan2(np.sum(axis * cross(a, b)), np.sum(a * b))


@njit(cache=True)
def two_joint(distance, direction, normal, a, b):
    """The middle joint from the start, where the end stands `distance` along a unit direction, in a plane's normal.

    It lies on the side cross(normal, direction). distance must be within the limb's reach.
    """
    along = (a * a - b * b + distance * distance) / (2.0 * distance)
    off = np.sqrt(max(a * a - along * along, 0.0))
    return direction * along + cross(normal, direction) * off


@njit(cache=True)
def quaternion(m):
    """x y z w of a 3x3 rotation (Shepperd 1978)."""
    q = np.empty(4)
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    if trace > m[0, 0] and trace > m[1, 1] and trace > m[2, 2]:
        q[0], q[1], q[2], q[3] = m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1], 1.0 + trace
    else:
        i = 0
        if m[1, 1] > m[0, 0]:
            i = 1
        if m[2, 2] > m[i, i]:
            i = 2
        j, k = (i + 1) % 3, (i + 2) % 3
        q[i] = 1.0 + m[i, i] - m[j, j] - m[k, k]
        q[j] = m[j, i] + m[i, j]
        q[k] = m[k, i] + m[i, k]
        q[3] = m[k, j] - m[j, k]
    return q / np.sqrt(np.sum(q * q))


@njit(cache=True)
def rotation(q):
    x, y, z, w = q[0], q[1], q[2], q[3]
    out = np.empty((3, 3))
    out[0, 0], out[0, 1], out[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    out[1, 0], out[1, 1], out[1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    out[2, 0], out[2, 1], out[2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)
    return out


@njit(cache=True)
def blend_rotation(a, b, amount):
    """From rotation a to rotation b along the shorter arc."""
    if amount <= 0.0:
        return a.copy()
    if amount >= 1.0:
        return b.copy()
    qa, qb = quaternion(a), quaternion(b)
    cosine = np.sum(qa * qb)
    if cosine < 0.0:
        qb, cosine = -qb, -cosine
    if cosine > 1.0 - 1e-10:
        q = qa + amount * (qb - qa)
    else:
        angle = np.arccos(cosine)
        q = (np.sin((1.0 - amount) * angle) * qa + np.sin(amount * angle) * qb) / np.sin(angle)
    return rotation(q / np.sqrt(np.sum(q * q)))


@njit(cache=True)
def size_of(m):
    return np.sqrt(m[0, 0] * m[0, 0] + m[1, 0] * m[1, 0] + m[2, 0] * m[2, 0])


@njit(cache=True)
def times(a, b):
    out = np.zeros((3, 3))
    for i in range(3):
        for j in range(3):
            out[i, j] = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]
    return out


@njit(cache=True)
def flip(a):
    """Transpose, contiguous."""
    out = np.empty((3, 3))
    for i in range(3):
        for j in range(3):
            out[i, j] = a[j, i]
    return out


@njit(cache=True)
def fk_normal(ru, first, second, a, b, frames, bends):
    """Unit normal of the plane in which an FK limb's pole would stand.

    ru (3, 3): turn of its upper; first, second: unit bones of lengths a, b; see `limb` for the others. A straight limb
    has no plane: there it is the one its upper carries.
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
        goal = product(world[row[7]], end_offset)
        to = goal[:3, 3] - start
        length = norm(to)
        direction = to / length if length > 1e-12 else np.array([0.0, -1.0, 0.0])
        # Out of reach the end lies on the line to the goal.
        distance = min(max(length, abs(a - b) + NEAREST * (a + b)), a + b)
        spare = times(ru, frames[0])[:, 0].copy()
        normal = plane_normal(direction, world[row[8]][:3, 3] - start, spare)
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
        there = turned(square_to(normal, first, spare), first, upper_twist)
        iu = times(aim_frame(first, there), flip(own))
        own = aim_frame(tail, square_to(frames[1][:, 0].copy(), tail, frames[1][:, 2].copy()))
        there = turned(square_to(normal, second, spare), second, lower_twist)
        il = times(aim_frame(second, there), flip(own))
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


@njit(cache=True)
def run(steps, local, limbs, frames, bends, end_offset, channels):
    """World matrices (nodes, 4, 4) of all controls and joints for channel values (controls, 8)."""
    world = np.zeros(local.shape)
    for s in range(len(steps)):
        kind, node, parent, row = steps[s, 0], steps[s, 1], steps[s, 2], steps[s, 3]
        if kind == 3:
            amount = min(max(channels[limbs[row, 9], 7], 0.0), 1.0)
            limb(world, limbs[row], frames[row], bends[row], end_offset[row], amount)
            continue
        here = local[node] if parent < 0 else product(world[parent], local[node])
        if kind == 0:
            here = product(here, channel_matrix(channels[node]))
        world[node] = here
    return world


@njit(cache=True, nogil=True)
def run_many(steps, local, limbs, frames, bends, end_offset, channels, first, out):
    """`run` for many moments (k, controls, 8): nodes from `first` on into out (k, nodes - first, 4, 4)."""
    for m in range(len(channels)):
        out[m] = run(steps, local, limbs, frames, bends, end_offset, channels[m])[first:]
