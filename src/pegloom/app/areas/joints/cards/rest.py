"""A new rest."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card


class RestCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "New rest", "joints.rest", sentence="Points are settled so; weights, controls and clips are kept.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.row(
            action_button(q["rest.t"], "T-pose"), action_button(q["rest.a"], "A-pose"),
            action_button(q["rest.pose"], "This pose"),
        )  # fmt: skip
        self.body.addWidget(action_button(q["rest.first"], "First frame of the clip"))
