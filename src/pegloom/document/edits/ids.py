"""Ids of things made by hand: never used again, so that nothing new inherits what was meant for something deleted."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from types import MappingProxyType

from pegloom.document.model import Character


def highest(stem: str, ids: Iterable[str]) -> int:
    """The highest number among ids of a stem, `own.7`; -1 for none."""
    numbers = (one.removeprefix(stem) for one in ids if one.startswith(stem))
    return max((int(n) for n in numbers if n.isascii() and n.isdigit()), default=-1)


def fresh_ids(
    character: Character, stem: str, in_use: Iterable[str], count: int = 1, *, first: int = 1
) -> tuple[Character, list[str]]:
    """The character with that many more ids of a stem counted, and the ids.

    in_use : those in use.
    first : where numbers begin.
    """
    last = max(character.counted.get(stem, -1), highest(stem, in_use), first - 1)
    return counted(character, stem, last + count), [f"{stem}{last + 1 + k}" for k in range(count)]


def counted(character: Character, stem: str, number: int) -> Character:
    """The character in which ids of a stem up to that number are known to have been used."""
    if character.counted.get(stem, -1) >= number:
        return character
    return replace(character, counted=MappingProxyType({**character.counted, stem: number}))


def free_name(wanted: str, taken: Iterable[str]) -> str:
    """The name, or the first of `name 2`, `name 3`, ... that nobody has."""
    names = set(taken)
    return next(text for k in range(1, len(names) + 2) if (text := wanted if k == 1 else f"{wanted} {k}") not in names)
