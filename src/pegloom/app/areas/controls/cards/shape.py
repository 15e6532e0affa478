"""Shape: how the picked control looks."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.controls.actions import reshape, resize
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow
from pegloom.app.widgets.card import Card
from pegloom.core.rig.controls import Shape


class ShapeCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Shape", "controls.shape",
            sentence="How the selected control looks. Kept when controls are built again.",
        )  # fmt: skip
        self.stays_on("control")
        self.shape = QComboBox()
        self.shape.setObjectName("controls.shape_choice")
        for option in Shape:
            self.shape.addItem(option.value, option)
        self.shape.activated.connect(lambda _: reshape(c, self.subject_id(c.state), self.shape.currentData()))
        self.size_ = SliderRow(
            "controls.size", 0.25, 3.0, lambda v: f"{v:.2f} x", lambda v: None, lambda v: resize(c, self.subject_id(c.state), v)
        )
        self.field("Shape", self.shape)
        self.field("Size", self.size_)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.rig, one.rig_changes) if one is not None else ()
        return (*pieces, self.subject_id(state))

    def show_state(self, state: State) -> None:
        one = state.character
        rig = one.rig if one is not None else None
        lead = self.subject_id(state)
        is_control = bool(lead)
        self.shape.setEnabled(is_control)
        self.size_.setEnabled(is_control)
        self.note.setText(rig.control(lead).name if is_control and rig is not None else "select a control")
        if is_control and rig is not None and one is not None:
            self.shape.setCurrentIndex(self.shape.findData(rig.control(lead).shape))
            change = one.rig_changes.controls.get(lead)
            size = change.size if change is not None else None
            self.size_.set(1.0 if size is None else size)
