"""The rail: a thread with six pegs, hollow, half or full."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from pegloom.app.session import Area, Session
from pegloom.app.theme import current
from pegloom.checks import Severity

STEP, FIRST = 78, 34


class Rail(QWidget):
    chosen = pyqtSignal(object)
    """An area was pressed."""
    doubted = pyqtSignal(object)
    """The count of an area's snags was pressed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setAccessibleName("Work areas")
        self.setFixedWidth(64)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self.counts: dict[Area, int] = {}
        self.seen: tuple[object, ...] | None = None
        self.fullness: dict[Area, float] = {}
        session.changed.connect(lambda *_: self._look())
        session.view_changed.connect(self.update)
        session.snag_watch.changed.connect(self._count)

    def _look(self) -> None:
        if not self.session.drag_free or self.session.playing:
            return
        character = self.session.history.present.character
        c = character
        key = None if c is None else (c.parts, c.standing, c.pegs, c.skeleton, c.skin, c.rig, c.clips)
        if key is not None and self.seen is not None and all(a is b for a, b in zip(key, self.seen, strict=True)):
            return
        self.seen = key
        self.fullness = dict.fromkeys(Area, 0.0)
        if character is not None:
            f = self.fullness
            f[Area.MESH] = 1.0 if character.standing else 0.5
            f[Area.JOINTS] = 1.0 if character.skeleton else (0.5 if character.pegs else 0.0)
            bound = character.skin is not None and all(p.id in character.skin.weights for p in character.included)
            f[Area.WEIGHTS] = 1.0 if bound else (0.5 if character.skin else 0.0)
            f[Area.CONTROLS] = 1.0 if character.rig else 0.0
            f[Area.MOTION] = (
                1.0 if any(c.curves or c.tracks for c in character.clips) else (0.5 if character.clips else 0)
            )
            f[Area.HANDOVER] = 0.5 if character.skin else 0.0
        self._count()

    def _count(self) -> None:
        """How many snags each area has."""
        self.counts = {}
        for snag in self.session.snag_watch.snags:
            if snag.severity is not Severity.NOTE:
                area = Area[snag.area.upper()]
                self.counts[area] = self.counts.get(area, 0) + 1
        self.update()

    def centre(self, area: Area) -> QPointF:
        """Middle of an area's peg."""
        return QPointF(32, FIRST + STEP * list(Area).index(area))

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(current().line), 2))
        last = self.centre(Area.HANDOVER)
        painter.drawLine(QPointF(32, 12), QPointF(32, last.y() + 46))
        small = QFont("Figtree")
        small.setPixelSize(12)
        for area in Area:
            c = self.centre(area)
            active = area is self.session.area
            if active:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(current().raised))
                painter.drawRoundedRect(QRectF(4, c.y() - 24, 56, 66), 8, 8)
            colour = QColor(current().woad if active or self.fullness.get(area) else current().faint)
            painter.setPen(QPen(colour, 2))
            painter.setBrush(QColor(current().panel))
            painter.drawEllipse(c, 11, 11)
            full = self.fullness.get(area, 0.0)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            if full >= 1:
                painter.drawEllipse(c, 6.5, 6.5)
            elif full > 0:
                painter.drawPie(QRectF(c.x() - 6.5, c.y() - 6.5, 13, 13), 180 * 16, 180 * 16)
            count = self.counts.get(area, 0)
            if count:
                painter.setBrush(QColor(current().madder))
                painter.drawEllipse(self.badge(area), 8, 8)
                painter.setPen(QColor("#14171F"))
                tiny = QFont("Figtree")
                tiny.setPixelSize(11)
                tiny.setBold(True)
                painter.setFont(tiny)
                painter.drawText(
                    QRectF(c.x() + 7, c.y() - 20, 16, 16), Qt.AlignmentFlag.AlignCenter, str(min(count, 99))
                )
            small.setBold(active)
            painter.setFont(small)
            painter.setPen(QColor(current().text if active else current().soft))
            painter.drawText(QRectF(0, c.y() + 16, 64, 18), Qt.AlignmentFlag.AlignCenter, area.value)
        painter.end()

    def badge(self, area: Area) -> QPointF:
        """Middle of the count of an area's snags."""
        return self.centre(area) + QPointF(15, -12)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for area in Area:
            off = event.position() - self.badge(area)
            if self.counts.get(area) and max(abs(off.x()), abs(off.y())) <= 11:
                self.doubted.emit(area)
                return
        for area in Area:
            if abs(event.position().y() - self.centre(area).y() - 8) < STEP / 2:
                self.chosen.emit(area)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(event.key())
        if step is None:
            super().keyPressEvent(event)
            return
        areas = list(Area)
        self.chosen.emit(areas[(areas.index(self.session.area) + step) % len(areas)])
