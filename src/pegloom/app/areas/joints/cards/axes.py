"""Axes of joints."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card


class AxesCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Axes", "joints.axes", sentence="Cords show the twist: the bright strand is the bend axis.", is_open=False
        )
        q = c.actions.qactions
        self.row(action_button(q["axes.check"], "Check"), action_button(q["axes.mend"], "Mend all"))
        self.row(action_button(q["axes.aim"], "Aim along"), action_button(q["axes.square"], "Square bend"))
        self.row(
            action_button(q["axes.align"], "Align chain"), action_button(q["axes.match"], "Match last"),
            action_button(q["axes.mirror"], "Mirror axes"),
        )  # fmt: skip
