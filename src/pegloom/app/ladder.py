"""The ladder: the user's own fixed brush values, kept in the data folder."""

from __future__ import annotations

from pegloom.files.settings import keep_json, read_json

DEFAULT = (0.05, 0.2, 0.35, 0.5, 0.65, 0.8, 1.0)
FILE = "ladder.json"


def read_ladder() -> tuple[float, ...]:
    """The kept values; the usual ones where none are, or where the file is damaged."""
    values = read_json(FILE)
    if not isinstance(values, list) or len(values) != len(DEFAULT):
        return DEFAULT
    if not all(isinstance(v, (int, float)) and 0.0 <= v <= 1.0 for v in values):
        return DEFAULT
    return tuple(float(v) for v in values)


def keep_ladder(values: tuple[float, ...]) -> None:
    """Keep values for the next time."""
    keep_json(FILE, list(values))
