"""Keys on the strip by group of controls: boxed, moved, copied, drawn apart, removed."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPaintEvent, QPen, QPolygonF, QWheelEvent

from pegloom.app.areas.motion.key_widget import KeyWidget
from pegloom.app.areas.motion.keying import (
    curves_in_hand,
    curves_open,
    moved,
    pick,
    picked_keys,
    scaled,
    settings,
)
from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT
from pegloom.app.spec import Lane
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets.panel import same
from pegloom.core.rig.refs import BOARD
from pegloom.core.skeleton.body_words import SIDES, chain_title
from pegloom.document.edits import KeyAt

HEIGHT = 116
TOP = 18.0
"""Pixels over the first row: the bar of the picked keys has them."""
ROW = 15.0
TICKS = 8.0
"""Pixels a key needs to be drawn as more than a tick."""
NEAR = 6.0
"""Pixels within which a key is taken hold of."""
EDGE = 5.0
"""Pixels on either side of the picked keys' bar within which it is drawn out."""


class Row(NamedTuple):
    """A row of keys: what it is called, whose keys they are, by time."""

    title: str
    controls: frozenset[str]
    channel: str
    times: dict[float, list[KeyAt]]


def group_of(control: str) -> str:
    """The limb a control belongs to, by its id."""
    pieces = control.split(".")
    return ".".join(pieces[:2]) if len(pieces) > 1 and pieces[1] in SIDES else pieces[0]


def rows_of(state: State) -> list[Row]:
    """A row a group of controls; of the picked controls one each, of a single one a row each channel."""
    curves = curves_in_hand(state)
    character = state.character
    rig = character.rig if character is not None else None
    picked = [i for i in state.selection.ids if any(ref[0] == i for ref in curves)] if state.selection.kind == "control" else []
    found: dict[str, Row] = {}

    def put(key: str, title: str, ref: tuple[str, str], channel: str = "") -> None:
        row = found.setdefault(key, Row(title, frozenset(), channel, {}))
        for t in curves[ref].times.tolist():
            row.times.setdefault(round(t, 6), []).append(KeyAt(ref[0], ref[1], t))
        found[key] = row._replace(controls=row.controls | {ref[0]})

    for ref in curves:
        control = rig.control(ref[0]) if rig is not None and ref[0] in rig.index else None
        name = control.name if control is not None else "the rig" if ref[0] == BOARD else ref[0]
        if len(picked) == 1 and ref[0] == picked[0]:
            channel = control.channel(ref[1]) if control is not None else None
            put(f"{ref[0]}/{ref[1]}", channel.title if channel is not None and channel.title else ref[1].replace("_", " "), ref, ref[1])
        elif picked and len(picked) > 1:
            if ref[0] in picked:
                put(ref[0], name, ref)
        elif not picked:
            group = group_of(ref[0])
            many = sum(1 for r in {r[0] for r in curves} if group_of(r) == group) > 1
            put(group, chain_title(group) if many or "." in group else name, ref)
    return list(found.values())


class KeyLane(KeyWidget):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("strip.keys")
        self.setAccessibleName("Keys by group of controls")
        self.setToolTip("Click or box keys; drag moves them, with Ctrl copies; the bar's ends draw them apart; Del removes them")
        self.rows: list[Row] = []
        self.shown: tuple[object, ...] | None = None
        """What the rows are of."""
        self.first_row = 0
        self.held: tuple[str, float] | None = None
        """What is dragged (keys, left, right), and the time it was taken at."""
        self.now = 0.0
        """Where it has come to, seconds."""

    def key(self, state: State) -> tuple[object, ...]:
        return (*super().key(state), state.selection.kind, state.selection.ids, state.layer, settings(state))

    def show_state(self, state: State) -> None:
        # Rows hold a capture's ten thousand keys: they are made anew only where they are others.
        shown = (state.clip, state.layer, state.selection.kind, state.selection.ids, state.character.rig if state.character is not None else None)
        if self.shown is None or not same(shown, self.shown):
            self.shown, self.rows = shown, rows_of(state)
        self.first_row = min(self.first_row, max(len(self.rows) - self._fit(), 0))
        super().show_state(state)

    def _fit(self) -> int:
        return max(int((self.height() - TOP + 6) / ROW), 1)

    def _y(self, row: int) -> float:
        return TOP + (row - self.first_row) * ROW

    def _seen(self) -> list[tuple[int, Row]]:
        return list(enumerate(self.rows))[self.first_row : self.first_row + self._fit()]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.c.state.clip is None:
            return
        painter, theme = self.painter(), current()
        held: dict[tuple[str, str], set[float]] = {}
        for key in picked_keys(self.c.state):
            held.setdefault((key.control, key.channel), set()).add(round(key.time, 6))
        shift = self._shift()
        font = painter.font()
        font.setPixelSize(10)
        painter.setFont(font)
        for number, row in self._seen():
            y = self._y(number)
            painter.setPen(QPen(QColor(theme.line), 1))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - RIGHT, y))
            painter.setPen(Qt.PenStyle.NoPen)
            # A key a frame is a row of ticks.
            dense = len(row.times) * TICKS > (self.width() - LEFT - RIGHT) * max((max(row.times) - min(row.times)) / max(self.span, 1e-6), 1e-3)
            mine = {t for (control, channel), times in held.items() if control in row.controls and row.channel in ("", channel) for t in times}
            for time in row.times:
                some = time in mine
                at = time if not some or shift is None else shift(time)
                x = self.x_of(at)
                if not LEFT - 8 <= x <= self.width() - RIGHT + 8:
                    continue
                painter.setBrush(QColor(theme.woad if some else theme.soft))
                r = 4.6 if some else 3.6
                if dense:
                    painter.drawRect(QRectF(x - 0.75, y - r, 1.5, 2 * r))
                    continue
                painter.drawPolygon(QPolygonF([QPointF(x, y - r), QPointF(x + r, y), QPointF(x, y + r), QPointF(x - r, y)]))
        for number, row in self._seen():
            y = self._y(number)
            wide = painter.fontMetrics().horizontalAdvance(row.title) + 6
            backing = QColor(theme.card)
            backing.setAlphaF(0.8)
            painter.fillRect(QRectF(LEFT + 6, y - 12, wide, 11), backing)
            painter.setPen(QColor(theme.soft))
            painter.drawText(QRectF(LEFT + 8, y - 12, 150, 11), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, row.title)
        if not self.rows:
            painter.setPen(QColor(theme.soft))
            painter.drawText(QRectF(LEFT, 10, 420, 16), Qt.AlignmentFlag.AlignLeft, "Keys stand here by group of controls, once there are some.")
        elif len(self.rows) > self._fit():
            painter.setPen(QColor(theme.soft))
            painter.drawText(QRectF(self.width() - 216, self.height() - 13, 200, 12), Qt.AlignmentFlag.AlignRight, f"{len(self.rows)} rows; the wheel shows the others")
        bar = self._bar()
        if bar is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(theme.woad))
            painter.drawRoundedRect(QRectF(bar[0], 0.5, max(bar[1] - bar[0], 2.0), 3.0), 1.5, 1.5)
            for x in bar:
                painter.drawRect(QRectF(x - 1.5, 0.0, 3.0, 7.0))
        self.draw_box(painter)
        self.draw_now(painter, 0.0, self.height())
        painter.end()

    def _bar(self) -> tuple[float, float] | None:
        """Pixels from the first to the last key in hand, where there are several times."""
        times = {k.time for k in picked_keys(self.c.state)}
        if len(times) < 2:
            return None
        shift = self._shift() or (lambda t: t)
        return self.x_of(shift(min(times))), self.x_of(shift(max(times)))

    def _shift(self) -> Callable[[float], float] | None:
        """Where a drag under way brings a time."""
        if self.held is None:
            return None
        kind, start = self.held
        if kind in ("keys", "copy"):
            return lambda t: max(t + self.now - start, 0.0)
        about, factor = self._scaling()
        return lambda t: max(about + (t - about) * factor, 0.0)

    def _scaling(self) -> tuple[float, float]:
        assert self.held is not None
        times = [k.time for k in picked_keys(self.c.state)]
        first, last = min(times), max(times)
        about, edge = (last, first) if self.held[0] == "left" else (first, last)
        return about, max((self.now - about) / (edge - about), 0.02)

    # Mouse

    def _at(self, at: QPointF) -> list[KeyAt]:
        best: tuple[float, list[KeyAt]] = (NEAR, [])
        for number, row in self._seen():
            if abs(self._y(number) - at.y()) > ROW / 2 + 1:
                continue
            for time, keys in row.times.items():
                gap = abs(self.x_of(time) - at.x())
                if gap < best[0]:
                    best = (gap, keys)
        return best[1]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.c.state.clip is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.c.player.stop()
        at, mods = event.position(), event.modifiers()
        bar = self._bar()
        self.now = self.time_at(at.x())
        if bar is not None and at.y() < 8 and min(abs(at.x() - x) for x in bar) < EDGE:
            self.held = ("left" if abs(at.x() - bar[0]) < abs(at.x() - bar[1]) else "right", self.now)
            return
        keys = self._at(at)
        if keys:
            have = set(picked_keys(self.c.state))
            if mods & Qt.KeyboardModifier.ShiftModifier:
                pick(self.c, keys, toggle=True)
                return
            if not have & set(keys):
                pick(self.c, keys)
            self.held = ("copy" if mods & Qt.KeyboardModifier.ControlModifier else "keys", self.now)
            return
        self.box = (at, at)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = event.position()
        if self.box is not None:
            self.box = (self.box[0], at)
        elif self.held is not None:
            rate = self.c.state.rate
            time = self.time_at(at.x())
            if settings(self.c.state).snap and self.held[0] in ("keys", "copy"):
                time = self.held[1] + round((time - self.held[1]) * rate) / rate
            self.now = time
        else:
            bar = self._bar()
            over = bar is not None and at.y() < 8 and min(abs(at.x() - x) for x in bar) < EDGE
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.PointingHandCursor if self._at(at) else Qt.CursorShape.ArrowCursor)
            return
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.box_let_go(event):
            return
        held, now = self.held, self.now
        if held is None:
            return
        scaling = self._scaling() if held[0] in ("left", "right") else None
        self.held = None
        if scaling is not None:
            scaled(self.c, *scaling)
        elif abs(now - held[1]) > 1e-6:
            moved(self.c, now - held[1], copy=held[0] == "copy")
        else:
            keys = picked_keys(self.c.state)
            if keys:
                self.c.player.go_to(min(k.time for k in keys))
        self.update()

    def inside(self, area: QRectF) -> list[KeyAt]:
        return [
            k for number, row in self._seen() if area.top() - 4 <= self._y(number) <= area.bottom() + 4
            for time, keys in row.times.items() if area.left() <= self.x_of(time) <= area.right() for k in keys
        ]  # fmt: skip

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """The controls of a row are picked."""
        assert event is not None
        for number, row in self._seen():
            if abs(self._y(number) - event.position().y()) < ROW / 2:
                for k, control in enumerate(sorted(row.controls)):
                    self.c.store.select("control", control, add=k > 0)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        most = max(len(self.rows) - self._fit(), 0)
        self.first_row = min(max(self.first_row - (1 if event.angleDelta().y() > 0 else -1), 0), most)
        self.update()


def key_lane() -> Lane:
    """The lane, where a clip of keys is on the strip and the curves are not in its place."""
    return Lane("keys", KeyLane, HEIGHT, lambda s: s.clip is not None and not curves_open(s) and bool(curves_in_hand(s)))

