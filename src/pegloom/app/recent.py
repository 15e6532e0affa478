"""Recent files: the last ten opened, newest first, in the user's data folder."""

from __future__ import annotations

from pathlib import Path

from pegloom.files.settings import keep_json, read_json

MOST = 10
FILE = "recent.json"


def recent() -> list[Path]:
    """Files opened lately that are still there."""
    names = read_json(FILE)
    found = [Path(n) for n in names if isinstance(n, str)] if isinstance(names, list) else []
    return [p for p in found[: 5 * MOST] if "\0" not in str(p) and p.is_file()][:MOST]


def remember(path: Path) -> None:
    """Put a file first in the list; shipped demo files are left out."""
    if "assets" in path.parts and "demo" in path.parts:
        return
    rows = [str(path.resolve()), *(str(p) for p in recent() if p.resolve() != path.resolve())]
    keep_json(FILE, rows[:MOST])
