"""Vertices: a selection made, grown, kept; weights set, averaged, copied, pasted on it."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QHBoxLayout

from pegloom.app.areas.weights.settings import SelectSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number


class SelectionCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Vertices", "weights.selection",
            sentence="Box, Alt for a lasso, or Q paints; the brush and every button below stay inside.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        for some in (
            (("paint", "Paint"), ("grow", "Grow"), ("shrink", "Shrink")),
            (("shell", "Shell"), ("others", "Invert"), ("rim", "Border")),
        ):
            self.row(*(action_button(q[f"vertices.{name}"], text) for name, text in some))
        low, high = (
            number(self, SelectSettings, field, 0.0, 1.0, name=f"weights.selection.{field}", decimals=2, step=0.05)
            for field in ("low", "high")
        )
        low.setAccessibleName("Held at least")
        high.setAccessibleName("Held at most")
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(label("Held", "soft"))
        line.addWidget(low)
        line.addWidget(label("to", "soft"))
        line.addWidget(high)
        line.addWidget(action_button(q["vertices.held"], "Select"))
        self.body.addLayout(line)
        some = (("average", "Average"), ("copy", "Copy"), ("paste", "Paste"))
        self.row(*(action_button(q[f"vertices.{name}"], text) for name, text in some))
        self.row(action_button(q["vertices.numbers"], "Number table", role="main"))
        self.sets = QComboBox()
        self.sets.setObjectName("weights.selection.sets")
        self.sets.setEditable(True)
        edit = self.sets.lineEdit()
        assert edit is not None
        edit.setPlaceholderText("name of a selection")
        self.sets.setAccessibleName("Kept selections")
        edit.setAccessibleName("Name of a kept selection")
        self.sets.currentTextChanged.connect(self._named)
        self.body.addWidget(self.sets)
        some = (("keep", "Keep set"), ("recall", "Select"), ("forget", "Forget"))
        self.row(*(action_button(q[f"vertices.{name}"], text) for name, text in some))
        self.listed: tuple[str, ...] | None = None

    def _named(self, text: str) -> None:
        if not self.showing:
            self.c.store.put_setting(SelectSettings, name=text)

    def key(self, state: State) -> tuple[object, ...]:
        names = tuple(state.character.vertex_sets) if state.character is not None else ()
        return (state.vertices, names, state.settings.of(SelectSettings).name)

    def show_state(self, state: State) -> None:
        count = sum(len(v) for v in state.vertices.values())
        self.note.setText(f"{count} selected" if count else "none selected")
        names = tuple(state.character.vertex_sets) if state.character is not None else ()
        if names != self.listed:
            self.listed = names
            self.sets.clear()
            self.sets.addItems(list(names))
        name = state.settings.of(SelectSettings).name
        if self.sets.currentText() != name:
            self.sets.setEditText(name)
