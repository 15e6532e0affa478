"""Autosave: unsaved work is written once a minute, on a thread, into a file of this document's own."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pegloom.app.state.store import Store
from pegloom.core.errors import PegLoomError
from pegloom.document.model import Document
from pegloom.files.leftovers import Keeper, usual_folder
from pegloom.files.reports import unforeseen

EVERY = 60_000
"""Milliseconds between autosaves."""
AGAIN = 10_000
"""Milliseconds until one that failed is tried again."""


class Autosave(QObject):
    """Watches the stored document. `clear` takes the file away when the work is saved or given up.

    picture : a small PNG of the view, asked for on the UI thread.
    """

    failed = pyqtSignal(str)
    """failed(text): the work could not be kept; told once for each reason, and tried again."""
    kept = pyqtSignal()

    def __init__(
        self, store: Store, *, folder: Path | None = None, picture: Callable[[], bytes] = lambda: b""
    ) -> None:
        super().__init__(store)
        self.store, self.folder, self.picture = store, folder or usual_folder(), picture
        self.keeper = Keeper(self.folder)
        self.last: Document | None = None
        self.last_failure = ""
        self.writer: threading.Thread | None = None
        self.timer = QTimer(self)
        self.timer.setInterval(EVERY)
        self.timer.timeout.connect(self.save)
        self.timer.start()
        self.failed.connect(lambda _: self.timer.start(AGAIN))
        self.kept.connect(lambda: self.timer.start(EVERY) if self.timer.interval() != EVERY else None)

    @property
    def file(self) -> Path | None:
        """Where the present document's autosave is; None where none was needed yet."""
        return self.keeper.file

    def save(self) -> None:
        """Write unsaved work on a thread; nothing when nothing changed or a write is under way."""
        document = self.store.history.present
        busy = self.writer is not None and self.writer.is_alive()
        if document.character is None or document is self.store.state.saved or document is self.last or busy:
            return
        keeper, project, picture = self.keeper, self.store.state.path, self.picture()
        self.writer = threading.Thread(target=self._write, args=(keeper, document, project, picture), daemon=True)
        self.writer.start()

    def _write(self, keeper: Keeper, document: Document, project: Path | None, picture: bytes) -> None:
        try:
            keeper.keep(document, project, picture)
        except PegLoomError as error:
            text = f"Unsaved work could not be kept: {error}"
        except Exception as error:  # an autosave must not get in the way of the work
            text = f"Unsaved work could not be kept: {unforeseen(error)}"
        else:
            # It counts as kept only now that it is on the disk.
            self.last, self.last_failure = document, ""
            self.kept.emit()
            return
        if text != self.last_failure:
            self.last_failure = text
        self.failed.emit(text)

    def wait(self) -> None:
        """Until a write under way is done."""
        if self.writer is not None:
            self.writer.join(60)

    def clear(self) -> None:
        """Take this document's autosave away."""
        self.wait()
        self.keeper.clear()
        self.last = None

    def new_document(self, keeper: Keeper | None = None) -> None:
        """Another document is in hand from now on; keeper: of one that was recovered."""
        self.wait()
        self.keeper.let_go()
        self.keeper = keeper or Keeper(self.folder)
        self.last = None

    def stop(self) -> None:
        """The window closes: its work is saved or given up."""
        self.timer.stop()
        self.clear()
        self.keeper.let_go()
