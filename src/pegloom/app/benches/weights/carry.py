"""Mirror and transfer: weights across the middle, and from one part to another."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, action_button, label
from pegloom.core.skin.mirror import Way


class CarryCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__("Mirror and transfer", "weights.carry", is_open=False)
        self.session = session
        q = actions.qactions
        self.way = QComboBox()
        self.way.setObjectName("weights.way")
        for way in Way:
            self.way.addItem(way.value, way)
        self.field("Mirror", self.way)
        self.tolerance = QDoubleSpinBox()
        self.tolerance.setObjectName("weights.tolerance")
        self.tolerance.setRange(0.0, 20.0)
        self.tolerance.setDecimals(2)
        self.tolerance.setSuffix(" cm")
        self.tolerance.setSpecialValueText("exact pairs")
        self.tolerance.setToolTip("How far from its mirrored place a vertex may stand and still count as the partner")
        self.field("Tolerance", self.tolerance)
        self.by_place = QCheckBox("Pair joints by place, not by name")
        self.by_place.setObjectName("weights.by_place")
        self.only = QCheckBox("Only onto the selected vertices")
        self.only.setObjectName("weights.mirror_only")
        self.body.addWidget(self.by_place)
        self.body.addWidget(self.only)
        mirror = action_button(q["weights.mirror"], "Mirror", role="main")
        mirror.setObjectName("weights.carry.mirror")
        self.row(
            mirror,
            action_button(q["weights.unmatched"], "Show unmatched"),
        )
        self.source, self.target = QComboBox(), QComboBox()
        self.source.setObjectName("weights.transfer.from")
        self.target.setObjectName("weights.transfer.to")
        self.field("Read from", self.source)
        self.field("Write to", self.target)
        self.fill = QCheckBox("Fill smoothly where nothing good is near")
        self.fill.setObjectName("weights.transfer.fill")
        self.fill.setChecked(True)
        self.body.addWidget(self.fill)
        self.body.addWidget(action_button(q["weights.transfer"], "Transfer", role="main"))
        self.body.addWidget(action_button(q["weights.read_from"], "Read from another character…"))
        self.report = label("", "caption", wrap=True, name="weights.transfer.report")
        self.body.addWidget(self.report)
        self.listed: object = None

    def show_document(self) -> None:
        character = self.session.character
        parts = tuple((p.name, p.id) for p in character.parts) if character else ()
        bound = frozenset(character.skin.weights) if character and character.skin else frozenset()
        if (parts, bound) == self.listed:
            return
        self.listed = (parts, bound)
        for box, offered in ((self.source, [p for p in parts if p[1] in bound]), (self.target, list(parts))):
            kept = box.currentData()
            box.clear()
            for name, part_id in offered:
                box.addItem(name, part_id)
            at = box.findData(kept)
            box.setCurrentIndex(at if at >= 0 else (1 if box is self.target and box.count() > 1 else 0))
