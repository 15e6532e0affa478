"""What is painted over the view: threads of tags, boxes, the height, pins of snags, the legend, and what the area adds."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from pegloom.app.context import Context
from pegloom.app.stage.drags.box import BoxDrag
from pegloom.app.stage.legend import draw_legend
from pegloom.app.theme import INK
from pegloom.checks import Severity, Snag
from pegloom.core.arrays import FloatArray

if TYPE_CHECKING:
    from pegloom.app.panels.tag import Tag
    from pegloom.app.stage.stage import Stage

MOST_PINS = 40
HALF_LABEL = 26


class Paper(QWidget):
    """Lets the mouse through."""

    def __init__(self, c: Context, stage: Stage, tags: Callable[[], list[Tag]]) -> None:
        super().__init__(stage)
        self.c, self.stage, self.tags = c, stage, tags
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont("Figtree")
        font.setPixelSize(12)
        painter.setFont(font)
        for tag in self.tags():
            self._thread(painter, tag)
        self._box(painter)
        self._height(painter)
        self._pins(painter)
        for paint in self.c.area.painters:
            paint(painter, self.stage)
        draw_legend(painter, self.c, QRectF(self.rect()))
        painter.end()

    def _thread(self, painter: QPainter, tag: Tag) -> None:
        pixel = self.stage.pixel_of(tag.subject)
        if pixel is None or not tag.isVisible():
            return
        edge = tag.geometry()
        left = pixel.x() < edge.center().x()
        end = QPointF(edge.left() if left else edge.right(), edge.top() + 18)
        path = QPainterPath(QPointF(pixel))
        pull = (end.x() - pixel.x()) * 0.5
        path.cubicTo(QPointF(pixel.x() + pull, pixel.y() - 8), QPointF(end.x() - pull * 0.5, end.y()), end)
        painter.setPen(QPen(QColor(INK.soft), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _box(self, painter: QPainter) -> None:
        drag = self.stage.drag
        if not isinstance(drag, BoxDrag) or not drag.drawn:
            return
        fill = QColor(INK.woad)
        fill.setAlpha(28)
        painter.setPen(QPen(QColor(INK.woad), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(fill)
        if drag.lasso:
            painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in drag.path]))
        else:
            painter.drawRect(QRectF(QPointF(*drag.start), QPointF(*drag.corner)).normalized())

    def _height(self, painter: QPainter) -> None:
        character = self.c.state.character
        if character is None or self.c.state.viewing.clean_view:
            return
        points = character.all_points()
        if len(points) == 0:
            return
        wide = float(np.abs(points[:, 0]).max())
        top = np.array([-(wide + 0.12 * character.height), character.height, 0.0])
        x, y, depth = self.stage.camera.project(top, *self.stage.size_in_points)[0]
        if depth > 0 and 0 < x < self.width() and 44 < y < self.height():
            painter.setPen(QColor(INK.soft))
            middle = min(max(x, HALF_LABEL), self.width() - HALF_LABEL)
            painter.drawText(QRectF(middle - 40, y - 19, 80, 16), Qt.AlignmentFlag.AlignCenter, f"{character.height:.2f} m")

    def _pins(self, painter: QPainter) -> None:
        """Snag pins of this area: a madder triangle where something is doubtful."""
        state, area = self.c.state, self.c.area
        if state.character is None or state.viewing.clean_view or state.clock.playing or state.dragging or not area.pins:
            return
        places = [
            self._posed(s)
            for s in state.snags
            if s.where is not None and s.area == area.id and not (s.severity is Severity.NOTE and area.weighing)
        ]
        painter.setPen(Qt.PenStyle.NoPen)
        for where in places[:MOST_PINS]:
            x, y, depth = self.stage.camera.project(np.array(where), *self.stage.size_in_points)[0]
            if depth <= 0 or not (0 < x < self.width() and 40 < y < self.height()):
                continue
            painter.setBrush(QColor(INK.madder))
            painter.drawPolygon(QPolygonF([QPointF(x, y - 4), QPointF(x - 6, y - 15), QPointF(x + 6, y - 15)]))
            painter.setBrush(QColor(INK.window))
            painter.drawEllipse(QPointF(x, y - 11.5), 1.6, 1.6)

    def _posed(self, snag: Snag) -> FloatArray:
        """Where a snag's place is in the pose shown."""
        where, frame, character = np.array(snag.where), self.c.frames.frame(), self.c.state.character
        if character is None or self.c.state.at_rest or frame is None:
            return where
        part = next((p for p in character.included if p.id == snag.subject), None)
        if part is None or part.id not in frame.points:
            return where
        nearest = int(np.argmin(((part.mesh.points - where) ** 2).sum(axis=1)))
        return np.asarray(frame.points[part.id][nearest])
