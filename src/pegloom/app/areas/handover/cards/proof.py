"""Proof: the exported file measured against the live rig."""

from __future__ import annotations

from pegloom.app.areas.handover.settings import ExportSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card


class ProofCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Proof", "handover.proof",
            sentence="Writes the file, opens it again, and measures it against the live rig.",
        )  # fmt: skip
        self.body.addWidget(action_button(c.actions.qactions["handover.prove"]))
        self.proof = label("", "soft", wrap=True, name="handover.result")
        self.body.addWidget(self.proof)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(ExportSettings).report,)

    def show_state(self, state: State) -> None:
        self.proof.setText(state.settings.of(ExportSettings).report or "Not measured yet.")
