"""The curves under the ruler: the canvas, and over it what can be done with the keys in hand."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from pegloom.app.areas.motion.curve_canvas import Canvas
from pegloom.app.areas.motion.keying import (
    CURVES,
    curves_in_hand,
    curves_open,
    moved,
    picked_keys,
    set_ends,
    set_value,
    settings,
    shown_refs,
    toggle_curves,
)
from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT, TimeWidget
from pegloom.app.spec import Lane
from pegloom.app.state.state import State
from pegloom.app.theme import put_icon
from pegloom.app.widgets import action_button, button, label
from pegloom.core.curves.curve import Beyond

HEIGHT = 236
BAR = 34


ENDS = (("stay", Beyond.STAY), ("straight on", Beyond.LINE), ("loop", Beyond.LOOP), ("loop on", Beyond.LOOP_ON), ("back and forth", Beyond.MIRROR))


class CurveLane(TimeWidget):
    """The canvas with a row of what can be done over it."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("curves")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        bar = QWidget()
        bar.setFixedHeight(BAR)
        # It never makes the window wider.
        bar.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        row = QHBoxLayout(bar)
        row.setContentsMargins(LEFT, 3, RIGHT, 3)
        row.setSpacing(3)
        q = c.actions.qactions
        for title, some in (
            ("Slope", (("keys.auto_slope", "By itself"), ("keys.level_slope", "Level"), ("keys.one_slope", "One"), ("keys.two_slopes", "Two"))),
            ("Run", (("keys.smooth", "Smooth"), ("keys.straight", "Straight"), ("keys.held", "Held"))),
        ):
            row.addWidget(label(title, "caption"))
            for action, text in some:
                row.addWidget(action_button(q[action], text))
            row.addSpacing(6)
        row.addWidget(label("Frame", "caption"))
        self.frame = self._number("curves.frame", 0, 1_000_000, 0, self._set_frame, "Frame of the picked keys")
        row.addWidget(self.frame)
        row.addWidget(label("Value", "caption"))
        self.value = self._number("curves.value", -1e6, 1e6, 2, self._set_value, "Value of the picked keys: degrees, centimetres, or plain")
        row.addWidget(self.value)
        row.addSpacing(6)
        row.addWidget(label("Ends", "caption"))
        self.first = self._ends("curves.first", "Before the first key", lambda b: set_ends(c, first=b))
        self.last = self._ends("curves.last", "After the last key", lambda b: set_ends(c, last=b))
        row.addWidget(self.first)
        row.addWidget(self.last)
        row.addStretch(1)
        row.addWidget(button("Fit", "curves.fit", lambda: self.canvas.fit(), tip="All of it from top to bottom"))
        shut = button("", "curves.close", partial(toggle_curves, c), role="plain", tip="Close (Esc)")
        shut.setAccessibleName("Close the curves")
        put_icon(shut, "x")
        row.addWidget(shut)
        column.addWidget(bar)
        self.canvas = Canvas(c)
        column.addWidget(self.canvas, 1)

    def _number(self, name: str, low: float, high: float, decimals: int, put, tip: str) -> QDoubleSpinBox:  # type: ignore[no-untyped-def]
        box = QDoubleSpinBox()
        box.setObjectName(name)
        box.setAccessibleName(tip)
        box.setToolTip(tip)
        box.setRange(low, high)
        box.setDecimals(decimals)
        box.setKeyboardTracking(False)
        box.setFixedWidth(60)
        box.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        box.valueChanged.connect(lambda value: None if self.showing else put(value))
        return box

    def _ends(self, name: str, tip: str, put) -> QComboBox:  # type: ignore[no-untyped-def]
        box = QComboBox()
        box.setObjectName(name)
        box.setAccessibleName(tip)
        box.setToolTip(tip)
        box.setFixedWidth(76)
        for text, kind in ENDS:
            box.addItem(text, kind)
        box.activated.connect(lambda _: put(box.currentData()))
        return box

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip, state.layer, settings(state).picked, state.selection.ids, state.character)

    def _unit(self) -> float:
        keys = picked_keys(self.c.state)
        return next((one.unit for one in self.canvas.lines if keys and one.ref == (keys[0].control, keys[0].channel)), 1.0)

    def show_state(self, state: State) -> None:
        keys = picked_keys(state)
        curves = curves_in_hand(state)
        for box in (self.frame, self.value):
            box.setEnabled(bool(keys))
        if keys:
            self.frame.setValue(round(min(k.time for k in keys) * state.rate))
            first = curves[(keys[0].control, keys[0].channel)]
            self.value.setValue(first.at(keys[0].time) * self._unit())
        refs = [r for r in shown_refs(state) if r in curves]
        for end, side in ((self.first, "first"), (self.last, "last")):
            end.setEnabled(bool(refs))
            if refs:
                end.setCurrentIndex(end.findData(getattr(curves[refs[0]], side)))

    def _set_frame(self, frame: float) -> None:
        keys = picked_keys(self.c.state)
        if keys:
            moved(self.c, frame / self.c.state.rate - min(k.time for k in keys))

    def _set_value(self, value: float) -> None:
        set_value(self.c, value / self._unit())


def curve_lane() -> Lane:
    """The curves, where they are open and a clip is on the strip."""
    return Lane(CURVES, CurveLane, HEIGHT, lambda s: s.clip is not None and curves_open(s))
