"""Small JSON files of the user's own: recent files, keys, the ladder. A damaged one counts as none."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

import platformdirs

from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import write_bytes

LARGEST = 1 << 20


def settings_file(name: str) -> Path:
    """Where a settings file lies."""
    return Path(platformdirs.user_data_dir("pegloom")) / name


def read_json(name: str) -> Any:
    """What a settings file holds; None where there is none, or it is damaged."""
    try:
        path = settings_file(name)
        return json.loads(path.read_bytes()) if path.stat().st_size <= LARGEST else None
    except (OSError, ValueError, RecursionError):
        return None


def keep_json(name: str, value: Any) -> None:
    """Keep it for the next time; a folder that cannot be written is passed by."""
    with contextlib.suppress(OSError, MeshFileError):
        path = settings_file(name)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_bytes(path, json.dumps(value, indent=1).encode())


def read_picture_kept(name: str) -> bytes:
    """The bytes of a small picture that is kept ("recent/ab12.png"); b"" for none."""
    try:
        path = settings_file(name)
        return path.read_bytes() if path.stat().st_size <= LARGEST else b""
    except OSError:
        return b""


def keep_picture(name: str, data: bytes, *, keep: set[str]) -> None:
    """Keep a small picture, and of its folder only those that are named. A folder that cannot be written is passed by."""
    with contextlib.suppress(OSError, MeshFileError):
        path = settings_file(name)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_bytes(path, data)
        wanted = {settings_file(n) for n in keep}
        for one in path.parent.glob("*.png"):
            if one not in wanted:
                one.unlink(missing_ok=True)
