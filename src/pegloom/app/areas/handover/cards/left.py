"""Snags left in any area."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import label
from pegloom.app.widgets.card import Card
from pegloom.checks import Severity

MOST = 10


class LeftCard(Card):
    lists_snags = True

    def __init__(self, c: Context) -> None:
        super().__init__(c, "Snags", "handover.snags", sentence="What is wrong or doubtful in any area.")
        self.listed = label("", "caption", wrap=True, name="handover.snag_list")
        self.body.addWidget(self.listed)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.snags,)

    def show_state(self, state: State) -> None:
        found = [s for s in state.snags if s.severity is not Severity.NOTE]
        self.note.setText(str(len(found)))
        self.listed.setText("\n".join(s.message for s in found[:MOST]) or "None.")
