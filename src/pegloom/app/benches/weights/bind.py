"""Bind: which joints carry which vertices, computed."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QSpinBox

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, action_button, label
from pegloom.core.skin.bind import BindMethod


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
        self.method.currentIndexChanged.connect(lambda _: self.says.setText(self.method.currentData().says))
        self.says = label(BindMethod.SEGMENT.says, "caption", wrap=True, name="weights.method_says")
        self.influences = QSpinBox()
        self.influences.setObjectName("weights.influences")
        self.influences.setRange(1, 16)
        self.influences.setValue(4)
        self.influences.setSuffix(" a vertex")
        self.field("Method", self.method)
        self.body.addWidget(self.says)
        self.field("At most", self.influences)
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

    def show_document(self) -> None:
        character = self.session.character
        skin = character.skin if character else None
        self.note.setText(f"{skin.method}, {skin.influences}" if skin else "not bound")
        # Once bound the card makes room for the work that follows; it stays where the user puts it then.
        if (skin is not None) is not self.was_bound:
            self.was_bound = skin is not None
            self.set_open(not self.was_bound)
