"""Vertices: a selection made, grown, kept; weights set, averaged, copied, pasted on it."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, action_button, label


class SelectionCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__(
            "Vertices", "weights.selection",
            sentence="Box, Alt for a lasso, or Q paints; the brush and every button below stay inside.",
            is_open=False,
        )  # fmt: skip
        self.session = session
        q = actions.qactions
        self.row(
            *(
                action_button(q[f"vertices.{n}"], t)
                for n, t in (("paint", "Paint"), ("grow", "Grow"), ("shrink", "Shrink"))
            )
        )
        self.row(
            *(
                action_button(q[f"vertices.{n}"], t)
                for n, t in (("shell", "Shell"), ("others", "Others"), ("rim", "Rim"))
            )
        )
        self.low, self.high = (self._number(f"weights.selection.{n}", v) for n, v in (("low", 0.01), ("high", 1.0)))
        line = QHBoxLayout()
        line.setSpacing(6)
        line.addWidget(label("Held", "soft"))
        line.addWidget(self.low)
        line.addWidget(label("to", "soft"))
        line.addWidget(self.high)
        line.addWidget(action_button(q["vertices.held"], "Select"))
        self.body.addLayout(line)
        self.row(
            *(
                action_button(q[f"vertices.{n}"], t)
                for n, t in (("average", "Average"), ("copy", "Copy"), ("paste", "Paste"))
            )
        )
        self.row(action_button(q["vertices.numbers"], "Number table", role="main"))
        self.sets = QComboBox()
        self.sets.setObjectName("weights.selection.sets")
        self.sets.setEditable(True)
        self.sets.lineEdit().setPlaceholderText("name of a selection")
        self.sets.setAccessibleName("Kept selections")
        self.sets.lineEdit().setAccessibleName("Name of a kept selection")
        self.body.addWidget(self.sets)
        self.row(
            *(
                action_button(q[f"vertices.{n}"], t)
                for n, t in (("keep", "Keep"), ("recall", "Select"), ("forget", "Forget"))
            )
        )
        self.listed: object = None

    @staticmethod
    def _number(name: str, value: float) -> QDoubleSpinBox:
        made = QDoubleSpinBox()
        made.setObjectName(name)
        made.setRange(0.0, 1.0)
        made.setSingleStep(0.05)
        made.setDecimals(3)
        made.setValue(value)
        return made

    def show_document(self) -> None:
        session, character = self.session, self.session.character
        count = sum(len(v) for v in session.vertices.values())
        self.note.setText(f"{count} selected" if count else "none selected")
        names = tuple(character.vertex_sets) if character else ()
        if names != self.listed:
            self.listed = names
            text = self.sets.currentText()
            self.sets.clear()
            self.sets.addItems(list(names))
            self.sets.setEditText(text)
