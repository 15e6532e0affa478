"""Follows: which of its spaces the picked control is in."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox

from pegloom.app.actions.posing import follow
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.spaces import show_spaces


class FollowsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Follows", "controls.follows", sentence="What the picked control follows. It stays where it is; over a clip keys are set."
        )
        self.stays_on("control")
        self.space = QComboBox()
        self.space.setObjectName("controls.follows_space")
        self.space.activated.connect(lambda _: follow(c, self.subject_id(c.state), self.space.currentData()))
        self.field("Follows", self.space)
        q = c.actions.qactions
        self.row(action_button(q["hold.take"], "Take hold"), action_button(q["hold.let_go"], "Let go"))
        self.words = label("", "caption", wrap=True, name="controls.follows_words")
        self.body.addWidget(self.words)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, self.subject_id(state), self.c.frames.control_pose)

    def show_state(self, state: State) -> None:
        one, lead = state.character, self.subject_id(state)
        rig = one.rig if one is not None else None
        self.note.setText(rig.control(lead).name if rig is not None and lead else "select a control")
        there = show_spaces(self.space, one.skeleton if one is not None else None, rig, self.c.frames.control_pose, lead)
        if there is None:
            self.words.setText("It has no spaces; add some while controls are built." if lead else "Goals, poles and others may have spaces.")
            return
        mixed = [f"{name} {w:.0%}" for name, w in there.weights.items() if 0.005 < w < 0.995]
        self.words.setText(f"mixed: {', '.join(mixed)}" if mixed else "")
