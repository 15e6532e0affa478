"""Things of a rig kept by name: found by id or name, renamed, dropped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TypeVar

from pegloom.core.errors import EditError
from pegloom.document.edits.rig.changing import near
from pegloom.document.model import Expression, ShelfPose

T = TypeVar("T", Expression, ShelfPose)


def kept_one(kept: Sequence[T], told: str, what: str) -> T:
    """The one told by id or name. Raises EditError, with the names that are near, for one there is not."""
    for one in kept:
        if told in (one.id, one.name):
            return one
    raise EditError(f"there is no {what} {told}{near(told, [one.name for one in kept])}")


def renamed(kept: Sequence[T], told: str, name: str, what: str) -> tuple[T, ...]:
    """All of them, the one told under another name. Raises EditError for an empty or taken one."""
    one, wanted = kept_one(kept, told, what), name.strip()
    if not wanted:
        raise EditError(f"the {what} needs a name")
    if any(e.name == wanted and e.id != one.id for e in kept):
        raise EditError(f"another {what} is called {wanted} already")
    return tuple(replace(e, name=wanted) if e.id == one.id else e for e in kept)


def without(kept: Sequence[T], told: str, what: str) -> tuple[T, ...]:
    """All but the one told."""
    gone = kept_one(kept, told, what)
    return tuple(e for e in kept if e.id != gone.id)
