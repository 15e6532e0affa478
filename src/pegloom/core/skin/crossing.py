"""Faces of a posed surface that pass through others."""

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.arrays import BoolArray, FloatArray, IntArray


def crossing_faces(points: FloatArray, triangles: IntArray) -> BoolArray:
    """Which triangles (t,) pass through another. See `crossing_partners`."""
    return crossing_partners(points, triangles) >= 0


def crossing_partners(points: FloatArray, triangles: IntArray) -> IntArray:
    """For each triangle (t,) one that it passes through, -1 for none: the first found.

    They cross where an edge of one pierces the other and they share no vertex.

    points (n, 3), triangles (t, 3) over welded places. A hash of cubes finds the pairs; a segment against a triangle
    is tested as Moeller and Trumbore do (Journal of Graphics Tools 2(1), 1997).
    """
    hit = np.full(len(triangles), -1, dtype=np.int64)
    if len(triangles) < 2:
        return hit
    corners = points[triangles]
    low, high = corners.min(axis=1), corners.max(axis=1)
    span = high - low
    cell = max(float(np.quantile(span.max(axis=1), 0.9)), 1e-9)
    first = np.floor((low - low.min(axis=0)) / cell).astype(np.int64)
    last = np.floor((high - low.min(axis=0)) / cell).astype(np.int64)
    count = (last - first + 1).prod(axis=1)
    if count.sum() > 64 * len(triangles):
        # A few giant faces among small ones: coarser cubes rather than a flood of entries.
        cell = max(cell, float(span.max()) / 8)
        first = np.floor((low - low.min(axis=0)) / cell).astype(np.int64)
        last = np.floor((high - low.min(axis=0)) / cell).astype(np.int64)
        count = (last - first + 1).prod(axis=1)
    face = np.repeat(np.arange(len(triangles)), count)
    within = np.arange(len(face)) - np.repeat(np.cumsum(count) - count, count)
    size = (last - first + 1)[face]
    at = first[face] + np.stack(
        [within % size[:, 0], within // size[:, 0] % size[:, 1], within // (size[:, 0] * size[:, 1])], axis=1
    )
    width = last.max(axis=0) + 1
    key = at[:, 0] + width[0] * (at[:, 1] + width[1] * at[:, 2])
    order = np.argsort(key, kind="stable")
    key, face = key[order], face[order]
    starts = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
    starts = np.append(starts, len(key))
    _test_pairs(np.ascontiguousarray(points), triangles, low, high, face, starts, hit)
    return hit


@njit(cache=True, nogil=True)
def _pierced(p, q, a, b, c):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Whether the segment p q goes through the triangle a b c."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    hx, hy, hz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
    det = ux * hx + uy * hy + uz * hz
    if abs(det) < 1e-18:
        return False
    inv = 1.0 / det
    sx, sy, sz = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    u = (sx * hx + sy * hy + sz * hz) * inv
    if u < 0.0 or u > 1.0:
        return False
    wx, wy, wz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
    v = (dx * wx + dy * wy + dz * wz) * inv
    if v < 0.0 or u + v > 1.0:
        return False
    t = (vx * wx + vy * wy + vz * wz) * inv
    return 0.0 < t < 1.0


@njit(cache=True, nogil=True)
def _test_pairs(points, triangles, low, high, face, starts, hit):  # type: ignore[no-untyped-def]  # pragma: no cover
    for k in range(len(starts) - 1):
        for m in range(starts[k], starts[k + 1]):
            i = face[m]
            a0, a1, a2 = triangles[i, 0], triangles[i, 1], triangles[i, 2]
            for n in range(m + 1, starts[k + 1]):
                j = face[n]
                if hit[i] >= 0 and hit[j] >= 0:
                    continue
                apart = False
                for d in range(3):
                    if low[i, d] > high[j, d] or low[j, d] > high[i, d]:
                        apart = True
                if apart:
                    continue
                b0, b1, b2 = triangles[j, 0], triangles[j, 1], triangles[j, 2]
                if a0 in (b0, b1, b2) or a1 in (b0, b1, b2):
                    continue
                if a2 in (b0, b1, b2):
                    continue
                p, q, r = points[a0], points[a1], points[a2]
                x, y, z = points[b0], points[b1], points[b2]
                if (
                    _pierced(p, q, x, y, z) or _pierced(q, r, x, y, z) or _pierced(r, p, x, y, z)
                    or _pierced(x, y, p, q, r) or _pierced(y, z, p, q, r) or _pierced(z, x, p, q, r)
                ):  # fmt: skip
                    hit[i] = j if hit[i] < 0 else hit[i]
                    hit[j] = i if hit[j] < 0 else hit[j]
