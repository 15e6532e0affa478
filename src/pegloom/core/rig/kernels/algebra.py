"""Vectors, turns and places for the compiled solvers: nothing here knows what a rig is."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True)
def at(values, slot, usual):
    """A slot's value; the usual one where there is no slot (-1)."""
    return usual if slot < 0 else values[slot]


@njit(cache=True)
def cross(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


@njit(cache=True)
def norm(a):
    return np.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])


@njit(cache=True)
def put_product(out, a, b):
    """a @ b of two places (4, 4) into out, which is neither of them."""
    for i in range(3):
        for j in range(4):
            out[i, j] = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]
        out[i, 3] += a[i, 3]
        out[3, i] = 0.0
    out[3, 3] = 1.0


@njit(cache=True)
def product(a, b):
    out = np.empty((4, 4))
    put_product(out, a, b)
    return out


@njit(cache=True)
def put_channels(out, move_x, move_y, move_z, rotate_x, rotate_y, rotate_z, scale):
    """What a control's channels do on its base into out (4, 4): move, turn about fixed x, y, z, then an even scale."""
    cx, sx = np.cos(rotate_x), np.sin(rotate_x)
    cy, sy = np.cos(rotate_y), np.sin(rotate_y)
    cz, sz = np.cos(rotate_z), np.sin(rotate_z)
    s = scale
    out[0, 0], out[0, 1], out[0, 2] = s * cz * cy, s * (cz * sy * sx - sz * cx), s * (cz * sy * cx + sz * sx)
    out[1, 0], out[1, 1], out[1, 2] = s * sz * cy, s * (sz * sy * sx + cz * cx), s * (sz * sy * cx - cz * sx)
    out[2, 0], out[2, 1], out[2, 2] = -s * sy, s * cy * sx, s * cy * cx
    out[0, 3], out[1, 3], out[2, 3] = move_x, move_y, move_z
    out[3, 0], out[3, 1], out[3, 2], out[3, 3] = 0.0, 0.0, 0.0, 1.0


@njit(cache=True)
def on(m, v):
    """The turn of a matrix (3, 3 or 4, 4) on a vector (3,)."""
    out = np.empty(3)
    for i in range(3):
        out[i] = m[i, 0] * v[0] + m[i, 1] * v[1] + m[i, 2] * v[2]
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
def whole_until(x, end):
    """1 at 0, 0 from `end` on, smooth between."""
    t = 1.0 - min(max(x / end, 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@njit(cache=True)
def signed_angle(a, b, axis):
    """Angle about `axis` from a to b, both square to it."""
    return np.arctan2(np.sum(axis * cross(a, b)), np.sum(a * b))


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
def least_turn(a, b):
    """The least rotation (3, 3) that brings unit a onto unit b; half a turn about a fixed axis where they oppose."""
    axis = cross(a, b)
    cosine = np.sum(a * b)
    out = np.zeros((3, 3))
    if cosine < -1.0 + 1e-12:
        axis = square_to(np.array([0.3, 0.5, 0.8]), a, np.array([1.0, 0.0, 0.0]))
        for i in range(3):
            for j in range(3):
                out[i, j] = 2.0 * axis[i] * axis[j]
            out[i, i] -= 1.0
        return out
    k = 1.0 / (1.0 + cosine)
    for i in range(3):
        for j in range(3):
            out[i, j] = k * axis[i] * axis[j]
        out[i, i] += cosine
    out[0, 1] -= axis[2]
    out[0, 2] += axis[1]
    out[1, 0] += axis[2]
    out[1, 2] -= axis[0]
    out[2, 0] -= axis[1]
    out[2, 1] += axis[0]
    return out


@njit(cache=True)
def about(axis, angle):
    """Rotation (3, 3) by an angle about a unit axis."""
    out = np.empty((3, 3))
    for k in range(3):
        unit = np.zeros(3)
        unit[k] = 1.0
        out[:, k] = turned(unit, axis, angle)
    return out


@njit(cache=True)
def turn_vector(m):
    """Rotation vector (3,) of a rotation (3, 3): its axis times its angle, up to half a turn."""
    q = quaternion(m)
    if q[3] < 0.0:
        q = -q
    sine = np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2])
    factor = 2.0 if sine < 1e-12 else 2.0 * np.arctan2(sine, q[3]) / sine
    return q[:3] * factor


@njit(cache=True)
def vector_turn(v):
    """Rotation (3, 3) of a rotation vector (3,)."""
    angle = norm(v)
    return np.eye(3) if angle < 1e-15 else about(v / angle, angle)


@njit(cache=True)
def put_chain(world, joints, begin, turns, longer, amount):
    """Joints of a chain, each blended in its parent from where it begins toward where it was solved to.

    joints (n,) : nodes. begin (n, 4, 4) : start poses; bones and sizes are theirs. turns (n, 3, 3) : solved.
    longer : factor of the bones' length at amount 1.
    """
    if amount <= 0.0:
        for i in range(len(joints)):
            world[joints[i]] = begin[i]
        return
    place = begin[0, :3, 3].copy()
    before_start, before_solved, before = np.eye(3), np.eye(3), np.eye(3)
    for i in range(len(joints)):
        size = size_of(begin[i])
        start = begin[i, :3, :3] / size
        local_start, local_solved = times(flip(before_start), start), times(flip(before_solved), turns[i])
        turn = times(before, blend_rotation(local_start, local_solved, amount))
        if amount >= 1.0:
            turn = turns[i].copy()
        node = world[joints[i]]
        for a in range(3):
            for b in range(3):
                node[a, b] = turn[a, b] * size
            node[a, 3] = place[a]
            node[3, a] = 0.0
        node[3, 3] = 1.0
        if i + 1 < len(joints):
            bone = on(flip(start), begin[i + 1, :3, 3] - begin[i, :3, 3])
            place = place + on(turn, bone) * (1.0 + amount * (longer - 1.0))
        before_start, before_solved, before = start, turns[i].copy(), turn
