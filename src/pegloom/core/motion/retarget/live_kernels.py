"""What a live frame costs most, compiled: joints turned and placed, limbs bent, soles looked at. They run beside the window's thread."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

SMALL = 1e-9
STRETCH = 0.9985
"""How far a limb is stretched at most; as of plant.py."""


@njit(cache=True, nogil=True)
def _mul(a, b, out):  # pragma: no cover
    for i in range(3):
        for j in range(3):
            out[i, j] = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]


@njit(cache=True, nogil=True)
def _about(vector, out):  # pragma: no cover
    """The rotation (3, 3) of a rotation vector (Rodrigues)."""
    angle = np.sqrt(vector[0] ** 2 + vector[1] ** 2 + vector[2] ** 2)
    if angle < SMALL:
        for i in range(3):
            for j in range(3):
                out[i, j] = 1.0 if i == j else 0.0
        return
    x, y, z = vector[0] / angle, vector[1] / angle, vector[2] / angle
    c, s = np.cos(angle), np.sin(angle)
    k = 1.0 - c
    out[0, 0], out[0, 1], out[0, 2] = c + x * x * k, x * y * k - z * s, x * z * k + y * s
    out[1, 0], out[1, 1], out[1, 2] = y * x * k + z * s, c + y * y * k, y * z * k - x * s
    out[2, 0], out[2, 1], out[2, 2] = z * x * k - y * s, z * y * k + x * s, c + z * z * k


@njit(cache=True, nogil=True)
def _quaternion(m, out):  # pragma: no cover
    """x y z w of a rotation (3, 3): the largest of its parts first (Shepperd 1978)."""
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    if trace > m[0, 0] and trace > m[1, 1] and trace > m[2, 2]:
        out[3] = 1.0 + trace
        out[0], out[1], out[2] = m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1]
    else:
        i = 0
        if m[1, 1] > m[i, i]:
            i = 1
        if m[2, 2] > m[i, i]:
            i = 2
        j, k = (i + 1) % 3, (i + 2) % 3
        out[i] = 1.0 + m[i, i] - m[j, j] - m[k, k]
        out[j], out[k] = m[j, i] + m[i, j], m[k, i] + m[i, k]
        out[3] = m[k, j] - m[j, k]
    size = np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2 + out[3] ** 2)
    for i in range(4):
        out[i] /= size


@njit(cache=True, nogil=True)
def _vector(m, out):  # pragma: no cover
    """The rotation vector of a rotation (3, 3)."""
    q = np.empty(4)
    _quaternion(m, q)
    if q[3] < 0.0:
        q *= -1.0
    size = np.sqrt(q[0] ** 2 + q[1] ** 2 + q[2] ** 2)
    factor = 2.0 if size < SMALL else 2.0 * np.arctan2(size, q[3]) / size
    for i in range(3):
        out[i] = factor * q[i]


@njit(cache=True, nogil=True)
def seen(worlds, upright, rests, turned, at):  # pragma: no cover
    """How a source's joints have turned (j, 3, 3) from the pose they are read from, and where they are (j, 3), stood up.

    worlds (j, 4, 4). rests (j, 3, 3) : their axes in that pose.
    """
    half, back = np.empty((3, 3)), np.empty((3, 3))
    for j in range(len(worlds)):
        for c in range(3):
            size = max(np.sqrt(worlds[j, 0, c] ** 2 + worlds[j, 1, c] ** 2 + worlds[j, 2, c] ** 2), 1e-12)
            for r in range(3):
                half[r, c] = worlds[j, r, c] / size
        for r in range(3):
            for c in range(3):
                back[r, c] = half[r, 0] * rests[j, c, 0] + half[r, 1] * rests[j, c, 1] + half[r, 2] * rests[j, c, 2]
            at[j, r] = upright[r, 0] * worlds[j, 0, 3] + upright[r, 1] * worlds[j, 1, 3] + upright[r, 2] * worlds[j, 2, 3]
        _mul(upright, back, turned[j])


@njit(cache=True, nogil=True)
def told(there, first, second, share, constant, joints, turns, given):  # pragma: no cover
    """What joints here turn by: as one there, or between two of them, by a constant turn. Writes turns (j, 3, 3) and given (j,)."""
    between, part, whole, vector = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3)), np.empty(3)
    for k in range(len(joints)):
        a = there[first[k]]
        if share[k] > 1e-6 and first[k] != second[k]:
            _mul(np.ascontiguousarray(a.T), there[second[k]], between)
            _vector(between, vector)
            _about(share[k] * vector, part)
            _mul(a, part, whole)
            _mul(whole, constant[k], turns[joints[k]])
        else:
            _mul(a, constant[k], turns[joints[k]])
        given[joints[k]] = True


@njit(cache=True, nogil=True)
def stand(parents, bones, rest, base, place, turns, given, turned, at, some):  # pragma: no cover
    """Where joints `some`, parents first, are and how they have turned; what is not given goes with its parent."""
    for k in range(len(some)):
        j = some[k]
        p = parents[j]
        for r in range(3):
            for c in range(3):
                turned[j, r, c] = turns[j, r, c] if given[j] else (turned[p, r, c] if p >= 0 else (1.0 if r == c else 0.0))
        for r in range(3):
            if j == base:
                at[j, r] = place[r]
            elif p < 0:
                at[j, r] = rest[j, r]
            else:
                at[j, r] = at[p, r] + turned[p, r, 0] * bones[j, 0] + turned[p, r, 1] * bones[j, 1] + turned[p, r, 2] * bones[j, 2]


@njit(cache=True, nogil=True)
def limited(parents, numbers, low, high, axes, turns, given, turned):  # pragma: no cover
    """Bring joints (m,), parents first, within their limits (m, 3) of the rotation vector about their own axes (m, 3, 3)."""
    relative, half, own, vector, kept = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3)), np.empty(3), np.empty(3)
    for k in range(len(numbers)):
        j = numbers[k]
        p = parents[j]
        if p < 0 or not given[j]:
            continue
        above = turned[p]
        _mul(np.ascontiguousarray(above.T), turns[j], relative)
        _mul(np.ascontiguousarray(axes[k].T), relative, half)
        _mul(half, axes[k], own)
        _vector(own, vector)
        changed = False
        for i in range(3):
            kept[i] = min(max(vector[i], low[k, i]), high[k, i])
            changed = changed or kept[i] != vector[i]
        if changed:
            _about(kept, own)
            _mul(axes[k], own, half)
            _mul(half, np.ascontiguousarray(axes[k].T), relative)
            _mul(above, relative, turns[j])
        for r in range(3):
            for c in range(3):
                turned[j, r, c] = turns[j, r, c]


@njit(cache=True, nogil=True)
def lowest(points, joints, weights, rest, turned, at):  # pragma: no cover
    """How high the lowest of a sole's points (n, 3) is, carried by joints (n, i) with weights (n, i)."""
    best = np.inf
    for n in range(len(points)):
        high = 0.0
        for i in range(joints.shape[1]):
            w = weights[n, i]
            if w > 0.0:
                j = joints[n, i]
                x, y, z = points[n, 0] - rest[j, 0], points[n, 1] - rest[j, 1], points[n, 2] - rest[j, 2]
                high += w * (turned[j, 1, 0] * x + turned[j, 1, 1] * y + turned[j, 1, 2] * z + at[j, 1])
        best = min(best, high)
    return best


@njit(cache=True, nogil=True)
def _framed(aim, bend, out):  # pragma: no cover
    """Axes (3, 3): y along aim, x as near bend as squareness allows."""
    size = max(np.sqrt((aim * aim).sum()), 1e-12)
    y = aim / size
    x = bend - y * (bend * y).sum()
    if np.sqrt((x * x).sum()) < SMALL:
        other = np.zeros(3)
        other[np.argmin(np.abs(y))] = 1.0
        x = np.cross(y, other)
    x = x / np.sqrt((x * x).sum())
    z = np.cross(x, y)
    for r in range(3):
        out[r, 0], out[r, 1], out[r, 2] = x[r], y[r], z[r]


@njit(cache=True, nogil=True)
def bend(upper, lower, end, goal, axis, turns, turned, at):  # pragma: no cover
    """Turn a limb's two bones so that its end is at a goal (3,), its end joint turned as it was; as `plant.bend_to`. Joints below have to
    stand anew."""
    first, second = at[lower] - at[upper], at[end] - at[lower]
    a, b = np.sqrt((first * first).sum()), np.sqrt((second * second).sum())
    x = np.empty(3)
    for r in range(3):
        x[r] = turned[upper, r, 0] * axis[0] + turned[upper, r, 1] * axis[1] + turned[upper, r, 2] * axis[2]
    way = goal - at[upper]
    far = np.sqrt((way * way).sum())
    reach = min(max(far, abs(a - b) + 0.02 * (a + b)), STRETCH * (a + b))
    e = way / max(far, 1e-12)
    old_first, old_second, square = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    _framed(first, x, old_first)
    _framed(second, x, old_second)
    _framed(e, x, square)
    hinge = np.ascontiguousarray(square[:, 0])
    alpha = np.arccos(min(max((a * a + reach * reach - b * b) / (2 * a * reach), -1.0), 1.0))
    beta = np.arccos(min(max((b * b + reach * reach - a * a) / (2 * b * reach), -1.0), 1.0))
    turn, aim, new, change, result = np.empty((3, 3)), np.empty(3), np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    for which in range(2):
        _about((-alpha if which == 0 else beta) * hinge, turn)
        for r in range(3):
            aim[r] = turn[r, 0] * e[0] + turn[r, 1] * e[1] + turn[r, 2] * e[2]
        _framed(aim, hinge, new)
        _mul(new, np.ascontiguousarray((old_first if which == 0 else old_second).T), change)
        j = upper if which == 0 else lower
        _mul(change, turned[j], result)
        for r in range(3):
            for c in range(3):
                turns[j, r, c] = result[r, c]
    for r in range(3):
        for c in range(3):
            turns[end, r, c] = turned[end, r, c]


@njit(cache=True, nogil=True)
def rows(parents, axes, turned, at, out):  # pragma: no cover
    """(j, 10) of each joint in its parent: place, quaternion, scale. axes (j, 3, 3) : of the joints at rest."""
    here, above, own = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    for j in range(len(parents)):
        p = parents[j]
        _mul(turned[j], axes[j], here)
        if p < 0:
            for r in range(3):
                out[j, r] = at[j, r]
            _quaternion(here, out[j, 3:7])
        else:
            _mul(turned[p], axes[p], above)
            back = np.ascontiguousarray(above.T)
            _mul(back, here, own)
            for r in range(3):
                out[j, r] = back[r, 0] * (at[j, 0] - at[p, 0]) + back[r, 1] * (at[j, 1] - at[p, 1]) + back[r, 2] * (at[j, 2] - at[p, 2])
            _quaternion(own, out[j, 3:7])
        for r in range(7, 10):
            out[j, r] = 1.0
