"""The base of all drags that show a document before it is kept."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.stage.tools import Pointer, far
from pegloom.core.errors import PegLoomError
from pegloom.document.model import Document


class DocumentDrag:
    """Keeps the stored document from the press, shows a draft while moving, commits once on release, drops it on Esc.

    Subclasses say what the document is with the pointer somewhere (`drafted`), and what is kept in the end (`keep`).
    """

    def __init__(self, c: Context, start: tuple[float, float]) -> None:
        self.c, self.start = c, start
        self.base = c.store.history.present
        self.moved: Document | None = None

    def drafted(self, at: Pointer) -> Document:
        """The document with the pointer there. May raise PegLoomError, which is said; the draft before stands then."""
        raise NotImplementedError

    def keep(self, moved: Document) -> None:
        """The end: one step."""
        raise NotImplementedError

    def move(self, at: Pointer) -> None:
        if self.moved is None and not far(at.at, self.start):
            return
        try:
            self.moved = self.drafted(at)
        except PegLoomError as error:
            self.c.say(str(error), error=True)
            return
        self.c.store.draft(self.moved)

    def release(self) -> None:
        if self.moved is not None:
            self.keep(self.moved)

    def cancel(self) -> None:
        self.c.store.drop_draft()
