"""An edit that takes a while, shown as its numbers change: sketched on a thread and drawn as it comes, worked out once they rest,
and then one step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, QTimer

from pegloom.app.jobs import Background, Order
from pegloom.app.state.store import Store
from pegloom.core.errors import PegLoomError
from pegloom.document.model import Document
from pegloom.files.reports import unforeseen

RESTS = 400
"""Milliseconds without another change after which it is worked out."""
Made = Callable[[Document], tuple[Document, Any]]


@dataclass(frozen=True)
class Live:
    """name : of the step. sketch : what is drawn meanwhile; whole : what becomes the step. Both give a document and what came
    besides. about : for who shows its numbers. base : the document they begin with."""

    name: str
    sketch: Made
    whole: Made
    about: object
    base: Document


class LiveEdit(QObject):
    """failed(words) is told what is wrong."""

    def __init__(self, store: Store, background: Background, failed: Callable[[str], None], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.store, self.background, self.failed = store, background, failed
        self.now: Live | None = None
        self.waiting: list[Callable[[], None]] = []
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(RESTS)
        self.timer.timeout.connect(self.rest)

    @property
    def about(self) -> object:
        """What the edit under way is about; None where there is none."""
        return self.now.about if self.now is not None else None

    @property
    def busy(self) -> bool:
        """Whether something is drawn that is no step yet."""
        return self.now is not None

    def put(self, name: str, sketch: Made, whole: Made, about: object) -> None:
        """Draw an edit of the stored document, in place of the one before."""
        one = self.now = Live(name, sketch, whole, about, self.store.history.present)
        self.timer.start()
        self.background.put(Order.LIVE, lambda: one.sketch(one.base), lambda result: self._drawn(one, result))

    def rest(self) -> None:
        """Work out what is drawn, at once."""
        one = self.now
        self.timer.stop()
        if one is not None:
            self.background.put(Order.LIVE, lambda: one.whole(one.base), lambda result: self._landed(one, result))

    def after(self, do: Callable[[], None]) -> None:
        """Do something once nothing is under way: at once, or after what is drawn has become a step."""
        if self.now is None:
            do()
            return
        self.waiting.append(do)
        self.rest()

    def _drawn(self, one: Live, result: Any) -> None:
        if self._sound(one, result) and self.now is not None:
            if not self.store.state.dragging:
                # Who watches the document waits, as while something is dragged.
                self.store.put(dragging=True)
            self.store.draft(result[0])

    def _landed(self, one: Live, result: Any) -> None:
        # What was changed meanwhile is worked out when that rests.
        if one is not self.now or not self._sound(one, result):
            return
        self.now = None
        self.store.put(dragging=False)
        self.store.commit(one.name, result[0])
        self._go_on()

    def _sound(self, one: Live, result: Any) -> bool:
        if self.store.history.present is not one.base:
            self._forget(one)
            return False
        if isinstance(result, BaseException):
            if one is self.now:
                self._forget(one)
                self.store.drop_draft()
                self.failed(str(result) if isinstance(result, PegLoomError) else f"{one.name}: {unforeseen(result)}")
            return False
        return True

    def _forget(self, one: Live) -> None:
        if one is self.now:
            self.now = None
            self.timer.stop()
            self.store.put(dragging=False)
            self._go_on()

    def _go_on(self) -> None:
        waiting, self.waiting = self.waiting, []
        for do in waiting:
            do()
