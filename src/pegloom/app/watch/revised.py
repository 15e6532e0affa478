"""The file a character's meshes or motion come from: watched, so that a new state of it can be taken in by one press."""

from __future__ import annotations

import contextlib
from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, QTimer, pyqtSignal

SETTLES = 600
"""Milliseconds a file must have stayed as it is before it counts as written."""

Stamp = tuple[int, int]


class RevisedFile(QObject):
    """`path` is watched, None for no file; `fresh` is whether it has changed since it was taken in. Nothing of it is read here."""

    changed = pyqtSignal()
    """changed(): it is fresh now, or another file is watched."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.path: Path | None = None
        self.fresh = False
        self._taken: Stamp | None = None
        self._seen: Stamp | None = None
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(lambda _: self._timer.start())
        self._watcher.directoryChanged.connect(lambda _: self._timer.start())
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(SETTLES)
        self._timer.timeout.connect(self._look)

    def follow(self, path: Path | None) -> None:
        """Watch a file as it is now; None: none."""
        old = [*self._watcher.files(), *self._watcher.directories()]
        if old:
            self._watcher.removePaths(old)
        self.path, self.fresh = path, False
        self._taken = self._seen = _stamp(path)
        self._add()
        self.changed.emit()

    def _add(self) -> None:
        # The folder too: most programs write a new file and move it to the old one's place.
        if self.path is not None:
            wanted = [str(p) for p in (self.path, self.path.parent) if p.exists()]
            if wanted:
                self._watcher.addPaths(wanted)

    def _look(self) -> None:
        now = _stamp(self.path)
        if now is None or now == self._taken:
            return
        if now != self._seen:  # it is still being written
            self._seen = now
            self._timer.start()
            return
        self._add()
        if not self.fresh:
            self.fresh = True
            self.changed.emit()


def _stamp(path: Path | None) -> Stamp | None:
    if path is not None:
        with contextlib.suppress(OSError):
            status = path.stat()
            return status.st_mtime_ns, status.st_size
    return None
