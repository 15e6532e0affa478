"""Many rotations at once, as matrices (..., 3, 3)."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray


def vector_of(turns: FloatArray) -> FloatArray:
    """Rotation vectors (..., 3), radians."""
    flat = Rotation.from_matrix(turns.reshape(-1, 3, 3)).as_rotvec()
    return np.asarray(flat.reshape(*turns.shape[:-2], 3))


def of_vector(vectors: FloatArray) -> FloatArray:
    """Rotations (..., 3, 3) of rotation vectors (..., 3)."""
    flat = Rotation.from_rotvec(np.asarray(vectors).reshape(-1, 3)).as_matrix()
    return np.asarray(flat.reshape(*np.shape(vectors)[:-1], 3, 3))


def across(turns: FloatArray) -> FloatArray:
    """The inverse of each."""
    return np.swapaxes(turns, -1, -2)


def between(a: FloatArray, b: FloatArray, share: float) -> FloatArray:
    """That share of the way from each a to its b."""
    if share <= 0.0:
        return a
    if share >= 1.0:
        return b
    return np.asarray(a @ of_vector(share * vector_of(across(a) @ b)))


def scaled(turns: FloatArray, amount: float) -> FloatArray:
    """Each turn about their mean, by an amount."""
    mean = Rotation.from_matrix(turns).mean().as_matrix()
    return np.asarray(mean @ of_vector(amount * vector_of(mean.T @ turns)))


def straight(turns: FloatArray) -> FloatArray:
    """The nearest rotations (..., 3, 3) of turns with scale; mirrored axes are turned right."""
    u, _, v = np.linalg.svd(turns)
    result = u @ v
    result[..., :, 2] *= np.where(np.linalg.det(result) < 0, -1.0, 1.0)[..., None]
    return np.asarray(result)


def step_of(times: FloatArray) -> float:
    """Seconds from a moment to the next of even ones (k,); 1 for a single one."""
    return max(float(np.median(np.diff(times))), 1e-6) if len(times) > 1 else 1.0


def unit(vectors: FloatArray) -> FloatArray:
    return np.asarray(vectors / np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-12))


def framed(aim: FloatArray, bend: FloatArray) -> FloatArray:
    """Axes (k, 3, 3): y along aim (k, 3), x as near bend (k, 3) as squareness allows."""
    y = unit(aim)
    x = bend - y * (bend * y).sum(axis=-1, keepdims=True)
    lost = np.linalg.norm(x, axis=-1) < 1e-9
    if lost.any():
        other = np.eye(3)[np.argmin(np.abs(y[lost]), axis=-1)]
        x[lost] = np.cross(y[lost], other)
    x = unit(x)
    return np.stack([x, y, np.cross(x, y)], axis=-1)


def about(axes: FloatArray, angles: FloatArray) -> FloatArray:
    """Rotations (k, 3, 3) about unit axes (k, 3) by angles (k,), radians."""
    return of_vector(axes * np.asarray(angles)[..., None])


def smooth(x: FloatArray, low: float, high: float) -> FloatArray:
    """0 at and below low, 1 at and above high, smooth between; falls where high is below low."""
    u = np.clip((np.asarray(x) - low) / (high - low), 0.0, 1.0)
    return np.asarray(u * u * (3.0 - 2.0 * u))
