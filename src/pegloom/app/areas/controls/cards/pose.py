"""Pose: the tools that move controls, and back to rest."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import State, Tool
from pegloom.app.widgets import Choices, action_button
from pegloom.app.widgets.card import Card


class PoseCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Pose", "controls.pose", sentence="Drag a control in the view, or a grip of its handle. Ctrl snaps."
        )
        tools = [("Pick", Tool.PICK), ("Move", Tool.MOVE), ("Rotate", Tool.TURN), ("Scale", Tool.GROW)]
        self.tools = Choices("controls.tool", tools, lambda tool: c.store.put(tool=tool))
        self.body.addWidget(self.tools)
        q = c.actions.qactions
        self.row(
            action_button(q["pose.rest"], "To rest"), action_button(q["pose.rest_all"], "All to rest"),
            action_button(q["pose.mirror"], "Mirror pose"),
        )  # fmt: skip

    def key(self, state: State) -> tuple[object, ...]:
        return (state.tooling.tool,)

    def show_state(self, state: State) -> None:
        if state.tooling.tool in tuple(Tool):
            self.tools.set(Tool(state.tooling.tool))
