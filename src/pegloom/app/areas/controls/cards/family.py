"""Family: the master whose rig is worn, and what it changed."""

from __future__ import annotations

from pegloom.app.areas.controls.family import FamilySettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card


class FamilyCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Family", "controls.family", is_open=False,
            sentence="One master's rig on a whole cast. Each keeps its own pegs and what you changed on it by hand.",
        )  # fmt: skip
        q = c.actions.qactions
        self.who = label("", "soft", wrap=True, name="controls.family.who")
        self.body.addWidget(self.who)
        self.row(action_button(q["rig.wear_master"], "Wear a master"), action_button(q["rig.follow_master"], "Look for changes"))
        self.told = label("", "caption", wrap=True, name="controls.family.told")
        self.body.addWidget(self.told)

    def key(self, state: State) -> tuple[object, ...]:
        return (None if state.character is None else state.character.worn, state.settings.of(FamilySettings).report)

    def show_state(self, state: State) -> None:
        worn = None if state.character is None else state.character.worn
        self.who.setText(f"Wears the rig of {worn.name}" if worn is not None else "Wears no master's rig.")
        self.note.setText(worn.name if worn is not None else "")
        report = state.settings.of(FamilySettings).report
        self.told.setVisible(bool(report) and worn is not None)
        self.told.setText(report)
