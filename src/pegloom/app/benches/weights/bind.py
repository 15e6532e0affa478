"""Bind: which joints carry which vertices, computed."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QSpinBox

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, SliderRow, action_button, label
from pegloom.core.skin.bind import BindMethod
from pegloom.document import edits

BY_DISTANCE = (BindMethod.BY_REACH, BindMethod.THROUGH_BODY)


class BindCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__(
            "Bind", "weights.bind",
            sentence="Which joints carry which vertices, computed. One undo step; kept as a weave.",
        )  # fmt: skip
        self.session = session
        self.method = QComboBox()
        self.method.setObjectName("weights.method")
        for method in BindMethod:
            self.method.addItem(method.value, method)
            self.method.setItemData(self.method.count() - 1, method.says, Qt.ItemDataRole.ToolTipRole)
        self.method.currentIndexChanged.connect(lambda _: self._take_method())
        self.says = label(BindMethod.SEGMENT.says, "caption", wrap=True, name="weights.method_says")
        self.influences = QSpinBox()
        self.influences.setObjectName("weights.influences")
        self.influences.setRange(1, 16)
        self.influences.setValue(4)
        self.influences.setSuffix(" a vertex")
        self.field("Method", self.method)
        self.body.addWidget(self.says)
        self.field("At most", self.influences)
        self.reach = SliderRow("weights.reach", 0.2, 3.0, lambda v: f"{v:.2f}", lambda _: None, self._set_reach)
        self.field("Reach", self.reach)
        self.own_branch = QCheckBox("Own branch only")
        self.own_branch.setObjectName("weights.own_branch")
        self.own_branch.setToolTip("A vertex follows its nearest joint and those above and below it, no other limb")
        self.in_sight = QCheckBox("In sight only")
        self.in_sight.setObjectName("weights.in_sight")
        self.in_sight.setToolTip("Only bones the vertex sees through the inside of the body")
        self.in_sight.setChecked(True)
        self.row(self.own_branch, self.in_sight, stretch=0)
        self.some_joints = QCheckBox("Only to the selected joints")
        self.some_joints.setObjectName("weights.some_joints")
        self.some_joints.setToolTip("Shift-click joints in the view; what the others would hold goes up to these")
        self.some_parts = QCheckBox("Only the selected vertices' parts")
        self.some_parts.setObjectName("weights.some_parts")
        self.some_parts.setToolTip("Draw a box over a part first; the other parts keep their weights")
        self.body.addWidget(self.some_joints)
        self.body.addWidget(self.some_parts)
        self.body.addWidget(action_button(actions.qactions["weights.bind"], role="main"))
        self.was_bound = False

    def _take_method(self) -> None:
        method = self.method.currentData()
        self.says.setText(method.says)
        self.session.set_view(reach_shown=method in BY_DISTANCE)

    def _set_reach(self, factor: float) -> None:
        session = self.session
        if session.character is None or session.character.skeleton is None or not session.influence:
            session.say("Take a joint first: click one in the view", error=True)
            return
        joint, both = session.influence, session.both_sides
        name = session.character.skeleton.joint(joint).name
        session.try_edit(f"Reach of {name} {factor:.2f}", lambda d: edits.set_reach(d, joint, factor, both_sides=both))

    def set_open(self, is_open: bool) -> None:
        """Folded, the card takes the drawn reach with it."""
        super().set_open(is_open)
        if hasattr(self, "method"):
            self.session.set_view(reach_shown=is_open and self.method.currentData() in BY_DISTANCE)

    def show_document(self) -> None:
        character = self.session.character
        skin = character.skin if character else None
        by_distance = self.method.currentData() in BY_DISTANCE
        for widget in (self.reach, self.own_branch):
            widget.setEnabled(by_distance)
        self.in_sight.setEnabled(self.method.currentData() is BindMethod.BY_REACH)
        self.reach.set(character.reaches.get(self.session.influence, 1.0) if character else 1.0)
        self.note.setText(f"{skin.method}, {skin.influences}" if skin else "not bound")
        # Once bound the card makes room for the work that follows; it stays where the user puts it then.
        if (skin is not None) is not self.was_bound:
            self.was_bound = skin is not None
            self.set_open(not self.was_bound)
