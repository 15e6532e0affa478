"""Reference pictures behind the view."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.layouts import side_by_side
from pegloom.document import edits
from pegloom.document.model import Reference


class ReferenceCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Reference pictures", "mesh.references", sentence="Behind the view, for comparing. Never delivered.",
            is_open=False,
        )  # fmt: skip
        self.body.addWidget(action_button(c.actions.qactions["mesh.reference"], "Add a picture"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.references,) if state.character is not None else ()

    def show_state(self, state: State) -> None:
        references = state.character.references if state.character is not None else ()
        clear(self.rows)
        for number, reference in enumerate(references):
            self._row(number, reference)
        self.note.setText(str(len(references) or ""))

    def _row(self, number: int, reference: Reference) -> None:
        name = f"mesh.reference.{number}"
        along = QComboBox()
        along.setObjectName(f"{name}.along")
        along.setAccessibleName(f"Along which axis {reference.image.name} is seen")
        for axis in "xyz":
            along.addItem(f"seen along {axis}", axis)
        along.setCurrentIndex("xyz".index(reference.along))
        along.activated.connect(lambda _: self._change(number, along=along.currentData()))
        fade = SliderRow(
            f"{name}.alpha", 0.05, 1.0, lambda v: f"{v:.0%}", lambda v: None, lambda v: self._change(number, alpha=v)
        )
        fade.set(reference.alpha)
        size = QDoubleSpinBox()
        size.setObjectName(f"{name}.height")
        size.setAccessibleName(f"Height of {reference.image.name}")
        size.setRange(0.01, 500)
        size.setValue(reference.height)
        size.setSuffix(" m tall")
        size.setKeyboardTracking(False)
        x, _, z = reference.centre
        size.valueChanged.connect(lambda v: self._change(number, height=v, centre=(x, v / 2, z)))
        remove = button(
            "Remove", f"{name}.remove",
            lambda: self.c.try_edit("Remove a reference picture", lambda d: edits.remove_reference(d, number)),
        )  # fmt: skip
        self.rows.addWidget(label(reference.image.name, "soft"))
        self.rows.addLayout(side_by_side(along, size))
        self.rows.addLayout(side_by_side(fade, remove))

    def _change(self, number: int, **changes: object) -> None:
        self.c.try_edit("Change a reference picture", lambda d: edits.change_reference(d, number, **changes))
