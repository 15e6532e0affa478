"""Time: a clip's length and rate."""

from __future__ import annotations

from PyQt6.QtWidgets import QDoubleSpinBox, QSpinBox

from pegloom.app.areas.motion.actions import set_time
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import tick


class TimeCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Time", "motion.time")
        self.length = QDoubleSpinBox()
        self.length.setObjectName("motion.length")
        self.length.setRange(0.05, 3600)
        self.length.setSuffix(" s")
        self.length.editingFinished.connect(self._set)
        self.rate = QSpinBox()
        self.rate.setObjectName("motion.rate")
        self.rate.setRange(1, 240)
        self.rate.setSuffix(" frames/s")
        self.rate.editingFinished.connect(self._set)
        self.field("Length", self.length)
        self.field("Rate", self.rate)
        self.body.addWidget(tick(self, HandSettings, "looping", "Loop", name="motion.loop"))
        q = c.actions.qactions
        self.row(action_button(q["time.from_here"], "From here"), action_button(q["time.to_here"], "To here"), action_button(q["time.whole"], "Whole"))
        self.row(
            action_button(q["time.first"], "First"), action_button(q["time.previous_key"], "Key before"),
            action_button(q["time.next_key"], "Key after"), action_button(q["time.last"], "Last"),
        )
        self.words = label("", "caption", wrap=True)
        self.body.addWidget(self.words)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip,)

    def show_state(self, state: State) -> None:
        clip = state.clip
        for box in (self.length, self.rate):
            box.setEnabled(clip is not None)
            # Without a clip there is no time: the least value is shown as nothing.
            box.setSpecialValueText("" if clip is not None else " ")
        if clip is None:
            self.length.setValue(self.length.minimum())
            self.rate.setValue(self.rate.minimum())
        if clip is not None and not self.length.hasFocus() and not self.rate.hasFocus():
            self.length.setValue(clip.length)
            self.rate.setValue(int(clip.rate))
        sampled = clip is not None and bool(clip.tracks)
        self.words.setText("Sampled motion from a file: it plays and exports as it came." if sampled else "")

    def _set(self) -> None:
        clip, length, rate = self.c.state.clip, self.length.value(), self.rate.value()
        if clip is not None and (abs(clip.length - length) > 1e-6 or clip.rate != rate):
            set_time(self.c, length, float(rate))
