"""Numbered versions of a project, kept beside it: `NAME.versions/0001.pegloom`, `0001.json`, which tells of it, `0001.png`.

A version is a whole project, so that nothing but `open` is needed should this program be gone. `highest.json` holds the
highest number there ever was: none is used again.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import outgoing
from pegloom.files.plain_json import read_kind
from pegloom.files.project import SUFFIX, open_project

FORMAT, VERSION = "peg loom project version", 1
HIGHEST, COUNT = "highest.json", "peg loom version count"
NUMBERED = re.compile(r"(\d{4,9})\.(?:pegloom|json)")


@dataclass(frozen=True, slots=True)
class Kept:
    """number : from 1. when : ISO 8601, UTC. whole : whether the project is as it was kept. picture : PNG, b"" where
    none was kept."""

    number: int
    path: Path
    note: str
    when: str
    whole: bool
    picture: bytes = b""


def folder_of(project: Path) -> Path:
    """Where a project's versions are."""
    return project.with_name(f"{project.stem}.versions")


def _hash(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _numbers(folder: Path) -> set[int]:
    found = (NUMBERED.fullmatch(p.name) for p in folder.iterdir()) if folder.is_dir() else ()
    return {int(m[1]) for m in found if m is not None}


def versions(project: Path) -> list[Kept]:
    """All versions there are, oldest first. One whose note is missing or unreadable is listed without it, never left out."""
    folder, found = folder_of(project), []
    for number in sorted(_numbers(folder)):
        path = folder / f"{number:04d}{SUFFIX}"
        if not path.is_file():
            continue
        try:
            told = read_kind(path.with_suffix(".json"), FORMAT, VERSION, "a version's note")
            note, when, sha = str(told.get("note", "")), str(told.get("when", "")), str(told.get("sha256", ""))
        except MeshFileError:
            note, when, sha = "", "", ""
        picture, whole = b"", False
        with contextlib.suppress(OSError):
            whole = bool(sha) and _hash(path.read_bytes()) == sha
        with contextlib.suppress(OSError):
            picture = path.with_suffix(".png").read_bytes()
        found.append(Kept(number, path, note, when, whole, picture))
    return found


def _highest(folder: Path) -> int:
    """The highest number there is or was."""
    counted = 0
    with contextlib.suppress(MeshFileError, OSError):
        told = read_kind(folder / HIGHEST, COUNT, VERSION, "a count of versions").get("highest")
        counted = told if type(told) is int and 0 <= told < 10**9 else 0
    return max(counted, *_numbers(folder), 0)


def keep_version(project: Path, note: str = "", picture: bytes = b"") -> Kept:
    """Keep the project as it is saved, with a small picture (PNG) where there is one. Raises MeshFileError where it is no sound project or cannot be written."""
    open_project(project)
    data = project.read_bytes()
    folder = folder_of(project)
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise MeshFileError(folder.name, f"cannot be made ({error.strerror})", hint="free the name, or save the project elsewhere") from error
    number = _highest(folder) + 1
    path, when = folder / f"{number:04d}{SUFFIX}", datetime.now(UTC).isoformat(timespec="seconds")
    told = {"format": FORMAT, "version": VERSION, "number": number, "note": note, "when": when, "sha256": _hash(data)}
    with outgoing() as out:
        # The count comes first: a stop in between leaves a number unused, never one used twice.
        out.put(folder / HIGHEST, json.dumps({"format": COUNT, "version": VERSION, "highest": number}).encode())
        if picture:
            out.put(path.with_suffix(".png"), picture)
        out.put(path, data)
        out.put(path.with_suffix(".json"), json.dumps(told, indent=1).encode())
    return Kept(number, path, note, when, True, picture)


def version(project: Path, number: int) -> Kept:
    """One version by its number. Raises MeshFileError, which says which there are."""
    found = versions(project)
    for one in found:
        if one.number == number:
            return one
    there = ", ".join(str(one.number) for one in found) or "none yet"
    raise MeshFileError(project.name, f"has no version {number}", hint=f"there are: {there}")
