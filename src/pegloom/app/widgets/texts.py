"""Words."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy

LEAST_NOTE = 60
"""Pixels a note keeps, however little room there is."""


class Note(QLabel):
    """One line at the end of a head: where the room ends it ends in an ellipsis, and the rest is in its tool tip."""

    def __init__(self) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setProperty("role", "caption")
        self.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def minimumSizeHint(self) -> QSize:
        return QSize(min(super().minimumSizeHint().width(), LEAST_NOTE), super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        room = self.contentsRect()
        if self.fontMetrics().horizontalAdvance(self.text()) <= room.width():
            self.setToolTip("")
            super().paintEvent(event)
            return
        self.setToolTip(tip(self.text()))
        shown = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room.width())
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(room, self.alignment(), shown)


def label(text: str = "", role: str = "", *, wrap: bool = False, name: str = "") -> QLabel:
    text_label = QLabel()
    # Names come from files: one that looks like markup must not load what it names.
    text_label.setTextFormat(Qt.TextFormat.PlainText)
    text_label.setText(text)
    if role:
        text_label.setProperty("role", role)
    text_label.setWordWrap(wrap)
    if name:
        text_label.setObjectName(name)
    if wrap:
        text_label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
    return text_label


def tip(text: str) -> str:
    """Text for a tool tip that holds a name, shown as it is even where it looks like markup."""
    return f"<qt>{escape(text)}</qt>" if "<" in text else text
