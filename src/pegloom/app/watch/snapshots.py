"""Snapshots of the work before long jobs and imports, written on the job's own thread before it begins."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from pegloom.core.errors import PegLoomError
from pegloom.document.model import Document
from pegloom.files.reports import unforeseen
from pegloom.files.snapshots import keep_snapshot


class Snapshots(QObject):
    """`ready` is called on the UI thread when a job is asked for; what it gives, on the job's thread before its work.

    picture : a small PNG of the view, asked for on the UI thread.
    """

    failed = pyqtSignal(str)
    """failed(text): it could not be kept; told once for each reason. The job goes on."""

    def __init__(self, parent: QObject | None = None, *, folder: Path | None = None, picture: Callable[[], bytes] = lambda: b"") -> None:
        super().__init__(parent)
        self.folder, self.picture = folder, picture
        self.last: Document | None = None
        """What the latest snapshot holds."""
        self.last_failure = ""

    def ready(self, before: str, project: Path | None) -> Callable[[Document], None]:
        """take(document): keep it, unless the latest snapshot holds it already, or it is empty."""
        picture = self.picture()

        def take(document: Document) -> None:
            if document.character is None or document is self.last:
                return
            try:
                keep_snapshot(document, before, project=project, picture=picture, folder=self.folder)
            except PegLoomError as error:
                text = f"No snapshot could be kept before {before}: {error}"
            except Exception as error:  # a snapshot must not get in the way of the work
                text = f"No snapshot could be kept before {before}: {unforeseen(error)}"
            else:
                self.last, self.last_failure = document, ""
                return
            if text.partition(": ")[2] != self.last_failure:
                self.last_failure = text.partition(": ")[2]
                self.failed.emit(text)

        return take
