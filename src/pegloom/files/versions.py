"""Numbered versions of a project, kept beside it: `NAME.versions/0001.pegloom` and `0001.json`, which tells of it.

A version is a whole project, so that nothing but `open` is needed should this program be gone. A number is not used
again while its project or its note is there.
"""

from __future__ import annotations

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
NUMBERED = re.compile(r"(\d{4,9})\.(?:pegloom|json)")


@dataclass(frozen=True, slots=True)
class Kept:
    """number : from 1. when : ISO 8601, UTC. whole : whether the project is as it was kept."""

    number: int
    path: Path
    note: str
    when: str
    whole: bool


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
        found.append(Kept(number, path, note, when, bool(sha) and _hash(path.read_bytes()) == sha))
    return found


def keep_version(project: Path, note: str = "") -> Kept:
    """Keep the project as it is saved. Raises MeshFileError where it is no sound project or cannot be written."""
    open_project(project)
    data = project.read_bytes()
    folder = folder_of(project)
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise MeshFileError(folder.name, f"cannot be made ({error.strerror})", hint="free the name, or save the project elsewhere") from error
    number = max(_numbers(folder), default=0) + 1
    path, when = folder / f"{number:04d}{SUFFIX}", datetime.now(UTC).isoformat(timespec="seconds")
    told = {"format": FORMAT, "version": VERSION, "number": number, "note": note, "when": when, "sha256": _hash(data)}
    with outgoing() as out:
        out.put(path, data)
        out.put(path.with_suffix(".json"), json.dumps(told, indent=1).encode())
    return Kept(number, path, note, when, True)


def version(project: Path, number: int) -> Kept:
    """One version by its number. Raises MeshFileError, which says which there are."""
    found = versions(project)
    for one in found:
        if one.number == number:
            return one
    there = ", ".join(str(one.number) for one in found) or "none yet"
    raise MeshFileError(project.name, f"has no version {number}", hint=f"there are: {there}")
