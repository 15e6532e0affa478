"""Proof: the exported file opened by other code, and measured against the live rig."""

from __future__ import annotations

from pegloom.app.areas.handover.settings import ExportSettings
from pegloom.app.context import Context
from pegloom.app.state.proved import Proved
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card


class ProofCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Proof", "handover.proof",
            sentence="Writes the file, opens it again by code that did not write it, and measures it at keys and between.",
        )  # fmt: skip
        q = c.actions.qactions
        self.row(action_button(q["handover.prove"], "Measure"), action_button(q["handover.page"], "Page"))
        self.where = action_button(q["handover.where"], "Show where")
        self.body.addWidget(self.where)
        self.proof = label("", "soft", wrap=True, name="handover.result")
        self.body.addWidget(self.proof)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(ExportSettings).report, state.settings.of(Proved).by_vertex)

    def show_state(self, state: State) -> None:
        self.where.setVisible(bool(state.settings.of(Proved).by_vertex))
        self.proof.setText(state.settings.of(ExportSettings).report or "Not measured yet.")
