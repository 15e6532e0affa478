"""Follow-through: chains on springs, and settings that several share, changed live."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.areas.controls.made import drop_springs
from pegloom.app.areas.controls.settings_made import SpringSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import line, slider
from pegloom.core.rig.controls import ControlRig
from pegloom.document import edits
from pegloom.document.edits.rig.springs import SETTINGS, USUAL, group_of

RANGES = {"mass": (0.1, 10.0), "stiffness": (5.0, 800.0), "damping": (0.0, 40.0), "gravity": (-20.0, 20.0)}
TIPS = {
    "mass": "Heavier: slower to follow", "stiffness": "How hard it is pulled back", "damping": "How soon it settles",
    "gravity": "How it hangs where it is turned from its rest",
}  # fmt: skip


def percent(value: float) -> str:
    return f"{value:.0%}"


class SpringCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Follow-through", "controls.springs",
            sentence="Pick the first turner of a chain (and its last with Shift): it lags behind and settles.", is_open=False,
        )  # fmt: skip
        self.field("Settings", line(self, SpringSettings, "group", name="controls.spring_group", hint="soft"))
        self.field("Swing", slider(self, SpringSettings, "swing", 0.0, 1.0, percent, name="controls.spring_swing"))
        self.field("Drift", slider(self, SpringSettings, "drift", 0.0, 1.0, percent, name="controls.spring_drift"))
        q = c.actions.qactions
        self.row(action_button(q["controls.springs"], "Follow through"), action_button(q["controls.bake_springs"], "Bake"))
        self.words = label("", "caption", wrap=True, name="controls.spring_words")
        self.body.addWidget(self.words)
        self.sliders: dict[str, SliderRow] = {}
        for key in SETTINGS:
            low, high = RANGES[key]
            row = SliderRow(f"controls.spring.{key}", low, high, lambda v: f"{v:.1f}", partial(self._preview, key), partial(self._released, key))
            row.setToolTip(TIPS[key])
            self.sliders[key] = row
            self.field(key.capitalize(), row)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(2)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, state.settings.of(SpringSettings))

    def show_state(self, state: State) -> None:
        rig = state.character.rig if state.character is not None else None
        name = state.settings.of(SpringSettings).group
        group = group_of(rig, name) if rig is not None else None
        for key, row in self.sliders.items():
            row.setEnabled(group is not None)
            value = USUAL[key]
            if group is not None and rig is not None:
                value = float(rig.slots.rest[rig.slots.index[getattr(group, key)]])
            low, high = RANGES[key]
            row.set(min(max(value, low), high))
        clear(self.rows)
        some = rig.springs if rig is not None else ()
        shared = sum(1 for s in some if group is not None and s.group == group.id)
        self.words.setText(f"{name}: shared by {shared}" if group is not None else f"“{name}” is made with the first chain that takes it.")
        self.note.setText(f"{len(some)} chains" if len(some) != 1 else "1 chain")
        for spring in some:
            box = QHBoxLayout()
            box.addWidget(label(f"{spring.name}  ({_group_name(rig, spring.group)})", "caption", wrap=True), 1)
            box.addWidget(button("Drop", f"controls.drop.{spring.id}", partial(drop_springs, self.c, spring.id), role="plain"))
            self.rows.addLayout(box)

    def _preview(self, key: str, value: float) -> None:
        if self.sliders[key].slider.isSliderDown():
            self.c.preview(lambda d: edits.set_spring_group(d, self._name, **{key: value}))  # type: ignore[arg-type]

    def _released(self, key: str, value: float) -> None:
        self.c.store.drop_draft()
        self.c.try_edit(f"{key.capitalize()} of {self._name}", lambda d: edits.set_spring_group(d, self._name, **{key: value}))  # type: ignore[arg-type]

    @property
    def _name(self) -> str:
        return self.c.state.settings.of(SpringSettings).group


def _group_name(rig: ControlRig | None, told: str) -> str:
    group = group_of(rig, told) if rig is not None else None
    return group.name if group is not None else told
