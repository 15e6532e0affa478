"""Start clean: drop what is not wanted of what there is."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card


class CleanCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Start clean", "mesh.clean",
            sentence="Keep the mesh at rest; drop what you do not want. One undo each.", is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.row(action_button(q["mesh.clean_all"], "All but the mesh"), action_button(q["mesh.clean_weights"], "Weights"))
        self.row(
            action_button(q["mesh.clean_controls"], "Controls"), action_button(q["mesh.clean_clips"], "Clips"),
            action_button(q["mesh.clean_morphs"], "Morphs"),
        )  # fmt: skip
