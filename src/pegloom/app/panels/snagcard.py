"""The snags of one area: what is wrong or doubtful, with Show and Fix."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.checks import Snag

FIXES = {
    "weights.bind": "Bind",
    "weights.drop_strays": "Drop strays",
    "weights.reduce": "Reduce",
    "weights.prune": "Drop tiny ones",
    "relax.bake": "Bake",
    "axes.mend": "Mend all",
    "joints.to_pegs": "To the pegs",
    "joints.centre": "Centre",
    "controls.build": "Build anew",
}
MOST = 12
"""Listed at once; mending them brings up the next."""
OTHERWISE = {"joints.to_pegs": ("joints.keep_moves", "Keep it")}
"""What else may be right where a fix is offered."""
OF_ITS_JOINT = ("joints.to_pegs", "joints.keep_moves", "joints.centre")
"""Fixes that are for the peg or joint of their snag alone."""


class SnagCard(Card):
    """area : whose snags are listed.
    sound : what is said when there are none.
    """

    lists_snags = True

    def __init__(self, c: Context, area: str, sound: str) -> None:
        super().__init__(c, "Snags", f"{area}.snags", is_open=False)
        self.area, self.sound = area, sound
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
            ways = [(snag.fix, FIXES[snag.fix])] if snag.fix in FIXES else []
            if snag.fix in OTHERWISE:
                ways.append(OTHERWISE[snag.fix])
            for way, text in ways:
                name = f"snag.fix.{snag.code}" if way == snag.fix else f"snag.{way}"
                line.addWidget(button(text, name, lambda w=way, s=snag: self._mend(w, s)))  # type: ignore[misc]
            line.addStretch(1)
            self.rows.addLayout(line)
        if len(snags) > MOST:
            self.rows.addWidget(label(f"and {len(snags) - MOST} more", "caption"))
        if not snags:
            self.rows.addWidget(label(self.sound, "caption", wrap=True))

    def _mend(self, action: str, snag: Snag) -> None:
        character = self.c.state.character
        if action in OF_ITS_JOINT and character is not None:
            pegs = character.pegs.by_name if character.pegs is not None else {}
            kind = "peg" if snag.subject in pegs else "joint" if snag.subject else ""
            if (kind, snag.subject) != (self.c.state.selection.kind, self.c.state.selection.lead):
                self.c.store.select(kind, *([snag.subject] if snag.subject else []))
        self.c.actions.run(action)
