"""The coupling pane: what one coupling reads, its formula, its curve, and what it gives, each change shown live."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from pegloom.app.areas.controls.made import add_reading, drop_coupling, drop_reading, open_coupling
from pegloom.app.areas.controls.settings import Work
from pegloom.app.areas.controls.settings_made import CouplingSettings
from pegloom.app.areas.controls.working import working
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.panel import Panel
from pegloom.core.curves import Curve, curve
from pegloom.core.errors import PegLoomError
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Combine, Coupling, value_of
from pegloom.core.rig.evaluate import evaluate_rig, nodes_at
from pegloom.core.rig.formulas import FormulaError
from pegloom.document import edits
from pegloom.document.edits.rig.changing import name_of
from pegloom.document.edits.rig.channels import channel_of, said_channel
from pegloom.document.edits.rig.couplings import readings_now
from pegloom.document.model import Document

GRIP = 9.0
"""Pixels within which a point of the curve is taken hold of."""
LEAST_SPAN = 1e-3


def opened(state: State) -> Coupling | None:
    """The coupling the pane shows."""
    rig = state.character.rig if state.character is not None else None
    told = state.settings.of(CouplingSettings).open
    return next((c for c in rig.couplings if c.id == told), None) if rig is not None and told else None


def wanted(state: State) -> bool:
    """Whether the pane is there."""
    return working(Work.BUILD)(state) and opened(state) is not None


class CurveBox(QWidget):
    """A curve to be dragged: a point moved, one put in by a double click, one taken out by a right click."""

    def __init__(self, changed: Callable[[Curve], None], done: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("coupling.curve")
        self.setAccessibleName("Curve: drag points, double-click adds one, right-click takes one out")
        self.setFixedHeight(190)
        self.setToolTip("Drag points; double-click adds one, right-click takes one out")
        self.changed, self.done = changed, done
        self.curve: Curve | None = None
        self.span = (0.0, 1.0, 0.0, 1.0)
        self.now: float | None = None
        self.held: int | None = None

    def show_curve(self, shown: Curve | None, now: float | None) -> None:
        """Show a curve, and where its reading stands."""
        self.curve, self.now = shown, now
        if self.held is None and shown is not None:
            x, y = shown.times, shown.values
            wide, tall = max(float(np.ptp(x)), LEAST_SPAN), max(float(np.ptp(y)), LEAST_SPAN)
            self.span = (float(x.min()) - 0.1 * wide, float(x.max()) + 0.1 * wide, float(y.min()) - 0.15 * tall, float(y.max()) + 0.15 * tall)
        self.update()

    def _room(self) -> QRectF:
        return QRectF(6, 6, self.width() - 12, self.height() - 12)

    def to_pixel(self, x: float, y: float) -> QPointF:
        room, (a, b, c, d) = self._room(), self.span
        return QPointF(room.left() + (x - a) / (b - a) * room.width(), room.bottom() - (y - c) / (d - c) * room.height())

    def from_pixel(self, at: QPointF) -> tuple[float, float]:
        room, (a, b, c, d) = self._room(), self.span
        return a + (at.x() - room.left()) / room.width() * (b - a), c + (room.bottom() - at.y()) / room.height() * (d - c)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, theme = QPainter(self), current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.setBrush(QColor(theme.raised))
        painter.drawRoundedRect(self._room().adjusted(-4, -4, 4, 4), 6, 6)
        if self.curve is None:
            return
        zero = self.to_pixel(0.0, 0.0)
        painter.setPen(QPen(QColor(theme.line), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(6, zero.y()), QPointF(self.width() - 6, zero.y()))
        painter.drawLine(QPointF(zero.x(), 6), QPointF(zero.x(), self.height() - 6))
        xs = np.linspace(self.span[0], self.span[1], 120)
        ys = self.curve.at_all(xs)
        painter.setPen(QPen(QColor(theme.woad), 2))
        points = [self.to_pixel(float(x), float(y)) for x, y in zip(xs, ys, strict=True)]
        for a, b in zip(points, points[1:], strict=False):
            painter.drawLine(a, b)
        if self.now is not None:
            at = self.to_pixel(self.now, self.curve.at(self.now))
            painter.setPen(QPen(QColor(theme.text), 1.5))
            painter.drawLine(QPointF(at.x(), 6), QPointF(at.x(), self.height() - 6))
        painter.setPen(QPen(QColor(theme.raised), 1))
        for k, (x, y) in enumerate(zip(self.curve.times, self.curve.values, strict=True)):
            painter.setBrush(QColor(theme.madder if k == self.held else theme.woad))
            painter.drawEllipse(self.to_pixel(float(x), float(y)), 5.0, 5.0)

    def _under(self, at: QPointF) -> int | None:
        if self.curve is None:
            return None
        gaps = [(self.to_pixel(float(x), float(y)) - at).manhattanLength() for x, y in zip(self.curve.times, self.curve.values, strict=True)]
        best = int(np.argmin(gaps))
        return best if gaps[best] < 2 * GRIP else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        found = self._under(event.position())
        if event.button() == Qt.MouseButton.RightButton and found is not None and self.curve is not None and len(self.curve.times) > 2:
            kept = np.arange(len(self.curve.times)) != found
            self._take(self.curve.times[kept], self.curve.values[kept])
            self.done()
        elif event.button() == Qt.MouseButton.LeftButton:
            self.held = found

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.curve is None or self._under(event.position()) is not None:
            return
        x, y = self.from_pixel(event.position())
        order = int(np.searchsorted(self.curve.times, x))
        self._take(np.insert(self.curve.times, order, x), np.insert(self.curve.values, order, y))
        self.done()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.held is None or self.curve is None:
            return
        x, y = self.from_pixel(event.position())
        times, values = self.curve.times.copy(), self.curve.values.copy()
        gap = (self.span[1] - self.span[0]) * 1e-3
        low = times[self.held - 1] + gap if self.held else -np.inf
        high = times[self.held + 1] - gap if self.held + 1 < len(times) else np.inf
        times[self.held], values[self.held] = min(max(x, low), high), y
        self._take(times, values)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self.held is not None:
            self.held = None
            self.done()

    def _take(self, times: np.ndarray, values: np.ndarray) -> None:
        keep = np.concatenate([[True], np.diff(times) > 1e-9])
        self.curve = curve(times[keep], values[keep])
        self.changed(self.curve)
        self.update()


class CouplingPane(Panel):
    """Stays on its coupling while other things are picked."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("coupling")
        self.setProperty("role", "pane")
        self.pending: dict[str, object] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 10, 14, 10)
        outer.setSpacing(10)
        left, middle, right, foot = QVBoxLayout(), QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for column, stretch in ((left, 0), (middle, 0), (right, 1), (foot, 0)):
            column.setSpacing(5)
            outer.addLayout(column, stretch)
        head = QHBoxLayout()
        self.title = label("", "heading", name="coupling.title")
        head.addWidget(self.title, 1)
        close = button("", "coupling.close", lambda: open_coupling(c, ""), role="plain", tip="Close")
        put_icon(close, "x")
        close.setAccessibleName("Close the coupling")
        head.addWidget(close)
        left.addLayout(head)
        self.drives = label("", "caption", wrap=True, name="coupling.drives")
        left.addWidget(self.drives)
        self.reads = QVBoxLayout()
        self.reads.setSpacing(2)
        left.addLayout(self.reads)
        left.addWidget(button("Add a reading", "coupling.add_reading", lambda: c.attempt(lambda: add_reading(c)), role="plain", tip="What the card Couplings says under Reads becomes one more reading"))
        line = QHBoxLayout()
        line.addWidget(action_button(c.actions.qactions["controls.across"], "Other side"))
        line.addWidget(action_button(c.actions.qactions["controls.copy_coupling"], "Copy to picked"))
        foot.addLayout(line)
        foot.addWidget(button("Drop", "coupling.drop", self._drop, role="plain"))
        middle.addWidget(label("Formula", "soft"))
        self.formula = QLineEdit()
        self.formula.setObjectName("coupling.formula")
        self.formula.setAccessibleName("Formula over the readings")
        self.formula.setToolTip("Plain arithmetic: + - * / % **, comparisons, a if b else c, min max abs clamp mix smooth sin cos ...; 30 * deg, 2 * cm")
        self.formula.textEdited.connect(lambda text: self._try(formula=text))
        self.formula.editingFinished.connect(self._keep)
        middle.addWidget(self.formula)
        self.error = label("", "caption", wrap=True, name="coupling.error")
        middle.addWidget(self.error)
        self.boxes: dict[str, QDoubleSpinBox] = {}
        for key, word in (("gain", "Gain"), ("offset", "Offset")):
            box = QDoubleSpinBox()
            box.setObjectName(f"coupling.{key}")
            box.setAccessibleName(word)
            box.setRange(-1e6, 1e6)
            box.setDecimals(3)
            box.setSingleStep(0.1)
            box.valueChanged.connect(lambda value, k=key: self._try(**{k: value}))
            box.editingFinished.connect(self._keep)
            self.boxes[key] = box
        row = QHBoxLayout()
        for key, word in (("gain", "Gain"), ("offset", "Offset")):
            row.addWidget(label(word, "soft"))
            row.addWidget(self.boxes[key], 1)
        middle.addLayout(row)
        self.combine = QComboBox()
        self.combine.setObjectName("coupling.combine")
        self.combine.setAccessibleName("What becomes of the value that stands there")
        for text, value in (("adds to what is posed", Combine.ADD), ("sets it", Combine.SET), ("is a factor of it", Combine.TIMES)):
            self.combine.addItem(text, value)
        self.combine.activated.connect(lambda _: self._now(combine=self.combine.currentData(), still=True))
        middle.addWidget(self.combine)
        row = QHBoxLayout()
        row.addWidget(button("Nothing moves at rest", "coupling.still", lambda: self._now(still=True), role="plain", tip="An offset that changes nothing at rest"))
        self.order = label("", "caption", name="coupling.order")
        row.addWidget(self.order)
        row.addWidget(button("Earlier", "coupling.earlier", self._earlier, role="plain", tip="Let it work before the driver ahead of it"))
        middle.addLayout(row)
        head = QHBoxLayout()
        head.addWidget(label("Curve", "soft"))
        head.addStretch(1)
        self.curved = button("Use a curve", "coupling.curved", self._toggle_curve, role="plain")
        head.addWidget(self.curved)
        right.addLayout(head)
        self.curve = CurveBox(lambda made: self._try(curve=made), self._keep)
        right.addWidget(self.curve)
        right.addStretch(1)

    # What it shows

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(CouplingSettings).open, state.character.rig if state.character is not None else None, self.c.frames.control_pose)

    def show_state(self, state: State) -> None:
        one, rig = opened(state), state.character.rig if state.character is not None else None
        if one is None or rig is None or state.character is None or state.character.skeleton is None:
            return
        skeleton = state.character.skeleton
        drivers = rig.drivers[one.drives]
        self.title.setText(one.name or one.id)
        values = evaluate_rig(skeleton, rig, self.c.frames.control_pose).values
        now = self._readings(rig, one, values)
        lines = []
        for reading, value in zip(one.readings, now, strict=True):
            if reading.channel is not None:
                said, quantity = said_channel(rig, reading.channel), channel_of(rig, reading.channel).quantity
            else:
                assert reading.measure is not None
                m = reading.measure
                said = f"{m.what.value} of {name_of(skeleton, rig, m.node)} in {name_of(skeleton, rig, m.other)}"
                quantity = Quantity.ANGLE if m.what.value in ("turn", "swing") else Quantity.LENGTH
            lines.append((reading.name, f"{reading.name} = {shown(quantity, value)}  ({said})"))
        self._show_readings(one, lines)
        slot = rig.slots.index[one.drives]
        driven = channel_of(rig, one.drives)
        self.drives.setText(f"drives {said_channel(rig, one.drives)}: now {shown(driven.quantity, float(values[slot]))}")
        if not self.formula.hasFocus():
            self.formula.setText(one.formula)
        for key, box in self.boxes.items():
            if not (box.hasFocus() and key in self.pending):
                box.setValue(getattr(one, key))
        self.combine.setCurrentIndex(self.combine.findData(one.combine))
        place = [d.id for d in drivers].index(one.id) + 1
        self.order.setText(f"{place} of {len(drivers)} drivers" if len(drivers) > 1 else "its only driver")
        self.curved.setText("Straight" if one.curve is not None else "Use a curve")
        self.curve.setVisible(one.curve is not None)
        self.curve.show_curve(one.curve, self._input(one, now) if one.curve is not None else None)

    def _show_readings(self, one: Coupling, lines: list[tuple[str, str]]) -> None:
        clear(self.reads)
        for name, words in lines:
            row = QHBoxLayout()
            row.addWidget(label(words, "caption", wrap=True), 1)
            if len(lines) > 1:
                drop = button("", f"coupling.drop_reading.{name}", partial(drop_reading, self.c, one.id, name), role="plain", tip=f"Read {name} no more")
                put_icon(drop, "x")
                drop.setAccessibleName(f"Read {name} no more")
                row.addWidget(drop)
            self.reads.addLayout(row)

    def _readings(self, rig: ControlRig, one: Coupling, values: np.ndarray) -> tuple[float, ...]:
        if all(r.channel is not None for r in one.readings):
            return tuple(float(values[rig.slots.index[r.channel]]) for r in one.readings if r.channel is not None)
        nodes = nodes_at(self.c.skeleton, rig, rig.slots.vector(self.c.frames.control_pose)[None], bases=True)[0]
        return readings_now(self.c.skeleton, rig, one, values, nodes)

    @staticmethod
    def _input(one: Coupling, now: tuple[float, ...]) -> float:
        """What goes into the curve."""
        return value_of(replace(one, curve=None, gain=1.0, offset=0.0), now)

    # What it changes

    def _edit(self, values: dict[str, object]) -> Callable[[Document], Document]:
        one = opened(self.c.state)
        told = one.id if one is not None else ""
        rest = {k: v for k, v in values.items() if k != "curve"}

        def edit(document: Document) -> Document:
            if rest:
                document = edits.change_coupling(document, told, **rest)  # type: ignore[arg-type]
            if "curve" in values:
                document = edits.with_curve(document, told, values["curve"])  # type: ignore[arg-type]
            return document

        return edit

    def _try(self, **values: object) -> None:
        """Show what a change would make, while it is typed or dragged."""
        if self.showing or opened(self.c.state) is None:
            return
        self.pending |= values
        self._said(self.c.preview(self._edit(self.pending)))

    def _said(self, error: PegLoomError | None) -> None:
        self.error.setText("" if error is None else str(error))
        self.formula.setProperty("wrong", error is not None)
        if isinstance(error, FormulaError) and error.at >= 0 and self.formula.hasFocus():
            # The place is shown by a mark under the text, the hand that types is left where it is.
            text = self.formula.text()
            self.error.setText(f"{text[: error.at]}▸{text[error.at :]}\n{error}")

    def _keep(self) -> None:
        """What was tried becomes a step."""
        if not self.pending or opened(self.c.state) is None:
            return
        values, self.pending = self.pending, {}
        one = opened(self.c.state)
        assert one is not None
        self.c.store.drop_draft()
        if not self.c.try_edit(f"Change {one.name}", self._edit(values)):
            self.look_anew()
        else:
            self.error.setText("")

    def _now(self, **values: object) -> None:
        self.pending |= values
        self._keep()

    def _toggle_curve(self) -> None:
        one = opened(self.c.state)
        if one is None:
            return
        if one.curve is not None:
            self._now(curve=None)
            return
        rig = self.c.character.require_rig()
        low, high = _range(rig, one)
        self._now(curve=curve([low, 0.5 * (low + high), high], [low, 0.5 * (low + high), high]))

    def _earlier(self) -> None:
        one = opened(self.c.state)
        if one is None:
            return
        drivers = list(self.c.character.require_rig().drivers[one.drives])
        at = [d.id for d in drivers].index(one.id)
        if not at:
            return
        drivers[at - 1], drivers[at] = drivers[at], drivers[at - 1]

        def edit(document: Document) -> Document:
            for order, driver in enumerate(drivers):
                document = edits.change_coupling(document, driver.id, order=order)
            return document

        self.c.try_edit(f"{one.name} earlier", edit)

    def _drop(self) -> None:
        one = opened(self.c.state)
        if one is not None:
            drop_coupling(self.c, one.id)
            open_coupling(self.c, "")


def _range(rig: ControlRig, one: Coupling) -> tuple[float, float]:
    """From where to where a new curve goes: the range of the first channel that is read."""
    ref = one.readings[0].channel
    if ref is None:
        return 0.0, 1.0
    channel = channel_of(rig, ref)
    usual = {Quantity.ANGLE: np.pi / 2, Quantity.LENGTH: 0.2}.get(channel.quantity, 1.0)
    low = channel.low if channel.low is not None else -usual
    high = channel.high if channel.high is not None else usual
    return (low, high) if high - low > 1e-9 else (0.0, 1.0)


def shown(quantity: Quantity, value: float) -> str:
    """A value as a person reads it."""
    unit = {Quantity.LENGTH: " cm", Quantity.ANGLE: "°"}.get(quantity, "")
    return f"{value * quantity.on_screen:.2f}{unit}"
