"""The user's own keys: what differs from the declared shortcuts, kept in the data folder."""

from __future__ import annotations

from pegloom.files.settings import keep_json, read_json

FILE = "keys.json"


def read_keys() -> dict[str, str]:
    """Action id to key ("" for none); empty where nothing is kept, or where the file is damaged."""
    kept = read_json(FILE)
    return {str(a): k for a, k in kept.items() if isinstance(k, str)} if isinstance(kept, dict) else {}


def keep_keys(own: dict[str, str]) -> None:
    """Keep the user's keys for the next time."""
    keep_json(FILE, own)
