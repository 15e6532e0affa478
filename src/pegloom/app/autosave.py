"""Autosave: unsaved work goes beside the project (or into the user's data folder) once a minute; offered after a crash."""

from __future__ import annotations

import contextlib
import threading
from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, QTimer

from pegloom.app.session import Session
from pegloom.core.errors import PegLoomError
from pegloom.document.model import Document
from pegloom.files.project import SUFFIX, save_project

EVERY = 60_000
"""Milliseconds between autosaves."""


def autosave_file(project: Path | None, *, folder: Path | None = None) -> Path:
    """Where the unsaved work of a project goes; of one never saved, the user's data folder."""
    if project is not None:
        return project.with_name(f"{project.stem}.autosave{SUFFIX}")
    home = folder or Path(platformdirs.user_data_dir("pegloom"))
    return home / f"unsaved.autosave{SUFFIX}"


class Autosave(QObject):
    """Watches a session. `clear` takes the file away when the work is saved or given up."""

    def __init__(self, session: Session, *, folder: Path | None = None) -> None:
        super().__init__(session)
        self.session, self.folder = session, folder
        self.last: Document | None = None
        self.writer: threading.Thread | None = None
        self.timer = QTimer(self)
        self.timer.setInterval(EVERY)
        self.timer.timeout.connect(self.save)
        self.timer.start()

    @property
    def file(self) -> Path:
        return autosave_file(self.session.path, folder=self.folder)

    def save(self) -> None:
        """Write unsaved work on a thread; nothing when nothing changed or a write is under way."""
        document = self.session.history.present
        busy = self.writer is not None and self.writer.is_alive()
        if document.character is None or document is self.session.saved or document is self.last or busy:
            return
        self.last = document
        self.writer = threading.Thread(target=_write, args=(self.file, document), daemon=True)
        self.writer.start()

    def wait(self) -> None:
        """Until a write under way is done."""
        if self.writer is not None:
            self.writer.join(10)

    def clear(self) -> None:
        """Take this session's autosave away."""
        self.wait()
        self.file.unlink(missing_ok=True)

    def left_over(self, project: Path | None) -> Path | None:
        """An autosave a crash left behind: newer than its project."""
        file = autosave_file(project, folder=self.folder)
        if not file.is_file():
            return None
        if project is not None and project.is_file() and project.stat().st_mtime > file.stat().st_mtime:
            return None
        return file


def _write(file: Path, document: Document) -> None:
    # An autosave that cannot be written must not get in the way of the work.
    with contextlib.suppress(PegLoomError, OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        save_project(file, document)
