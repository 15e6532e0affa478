"""Snags of the weights: what is wrong or doubtful, with Show and Fix."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, button, clear, label

FIXES = {
    "weights.bind": "Bind",
    "weights.drop_strays": "Drop strays",
    "weights.reduce": "Reduce",
    "weights.prune": "Drop tiny ones",
    "relax.bake": "Bake",
}


class SnagCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__("Snags", "weights.snags", is_open=False)
        self.session, self.actions = session, actions
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        self.body.addLayout(self.rows)
        self.listed: object = None
        session.snag_watch.changed.connect(self.show_document)

    def show_document(self) -> None:
        found = self.session.snag_watch.snags
        if found is self.listed:
            return
        self.listed = found
        snags = [s for s in found if s.area == "weights"]
        self.note.setText(f"{len(snags)}" if snags else "none")
        clear(self.rows)
        for snag in snags[:12]:
            self.rows.addWidget(label(snag.message, "snag", wrap=True))
            line = QHBoxLayout()
            line.setSpacing(6)
            if snag.where is not None:
                line.addWidget(
                    button("Show", f"snag.show.{snag.code}", lambda w=snag.where: self.session.look_at.emit(w))
                )
            if snag.fix in FIXES:
                line.addWidget(button(FIXES[snag.fix], f"snag.fix.{snag.code}", lambda f=snag.fix: self.actions.run(f)))
            line.addStretch(1)
            self.rows.addLayout(line)
        if not snags:
            self.rows.addWidget(label("Nothing is wrong with the weights.", "caption", wrap=True))
