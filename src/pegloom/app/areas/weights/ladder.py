"""The ladder: the user's own fixed values for the brush, as rungs between two rails."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from pegloom.app.context import Context
from pegloom.app.dialogs.question import ask_share
from pegloom.app.state.kept import MOST_RUNGS, keep_ladder
from pegloom.app.state.state import BrushSettings
from pegloom.app.theme import current
from pegloom.app.widgets import button

RAILS = 5, 17
"""Heights of the rails, in pixels; the labels stand under them."""
SAME = 5e-4
"""Values nearer than this are one rung."""


class Ladder(QWidget):
    """A press takes a rung's value, a right press changes or removes it, the plus adds one."""

    def __init__(self, c: Context) -> None:
        super().__init__()
        self.c = c
        self.values: tuple[float, ...] = ()
        self.rungs: list[QPushButton] = []
        self.line = QHBoxLayout(self)
        self.line.setContentsMargins(0, 0, 0, 0)
        self.line.setSpacing(0)
        self.more = button("+", "weights.ladder.add", self._add, role="plain", tip="Another rung: a value of your own")
        self.more.setAccessibleName("Add a rung to the ladder")
        self.line.addWidget(self.more)
        self.setFixedHeight(40)

    def show_values(self, values: tuple[float, ...], taken: float) -> None:
        """The rungs, and which of them is taken."""
        if values != self.values:
            self.values = values
            for rung in self.rungs:
                rung.hide()
                rung.deleteLater()
            self.rungs = [self._rung(value) for value in values]
            self.more.setVisible(len(values) < MOST_RUNGS)
        for rung, value in zip(self.rungs, values, strict=True):
            rung.setChecked(abs(value - taken) < SAME)
        self.update()

    def _rung(self, value: float) -> QPushButton:
        rung = QPushButton(f"{value:g}")
        rung.setObjectName(f"weights.ladder.{value:g}")
        rung.setAccessibleName(f"Value {value:g}")
        rung.setToolTip("Take this value; right-click to change or remove it")
        rung.setProperty("role", "rung")
        rung.setCheckable(True)
        rung.clicked.connect(partial(self._take, value))
        rung.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        rung.customContextMenuRequested.connect(partial(self._menu, value, rung))
        self.line.insertWidget(self.line.count() - 1, rung, 1)
        return rung

    def _take(self, value: float) -> None:
        self.c.store.put_setting(BrushSettings, value=value)
        self.show_values(self.values, self.c.state.brush.value)

    def _menu(self, value: float, rung: QPushButton, at: QPoint) -> None:
        menu = QMenu(rung)
        menu.setObjectName("weights.ladder.menu")
        menu.addAction("Another value…", partial(self._change, value))
        if len(self.values) > 1:
            menu.addAction("Remove this rung", partial(self.put, tuple(v for v in self.values if v != value)))
        menu.popup(rung.mapToGlobal(at))

    def _asked(self, now: float) -> float | None:
        return ask_share("A rung of the ladder: the value the brush takes, 0 to 1", now, self)

    def _change(self, value: float) -> None:
        other = self._asked(value)
        if other is not None:
            self.put((*(v for v in self.values if v != value), other))

    def _add(self) -> None:
        value = self._asked(self.c.state.brush.value)
        if value is not None:
            self.put((*self.values, value))

    def put(self, values: tuple[float, ...]) -> None:
        """Other rungs, kept for the next time; those that are one are one."""
        found: list[float] = []
        for value in sorted(values):
            if not found or value - found[-1] >= SAME:
                found.append(value)
        keep_ladder(tuple(found))
        self.c.store.put(ladder=tuple(found))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        theme, painter = current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        right = self.more.x() - 2 if self.more.isVisible() else self.width()
        top, bottom = RAILS
        painter.setPen(QPen(QColor(theme.soft), 1.4))
        for y in RAILS:
            painter.drawLine(2, y, right, y)
        for rung in self.rungs:
            x = rung.x() + rung.width() // 2
            taken = rung.isChecked()
            painter.setPen(QPen(QColor(theme.woad if taken else theme.soft), 4.0 if taken else 2.0))
            painter.drawLine(x, top, x, bottom)
