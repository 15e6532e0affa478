"""Small JSON files of our own kinds: an object that names its format and version."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pegloom.core.errors import MeshFileError
from pegloom.files.raw import checked_size, read_bytes

LARGEST = 4 << 20
"""Bytes."""
HINT = "compare it with one that was saved here"


def read_plain(path: Path) -> dict[str, Any]:
    """The object of a small JSON file of no kind of its own. Raises MeshFileError."""
    try:
        if checked_size(path) > LARGEST:
            raise MeshFileError(path.name, "is far too large for a few numbers", hint="see docs/command-line.md")
        tree = json.loads(read_bytes(path))
    except (ValueError, RecursionError) as error:
        raise MeshFileError(path.name, f"is no JSON ({str(error)[:80]})", hint="see docs/command-line.md") from None
    if not isinstance(tree, dict):
        raise MeshFileError(path.name, "is no object of names and numbers", hint="see docs/command-line.md")
    return tree


def read_kind(path: Path, form: str, version: int, holds: str) -> dict[str, Any]:
    """The object of a file of a format ("peg loom pairing"). holds : what it is for, in words.

    Raises MeshFileError for one that is too large, no JSON, of another kind, or newer.
    """
    try:
        if checked_size(path) > LARGEST:
            raise MeshFileError(path.name, f"is far too large for {holds}", hint=HINT)
        tree = json.loads(read_bytes(path))
    except (ValueError, RecursionError) as error:
        raise MeshFileError(path.name, f"is no JSON ({str(error)[:80]})", hint=HINT) from None
    if not isinstance(tree, dict) or tree.get("format") != form:
        raise MeshFileError(path.name, f"holds no {holds.removeprefix('a ')}", hint=HINT)
    if tree.get("version") != version:
        raise MeshFileError(path.name, "was written by a newer version", hint="open it with that one")
    return tree
