"""The compiled walk through a plan, with two-joint IK in closed form.

Two-joint IK: the law of cosines gives the fold, the pole the plane (Tolani, Goswami, Badler, "Real-time inverse
kinematics techniques for anthropomorphic limbs", Graphical Models 62, 2000). Joints keep their length: a goal out
of reach is reached for as far as the limb goes.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

REACH_SLACK = 1e-9
"""Share of the limb's length it never quite stretches to, so that its plane stays defined."""


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
def two_joint(start, target, pole, a, b, spare):
    """Place of the middle joint and the unit normal of the limb's plane.

    start, target, pole (3,); a, b lengths; spare (3,) a normal to use where the pole lies on the line.
    """
    to = target - start
    distance = norm(to)
    if distance < 1e-12:
        to = np.array([0.0, -1.0, 0.0])
        direction = to
    else:
        direction = to / distance
    # Kept off the two ends, where the fold has no side.
    slack = REACH_SLACK * (a + b)
    distance = min(max(distance, abs(a - b) + slack), a + b - slack)
    normal = cross(direction, pole - start)
    length = norm(normal)
    if length < 1e-9 * (a + b):
        normal = spare - direction * np.sum(spare * direction)
        length = norm(normal)
        if length < 1e-9:
            normal = cross(direction, np.array([0.0, 0.0, 1.0]))
            length = norm(normal)
    normal = normal / length
    side = cross(normal, direction)
    along = (a * a - b * b + distance * distance) / (2.0 * distance)
    off = np.sqrt(max(a * a - along * along, 0.0))
    return start + direction * along + side * off, normal


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
def limb(world, row, frames, end_offset, amount):
    """Work out one IK limb: world of its three joints, FK blended toward IK."""
    fu, fl, fe = world[row[3]], world[row[4]], world[row[5]]
    size = size_of(fu)
    start = fu[:3, 3].copy()
    a, b = norm(fl[:3, 3] - start), norm(fe[:3, 3] - fl[:3, 3])
    ru, rl, re = fu[:3, :3] / size, fl[:3, :3] / size, fe[:3, :3] / size
    down = flip(ru) @ (fl[:3, 3] - start)
    out = flip(rl) @ (fe[:3, 3] - fl[:3, 3])
    if amount > 0.0:
        goal = product(world[row[7]], end_offset)
        pole = world[row[8]][:3, 3].copy()
        target = goal[:3, 3].copy()
        spare = times(ru, frames[0])[:, 0].copy()
        joint, normal = two_joint(start, target, pole, a, b, spare)
        first = (joint - start) / max(norm(joint - start), 1e-12)
        # Out of reach the end lies on the line to the target, at the limb's own length.
        to = target - start
        length = norm(to)
        slack = REACH_SLACK * (a + b)
        reached = min(max(length, abs(a - b) + slack), a + b - slack)
        place = start + to * (reached / max(length, 1e-12))
        second = (place - joint) / max(norm(place - joint), 1e-12)
        iu = times(aim_frame(first, normal), flip(frames[0]))
        il = times(aim_frame(second, normal), flip(frames[1]))
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
def run(steps, local, limbs, frames, end_offset, channels):
    """World matrices (nodes, 4, 4) of all controls and joints for channel values (controls, 8)."""
    world = np.zeros(local.shape)
    for s in range(len(steps)):
        kind, node, parent, row = steps[s, 0], steps[s, 1], steps[s, 2], steps[s, 3]
        if kind == 3:
            amount = min(max(channels[limbs[row, 9], 7], 0.0), 1.0)
            limb(world, limbs[row], frames[row], end_offset[row], amount)
            continue
        here = local[node] if parent < 0 else product(world[parent], local[node])
        if kind == 0:
            here = product(here, channel_matrix(channels[node]))
        world[node] = here
    return world
