"""Curves drawn over the strip's time; keys and slopes taken by the mouse."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy

from pegloom.app.areas.motion.curve_lines import Line, lines_of
from pegloom.app.areas.motion.key_widget import KeyWidget
from pegloom.app.areas.motion.keying import (
    KeySettings,
    Ref,
    change,
    layer_id,
    moved,
    pick,
    picked_keys,
    settings,
)
from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve
from pegloom.core.curves.curve import Slope
from pegloom.core.curves.keys import shifted, with_slopes
from pegloom.core.errors import PegLoomError
from pegloom.document import edits
from pegloom.document.edits import KeyAt

NEAR = 7.0
HANDLE = 46.0
"""Pixels from a key to the end of its slope's handle."""
MOST = 12
"""Channels told by name."""


@dataclass
class Grip:
    """What is dragged: "keys", "before", "after", "pan". at : pixel it was taken at; of : the key; now : pixel."""

    kind: str
    at: QPointF
    of: KeyAt | None = None
    now: QPointF | None = None
    both: bool = True


class Canvas(KeyWidget):
    """Where the curves are drawn and dragged."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("curves.canvas")
        self.setAccessibleName("Curves: drag keys and slopes, double-click adds a key, the wheel zooms, with Ctrl in time")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.lines: list[Line] = []
        self.low, self.high = -10.0, 10.0
        self.fitted: tuple[Ref, ...] | None = None
        self.grip: Grip | None = None
        self.names: list[tuple[QRectF, Ref]] = []

    def key(self, state: State) -> tuple[object, ...]:
        own = settings(state)
        return (*super().key(state), state.character, state.selection.kind, state.selection.ids, state.layer, own.picked, own.off)

    def show_state(self, state: State) -> None:
        off = settings(state).off
        self.every = lines_of(state)
        self.lines = [one for one in self.every if one.ref not in off]
        refs = tuple(one.ref for one in self.lines)
        if refs != self.fitted and self.grip is None:
            self.fitted = refs
            self.fit()
        super().show_state(state)

    def fit(self) -> None:
        """All that is shown, from top to bottom."""
        some = [one.curve.values * one.unit if one.curve is not None else one.values * one.unit for one in self.lines if one.curve is not None or one.values is not None]  # type: ignore[operator]
        sampled = [one.curve.at_all(np.linspace(self.start, self.start + self.span, 80)) * one.unit for one in self.lines if one.curve is not None]
        every = np.concatenate([*some, *sampled]) if some else np.array([-10.0, 10.0])
        low, high = float(every.min()), float(every.max())
        room = max(0.14 * (high - low), 0.5)
        self.low, self.high = low - room, high + room
        self.update()

    # Places

    def y_of(self, value: float) -> float:
        return 8.0 + (self.high - value) / max(self.high - self.low, 1e-9) * (self.height() - 16.0)

    def value_at(self, y: float) -> float:
        return self.high - (y - 8.0) / max(self.height() - 16.0, 1.0) * (self.high - self.low)

    def _slope_pixels(self, line: Line, slope: float) -> float:
        """Pixels down a pixel to the right."""
        across = (self.width() - LEFT - RIGHT) / max(self.span, 1e-6)
        down = (self.height() - 16.0) / max(self.high - self.low, 1e-9)
        return -slope * line.unit * down / across

    def _handle(self, line: Line, k: int, side: str) -> QPointF:
        assert line.curve is not None
        slope = self._slope_pixels(line, float(getattr(line.curve, side)[k]))
        sign = -1.0 if side == "before" else 1.0
        along = np.array([sign, sign * slope])
        along *= HANDLE / max(float(np.linalg.norm(along)), 1e-9)
        return QPointF(self.x_of(float(line.curve.times[k])) + along[0], self.y_of(float(line.curve.values[k]) * line.unit) + along[1])

    def _held(self) -> set[tuple[str, str, float]]:
        return {(k.control, k.channel, round(k.time, 6)) for k in picked_keys(self.c.state)}

    def _dragged(self, line: Line) -> Curve | None:
        """A curve as the drag under way makes it."""
        one, grip = line.curve, self.grip
        if one is None or grip is None or grip.now is None:
            return one
        held = self._held()
        chosen = np.array([(*line.ref, round(float(t), 6)) in held for t in one.times])
        if grip.kind == "keys" and chosen.any():
            seconds, value = self._moved(grip)
            try:
                return shifted(one, chosen, max(seconds, -float(one.times[chosen].min())), value / line.unit)
            except PegLoomError:
                return one
        if grip.kind in ("before", "after") and grip.of is not None and (grip.of.control, grip.of.channel) == line.ref:
            slope = self._pulled(line, grip)
            only = np.abs(one.times - grip.of.time) < 1e-5
            return with_slopes(one, only, Slope.ONE if grip.both else Slope.TWO, **({"before": slope} if grip.kind == "before" else {"after": slope}))
        return one

    def _moved(self, grip: Grip) -> tuple[float, float]:
        """Seconds and value (of the screen) a drag of keys comes to."""
        assert grip.now is not None
        seconds, value = self.time_at(grip.now.x()) - self.time_at(grip.at.x()), self.value_at(grip.now.y()) - self.value_at(grip.at.y())
        if settings(self.c.state).snap:
            seconds = round(seconds * self.c.state.rate) / self.c.state.rate
        return seconds, value

    def _pulled(self, line: Line, grip: Grip) -> float:
        """The slope a handle is pulled to, value a second."""
        assert grip.of is not None and grip.now is not None and line.curve is not None
        x = self.x_of(grip.of.time)
        value = float(line.curve.at(grip.of.time)) * line.unit
        sign = -1.0 if grip.kind == "before" else 1.0
        across = max(sign * (grip.now.x() - x), 6.0)
        seconds = across / max((self.width() - LEFT - RIGHT) / max(self.span, 1e-6), 1e-9)
        return sign * (self.value_at(grip.now.y()) - value) / line.unit / seconds

    # Drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, theme = self.painter(), current()
        painter.fillRect(self.rect(), QColor(theme.window))
        room = QRectF(LEFT, 0, self.width() - LEFT - RIGHT, self.height())
        step = _round_step((self.high - self.low) / 5.0)
        value = np.ceil(self.low / step) * step
        while value <= self.high:
            y = self.y_of(float(value))
            painter.setPen(QPen(QColor(theme.line), 1.4 if abs(value) < step * 1e-6 else 0.7))
            painter.drawLine(QPointF(room.left(), y), QPointF(room.right(), y))
            painter.setPen(QColor(theme.faint))
            painter.drawText(QRectF(room.right() - 52, y - 12, 50, 12), Qt.AlignmentFlag.AlignRight, f"{round(float(value) / step) * step + 0.0:g}")
            value += step
        if not self.every:
            painter.setPen(QColor(theme.soft))
            painter.drawText(QRectF(LEFT + 4, 14, 600, 20), Qt.AlignmentFlag.AlignLeft, "Pick controls in the view, or keys on the strip: their channels show here over time.")
        painter.setClipRect(room.adjusted(-6, 0, 6, 0))
        held = self._held()
        xs = np.linspace(self.start, self.start + self.span, max(int(room.width() / 3), 2))
        for line in self.lines:
            colour = QColor(line.colour)
            if line.curve is None:
                assert line.times is not None and line.values is not None
                colour.setAlphaF(0.42)
                painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DashLine))
                self._polyline(painter, line.times, line.values * line.unit)
                continue
            one = self._dragged(line) or line.curve
            painter.setPen(QPen(colour, 1.8))
            # Beyond its keys a curve is drawn thinner.
            inside = (xs >= one.times[0]) & (xs <= one.times[-1])
            if inside.any():
                at = np.unique(np.concatenate([xs[inside], one.times, np.nextafter(one.times[1:], -np.inf) - 1e-7]))
                self._polyline(painter, at, one.at_all(at) * line.unit)
            painter.setPen(QPen(colour, 1.0, Qt.PenStyle.DotLine))
            for outside in (xs[xs < one.times[0]], xs[xs > one.times[-1]]):
                if len(outside) > 1:
                    self._polyline(painter, outside, one.at_all(outside) * line.unit)
            for k, t in enumerate(one.times.tolist()):
                at_key = QPointF(self.x_of(t), self.y_of(float(one.values[k]) * line.unit))
                original = line.curve.times[min(k, len(line.curve.times) - 1)] if len(one.times) == len(line.curve.times) else t
                mine = (*line.ref, round(float(original), 6)) in held
                if mine and len(held) <= 24:
                    painter.setPen(QPen(QColor(theme.soft), 1))
                    for side in ("before", "after"):
                        end = self._handle(line._replace(curve=one), k, side)
                        painter.drawLine(at_key, end)
                        painter.setBrush(QColor(theme.window))
                        painter.drawEllipse(end, 3.2, 3.2)
                painter.setPen(QPen(QColor(theme.window), 1))
                painter.setBrush(QColor(theme.text) if mine else colour)
                size = 4.8 if mine else 3.8
                if one.slopes[k] in (Slope.ONE, Slope.TWO):
                    painter.drawRect(QRectF(at_key.x() - size * 0.85, at_key.y() - size * 0.85, size * 1.7, size * 1.7))
                else:
                    painter.drawEllipse(at_key, size, size)
        painter.setClipping(False)
        self._draw_names(painter)
        self.draw_box(painter)
        self.draw_now(painter, 0.0, self.height())
        painter.end()

    def _polyline(self, painter, times: FloatArray, values: FloatArray) -> None:  # type: ignore[no-untyped-def]
        painter.drawPolyline([QPointF(self.x_of(float(t)), self.y_of(float(v))) for t, v in zip(times, values, strict=True)])

    def _draw_names(self, painter) -> None:  # type: ignore[no-untyped-def]
        """What is shown, by colour; a click leaves one out."""
        theme, off = current(), settings(self.c.state).off
        self.names = []
        y = 4.0
        for line in self.every[:MOST]:
            text = f"{line.title}{f' ({line.faint})' if line.faint else ''}"
            width = painter.fontMetrics().horizontalAdvance(text) + 20
            box = QRectF(LEFT + 2, y, width, 14)
            self.names.append((box, line.ref))
            backing = QColor(theme.window)
            backing.setAlphaF(0.75)
            painter.fillRect(box, backing)
            colour = QColor(line.colour)
            if line.ref in off:
                colour.setAlphaF(0.3)
            painter.setPen(QPen(colour, 2, Qt.PenStyle.DashLine if line.faint else Qt.PenStyle.SolidLine))
            painter.drawLine(QPointF(box.left() + 2, box.center().y()), QPointF(box.left() + 12, box.center().y()))
            painter.setPen(QColor(theme.faint if line.ref in off else theme.soft))
            painter.drawText(box.adjusted(17, 0, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
            y += 14.0
        if len(self.every) > MOST:
            painter.setPen(QColor(theme.soft))
            painter.drawText(QRectF(LEFT + 4, y, 200, 14), Qt.AlignmentFlag.AlignLeft, f"and {len(self.every) - MOST} more")

    # Mouse

    def _key_under(self, at: QPointF) -> tuple[Line, int] | None:
        best: tuple[float, tuple[Line, int] | None] = (NEAR, None)
        for line in self.lines:
            if line.curve is None:
                continue
            for k, t in enumerate(line.curve.times.tolist()):
                gap = float(np.hypot(self.x_of(t) - at.x(), self.y_of(float(line.curve.values[k]) * line.unit) - at.y()))
                if gap < best[0]:
                    best = (gap, (line, k))
        return best[1]

    def _handle_under(self, at: QPointF) -> tuple[Line, int, str] | None:
        held = self._held()
        for line in self.lines:
            if line.curve is None:
                continue
            for k, t in enumerate(line.curve.times.tolist()):
                if (*line.ref, round(t, 6)) not in held:
                    continue
                for side in ("before", "after"):
                    end = self._handle(line, k, side)
                    if np.hypot(end.x() - at.x(), end.y() - at.y()) < NEAR:
                        return line, k, side
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = event.position()
        if event.button() == Qt.MouseButton.MiddleButton:
            self.grip = Grip("pan", at, now=at)
            return
        if event.button() != Qt.MouseButton.LeftButton or self.c.state.clip is None:
            return
        self.c.player.stop()
        named = next((ref for box, ref in self.names if box.contains(at)), None)
        if named is not None:
            self.c.store.put_setting(KeySettings, off=settings(self.c.state).off ^ {named})
            return
        pulled = self._handle_under(at)
        if pulled is not None:
            line, k, side = pulled
            assert line.curve is not None
            # Two slopes stay two; Alt makes two of one.
            both = line.curve.slopes[k] != Slope.TWO and not event.modifiers() & Qt.KeyboardModifier.AltModifier
            self.grip = Grip(side, at, KeyAt(line.ref[0], line.ref[1], float(line.curve.times[k])), both=bool(both))
            return
        found = self._key_under(at)
        if found is None:
            self.box = (at, at)
            return
        line, k = found
        assert line.curve is not None
        key = KeyAt(line.ref[0], line.ref[1], float(line.curve.times[k]))
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            pick(self.c, (key,), toggle=True)
            return
        if (*line.ref, round(key.time, 6)) not in self._held():
            pick(self.c, (key,))
        self.grip = Grip("keys", at, key)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = event.position()
        if self.box is not None:
            self.box = (self.box[0], at)
        elif self.grip is not None and self.grip.kind == "pan":
            assert self.grip.now is not None
            off = self.value_at(self.grip.now.y()) - self.value_at(at.y())
            self.low, self.high = self.low + off, self.high + off
            self.grip.now = at
        elif self.grip is not None:
            if self.grip.now is None and (at - self.grip.at).manhattanLength() < 3:
                return
            # Held down, Ctrl keeps to one way: along time or along the values.
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier and self.grip.kind == "keys":
                across = abs(at.x() - self.grip.at.x()) > abs(at.y() - self.grip.at.y())
                at = QPointF(at.x(), self.grip.at.y()) if across else QPointF(self.grip.at.x(), at.y())
            self.grip.now = at
        else:
            over = self._handle_under(at) is not None or self._key_under(at) is not None
            self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
            return
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.box_let_go(event):
            return
        grip, self.grip = self.grip, None
        if grip is None or grip.now is None or grip.kind == "pan" or grip.of is None:
            return
        line = next((one for one in self.lines if one.ref == (grip.of.control, grip.of.channel) and one.curve is not None), None)
        if line is None:
            return
        if grip.kind == "keys":
            seconds, value = self._moved(grip)
            self._move(seconds, value)
        else:
            slope, of, both = self._pulled(line, grip), grip.of, grip.both
            given = {"before": slope} if grip.kind == "before" else {"after": slope}
            clip, layer = self.c.state.clip, layer_id(self.c.state)
            assert clip is not None
            kind = Slope.ONE if both else Slope.TWO
            self.c.try_edit("Slope of a key", lambda d: edits.slope_keys(d, clip.id, [of], kind, layer=layer, **given))
        self.update()

    def _move(self, seconds: float, value: float) -> None:
        """Keys in hand by what a drag comes to; each channel in its own unit."""
        keys = picked_keys(self.c.state)
        units = {line.ref: line.unit for line in self.lines}
        if len({units.get((k.control, k.channel), 1.0) for k in keys}) <= 1:
            unit = units.get((keys[0].control, keys[0].channel), 1.0) if keys else 1.0
            moved(self.c, seconds, value / unit)
            return

        def edit(d, clip, some, layer):  # type: ignore[no-untyped-def]
            for unit in {units.get((k.control, k.channel), 1.0) for k in some}:
                mine = [k for k in some if units.get((k.control, k.channel), 1.0) == unit]
                d = edits.shift_keys(d, clip, mine, seconds=max(seconds, -min(k.time for k in some)), value=value / unit, layer=layer)
            return d

        if change(self.c, "Move keys", edit):
            pick(self.c, (k._replace(time=max(k.time + seconds, 0.0)) for k in keys))

    def inside(self, area: QRectF) -> list[KeyAt]:
        return [
            KeyAt(line.ref[0], line.ref[1], t) for line in self.lines if line.curve is not None
            for k, t in enumerate(line.curve.times.tolist()) if area.contains(QPointF(self.x_of(t), self.y_of(float(line.curve.values[k]) * line.unit)))
        ]  # fmt: skip

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """A key on the nearest curve, with the value it has there."""
        assert event is not None
        at, clip = event.position(), self.c.state.clip
        if clip is None or self._key_under(at) is not None:
            return
        time = round(self.time_at(at.x()) * self.c.state.rate) / self.c.state.rate
        near = [(abs(self.y_of(line.curve.at(time) * line.unit) - at.y()), line) for line in self.lines if line.curve is not None]
        if not near or min(n for n, _ in near) > 14:
            return
        line = min(near, key=lambda n: n[0])[1]
        layer = layer_id(self.c.state)
        self.c.try_edit("A key on the curve", lambda d: edits.put_key(d, clip.id, line.ref, max(time, 0.0), layer=layer), lambda _: pick(self.c, [KeyAt(line.ref[0], line.ref[1], max(time, 0.0))]))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        factor = 0.85 if event.angleDelta().y() > 0 else 1 / 0.85
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            about = self.time_at(event.position().x())
            first, last = about + (self.start - about) * factor, about + (self.start + self.span - about) * factor
            whole = first <= 0.0 and last >= self.c.state.length
            self.c.player.play_part() if whole else self.c.player.play_part(max(first, 0.0), min(last, self.c.state.length))
            return
        about = self.value_at(event.position().y())
        self.low, self.high = about + (self.low - about) * factor, about + (self.high - about) * factor
        self.update()


def _round_step(about: float) -> float:
    """A step of 1, 2 or 5 and zeros, about as large."""
    power = 10.0 ** np.floor(np.log10(max(about, 1e-9)))
    return float(next(power * k for k in (1, 2, 5, 10) if power * k >= about))
