"""Splitters whose sizes are the user's and are there again the next time."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QSplitter, QWidget

from pegloom.app.state.kept import keep_layout, read_layout

SETTLED = 400
"""Milliseconds after the last move of a handle that the sizes are kept."""


class Split(QSplitter):
    """A splitter called `name`, whose `grows`th widget takes what room there is."""

    def __init__(self, name: str, way: Qt.Orientation, *widgets: QWidget, sizes: list[int], grows: int) -> None:
        super().__init__(way)
        self.setObjectName(name)
        self.setHandleWidth(3)
        self.setChildrenCollapsible(False)
        for k, widget in enumerate(widgets):
            self.addWidget(widget)
            self.setStretchFactor(k, int(k == grows))
        kept = read_layout().get(name, [])
        self.setSizes(kept if len(kept) == len(widgets) else sizes)
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(SETTLED)
        self.timer.timeout.connect(lambda: keep_layout(name, self.sizes()))
        self.splitterMoved.connect(lambda *_: self.timer.start())
