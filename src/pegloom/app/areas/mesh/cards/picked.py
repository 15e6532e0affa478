"""Picked part: its name, detail level and cage."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QComboBox, QLineEdit, QSpinBox

from pegloom.app.context import Context, Edit
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Document, Part, Subdivision


class PickedCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Picked part", "mesh.picked", sentence="Click a part in the view; Shift picks more.", is_open=False
        )
        self.stays_on("part")
        q = c.actions.qactions
        self.part_name = QLineEdit()
        self.part_name.setObjectName("mesh.part_name")
        self.part_name.editingFinished.connect(self._rename)
        self.field("Name", self.part_name)
        self.detail = QSpinBox()
        self.detail.setObjectName("mesh.detail")
        self.detail.setRange(0, 9)
        self.detail.setSpecialValueText("the body itself")
        self.detail.setKeyboardTracking(False)
        self.detail.valueChanged.connect(self._set_detail)
        self.field("Detail level", self.detail)
        self.smooth = QComboBox()
        self.smooth.setObjectName("mesh.smooth")
        for option in Subdivision:
            self.smooth.addItem("as it is" if option is Subdivision.NONE else option.value, option)
        self.levels = QSpinBox()
        self.levels.setObjectName("mesh.levels")
        self.levels.setRange(1, 3)
        self.levels.setPrefix("x ")
        self.levels.setKeyboardTracking(False)
        self.smooth.activated.connect(lambda _: self._smooth())
        self.levels.valueChanged.connect(lambda _: self._smooth())
        self.field("Cage", self.smooth)
        self.field("Smoothed", self.levels)
        self.row(
            action_button(q["mesh.join"], "Join"), action_button(q["mesh.split"], "Split"),
            action_button(q["mesh.remove"], "Delete part"),
        )  # fmt: skip
        self.row(action_button(q["mesh.pass_on"], "Pass weights on"), action_button(q["mesh.level"], "Next level"))

    def part_of(self, state: State) -> Part | None:
        """The part the card is about."""
        part = self.subject_id(state)
        return state.character.part(part) if state.character is not None and part else None

    def parts_of(self, state: State) -> tuple[Part, ...]:
        """All the card acts on: what it stays on alone, else every part that is picked; the one it shows last."""
        part, one = self.part_of(state), state.character
        if part is None or one is None:
            return ()
        ids = state.selection.ids if state.selection.kind == "part" and not self.held_id else ()
        others = [p for p in one.parts if p.id in ids and p.id != part.id]
        return (*others, part)

    def key(self, state: State) -> tuple[object, ...]:
        return self.parts_of(state)

    def show_state(self, state: State) -> None:
        part, some = self.part_of(state), self.parts_of(state)
        unlike = len({(p.detail, p.smooth, p.levels) for p in some}) > 1
        several = f"{counted(len(some), 'part')}{', they differ' if unlike else ''}"
        self.note.setText("none picked" if part is None else part.name if len(some) == 1 else several)
        for box in (self.part_name, self.detail, self.smooth, self.levels):
            box.setEnabled(part is not None)
            box.setToolTip("Goes to all that is picked" if len(some) > 1 else "")
        self.part_name.setEnabled(len(some) == 1)
        if part is not None:
            if not self.part_name.hasFocus():
                self.part_name.setText(part.name)
            self.detail.setValue(part.detail)
            self.smooth.setCurrentIndex(self.smooth.findData(part.smooth))
            self.levels.setValue(part.levels)

    def _on_part(self, name: str, edit: Edit) -> None:
        if not self.showing:
            self.c.try_edit(name, edit)

    def _on_all(self, name: str, edit: Callable[[Document, str], Document]) -> None:
        """An edit of each picked part, as one step."""
        ids = [part.id for part in self.parts_of(self.c.state)]

        def each(document: Document) -> Document:
            for part_id in ids:
                document = edit(document, part_id)
            return document

        if ids:
            self._on_part(name if len(ids) == 1 else f"{name}, {counted(len(ids), 'part')}", each)

    def _set_detail(self, value: int) -> None:
        self._on_all(f"Detail level {value}", lambda d, part: edits.set_detail(d, part, value))

    def _rename(self) -> None:
        text, part = self.part_name.text().strip(), self.part_of(self.c.state)
        if part is not None and text and text != part.name:
            self._on_part(f"Rename to {text}", lambda d: edits.rename_part(d, part.id, text))

    def _smooth(self) -> None:
        kind, levels = self.smooth.currentData(), self.levels.value()
        self._on_all("Smooth the cage", lambda d, part: edits.set_subdivision(d, part, kind, levels=levels))
