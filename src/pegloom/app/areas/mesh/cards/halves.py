"""Halves: the mirror plane, and how even the two halves are."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.document import edits


class HalvesCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Symmetry", "mesh.halves", sentence="The mirror plane, and how even the two halves are.", is_open=False
        )
        self.middle_on = QCheckBox("Show the centre line, to drag")
        self.middle_on.setObjectName("mesh.middle_on")
        self.middle_on.clicked.connect(lambda on: c.store.put(middle_shown=on))
        self.body.addWidget(self.middle_on)
        self.middle = QDoubleSpinBox()
        self.middle.setObjectName("mesh.middle")
        self.middle.setRange(-1e5, 1e5)
        self.middle.setDecimals(2)
        self.middle.setSuffix(" cm")
        self.middle.setKeyboardTracking(False)
        self.middle.valueChanged.connect(self._move)
        self.field("Centre at", self.middle)
        self.evenness = label("", "caption", wrap=True, name="mesh.evenness")
        self.body.addWidget(self.evenness)
        self.body.addWidget(action_button(c.actions.qactions["mesh.even_out"]))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.parts, one.standing) if one is not None else ()
        return (*pieces, state.viewing.middle_shown, state.snags_known, state.dragging)

    def show_state(self, state: State) -> None:
        one = state.character
        standing = one.standing if one is not None else None
        self.middle_on.setChecked(state.viewing.middle_shown)
        self.note.setText(f"{standing.symmetry:.2f}" if standing else "")
        self.middle.setValue(100 * (standing.middle if standing else 0.0))
        self.middle.setEnabled(standing is not None)
        if one is None or state.dragging:
            return
        if not state.snags_known:
            # The watch works it out on its thread with the snags.
            self.evenness.setText("The halves are being compared.")
            return
        share, mean, worst = edits.evenness(state.document)
        self.evenness.setText(
            f"{share:.0%} of the vertices have a partner; pairs are {1000 * mean:.2f} mm apart on average, "
            f"{1000 * worst:.2f} at most."
        )

    def _move(self, centimetres: float) -> None:
        if not self.showing:
            self.c.try_edit("Move the centre line", lambda d: edits.set_middle(d, centimetres / 100))
