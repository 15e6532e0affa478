"""Build: all controls from the limb kits."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.core.said import counted


class BuildCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Build", "controls.build",
            sentence="All controls from the limb kits. Nothing moves; every control reads zero.",
        )  # fmt: skip
        self.body.addWidget(action_button(c.actions.qactions["controls.build"], role="main"))
        self.built = label("", "caption", wrap=True, name="controls.built")
        self.body.addWidget(self.built)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig,) if state.character is not None else ()

    def show_state(self, state: State) -> None:
        rig = state.character.rig if state.character is not None else None
        if rig is None:
            self.built.setText("No controls yet: build joints and bind, then build them.")
        else:
            self.built.setText(f"{counted(len(rig.handles), 'control')}, {counted(len(rig.solvers), 'IK set-up')}.")
        self.note.setText("built" if rig is not None else "")
