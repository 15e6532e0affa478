"""What all benches share."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, label


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
        note = label(self.line, "caption")
        note.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom)
        head.addWidget(note)
        self.column.addLayout(head)
        self.build()
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

    def build(self) -> None:
        raise NotImplementedError

    def show_document(self) -> None:
        raise NotImplementedError
