"""Soundness: what of the mesh would hurt later."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from pegloom.app.areas.mesh.actions import mend
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.layouts import side_by_side
from pegloom.checks import mesh_snags
from pegloom.core.geometry.mesh import is_watertight
from pegloom.core.said import counted

FIXES = {
    "unwelded": ("weld", "Weld"),
    "loose-vertices": ("loose", "Drop"),
    "doubled-faces": ("doubles", "Drop"),
    "zero-area-faces": ("doubles", "Drop"),
    "inward-faces": ("outward", "Flip"),
}


class SoundnessCard(Card):
    lists_snags = True

    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Soundness", "mesh.soundness", sentence="What would hurt later. Seams and shells bind well here."
        )
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        self.body.addLayout(self.rows)
        self.body.addWidget(action_button(c.actions.qactions["mesh.edge_rows"]))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return () if one is None or state.dragging else (one.parts, one.standing, state.snags_known)

    def show_state(self, state: State) -> None:
        """What the watch has found on its thread; until it has, that it is looking."""
        one = state.character
        if state.dragging:
            return
        clear(self.rows)
        if one is None or not state.snags_known:
            self.note.setText("looking" if one is not None else "")
            return
        total = 0
        for part in one.included:
            for snag in mesh_snags(part.mesh, part.name):
                total += 1
                row: list[QWidget] = [label(snag.message, "caption", wrap=True)]
                if snag.where is not None:
                    where, name = np.array(snag.where), f"mesh.show.{part.id}.{snag.code}"
                    row.append(button("Show", name, lambda w=where: self.c.view.show_point(w)))  # type: ignore[misc]
                if snag.code in FIXES:
                    way, text = FIXES[snag.code]
                    name = f"mesh.fix.{part.id}.{snag.code}"
                    row.append(button(text, name, lambda n=way, p=part: mend(n, self.c, p)))  # type: ignore[misc]
                line = side_by_side(*row, stretch=0)
                line.setStretch(0, 1)
                self.rows.addLayout(line)
            if is_watertight(part.mesh):
                self.rows.addWidget(label(f"{part.name}: closed", "caption"))
        self.note.setText(counted(total, "snag") if total else "sound")
