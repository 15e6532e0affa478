"""What the rows of keys and the curves share: a box over keys, and Del for those that are picked."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen

from pegloom.app.areas.motion.keying import drop, pick, picked_keys
from pegloom.app.context import Context
from pegloom.app.panels.lanes import TimeWidget
from pegloom.app.theme import current
from pegloom.document.edits import KeyAt

DELETES = (Qt.Key.Key_Delete, Qt.Key.Key_Backspace)
LEAST = 4.0
"""Pixels a box is across at least; a smaller one was a click."""


class KeyWidget(TimeWidget):
    """Subclasses say which keys lie in a box."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setMouseTracking(True)
        self.box: tuple[QPointF, QPointF] | None = None

    def inside(self, area: QRectF) -> list[KeyAt]:
        raise NotImplementedError

    def draw_box(self, painter: QPainter) -> None:
        if self.box is not None:
            painter.setPen(QPen(QColor(current().woad), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(*self.box).normalized())

    def box_let_go(self, event: QMouseEvent) -> bool:
        """Keys in the box are picked; a click on nothing lets all go and goes to its time. True where there was a box."""
        if self.box is None:
            return False
        a, b = self.box
        self.box = None
        area = QRectF(a, b).normalized()
        add = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if max(area.width(), area.height()) >= LEAST:
            pick(self.c, self.inside(area), add=add)
        else:
            if not add:
                pick(self.c, ())
            self.scrub(a.x())
        self.update()
        return True

    def event(self, event: QEvent | None) -> bool:
        """Del is for the picked keys while this has the focus, not for what is picked in the view."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride and event.key() in DELETES and picked_keys(self.c.state):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in DELETES and picked_keys(self.c.state):
            drop(self.c)
            return
        super().keyPressEvent(event)
