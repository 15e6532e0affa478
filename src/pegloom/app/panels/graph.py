"""The quality graph: girth kept, hanging from its rest; stretch, standing on it; dips past their limits marked."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT, TimeWidget
from pegloom.app.spec import Lane
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.checks.quality import STRETCH_LIMIT, Crossing, doubtful, girth_limit
from pegloom.core.said import counted
from pegloom.core.skin.quality import Figures

HEIGHT = 80


class QualityGraph(TimeWidget):
    """Filled as the figures of `c.quality` come in."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("strip.quality")
        self.setAccessibleName("Quality graph: girth kept and stretch over time")
        self.watch = c.quality
        self.watch.changed.connect(self.update)

    def key(self, state: State) -> tuple[object, ...]:
        skeleton = state.character.skeleton if state.character is not None else None
        return (*super().key(state), state.viewing.influence, state.viewing.compared, skeleton)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.c.state.clock.source:
            return
        painter = self.painter()
        self._draw_graph(painter, 4.0)
        self.draw_now(painter, 0.0, self.height() - 4.0)
        painter.end()

    def _draw_graph(self, painter: QPainter, top: float) -> None:
        """Girth kept, hanging from its rest; stretch, standing on it; dips past their limits marked."""
        watch, character = self.watch, self.c.state.character
        if not watch.times or character is None or character.skeleton is None:
            return
        region = watch.region
        name = character.skeleton.joint(region).name if region else "the whole skin"
        bottom = self.height() - 7.0
        half = top + (bottom - top) * 0.52
        row = watch.row(region)
        girth = [(k, f.girth) for k, f in enumerate(row) if f is not None and f.girth is not None]
        area = [(k, f.area) for k, f in enumerate(row) if f is not None and f.area is not None]
        stretch = [(k, f.stretch) for k, f in enumerate(row) if f is not None] if region else []
        if not region:
            stretch = [(k, v) for k, v in enumerate(watch.whole) if v is not None]
        before = [(k, f) for k, f in enumerate(watch.before) if f is not None]
        limit = girth_limit(character.skeleton, region)
        low = min([0.6, *[v for _, v in girth + area]])
        high = max([STRETCH_LIMIT + 0.2, *[v for _, v in stretch], *[f.stretch for _, f in before]])

        def girth_y(value: float) -> float:
            return top + 13 + (1.0 - min(value, 1.0)) / (1.0 - low) * (half - top - 17)

        def stretch_y(value: float) -> float:
            return bottom - (max(value, 1.0) - 1.0) / (high - 1.0) * (bottom - half - 13)

        madder, woad = QColor(current().madder), QColor(current().woad)
        faint = QPen(QColor(current().line), 1, Qt.PenStyle.DotLine)
        painter.setPen(QPen(QColor(current().line), 1))
        painter.drawLine(QPointF(LEFT, bottom), QPointF(self.width() - RIGHT, bottom))
        if girth:
            painter.drawLine(QPointF(LEFT, girth_y(1.0)), QPointF(self.width() - RIGHT, girth_y(1.0)))
            painter.setPen(faint)
            painter.drawLine(QPointF(LEFT, girth_y(limit)), QPointF(self.width() - RIGHT, girth_y(limit)))
        if stretch:
            painter.setPen(faint)
            painter.drawLine(
                QPointF(LEFT, stretch_y(STRETCH_LIMIT)), QPointF(self.width() - RIGHT, stretch_y(STRETCH_LIMIT))
            )
        dim = QColor(current().soft)
        self._line(
            painter,
            [(k, girth_y(f.girth)) for k, f in before if f.girth is not None],
            QPen(dim, 1.1, Qt.PenStyle.DashLine),
        )
        self._line(painter, [(k, stretch_y(f.stretch)) for k, f in before], QPen(dim, 1.1, Qt.PenStyle.DashLine))
        thin = QColor(woad)
        thin.setAlphaF(0.55)
        self._line(painter, [(k, girth_y(v)) for k, v in area], QPen(thin, 1.2))
        self._line(painter, [(k, girth_y(v)) for k, v in girth], QPen(woad, 1.8))
        self._line(painter, [(k, stretch_y(v)) for k, v in stretch], QPen(madder, 1.6))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(madder)
        for k in self.dips():
            x = self.x_of(watch.times[k])
            painter.drawPolygon(QPolygonF([QPointF(x, half - 6), QPointF(x - 4, half + 1), QPointF(x + 4, half + 1)]))
        right = Qt.AlignmentFlag.AlignRight
        space = self.width() - LEFT - RIGHT
        if girth:
            k, worst = min(girth, key=lambda r: r[1])
            painter.setPen(woad)
            text = f"girth kept at {name}, worst {worst:.2f} at frame {self._frame(k)}"
            text += f", area {min(v for _, v in area):.2f}" if area else ""
            if before and any(f.girth is not None for _, f in before):
                text += f" (weave {min(f.girth for _, f in before if f.girth is not None):.2f})"
            painter.drawText(QRectF(LEFT, top - 3, space, 14), right, text)
        if stretch:
            k, worst = max(stretch, key=lambda r: r[1])
            painter.setPen(madder)
            text = f"stretch of {name}, worst {worst:.2f} at frame {self._frame(k)}"
            if before:
                text += f" (weave {max(f.stretch for _, f in before):.2f})"
            text += crossing_text([c for c in watch.crossing if c is not None], watch.region)
            painter.drawText(QRectF(LEFT, half - 1, space, 14), right, text)
        elif not girth:
            painter.setPen(QColor(current().soft))
            painter.drawText(QRectF(LEFT, top, space, 16), right, "measuring…")

    def _line(self, painter: QPainter, points: list[tuple[int, float]], pen: QPen) -> None:
        if len(points) > 1:
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF([QPointF(self.x_of(self.watch.times[k]), y) for k, y in points]))

    def _frame(self, k: int) -> int:
        return round(self.watch.times[k] * self.c.state.rate)

    def dips(self) -> list[int]:
        """Samples where the region in hand is worst among its neighbours and past a limit."""
        region, row = self.watch.region, self.watch.row(self.watch.region)
        found: list[int] = []
        character = self.c.state.character
        skeleton = character.skeleton if character is not None else None
        if skeleton is None:
            return found
        for k, f in enumerate(row):
            if f is None or not doubtful(skeleton, region, f):
                continue
            near = [g for g in row[max(k - 2, 0) : k + 3] if g is not None]
            if _badness(f) >= max(_badness(g) for g in near) - 1e-9 and not (found and k - found[-1] < 3):
                found.append(k)
        return found

    # Mouse

    def pressed(self, event: QMouseEvent) -> bool:
        x = event.position().x()
        near = [k for k in self.dips() if abs(self.x_of(self.watch.times[k]) - x) < 9]
        if near:
            self._go_to_dip(min(near, key=lambda k: abs(self.x_of(self.watch.times[k]) - x)))
        return bool(near)

    def _go_to_dip(self, k: int) -> None:
        """Time goes to the dip, and the view to the joint."""
        c, region = self.c, self.watch.region
        c.player.go_to(self.watch.times[k])
        frame, character = c.frames.frame(), c.state.character
        if not region or frame is None or character is None or character.skeleton is None:
            return
        if c.state.at_rest:
            c.enter(next(area.id for area in c.areas if area.weighing))
        c.view.show_point(frame.joints[character.skeleton.index[region]][:3, 3])


def crossing_text(found: list[Crossing], region: str) -> str:
    """How many faces pass through others at most, near the joint in hand or between which parts."""
    worst = max(found, key=lambda c: c.faces, default=None)
    if worst is None or worst.faces == 0:
        return ""
    if region:
        here = max(c.joints.get(region, 0) for c in found)
        return (
            f"  ·  {counted(here, 'face crosses', 'faces cross')} here, {worst.faces} anywhere"
            if here
            else f"  ·  {counted(worst.faces, 'face crosses', 'faces cross')} elsewhere"
        )
    a, b, count = worst.between[0]
    where = f"within {a}" if a == b else f"of {a} with {b}"
    return f"  ·  {counted(worst.faces, 'face crosses', 'faces cross')}, {count} {where}"


def _badness(f: Figures) -> float:
    """One number to order a region's samples by: what is lost of girth and area, what is gained in length."""
    return (
        (1.0 - (f.girth if f.girth is not None else 1.0))
        + (1.0 - (f.area if f.area is not None else 1.0))
        + (f.stretch - 1.0)
    )


def quality_lane() -> Lane:
    """The graph as a lane, for the areas that show it."""
    return Lane("strip.quality", QualityGraph, HEIGHT)
