"""Memoising on the identity of immutable pieces: what derives from a piece lives as long as the piece."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

R = TypeVar("R")


def by_identity(function: Callable[..., R]) -> Callable[..., R]:
    """Cache `function(*pieces)` by the identity of its arguments.

    All arguments must be weak-referenceable immutable records, or plain hashable values (str, int, float, bool,
    None, Enum, tuple of those). The entry goes when any of the records does.
    """
    return _cached(function, None)


def of_the_latest(most: int) -> Callable[[Callable[..., R]], Callable[..., R]]:
    """As `by_identity`, but only the last few used are kept.

    For large results of what the undo history keeps many of: two hundred versions of the weights must not hold two
    hundred full matrices.
    """
    return lambda function: _cached(function, most)


def _cached(function: Callable[..., R], most: int | None) -> Callable[..., R]:
    cache: dict[tuple[Any, ...], R] = {}
    lock = threading.Lock()
    plain = (str, int, float, bool, type(None), tuple, frozenset)

    @wraps(function)
    def cached(*pieces: Any) -> R:
        key = tuple(("v", p) if isinstance(p, plain) else ("i", id(p)) for p in pieces)
        with lock:
            if key in cache:
                if most is not None:
                    cache[key] = cache.pop(key)  # the last used stays longest
                return cache[key]
        result = function(*pieces)
        with lock:
            if key not in cache:
                cache[key] = result
                while most is not None and len(cache) > most:
                    cache.pop(next(iter(cache)))
                for piece in pieces:
                    if not isinstance(piece, plain):
                        weakref.finalize(piece, cache.pop, key, None).atexit = False
        return result

    return cached
