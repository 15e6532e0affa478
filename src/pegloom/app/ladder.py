"""The ladder: the user's own fixed brush values, kept in the data folder."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

import platformdirs

DEFAULT = (0.05, 0.2, 0.35, 0.5, 0.65, 0.8, 1.0)


def _file() -> Path:
    return Path(platformdirs.user_data_dir("pegloom")) / "ladder.json"


def read_ladder() -> tuple[float, ...]:
    """The kept values; the usual ones where none are, or where the file is damaged."""
    try:
        values = json.loads(_file().read_text())
    except (OSError, ValueError):
        return DEFAULT
    if not isinstance(values, list) or len(values) != len(DEFAULT):
        return DEFAULT
    if not all(isinstance(v, (int, float)) and 0.0 <= v <= 1.0 for v in values):
        return DEFAULT
    return tuple(float(v) for v in values)


def keep_ladder(values: tuple[float, ...]) -> None:
    """Keep values for the next time; a folder that cannot be written is passed by."""
    with contextlib.suppress(OSError):
        _file().parent.mkdir(parents=True, exist_ok=True)
        _file().write_text(json.dumps(list(values)))
