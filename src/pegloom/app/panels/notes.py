"""A note for a while, with the way out where there is one."""

from __future__ import annotations

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.theme import INK
from pegloom.app.widgets import button, label

WIDEST = 520


class Note(QFrame):
    changed = pyqtSignal()
    """It shows something else, or nothing."""

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(parent)
        self.c, self.offered = c, ""
        self.setObjectName("note")
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        self.words = label(name="note.words")
        self.words.setWordWrap(True)
        line.addWidget(self.words, 1)
        self.offer = button("", "note.offer", self._take)
        line.addWidget(self.offer)
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.timeout.connect(self.hide)
        self.hide()
        c.said.connect(self.say)

    def text(self) -> str:
        """What it says."""
        return self.words.text()

    def say(self, text: str, is_error: bool, offer: str) -> None:
        """Say something; offer: id of an action that would help."""
        self.words.setText(text)
        self.offered = offer
        action = self.c.actions.entries.get(offer)
        self.offer.setVisible(action is not None)
        if action is not None:
            self.offer.setText(action.title)
            self.offer.setAccessibleName(action.title)
        self.setStyleSheet(f"#note {{ border-color: {INK.madder if is_error else INK.line}; }}")
        room = self.offer.sizeHint().width() + 10 if action is not None else 0
        self.setFixedWidth(min(self.words.fontMetrics().horizontalAdvance(text) + 30 + room, WIDEST))
        self.adjustSize()
        self.show()
        self.raise_()
        self.changed.emit()
        self.timer.start(9000 if is_error else 4500)

    def _take(self) -> None:
        self.hide()
        self.c.actions.run(self.offered)
