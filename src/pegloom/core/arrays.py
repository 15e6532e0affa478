"""Array types, and the two ways arrays enter immutable records."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from pegloom.core.errors import ShapeError

FloatArray: TypeAlias = NDArray[np.float64]
IntArray: TypeAlias = NDArray[np.int64]
BoolArray: TypeAlias = NDArray[np.bool_]


def owned_floats(values: ArrayLike, *, columns: int | None = None, name: str = "array") -> FloatArray:
    """An own, read-only float64 copy. Raises ShapeError for another column count or non-finite values."""
    array = np.array(values, dtype=np.float64, order="C")
    if columns is not None and (array.ndim != 2 or array.shape[1] != columns):
        raise ShapeError(f"{name}: expected (n, {columns}), got {array.shape}")
    if not np.isfinite(array).all():
        raise ShapeError(f"{name}: holds values that are not numbers (NaN or infinite)")
    array.setflags(write=False)
    return array


def owned_ints(values: ArrayLike) -> IntArray:
    """An own, read-only int64 copy."""
    array = np.array(values, dtype=np.int64, order="C")
    array.setflags(write=False)
    return array


def frozen(array: NDArray[Any]) -> NDArray[Any]:
    """Set a freshly computed array read-only and return it."""
    array.setflags(write=False)
    return array
