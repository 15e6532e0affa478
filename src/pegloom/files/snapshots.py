"""Snapshots: the work as it stood before a long job or an import, in the user's own folder `snapshots`.

One called STAMP-ID is STAMP-ID.pegloom, a whole project, STAMP-ID.json, which tells of it, and STAMP-ID.png, a small
picture. The oldest go when there are more than MOST, or more than LARGEST bytes.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import time
import uuid
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from pegloom.core.errors import MeshFileError
from pegloom.document.model import Document
from pegloom.files.outgoing import outgoing
from pegloom.files.plain_json import read_kind
from pegloom.files.project import SUFFIX, save_project

FORMAT, VERSION = "peg loom snapshot", 1
MOST, LARGEST = 24, 1 << 30
NAMED = re.compile(r"\d{13}-[0-9a-f]{8}")


@dataclass(frozen=True, slots=True)
class Snapshot:
    """name : of the document. before : what came next. when : seconds since 1970. whole : whether it is as it was kept."""

    path: Path
    name: str
    project: Path | None
    before: str
    when: float
    picture: bytes = b""
    whole: bool = True


def usual_folder() -> Path:
    """Where snapshots are."""
    return Path(platformdirs.user_data_dir("pegloom")) / "snapshots"


def keep_snapshot(document: Document, before: str, *, project: Path | None = None, picture: bytes = b"", folder: Path | None = None) -> Path:
    """Keep the work as it stands. Raises MeshFileError where the folder cannot be written."""
    folder = folder or usual_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MeshFileError(folder.name, f"cannot be made ({error.strerror or error})") from error
    now = time.time()
    path = folder / f"{int(now * 1000):013d}-{uuid.uuid4().hex[:8]}{SUFFIX}"
    save_project(path, document)
    note = {
        "format": FORMAT, "version": VERSION, "name": document.name, "project": str(project.resolve()) if project else "",
        "before": before[:200], "when": now, "sha256": hashlib.sha256(path.read_bytes()).hexdigest(),
    }  # fmt: skip
    with outgoing() as out:
        if picture:
            out.put(path.with_suffix(".png"), picture)
        out.put(path.with_suffix(".json"), json.dumps(note, indent=1).encode())
    _let_go(folder)
    return path


def snapshots(project: Path | None = None, folder: Path | None = None) -> list[Snapshot]:
    """Those there are, the latest first; of one project where it is given. One without a readable note is listed all the same,
    where all are asked for."""
    folder, found = folder or usual_folder(), []
    for path in _there(folder)[::-1]:
        try:
            told = read_kind(path.with_suffix(".json"), FORMAT, VERSION, "a snapshot's note")
            name, before, sha = (str(told.get(k, "")) for k in ("name", "before", "sha256"))
            of = Path(str(told["project"])) if told.get("project") else None
        except MeshFileError:
            name, before, sha, of = "", "", "", None
        if project is not None and (of is None or os.path.realpath(of) != os.path.realpath(project)):
            continue
        picture, whole = b"", False
        with contextlib.suppress(OSError):
            whole = bool(sha) and hashlib.sha256(path.read_bytes()).hexdigest() == sha
        with contextlib.suppress(OSError):
            picture = path.with_suffix(".png").read_bytes()
        found.append(Snapshot(path, name, of, before, int(path.name[:13]) / 1000, picture, whole))
    return found


def _there(folder: Path) -> list[Path]:
    """Snapshots by age, the oldest first."""
    return sorted(p for p in folder.glob(f"*{SUFFIX}") if NAMED.fullmatch(p.stem)) if folder.is_dir() else []


def _let_go(folder: Path) -> None:
    """The oldest away, until those left are few and small enough; the newest stays whatever it takes."""
    there, size = _there(folder), 0
    for number, path in enumerate(there[::-1]):
        with contextlib.suppress(OSError):
            size += path.stat().st_size
        if number and (number >= MOST or size > LARGEST):
            for one in (path.with_suffix(".json"), path.with_suffix(".png"), path):
                with contextlib.suppress(OSError):
                    one.unlink(missing_ok=True)
