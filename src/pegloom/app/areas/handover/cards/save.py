"""Save: the project keeps everything."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card


class SaveCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Save", "handover.save", sentence="The project keeps everything: recipe, weights, controls, keys."
        )
        self.row(action_button(c.actions.qactions["file.save"]), action_button(c.actions.qactions["file.save_as"]))
