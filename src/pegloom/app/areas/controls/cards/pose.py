"""Pose: the tools that move controls, along which axes, and the pose to rest, copied and mirrored."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import Axes, HandSettings, PosingSettings, State, Tool
from pegloom.app.widgets import Choices, action_button
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number, tick


class PoseCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Pose", "controls.pose", sentence="Drag a control in the view, or a grip of its handle. Ctrl snaps."
        )
        tools = [("Pick", Tool.PICK), ("Move", Tool.MOVE), ("Rotate", Tool.TURN), ("Scale", Tool.GROW), ("Skin", Tool.SKIN)]
        self.tools = Choices("controls.tool", tools, lambda tool: c.store.put(tool=tool))
        self.body.addWidget(self.tools)
        axes = [("Own axes", Axes.OWN), ("Parent", Axes.PARENT), ("World", Axes.WORLD), ("View", Axes.VIEW)]
        self.axes = Choices("controls.axes", axes, lambda which: c.keep_setting(PosingSettings, axes=which))
        self.body.addWidget(self.axes)
        steps = (
            number(self, PosingSettings, "move_step", 0.01, 1000.0, name="controls.move_step", suffix=" cm", decimals=2),
            number(self, PosingSettings, "turn_step", 0.1, 180.0, name="controls.turn_step", suffix="°", decimals=1),
        )
        for box in steps:
            box.setMinimumWidth(58)
        self.row(tick(self, PosingSettings, "snapping", "Snap", name="controls.snapping", tip="Without Ctrl; with Ctrl not"), *steps)
        q = c.actions.qactions
        self.row(
            action_button(q["pose.rest"], "To rest"), action_button(q["pose.rest_branch"], "Branch"),
            action_button(q["pose.rest_all"], "All"),
        )  # fmt: skip
        self.row(
            action_button(q["pose.copy"], "Copy"), action_button(q["pose.paste"], "Paste"),
            action_button(q["pose.paste_across"], "Paste across"),
        )  # fmt: skip
        self.row(action_button(q["pose.across"], "To other side"), action_button(q["pose.mirror"], "Swap sides"))
        self.body.addWidget(tick(self, HandSettings, "auto_key", "Auto-key: every change sets a key", name="controls.auto_key"))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.tooling.tool, state.settings.of(PosingSettings).axes)

    def show_state(self, state: State) -> None:
        if state.tooling.tool in tuple(Tool):
            self.tools.set(Tool(state.tooling.tool))
        self.axes.set(state.settings.of(PosingSettings).axes)
