"""What was posed over a clip and is no key yet, with the choice of what becomes of it."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout

from pegloom.app.context import Context
from pegloom.app.spec import Pane, Place
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.panel import Panel


class PosedBar(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("posed")
        self.setProperty("role", "tag")
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 7, 10, 7)
        line.setSpacing(8)
        self.words = label("", "soft", name="posed.words")
        line.addWidget(self.words)
        q = c.actions.qactions
        line.addWidget(action_button(q["keys.write_posed"], "Set keys here", role="main"))
        line.addWidget(action_button(q["keys.layer_posed"], "Make a layer"))
        line.addWidget(action_button(q["keys.let_go"], "Let go"))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip, state.posed_over)

    def show_state(self, state: State) -> None:
        draft = state.posed_over
        controls = {control for control, _ in draft.pose.values} if draft is not None else set()
        count = "1 control is" if len(controls) == 1 else f"{len(controls)} controls are"
        self.words.setText(f"{count} posed over {state.clip.name if state.clip is not None else 'the clip'}, not keyed")
        self.adjustSize()


def posed_pane() -> Pane:
    """The bar as a pane, for the areas that pose."""
    return Pane("posed", "Posed over the clip", Place.OVER, PosedBar, lambda s: s.draft_pose is not None, middle=True)
