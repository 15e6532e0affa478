"""What all benches share."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from pegloom.app.actions import Actions
from pegloom.app.quality import QualityWatch
from pegloom.app.session import Session
from pegloom.app.widgets import Card, button, label
from pegloom.checks import Severity


class Bench(QScrollArea):
    """A column of cards. Subclasses fill it in `build` and keep it current in `show_document`."""

    title = ""
    line = ""

    def __init__(self, session: Session, actions: Actions, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session, self.actions = session, actions
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        self.column = QVBoxLayout(inner)
        self.column.setContentsMargins(8, 10, 8, 10)
        self.column.setSpacing(8)
        head = QHBoxLayout()
        head.addWidget(label(self.title, "area"))
        head.addStretch(1)
        self.note = label(self.line, "caption")
        self.note.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom)
        head.addWidget(self.note)
        self.doubts = button("0 snags", f"{self.title.lower()}.doubts", self.show_snags, role="doubts")
        self.doubts.setToolTip("Go to them, below in this bench")
        self.doubts.hide()
        head.addWidget(self.doubts)
        self.column.addLayout(head)
        self.snags: Card | None = None
        self.build()
        session.snag_watch.changed.connect(self._count)
        self.column.addStretch(1)
        self.setWidget(inner)
        for signal in (session.changed, session.selection_changed, session.view_changed):
            signal.connect(lambda *_: self.refresh())

    def card(self, title: str, name: str, sentence: str = "", *, is_open: bool = True) -> Card:
        made = Card(title, name, sentence=sentence, is_open=is_open)
        self.column.addWidget(made)
        return made

    def refresh(self) -> None:
        if self.isVisible():
            self.show_document()

    def showEvent(self, event: object) -> None:
        self.show_document()
        super().showEvent(event)

    def _count(self) -> None:
        """The head says how many snags the area has, and leads to them."""
        found = [s for s in self.session.snag_watch.snags if s.severity is not Severity.NOTE]
        mine = sum(s.area == self.title.lower() for s in found)
        shown = mine > 0 and self.snags is not None
        self.doubts.setText("1 snag" if mine == 1 else f"{mine} snags")
        self.doubts.setAccessibleName(f"{self.doubts.text()}: go to the list")
        self.doubts.setVisible(shown)
        self.note.setVisible(not shown)

    def show_snags(self) -> None:
        """Unfold the card that lists the snags and bring it into sight."""
        if self.snags is None:
            return
        self.snags.set_open(True)
        inner = self.widget()
        assert inner is not None
        self.column.activate()
        inner.adjustSize()
        self.ensureWidgetVisible(self.snags.content, 0, 12)
        self.ensureWidgetVisible(self.snags.head, 0, 12)

    def follow(self, watch: QualityWatch) -> None:
        """Show what the quality graph's figures say, where a bench does."""

    def build(self) -> None:
        raise NotImplementedError

    def show_document(self) -> None:
        raise NotImplementedError
