"""Gait: a walk from numbers."""

from __future__ import annotations

from pegloom.app.areas.motion.gaits import GaitSettings, take_preset
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, number, tick
from pegloom.core.motion.gait import PRESETS

FIELDS = (
    ("Stride", "stride", 5.0, 600.0, " % of leg", 5.0), ("Lift", "lift", 0.0, 100.0, " % of leg", 1.0), ("Hips", "height", 50.0, 115.0, " % of leg", 1.0),
    ("Lean", "lean", -40.0, 60.0, "°", 1.0), ("Arm swing", "arm_swing", 0.0, 90.0, "°", 2.0), ("Turn", "turn", -180.0, 180.0, "° a metre", 5.0),
    ("Strides", "strides", 0.5, 60.0, "", 1.0),
)  # fmt: skip


class GaitCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Gait", "motion.gait", sentence="A walk from numbers, for any body with legs: two, four or many.", is_open=False)
        self.preset = choice(self, GaitSettings, "preset", [(name, name) for name in PRESETS], name="gait.preset")
        self.preset.activated.connect(lambda _: take_preset(c, self.preset.currentData()))
        self.field("Begin with", self.preset)
        for title, field, low, high, suffix, step in FIELDS:
            self.field(title, number(self, GaitSettings, field, low, high, name=f"gait.{field}", suffix=suffix, decimals=1, step=step))
        self.body.addWidget(tick(self, GaitSettings, "in_place", "In place", name="gait.in_place", tip="The ground goes under it"))
        self.row(action_button(c.actions.qactions["gait.make"], "Make the clip", role="main"))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(GaitSettings),)

    def show_state(self, state: State) -> None:
        self.note.setText(state.settings.of(GaitSettings).preset)
