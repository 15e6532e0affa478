"""Patterns users write: JSON files in their own folder, or named by path. Format: docs/patterns.md."""

from __future__ import annotations

import json
from pathlib import Path

import platformdirs

from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.skeleton.patterns import Pattern, pattern_from_data, shipped_patterns
from pegloom.files.raw import checked_size, read_bytes

LARGEST = 4 << 20
"""Bytes."""


def patterns_folder() -> Path:
    """Where a user's own patterns lie."""
    return Path(platformdirs.user_data_dir("pegloom")) / "patterns"


def read_pattern(path: Path) -> Pattern:
    """Read a pattern file. Raises MeshFileError: which file, what is wrong, what to do."""
    try:
        if checked_size(path) > LARGEST:
            raise MeshFileError(path.name, "is far too large for a pattern", hint="choose a pattern's .json")
        return pattern_from_data(json.loads(read_bytes(path)))
    except (ValueError, RecursionError) as error:
        raise MeshFileError(path.name, f"is no JSON ({error})", hint="compare it with a shipped pattern") from error
    except (ShapeError, TypeError, AttributeError, KeyError, IndexError, OverflowError) as error:
        raise MeshFileError(path.name, str(error), hint="compare it with a shipped pattern") from error


def known_patterns(folder: Path | None = None) -> dict[str, Pattern]:
    """Shipped patterns, then the user's own; a broken file is passed by."""
    found = dict(shipped_patterns())
    place = patterns_folder() if folder is None else folder
    for file in sorted(place.glob("*.json")) if place.is_dir() else ():
        try:
            result = read_pattern(file)
        except MeshFileError:
            continue
        found.setdefault(result.name, result)
    return found


def pattern_named(name: str) -> Pattern:
    """A pattern by name, or by the path of its file. Raises MeshFileError listing the known ones."""
    known = known_patterns()
    if name in known:
        return known[name]
    if name.endswith(".json"):
        return read_pattern(Path(name))
    raise MeshFileError(name, "there is no such pattern", hint=f"use auto, {', '.join(known)}, or a pattern's .json")
