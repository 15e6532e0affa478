"""Rotations and rigid maps. Column vectors, 4x4 matrices named `parent_from_child`, quaternions x y z w.

Quaternion formulas: Shoemake, "Animating rotation with quaternion curves", SIGGRAPH 1985.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from pegloom.core.arrays import FloatArray
from pegloom.core.tolerances import LENGTH_ZERO, PARALLEL

IDENTITY_QUATERNION: FloatArray = np.array([0.0, 0.0, 0.0, 1.0])
IDENTITY_QUATERNION.setflags(write=False)


def normalised(vectors: ArrayLike) -> FloatArray:
    """Vectors (..., d) at unit length; a zero vector stays zero."""
    v = np.asarray(vectors, dtype=np.float64)
    length = np.linalg.norm(v, axis=-1, keepdims=True)
    return np.asarray(v / np.maximum(length, LENGTH_ZERO))


def quaternion_product(a: ArrayLike, b: ArrayLike) -> FloatArray:
    """a then... applied after b: `rotate(product(a, b), v) == rotate(a, rotate(b, v))`. (..., 4) each."""
    a, b = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    ax, ay, az, aw = np.moveaxis(a, -1, 0)
    bx, by, bz, bw = np.moveaxis(b, -1, 0)
    return np.stack(
        [
            aw * bx + ax * bw + ay * bz - az * by,
            aw * by - ax * bz + ay * bw + az * bx,
            aw * bz + ax * by - ay * bx + az * bw,
            aw * bw - ax * bx - ay * by - az * bz,
        ],
        axis=-1,
    )


def quaternion_inverse(q: ArrayLike) -> FloatArray:
    """Inverse of unit quaternions (..., 4)."""
    return np.asarray(np.asarray(q, dtype=np.float64) * np.array([-1.0, -1.0, -1.0, 1.0]))


def quaternion_about(axis: ArrayLike, angle: float) -> FloatArray:
    """Turn by `angle` radians about `axis` (3,), right-handed."""
    unit = normalised(axis)
    return np.append(unit * np.sin(angle / 2), np.cos(angle / 2))


def quaternion_between(a: ArrayLike, b: ArrayLike) -> FloatArray:
    """The shortest turn taking direction a to direction b, (3,) each."""
    a, b = normalised(a), normalised(b)
    cosine = float(a @ b)
    if cosine < -1.0 + PARALLEL:
        return quaternion_about(any_perpendicular(a), np.pi)
    return normalised(np.append(np.cross(a, b), 1.0 + cosine))


def any_perpendicular(direction: ArrayLike) -> FloatArray:
    """Some unit vector square to `direction` (3,)."""
    d = normalised(direction)
    helper = np.eye(3)[int(np.argmin(np.abs(d)))]
    return normalised(np.cross(d, helper))


def slerp(a: ArrayLike, b: ArrayLike, amount: float) -> FloatArray:
    """Spherical blend of unit quaternions (4,) along the shorter arc."""
    qa, qb = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    cosine = float(qa @ qb)
    if cosine < 0.0:
        qb, cosine = -qb, -cosine
    if cosine > 1.0 - 1e-9:
        return normalised(qa + amount * (qb - qa))
    angle = np.arccos(min(cosine, 1.0))
    return np.asarray((np.sin((1 - amount) * angle) * qa + np.sin(amount * angle) * qb) / np.sin(angle))


def rotation_matrix(q: ArrayLike) -> FloatArray:
    """3x3 rotations (..., 3, 3) of unit quaternions (..., 4)."""
    x, y, z, w = np.moveaxis(np.asarray(q, dtype=np.float64), -1, 0)
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(row, axis=-1) for row in rows], axis=-2)


def matrix_quaternion(matrix: ArrayLike) -> FloatArray:
    """Unit quaternion (4,) of a 3x3 rotation (scale removed column by column).

    The largest of the four components is taken first (Shepperd 1978), so no case divides by a small number.
    """
    m = np.asarray(matrix, dtype=np.float64)[:3, :3]
    m = m / np.maximum(np.linalg.norm(m, axis=0), LENGTH_ZERO)
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    choices = np.array([m[0, 0], m[1, 1], m[2, 2], trace])
    best = int(np.argmax(choices))
    if best == 3:
        q = np.array([m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1], 1.0 + trace])
    else:
        i, j, k = best, (best + 1) % 3, (best + 2) % 3
        q = np.zeros(4)
        q[i] = 1.0 + m[i, i] - m[j, j] - m[k, k]
        q[j] = m[j, i] + m[i, j]
        q[k] = m[k, i] + m[i, k]
        q[3] = m[k, j] - m[j, k]
    q = q / np.linalg.norm(q)
    return np.asarray(q if q[3] >= 0 else -q)


def matrix_quaternions(matrices: FloatArray) -> FloatArray:
    """`matrix_quaternion` for many at once: (n, 3, 3) to (n, 4)."""
    m = matrices / np.maximum(np.linalg.norm(matrices, axis=1, keepdims=True), LENGTH_ZERO)
    trace = m[:, 0, 0] + m[:, 1, 1] + m[:, 2, 2]
    best = np.argmax(np.stack([m[:, 0, 0], m[:, 1, 1], m[:, 2, 2], trace], axis=1), axis=1)
    q = np.empty((len(m), 4))
    for i in range(3):
        some, (j, k) = best == i, ((i + 1) % 3, (i + 2) % 3)
        s = m[some]
        q[some, i] = 1.0 + s[:, i, i] - s[:, j, j] - s[:, k, k]
        q[some, j] = s[:, j, i] + s[:, i, j]
        q[some, k] = s[:, k, i] + s[:, i, k]
        q[some, 3] = s[:, k, j] - s[:, j, k]
    s = m[best == 3]
    q[best == 3] = np.stack(
        [s[:, 2, 1] - s[:, 1, 2], s[:, 0, 2] - s[:, 2, 0], s[:, 1, 0] - s[:, 0, 1], 1.0 + trace[best == 3]], axis=1
    )
    q /= np.linalg.norm(q, axis=1, keepdims=True)
    return np.where(q[:, 3:] >= 0, q, -q)


def compose(position: ArrayLike, quaternion: ArrayLike, scale: ArrayLike = (1.0, 1.0, 1.0)) -> FloatArray:
    """4x4 matrix that scales, then turns, then moves."""
    matrix = np.eye(4)
    matrix[:3, :3] = rotation_matrix(quaternion) * np.asarray(scale, dtype=np.float64)
    matrix[:3, 3] = position
    return matrix


def decompose(matrix: ArrayLike) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Position (3,), quaternion (4,) and scale (3,) of a 4x4 matrix without shear; a mirror shows as scale x < 0."""
    m = np.asarray(matrix, dtype=np.float64)
    scale = np.linalg.norm(m[:3, :3], axis=0)
    linear = m[:3, :3].copy()
    if np.linalg.det(linear) < 0:
        scale[0] = -scale[0]
    linear = linear / np.where(np.abs(scale) < LENGTH_ZERO, 1.0, scale)
    return m[:3, 3].copy(), matrix_quaternion(linear), scale


def composed(positions: FloatArray, quaternions: FloatArray, scales: FloatArray) -> FloatArray:
    """`compose` for many at once: (n, 3), (n, 4), (n, 3) to (n, 4, 4)."""
    matrices = np.zeros((len(positions), 4, 4))
    matrices[:, :3, :3] = rotation_matrix(quaternions) * scales[:, None, :]
    matrices[:, :3, 3] = positions
    matrices[:, 3, 3] = 1.0
    return matrices


def decomposed(matrices: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """`decompose` for many at once: (n, 4, 4) to (n, 3), (n, 4), (n, 3)."""
    linear = matrices[:, :3, :3]
    scale = np.linalg.norm(linear, axis=1)
    scale[np.linalg.det(linear) < 0, 0] *= -1.0
    safe = np.where(np.abs(scale) < LENGTH_ZERO, 1.0, scale)
    return matrices[:, :3, 3].copy(), matrix_quaternions(linear / safe[:, None, :]), scale


def euler_quaternion(turn: ArrayLike) -> FloatArray:
    """Quaternion of turns about x, then y, then z (fixed axes), radians (3,)."""
    x, y, z = np.asarray(turn, dtype=np.float64) / 2
    cx, sx, cy, sy, cz, sz = np.cos(x), np.sin(x), np.cos(y), np.sin(y), np.cos(z), np.sin(z)
    return np.array(
        [
            sx * cy * cz - cx * sy * sz,
            cx * sy * cz + sx * cy * sz,
            cx * cy * sz - sx * sy * cz,
            cx * cy * cz + sx * sy * sz,
        ]
    )


def quaternion_euler(q: ArrayLike) -> FloatArray:
    """Turns about x, then y, then z (fixed axes), radians (3,), of a unit quaternion."""
    m = rotation_matrix(q)
    sine = float(np.clip(-m[2, 0], -1.0, 1.0))
    y = np.arcsin(sine)
    if abs(sine) > 1.0 - 1e-10:  # straight up or down: x and z turn the same way, so z alone keeps the turn
        return np.array([0.0, y, np.arctan2(-m[0, 1], m[1, 1])])
    return np.array([np.arctan2(m[2, 1], m[2, 2]), y, np.arctan2(m[1, 0], m[0, 0])])


def frame(aim: ArrayLike, bend: ArrayLike) -> FloatArray:
    """3x3 rotation whose y column points along `aim` and whose x column is as near `bend` as squareness allows."""
    y = normalised(aim)
    x = np.asarray(bend, dtype=np.float64) - y * float(np.dot(y, bend))
    if np.linalg.norm(x) < 1e-8:
        x = any_perpendicular(y)
    x = normalised(x)
    return np.stack([x, y, np.cross(x, y)], axis=1)


def transform_points(matrix: ArrayLike, points: ArrayLike) -> FloatArray:
    """Points (..., 3) through a 4x4 matrix."""
    m = np.asarray(matrix, dtype=np.float64)
    return np.asarray(points, dtype=np.float64) @ m[:3, :3].T + m[:3, 3]


def rigid_inverse(matrices: ArrayLike) -> FloatArray:
    """Inverse of affine 4x4 matrices (..., 4, 4)."""
    return np.linalg.inv(np.asarray(matrices, dtype=np.float64))
