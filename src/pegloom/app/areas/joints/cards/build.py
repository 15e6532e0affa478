"""Build: joints from the pegs."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.core.said import counted


class BuildCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Build", "joints.build",
            sentence="Joints from the pegs, aimed down the limbs. Build again at any time: work below stays.",
        )  # fmt: skip
        self.body.addWidget(action_button(c.actions.qactions["joints.build"], role="main"))
        self.built = label("", "caption", wrap=True, name="joints.built")
        self.body.addWidget(self.built)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return () if one is None else (one.skeleton, one.pegs is None, one.joint_overrides, one.own_joints)

    def show_state(self, state: State) -> None:
        one = state.character
        if one is not None and one.skeleton is not None:
            moved = len(one.joint_overrides) + len(one.own_joints)
            by_hand = f"; {moved} changed or added by hand, kept" if moved else ""
            self.built.setText(f"{counted(len(one.skeleton.joints), 'joint')}{by_hand}")
            return
        pegs = one is not None and one.pegs is not None
        self.built.setText("No joints yet." if pegs else "Find pegs first, or draw joints (J).")
