"""Build or pose: what the area is for now."""

from __future__ import annotations

from pegloom.app.areas.controls.actions import work
from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.areas.controls.working import working
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import Choices, label
from pegloom.app.widgets.card import Card

SAYS = {
    Work.BUILD: "Choose what bends each limb, add IK and constraints. A dragged control springs back.",
    Work.POSE: "Drag controls. What you pose stays.",
    Work.FACE: "Handles for morph targets, and expressions kept by name.",
}


class WorkCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Build or pose", "controls.work")
        # A switch of the column, not a card to fold.
        self.setProperty("role", "")
        self.head.hide()
        self.note.hide()
        self.choices = Choices("controls.work", [("Build", Work.BUILD), ("Pose", Work.POSE), ("Face", Work.FACE)], lambda w: work(c, w))
        self.body.addWidget(self.choices)
        self.words = label("", "caption", wrap=True, name="controls.work.words")
        self.body.addWidget(self.words)

    def set_open(self, is_open: bool) -> None:
        super().set_open(True)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(WorkSettings).work, state.character is None or state.character.rig is None, state.viewing.animators, state.character is not None and state.character.closed)

    def show_state(self, state: State) -> None:
        what = next(w for w in Work if working(w)(state))
        self.choices.set(what)
        self.choices.buttons[Work.BUILD].setVisible(not state.viewing.animators)
        closed = state.character is not None and state.character.closed
        self.words.setText("This rig is closed: it is posed and animated, and not built. Open it up in the card Check." if closed and what is Work.BUILD else SAYS[what])
