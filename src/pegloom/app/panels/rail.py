"""The rail: a thread with a peg for each work area, hollow, half or full."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets.panel import Panel
from pegloom.checks import Severity

STEP, FIRST = 78, 34


class Rail(Panel):
    chosen = pyqtSignal(str)
    """An area was pressed."""
    doubted = pyqtSignal(str)
    """The count of an area's snags was pressed."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("rail")
        self.setAccessibleName("Work areas")
        self.setFixedWidth(64)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.counts: dict[str, int] = {}
        self.fullness: dict[str, float] = {}

    @property
    def areas(self) -> list[str]:
        return [spec.id for spec in self.c.areas]

    def key(self, state: State) -> tuple[object, ...]:
        # As stored: what a drag shows meanwhile fills no peg.
        one = state.stored.character
        pieces = () if one is None else (one.parts, one.standing, one.pegs, one.skeleton, one.skin, one.rig, one.clips)
        return (state.area, state.snags, pieces)

    def show_state(self, state: State) -> None:
        one = state.stored.character
        self.fullness = {spec.id: spec.fullness(one) if one is not None else 0.0 for spec in self.c.areas}
        self.counts = {}
        for snag in state.snags:
            if snag.severity is not Severity.NOTE:
                self.counts[snag.area] = self.counts.get(snag.area, 0) + 1
        self.update()

    def centre(self, area: str) -> QPointF:
        """Middle of an area's peg."""
        return QPointF(32, FIRST + STEP * self.areas.index(area))

    def badge(self, area: str) -> QPointF:
        """Middle of the count of an area's snags."""
        return self.centre(area) + QPointF(15, -12)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(current().line), 2))
        last = self.centre(self.areas[-1])
        painter.drawLine(QPointF(32, 12), QPointF(32, last.y() + 46))
        small = QFont("Figtree")
        small.setPixelSize(12)
        for spec in self.c.areas:
            at = self.centre(spec.id)
            active = spec.id == self.c.state.area
            full = self.fullness.get(spec.id, 0.0)
            if active:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(current().raised))
                painter.drawRoundedRect(QRectF(4, at.y() - 24, 56, 66), 8, 8)
            colour = QColor(current().woad if active or full else current().faint)
            painter.setPen(QPen(colour, 2))
            painter.setBrush(QColor(current().panel))
            painter.drawEllipse(at, 11, 11)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            if full >= 1:
                painter.drawEllipse(at, 6.5, 6.5)
            elif full > 0:
                painter.drawPie(QRectF(at.x() - 6.5, at.y() - 6.5, 13, 13), 180 * 16, 180 * 16)
            count = self.counts.get(spec.id, 0)
            if count:
                painter.setBrush(QColor(current().madder))
                painter.drawEllipse(self.badge(spec.id), 8, 8)
                painter.setPen(QColor("#14171F"))
                tiny = QFont("Figtree")
                tiny.setPixelSize(11)
                tiny.setBold(True)
                painter.setFont(tiny)
                box = QRectF(at.x() + 7, at.y() - 20, 16, 16)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(min(count, 99)))
            small.setBold(active)
            painter.setFont(small)
            painter.setPen(QColor(current().text if active else current().soft))
            painter.drawText(QRectF(0, at.y() + 16, 64, 18), Qt.AlignmentFlag.AlignCenter, spec.title)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        for area in self.areas:
            off = event.position() - self.badge(area)
            if self.counts.get(area) and max(abs(off.x()), abs(off.y())) <= 11:
                self.doubted.emit(area)
                return
        for area in self.areas:
            if abs(event.position().y() - self.centre(area).y() - 8) < STEP / 2:
                self.chosen.emit(area)
                return

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        areas = self.areas
        self.chosen.emit(areas[(areas.index(self.c.state.area) + step) % len(areas)])
