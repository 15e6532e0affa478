"""A sheet of rows with pictures: one is picked, and something is done with it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QImage, QPixmap
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.widgets import button, label

WIDE = 400
"""Pixels from which pictures are shown large: they are there to be compared."""
Row = tuple[str, bytes]
"""Lines of text, and a PNG; b"" for none."""


def pictured(picture: bytes) -> QIcon:
    """An icon of a small PNG; an empty one where there is none."""
    pixmap, icon = QPixmap(), QIcon()
    if pixmap.loadFromData(picture, "PNG"):
        icon = QIcon(pixmap)
        # Qt would tint the picked one's picture.
        icon.addPixmap(pixmap, QIcon.Mode.Selected)
    return icon


class PicturedSheet(QDialog):
    """`chosen`: the number of the row, -1 for none; `way`: which of the ways was taken."""

    def __init__(self, name: str, title: str, words: str, rows: list[Row], ways: list[str], no: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName(name)
        self.setWindowTitle(title)
        self.way = 0
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 18, 22, 18)
        column.setSpacing(9)
        column.addWidget(label(title, "area"))
        if words:
            column.addWidget(label(words, "soft", wrap=True))
        self.list = QListWidget()
        self.list.setObjectName(f"{name}.list")
        self.list.setAccessibleName(title)
        wide = any(QPixmap.fromImage(QImage.fromData(picture)).width() > WIDE for _, picture in rows if picture)
        self.list.setIconSize(QSize(240, 187) if wide else QSize(96, 72))
        self.resize(560, min(190 + (207 if wide else 92) * len(rows), 640))
        self.list.setSpacing(2)
        for text, picture in rows:
            item = QListWidgetItem(text)
            item.setIcon(pictured(picture))
            item.setSizeHint(QSize(0, 199 if wide and picture else 84))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.itemDoubleClicked.connect(lambda _: self._take(0))
        column.addWidget(self.list, 1)
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(button(no, f"{name}.later", self.reject))
        # The first way stands at the right, where Return takes it.
        for number, way in reversed(list(enumerate(ways))):
            one = button(way, f"{name}.open" if number == 0 else f"{name}.way{number}", partial(self._take, number), role="" if number else "main")
            one.setDefault(number == 0)
            line.addWidget(one)
        column.addLayout(line)
        self.list.setFocus(Qt.FocusReason.OtherFocusReason)

    def _take(self, way: int, *_: object) -> None:
        self.way = way
        self.accept()

    @property
    def chosen(self) -> int:
        return self.list.currentRow() if self.result() == QDialog.DialogCode.Accepted else -1
