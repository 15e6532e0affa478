"""Unsaved work: each document has an autosave of its own, and a lock that tells whether its window still lives.

In the user's folder `unsaved` a document called ID has ID.json (its name, its project, where the autosave is, when),
ID.png (a small picture), and ID.lock, held while the window lives and let go by the system when the program ends,
however it ends. The autosave itself is beside the project, or here where there is no project, or where the project's
folder cannot be written.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
import uuid
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs
from filelock import FileLock, Timeout

from pegloom.core.errors import MeshFileError
from pegloom.document.model import Document
from pegloom.files.outgoing import write_bytes
from pegloom.files.project import SUFFIX, save_project

KEPT_DAYS = 30
"""How long unsaved work that nobody wanted is kept."""
MARK = ".autosave"
LARGEST_NOTE = 1 << 16


def usual_folder() -> Path:
    """Where unsaved work is noted."""
    return Path(platformdirs.user_data_dir("pegloom")) / "unsaved"


@dataclass(frozen=True, slots=True)
class LeftOver:
    """Unsaved work no living window owns.

    name : the document's.
    project : it was of, or None.
    when : seconds since 1970.
    refused : whether its recovery was declined before.
    """

    id: str
    file: Path
    name: str
    project: Path | None
    when: float
    picture: bytes = b""
    refused: bool = False


@dataclass
class Keeper:
    """The autosave of one document. Raises MeshFileError from `keep` where neither place can be written."""

    folder: Path = field(default_factory=usual_folder)
    id: str = field(default_factory=lambda: uuid.uuid4().hex)
    lock: FileLock | None = None
    file: Path | None = None
    """Where the last autosave went."""

    def hold(self) -> bool:
        """Take the lock; False where another window has it. What cannot be locked at all counts as held."""
        if self.lock is not None:
            return True
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            lock = FileLock(self.folder / f"{self.id}.lock", thread_local=False)
            lock.acquire(timeout=0)
        except Timeout:
            return False
        except OSError:
            return True
        self.lock = lock
        return True

    def keep(self, document: Document, project: Path | None, picture: bytes = b"") -> Path:
        """Write the autosave, and only then say where it is."""
        self.hold()
        here = self.folder / f"{self.id}{MARK}{SUFFIX}"
        places = [here]
        if project is not None:
            places.insert(0, project.with_name(f".{project.stem[:100]}.{self.id[:8]}{MARK}{SUFFIX}"))
        for number, place in enumerate(places):
            try:
                if place == here:
                    self.folder.mkdir(parents=True, exist_ok=True)
                save_project(place, document)
                break
            except (MeshFileError, OSError) as error:
                if number + 1 == len(places):
                    if isinstance(error, OSError):
                        raise MeshFileError(place.name, f"cannot be written ({error.strerror or error})") from error
                    raise
        old, self.file = self.file, place
        self._note(document.name, project, place, picture)
        if old is not None and old != place:
            with contextlib.suppress(OSError):
                old.unlink(missing_ok=True)
        return place

    def _note(self, name: str, project: Path | None, place: Path, picture: bytes) -> None:
        note = {"name": name, "project": str(project) if project else "", "file": str(place), "when": time.time()}
        self.folder.mkdir(parents=True, exist_ok=True)
        if picture:
            write_bytes(self.folder / f"{self.id}.png", picture)
        write_bytes(self.folder / f"{self.id}.json", json.dumps(note).encode())

    def clear(self) -> None:
        """The work is saved or given up: nothing of it stays."""
        note = _read_note(self.folder / f"{self.id}.json")
        places = [self.file, _file_of(note, self.folder, self.id) if note else None]
        self.file = None
        for place in (*places, self.folder / f"{self.id}.json", self.folder / f"{self.id}.png"):
            if place is not None:
                with contextlib.suppress(OSError):
                    place.unlink(missing_ok=True)

    def let_go(self) -> None:
        """The window goes; what autosave there is stays for the next one."""
        if self.lock is not None:
            self.lock.release()
            self.lock = None
        if not (self.folder / f"{self.id}.json").exists():
            with contextlib.suppress(OSError):
                (self.folder / f"{self.id}.lock").unlink(missing_ok=True)


def left_over(folder: Path | None = None) -> list[LeftOver]:
    """All unsaved work that no living window owns, the latest first. What is older than KEPT_DAYS is taken away."""
    folder = folder or usual_folder()
    found = []
    with contextlib.suppress(OSError):
        for path in sorted(folder.glob("*.json")):
            one = _one(folder, path)
            if one is not None:
                found.append(one)
    return sorted(found, key=lambda one: -one.when)


def of_project(project: Path, folder: Path | None = None) -> LeftOver | None:
    """The latest unsaved work of a project that is newer than the project itself."""
    for one in left_over(folder):
        if one.project is not None and _same(one.project, project):
            with contextlib.suppress(OSError):
                if project.stat().st_mtime > one.when:
                    continue
            return one
    return None


def refuse(one: LeftOver, folder: Path | None = None) -> None:
    """Not wanted now: kept for KEPT_DAYS, but not offered at each start."""
    path = (folder or usual_folder()) / f"{one.id}.json"
    note = _read_note(path)
    if note is not None:
        with contextlib.suppress(OSError, MeshFileError):
            write_bytes(path, json.dumps({**note, "refused": True}).encode())


def taken_over(one: LeftOver, folder: Path | None = None) -> Keeper | None:
    """A keeper that owns it from now on; None where another window was quicker."""
    keeper = Keeper(folder or usual_folder(), one.id, file=one.file)
    return keeper if keeper.hold() else None


def _one(folder: Path, path: Path) -> LeftOver | None:
    note = _read_note(path)
    if note is None or not path.stem.isalnum():
        return None
    file = _file_of(note, folder, path.stem)
    if _is_owned(folder / f"{path.stem}.lock"):
        return None
    noted = note.get("when")
    when = float(noted) if isinstance(noted, (int, float)) else path.stat().st_mtime
    if time.time() - when > KEPT_DAYS * 86_400:
        keeper = Keeper(folder, path.stem, file=file)
        keeper.clear()
        keeper.let_go()
        return None
    if file is None or not file.is_file():  # on a disk that is not there now, perhaps
        return None
    picture = b""
    with contextlib.suppress(OSError):
        picture = (folder / f"{path.stem}.png").read_bytes()
    project = Path(str(note["project"])) if note.get("project") else None
    return LeftOver(
        path.stem, file, str(note.get("name", ""))[:100], project, when, picture, bool(note.get("refused", False))
    )


def _read_note(path: Path) -> dict[str, object] | None:
    try:
        if path.stat().st_size > LARGEST_NOTE:
            return None
        note = json.loads(path.read_bytes())
    except (OSError, ValueError, RecursionError):
        return None
    return note if isinstance(note, dict) else None


def _file_of(note: dict[str, object], folder: Path, own: str) -> Path | None:
    """Where a note says its autosave is, if that can be one of ours: nothing else is ever opened or taken away."""
    noted = note.get("file")
    if not isinstance(noted, str):
        return None
    file = Path(noted)
    ours = file.name == f"{own}{MARK}{SUFFIX}" and file.parent == folder
    beside = file.name.startswith(".") and file.name.endswith(f".{own[:8]}{MARK}{SUFFIX}") and file.is_absolute()
    return file if ours or beside else None


def _is_owned(lock: Path) -> bool:
    if not lock.exists():
        return False
    trial = FileLock(lock, thread_local=False)
    try:
        trial.acquire(timeout=0)
    except Timeout:
        return True
    except OSError:
        return False
    trial.release()
    return False


def _same(a: Path, b: Path) -> bool:
    return os.path.realpath(a) == os.path.realpath(b)


def when_told(seconds: float) -> str:
    """A moment for a person: today's by the hour, others with their day."""
    moment = time.localtime(seconds)
    today = time.strftime("%Y-%m-%d", moment) == time.strftime("%Y-%m-%d")
    return time.strftime("today %H:%M" if today else "%A %d %B, %H:%M", moment)
