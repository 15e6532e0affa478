"""Numbers and counts in words for a person, written one way everywhere."""

from __future__ import annotations

THIN = "\u202f"
"""A narrow space that no line breaks at: between groups of three digits."""


def grouped(number: int) -> str:
    """A whole number with its digits in groups of three: 13 602."""
    return f"{number:,}".replace(",", THIN)


def counted(number: int, one: str, many: str = "") -> str:
    """A count with its word: "1 clip", "3 clips", "2 vertices" where `many` is not `one` with an s."""
    return f"{grouped(number)} {one if number == 1 else many or one + 's'}"
