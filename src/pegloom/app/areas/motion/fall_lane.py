"""Footfalls of a gait on the strip: a bar while a foot stands, dragged to fall or leave at another time."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPaintEvent, QPen

from pegloom.app.areas.motion.gaits import change, gait_in_hand, told_in_hand
from pegloom.app.areas.motion.keying import curves_open
from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT, TimeWidget
from pegloom.app.spec import Lane
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets.panel import same
from pegloom.core.motion.gait.making import Walker
from pegloom.core.motion.gait.numbers import LIMITS, Fall
from pegloom.core.motion.gait.steps import falls_of
from pegloom.core.motion.gait.told import GaitTold
from pegloom.core.motion.retarget.chains import other_part, part_title, parts_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skeleton.names import Side
from pegloom.scene.drawing import side_colour

ROW, TOP, THICK = 13.0, 5.0, 9.0
EDGE = 5.0
"""Pixels about a bar's end within which it is drawn out."""
HEIGHT = int(TOP + 4 * ROW + 3)


class Bar(NamedTuple):
    """A foot that stands: its part, from when to when (seconds), the row it is in, and the stance's number; ends : whether it
    begins and ends here, and is not a stand at the clip's end."""

    part: str
    first: float
    last: float
    row: int
    ends: tuple[bool, bool]


def bars_of(told: GaitTold, skeleton: Skeleton, length: float) -> list[Bar]:
    """Every time a foot stands within a clip."""
    course = Walker(told.gait, skeleton, strides=told.strides, way=told.way, start=told.start, stop=told.stop).course
    found = []
    falls = falls_of(skeleton, parts_of(skeleton), told.gait)
    for row, part in enumerate(sorted(falls)):
        fall, stands = falls[part]
        first, last = course.numbers(fall, stands)
        n = max(first, np.floor(course.first - fall - stands))
        while n <= min(last, np.ceil(course.last)):
            begins = course.first if n == first else max(n + fall, course.first)
            ends = course.last if n == last else min(n + fall + stands, course.last)
            if ends > begins:
                a, b = ((x - course.first) * course.period for x in (begins, ends))
                found.append(Bar(part, max(a, 0.0), min(b, length), row, (bool(n + fall >= course.first and n > first), bool(n + fall + stands <= course.last and n < last))))
            n += 1.0
    return found


class FallLane(TimeWidget):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("strip.falls")
        self.setAccessibleName("Footfalls of the gait")
        self.setToolTip("A bar while a foot stands: drag it to let it fall sooner or later, its ends to let it stand longer. Both sides: the other foot's stands go along")
        self.setMouseTracking(True)
        self.bars: list[Bar] = []
        self.shown: tuple[object, ...] | None = None
        """What the bars are of."""
        self.held: tuple[str, str, float, tuple[Fall, ...], dict[str, tuple[float, float]], float] | None = None
        """part, what (bar, first, last), the time it was taken at, the falls before, and what every foot did."""

    def key(self, state: State) -> tuple[object, ...]:
        return (*super().key(state), self.c.live.about is not None)

    def show_state(self, state: State) -> None:
        super().show_state(state)
        told, skeleton = told_in_hand(self.c), state.character.skeleton if state.character is not None else None
        # The clock is no reason to work them out again.
        shown = (told, skeleton, state.length)
        if self.shown is not None and same(shown, self.shown):
            return
        self.shown = shown
        self.bars = bars_of(told, skeleton, state.length) if told is not None and skeleton is not None else []
        rows = 1 + max((bar.row for bar in self.bars), default=0)
        # As many rows as feet, a lane's height at most.
        self.row = min(ROW, (self.height() - TOP - 4) / max(rows, 1))

    row = ROW

    def _rect(self, bar: Bar) -> QRectF:
        y = TOP + bar.row * self.row
        thick = min(THICK, self.row - 2.0)
        a, b = self.x_of(bar.first), self.x_of(bar.last)
        return QRectF(a, y, max(b - a, 2.0), thick)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.bars:
            return
        painter, theme = self.painter(), current()
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        seen: set[str] = set()
        for bar in self.bars:
            colour = QColor.fromRgbF(*side_colour(Side.LEFT if bar.part.endswith(".l") else Side.RIGHT).tolist())
            rect = self._rect(bar)
            if rect.right() < LEFT or rect.left() > self.width() - RIGHT:
                continue
            painter.setPen(Qt.PenStyle.NoPen)
            fill = QColor(colour)
            fill.setAlphaF(1.0 if self.held is not None and self.held[0] == bar.part else 0.78)
            painter.setBrush(fill)
            painter.drawRoundedRect(rect, 2.5, 2.5)
        for bar in self.bars:
            if bar.part in seen:
                continue
            seen.add(bar.part)
            y = TOP + bar.row * self.row
            title = part_title(bar.part)
            wide = painter.fontMetrics().horizontalAdvance(title) + 6
            backing = QColor(theme.card)
            backing.setAlphaF(0.82)
            painter.fillRect(QRectF(LEFT + 4, y - 1, wide, min(THICK, self.row - 2) + 2), backing)
            painter.setPen(QPen(QColor(theme.text), 1))
            painter.drawText(QRectF(LEFT + 7, y - 3, 160, min(THICK, self.row - 2) + 6), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, title)
        self.draw_now(painter, 0.0, self.height())
        painter.end()

    def _at(self, at: QPointF) -> tuple[Bar, str] | None:
        for bar in self.bars:
            rect = self._rect(bar)
            if abs(rect.center().y() - at.y()) > self.row / 2:
                continue
            if bar.ends[0] and abs(rect.left() - at.x()) <= EDGE:
                return bar, "first"
            if bar.ends[1] and abs(rect.right() - at.x()) <= EDGE:
                return bar, "last"
            if rect.left() < at.x() < rect.right():
                return bar, "bar"
        return None

    def pressed(self, event: QMouseEvent) -> bool:
        found, told = self._at(event.position()), told_in_hand(self.c)
        if found is None or told is None:
            return False
        skeleton = self.c.skeleton
        falls = falls_of(skeleton, parts_of(skeleton), told.gait)
        period = Walker(told.gait, skeleton).course.period
        self.held = (found[0].part, found[1], self.time_at(event.position().x()), told.gait.falls, falls, period)
        return True

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.held is None:
            if event.buttons():
                super().mouseMoveEvent(event)
                return
            found = self._at(event.position())
            kind = found[1] if found is not None else ""
            self.setCursor(Qt.CursorShape.ArrowCursor if not kind else Qt.CursorShape.OpenHandCursor if kind == "bar" else Qt.CursorShape.SizeHorCursor)
            return
        part, kind, start, before, falls, period = self.held
        by = (self.time_at(event.position().x()) - start) / max(period, 1e-6)
        if abs(by) > 1e-4:
            self._put(part, kind, by, before, falls)

    def _put(self, part: str, kind: str, by: float, before: tuple[Fall, ...], falls: dict[str, tuple[float, float]]) -> None:
        low, high = LIMITS["duty"]
        fall, stands = falls[part]
        if kind == "bar":
            fall = (fall + by) % 1.0
        elif kind == "first":
            longer = float(np.clip(stands - by, low, high))
            fall, stands = (fall + stands - longer) % 1.0, longer
        else:
            stands = float(np.clip(stands + by, low, high))
        told = {p: (f, s) for p, f, s in before} | {part: (fall % 1.0, stands)}
        twin = other_part(part)
        if kind != "bar" and self.c.state.hand.both_sides and twin is not None and twin in falls:
            told[twin] = (told.get(twin, falls[twin])[0], stands)
        change(self.c, "Footfalls", {"falls": {p: list(v) for p, v in told.items()}})

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        super().mouseReleaseEvent(event)
        if self.held is not None:
            self.held = None
            self.c.live.rest()
            self.update()


def fall_lane() -> Lane:
    """The lane, where a gait is on the strip."""
    return Lane("falls", FallLane, HEIGHT, lambda s: gait_in_hand(s) is not None and not curves_open(s))
