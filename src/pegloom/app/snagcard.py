"""The snags of one area: what is wrong or doubtful, with Show and Fix."""

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
    "axes.mend": "Mend all",
    "joints.to_pegs": "To the pegs",
    "joints.centre": "Centre",
    "controls.build": "Build anew",
}
MOST = 12
"""Listed at once; mending them brings up the next."""
OTHERWISE = {"joints.to_pegs": ("joints.keep_moves", "Keep it")}
"""What else may be right where a fix is offered."""


class SnagCard(Card):
    """area: whose snags are listed. sound: what is said when there are none."""

    def __init__(self, session: Session, actions: Actions, area: str, sound: str) -> None:
        super().__init__("Snags", f"{area}.snags", is_open=False)
        self.session, self.actions, self.area, self.sound = session, actions, area, sound
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
        snags = [s for s in found if s.area == self.area]
        self.note.setText(f"{len(snags)}" if snags else "none")
        clear(self.rows)
        for snag in snags[:MOST]:
            self.rows.addWidget(label(snag.message, "snag", wrap=True))
            line = QHBoxLayout()
            line.setSpacing(6)
            if snag.where is not None:
                line.addWidget(
                    button("Show", f"snag.show.{snag.code}", lambda w=snag.where: self.session.look_at.emit(w))
                )
            ways = [(snag.fix, FIXES[snag.fix])] if snag.fix in FIXES else []
            if snag.fix in OTHERWISE:
                ways.append(OTHERWISE[snag.fix])
            for way, text in ways:
                name = f"snag.fix.{snag.code}" if way == snag.fix else f"snag.{way}"
                line.addWidget(button(text, name, lambda w=way, of=snag.subject: self._mend(w, of)))
            line.addStretch(1)
            self.rows.addLayout(line)
        if len(snags) > MOST:
            self.rows.addWidget(label(f"and {len(snags) - MOST} more", "caption"))
        if not snags:
            self.rows.addWidget(label(self.sound, "caption", wrap=True))

    def _mend(self, action: str, subject: str) -> None:
        """A fix of joints is for the joint of its snag alone."""
        character = self.session.character
        if action in ("joints.to_pegs", "joints.keep_moves") and character is not None:
            self.session.select("joint", subject)
        if action == "joints.centre" and character is not None:
            pegs = character.pegs.by_name if character.pegs is not None else {}
            kind = "peg" if subject in pegs else "joint" if subject else ""
            if (kind, subject) != (self.session.selection.kind, self.session.selection.lead):
                self.session.select(kind, *([subject] if subject else []))
        self.actions.run(action)
