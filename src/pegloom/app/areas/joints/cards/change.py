"""Draw and change: joints one by one."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.joints.actions.joints import say_use
from pegloom.app.areas.joints.settings import ChangeSettings
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, MarkSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import slider, tick, whole
from pegloom.core.skeleton.uses import Use
from pegloom.document.uses import uses_in


class ChangeCard(Card):
    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.skeleton, one.uses) if one is not None else ()
        return (*pieces, state.selection.kind, state.selection.ids)

    def show_state(self, state: State) -> None:
        one, lead = state.character, state.selection.lead
        known = one is not None and one.skeleton is not None and lead in one.skeleton.index
        self.use.setEnabled(known)
        self.use.setToolTip("" if known else "Pick a joint first")
        if one is None or one.skeleton is None or not known:
            return
        told = uses_in(replace(one, uses={}))[lead]
        self.use.setItemText(0, f"as told: {'an' if told is Use.END else 'a'} {told.value}")
        self.use.setCurrentIndex(max(self.use.findData(one.uses.get(lead)), 0))

    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Draw and change", "joints.change",
            sentence="J draws joints: click inside the mesh. M drags picked ones.", is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.body.addWidget(tick(self, HandSettings, "with_children", "Children come along", name="joints.children"))
        size = slider(self, MarkSettings, "size", 0.4, 2.5, lambda v: f"{v:.1f}", name="joints.mark_size")
        self.field("Joint marks", size)
        self.row(
            action_button(q["joints.draw"], "Draw"), action_button(q["joints.extend"], "Extend"),
            action_button(q["joints.insert"], "Insert"),
        )  # fmt: skip
        pieces = whole(self, ChangeSettings, "pieces", 2, 32, name="joints.pieces", suffix=" pieces")
        pieces.setAccessibleName("Pieces a bone is split in")
        self.row(action_button(q["joints.split"], "Split bone in"), pieces)
        self.row(action_button(q["joints.duplicate"], "Duplicate"), action_button(q["joints.mirror"], "Mirror branch"))
        self.row(
            action_button(q["joints.float"], "Float"), action_button(q["joints.delete"], "Delete"),
            action_button(q["joints.delete_branch"], "All below"),
        )  # fmt: skip
        self.use = QComboBox()
        self.use.setObjectName("joints.use")
        for word, use, tip in (
            ("as name and place tell", None, "What stands at another chain's joint, or says so, is a helper"),
            ("a bone", Use.BONE, "Skin may follow it"), ("a helper", Use.HELPER, "It steers or marks; no skin follows it"),
            ("an end", Use.END, "It says where its parent's bone ends"),
        ):  # fmt: skip
            self.use.addItem(word, use)
            self.use.setItemData(self.use.count() - 1, tip, Qt.ItemDataRole.ToolTipRole)
        self.use.activated.connect(lambda _: say_use(c, self.use.currentData()))
        self.field("It is", self.use)
        self.body.addWidget(
            label("Drag a joint onto another in Contents to parent it there.", "caption", wrap=True)
        )
