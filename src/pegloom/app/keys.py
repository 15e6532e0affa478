"""The user's own keys: what differs from the declared shortcuts, kept in the data folder."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

import platformdirs


def _file() -> Path:
    return Path(platformdirs.user_data_dir("pegloom")) / "keys.json"


def read_keys() -> dict[str, str]:
    """Action id to key ("" for none); empty where nothing is kept, or where the file is damaged."""
    try:
        kept = json.loads(_file().read_text())
    except (OSError, ValueError):
        return {}
    if not isinstance(kept, dict):
        return {}
    return {str(a): k for a, k in kept.items() if isinstance(k, str)}


def keep_keys(own: dict[str, str]) -> None:
    """Keep the user's keys for the next time; a folder that cannot be written is passed by."""
    with contextlib.suppress(OSError):
        _file().parent.mkdir(parents=True, exist_ok=True)
        _file().write_text(json.dumps(own, indent=1))
