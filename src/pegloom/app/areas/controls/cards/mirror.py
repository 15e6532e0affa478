"""Mirror: everything of one side, on the other."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card


class MirrorCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Mirror everything", "controls.mirror",
            sentence="Shapes, what bends each limb, IK, constraints, spaces, limits, channels: from one side to the other.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.row(action_button(q["controls.mirror_left"], "Left to right"), action_button(q["controls.mirror_right"], "Right to left"))
