"""The elastic body in a pose: cells turned and moved in turn until nothing gives way any more."""

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skin.flesh.body import Flesh

ROUNDS = 16
TURNINGS = 6
"""Steps toward the best turn of a cell a round; the next round goes on from there."""


def posed_flesh(flesh: Flesh, matrices: FloatArray, points: FloatArray, *, rounds: int = ROUNDS, progress: Progress = silent) -> FloatArray:
    """Where the skin's places (p, 3) are when its bones move. matrices (j, 4, 4) : posed_from_rest of each column. points (p, 3) : at
    rest, metres. Raises Cancelled from `progress`."""
    rows = np.ascontiguousarray(matrices[:, :3, :])
    at = np.empty_like(flesh.rest)
    turns = np.empty((len(flesh.rest), 4))
    _begin(flesh.rest, rows, flesh.rows, flesh.held, flesh.bone, at, turns)
    side = np.empty((len(flesh.free), 3))
    for number in range(rounds):
        ask(progress)
        _turn(flesh.rest, at, flesh.starts, flesh.others, flesh.shares, flesh.bone, turns, TURNINGS if number else 3 * TURNINGS)
        _pull(flesh.rest, turns, flesh.starts, flesh.others, flesh.shares, flesh.free, at, flesh.bone, side)
        at[flesh.free] = flesh.solved.solve(side)
    _turn(flesh.rest, at, flesh.starts, flesh.others, flesh.shares, flesh.bone, turns, TURNINGS)
    result = np.empty_like(points)
    _carry(flesh.rest, at, turns, flesh.rides, flesh.carried, np.ascontiguousarray(points), result)
    return result


def compiled() -> None:
    """What is compiled at first use, compiled: two cells and one place."""
    rest, still = np.array([[0.0, 0, 0], [1.0, 0, 0]]), np.eye(4)[None, :3, :].copy()
    one, two, bone = np.zeros((2, 1), dtype=np.int64), np.ones((2, 1)), np.array([0, -1])
    starts, others, shares = np.array([0, 1, 2]), np.array([1, 0]), np.ones(2)
    at, turns, side, result = np.empty((2, 3)), np.empty((2, 4)), np.empty((1, 3)), np.empty((1, 3))
    _begin(rest, still, one, two, bone, at, turns)
    _turn(rest, at, starts, others, shares, bone, turns, 1)
    _pull(rest, turns, starts, others, shares, np.array([1]), at, bone, side)
    _carry(rest, at, turns, one[:1], two[:1], rest[:1].copy(), result)


@njit(cache=True, nogil=True)
def _matrix(q, m):  # type: ignore[no-untyped-def]  # pragma: no cover
    x, y, z, w = q[0], q[1], q[2], q[3]
    m[0, 0], m[0, 1], m[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    m[1, 0], m[1, 1], m[1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    m[2, 0], m[2, 1], m[2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)


@njit(cache=True, nogil=True)
def _best_turn(a, q, steps):  # type: ignore[no-untyped-def]  # pragma: no cover
    """The turn q nearest to a (3, 3), from the one in q on (Mueller et al., "A robust method to extract the rotational part of
    deformations", MIG 2016)."""
    m = np.empty((3, 3))
    for _ in range(steps):
        _matrix(q, m)
        bottom = 1e-9
        wx = wy = wz = 0.0
        for k in range(3):
            rx, ry, rz = m[0, k], m[1, k], m[2, k]
            ax, ay, az = a[0, k], a[1, k], a[2, k]
            wx += ry * az - rz * ay
            wy += rz * ax - rx * az
            wz += rx * ay - ry * ax
            bottom += rx * ax + ry * ay + rz * az
        bottom = abs(bottom)
        wx, wy, wz = wx / bottom, wy / bottom, wz / bottom
        size = np.sqrt(wx * wx + wy * wy + wz * wz)
        if size < 1e-9:
            return
        half = 0.5 * size
        s = np.sin(half) / size
        bx, by, bz, bw = wx * s, wy * s, wz * s, np.cos(half)
        x, y, z, w = q[0], q[1], q[2], q[3]
        q[0] = bw * x + bx * w + by * z - bz * y
        q[1] = bw * y - bx * z + by * w + bz * x
        q[2] = bw * z + bx * y - by * x + bz * w
        q[3] = bw * w - bx * x - by * y - bz * z
        length = np.sqrt(q[0] ** 2 + q[1] ** 2 + q[2] ** 2 + q[3] ** 2)
        for k in range(4):
            q[k] /= length


@njit(cache=True, nogil=True)
def _begin(rest, matrices, rows, held, bone, at, turns):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Cells where their weights put them, and turned as those say."""
    a = np.empty((3, 3))
    for c in range(len(rest)):
        m = np.zeros((3, 4))
        if bone[c] >= 0:
            m[:] = matrices[bone[c]]
        else:
            for k in range(rows.shape[1]):
                if held[c, k] > 0.0:
                    m += held[c, k] * matrices[rows[c, k]]
        for d in range(3):
            at[c, d] = m[d, 0] * rest[c, 0] + m[d, 1] * rest[c, 1] + m[d, 2] * rest[c, 2] + m[d, 3]
            for e in range(3):
                a[d, e] = m[d, e]
        turns[c, 0] = turns[c, 1] = turns[c, 2] = 0.0
        turns[c, 3] = 1.0
        # A turn by nearly half a circle has no nearest one on the way: it is begun from the strongest joint's own.
        if bone[c] < 0:
            strong = matrices[rows[c, 0]]
            b = np.empty((3, 3))
            for d in range(3):
                for e in range(3):
                    b[d, e] = strong[d, e]
            _best_turn(b, turns[c], 24)
        _best_turn(a, turns[c], 24)


@njit(cache=True, nogil=True)
def _turn(rest, at, starts, others, shares, bone, turns, steps):  # type: ignore[no-untyped-def]  # pragma: no cover
    a = np.empty((3, 3))
    for c in range(len(rest)):
        if bone[c] >= 0:
            continue
        a[:] = 0.0
        for e in range(starts[c], starts[c + 1]):
            o = others[e]
            for d in range(3):
                x = shares[e] * (at[o, d] - at[c, d])
                for k in range(3):
                    a[d, k] += x * (rest[o, k] - rest[c, k])
        _best_turn(a, turns[c], steps)


@njit(cache=True, nogil=True)
def _pull(rest, turns, starts, others, shares, free, at, bone, side):  # type: ignore[no-untyped-def]  # pragma: no cover
    """The right side of the free cells' equations: what the turns ask for, and the held neighbours."""
    m = np.empty((3, 3))
    n = np.empty((3, 3))
    for f in range(len(free)):
        c = free[f]
        _matrix(turns[c], m)
        side[f, 0] = side[f, 1] = side[f, 2] = 0.0
        for e in range(starts[c], starts[c + 1]):
            o = others[e]
            _matrix(turns[o], n)
            for d in range(3):
                s = 0.0
                for k in range(3):
                    s += 0.5 * (m[d, k] + n[d, k]) * (rest[c, k] - rest[o, k])
                side[f, d] += shares[e] * s
                if bone[o] >= 0:
                    side[f, d] += shares[e] * at[o, d]


@njit(cache=True, nogil=True)
def _carry(rest, at, turns, rides, carried, points, result):  # type: ignore[no-untyped-def]  # pragma: no cover
    m = np.empty((3, 3))
    for p in range(len(points)):
        for d in range(3):
            result[p, d] = 0.0
        for k in range(rides.shape[1]):
            w = carried[p, k]
            if w == 0.0:
                continue
            c = rides[p, k]
            _matrix(turns[c], m)
            for d in range(3):
                s = at[c, d]
                for e in range(3):
                    s += m[d, e] * (points[p, e] - rest[c, e])
                result[p, d] += w * s
