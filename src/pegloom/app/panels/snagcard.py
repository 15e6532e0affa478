"""The snags of one area: what is wrong or doubtful, with Show and Fix."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.checks.snags import Snag

MOST = 12
"""Listed at once; mending them brings up the next."""


class SnagCard(Card):
    """area : whose snags are listed.
    sound : what is said when there are none.
    """

    lists_snags = True

    def __init__(self, c: Context, area: str, sound: str) -> None:
        super().__init__(c, "Snags", f"{area}.snags", is_open=False)
        self.area, self.sound = area, sound
        self.fixes = {fix.action: fix for spec in c.areas for fix in spec.fixes}
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.snags,)

    def show_state(self, state: State) -> None:
        snags = [s for s in state.snags if s.area == self.area]
        self.note.setText(f"{len(snags)}" if snags else "none")
        clear(self.rows)
        for snag in snags[:MOST]:
            self.rows.addWidget(label(snag.message, "snag", wrap=True))
            line = QHBoxLayout()
            line.setSpacing(6)
            if snag.where is not None:
                where = np.array(snag.where)
                line.addWidget(
                    button("Show", f"snag.show.{snag.code}", lambda w=where: self.c.view.show_point(w))  # type: ignore[misc]
                )
            fix = self.fixes.get(snag.fix)
            for way, text in ((fix.action, fix.text), *fix.others) if fix is not None else ():
                name = f"snag.fix.{snag.code}" if way == snag.fix else f"snag.{way}"
                subject = snag.subject if fix is not None and fix.of_subject else None
                line.addWidget(button(text, name, partial(self._mend, way, subject, snag)))
            line.addStretch(1)
            self.rows.addLayout(line)
        if len(snags) > MOST:
            self.rows.addWidget(label(f"and {len(snags) - MOST} more", "caption"))
        if not snags:
            self.rows.addWidget(label(self.sound, "caption", wrap=True))

    def _mend(self, action: str, subject: str | None, snag: Snag) -> None:
        """subject: id of the peg or joint it is for alone; None where it is for all."""
        fix = self.fixes.get(snag.fix)
        if fix is not None and fix.prepare is not None:
            fix.prepare(self.c, snag)
        character = self.c.state.character
        if subject is not None and character is not None:
            pegs = character.pegs.by_name if character.pegs is not None else {}
            kind = "peg" if subject in pegs else "joint" if subject else ""
            if (kind, subject) != (self.c.state.selection.kind, self.c.state.selection.lead):
                self.c.store.select(kind, *([subject] if subject else []))
        self.c.actions.run(action)
