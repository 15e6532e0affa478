"""Recent files: the last ten opened, newest first, in the user's data folder."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

import platformdirs

MOST = 10


def _file() -> Path:
    return Path(platformdirs.user_data_dir("pegloom")) / "recent.json"


def recent() -> list[Path]:
    """Files opened lately that are still there."""
    try:
        names = json.loads(_file().read_text())
    except (OSError, ValueError):
        return []
    return [Path(n) for n in names if isinstance(n, str) and Path(n).is_file()][:MOST]


def remember(path: Path) -> None:
    """Put a file first in the list; shipped demo files are left out."""
    if "assets" in path.parts and "demo" in path.parts:
        return
    rows = [str(path.resolve()), *(str(p) for p in recent() if p.resolve() != path.resolve())]
    with contextlib.suppress(OSError):
        _file().parent.mkdir(parents=True, exist_ok=True)
        _file().write_text(json.dumps(rows[:MOST]))
