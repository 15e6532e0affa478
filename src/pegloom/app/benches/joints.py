"""Joints: place pegs inside the mesh, build the skeleton."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem, QSpinBox

from pegloom.app.benches.bench import Bench
from pegloom.app.widgets import action_button, label
from pegloom.core.skeleton.patterns import sentence


class JointsBench(Bench):
    title, line = "Joints", "place them inside the mesh"

    def build(self) -> None:
        find = self.card(
            "Find pegs", "joints.find", "The human pattern's landmarks, looked for in the mesh's own shape."
        )
        self.fingers = QSpinBox()
        self.fingers.setObjectName("joints.fingers")
        self.fingers.setRange(0, 5)
        self.fingers.valueChanged.connect(lambda value: setattr(self.session, "fingers", value))
        find.field("Fingers", self.fingers)
        find.body.addWidget(action_button(self.actions.qactions["joints.find_pegs"], role="main"))
        self.find_card = find

        pegs = self.card("Pegs", "joints.pegs", "Drag a peg in the view; a press only selects it.")
        self.both = QCheckBox("Both sides at once")
        self.both.setObjectName("joints.both")
        self.both.clicked.connect(lambda on: self.session.set_view(both_sides=on))
        pegs.body.addWidget(self.both)
        self.list = QListWidget()
        self.list.setObjectName("joints.list")
        self.list.setAccessibleName("Pegs")
        self.list.setFixedHeight(96)
        self.list.itemClicked.connect(lambda item: self.session.select("peg", item.data(Qt.ItemDataRole.UserRole)))
        pegs.body.addWidget(self.list)
        self.where = label("", "caption", wrap=True, name="joints.sentence")
        self.where.setMinimumHeight(30)
        pegs.body.addWidget(self.where)
        self.pegs_card = pegs

        build = self.card(
            "Build",
            "joints.build",
            "Joints from the pegs, aimed down the limbs. Build again at any time: work below stays.",
        )
        build.body.addWidget(action_button(self.actions.qactions["joints.build"], role="main"))
        self.built = label("", "caption", wrap=True, name="joints.built")
        build.body.addWidget(self.built)
        self.shown: object = None

    def show_document(self) -> None:
        character = self.session.character
        self.fingers.blockSignals(True)
        self.fingers.setValue(self.session.fingers)
        self.fingers.blockSignals(False)
        self.both.setChecked(self.session.both_sides)
        pegs = character.pegs if character else None
        if pegs is not self.shown:
            self.shown = pegs
            row = self.list.verticalScrollBar().value()
            self.list.clear()
            for peg in pegs.pegs if pegs else ():
                if peg.by_hand:
                    state = "placed"
                else:
                    state = "weak guess" if peg.confidence < 0.5 else f"found {peg.confidence:.0%}"
                item = QListWidgetItem(f"{peg.name.replace('_', ' ')}    {state}")
                item.setData(Qt.ItemDataRole.UserRole, peg.name)
                self.list.addItem(item)
            self.list.verticalScrollBar().setValue(row)
        weak = sum(p.confidence < 0.5 and not p.by_hand for p in pegs.pegs) if pegs else 0
        self.find_card.note.setText(f"{len(pegs.pegs)} pegs" if pegs else "")
        self.pegs_card.note.setText(f"{weak} weak" if weak else ("all sound" if pegs else ""))
        lead = self.session.selection.lead if self.session.selection.kind == "peg" else ""
        self.where.setText(
            f"{lead.replace('_', ' ')}: {sentence(lead)}" if lead else "Select a peg to read where it goes."
        )
        for row in range(self.list.count()):
            item = self.list.item(row)
            item.setSelected(item.data(Qt.ItemDataRole.UserRole) in self.session.selection.ids)
        if character and character.skeleton:
            moved = len(character.joint_overrides)
            self.built.setText(
                f"{len(character.skeleton.joints)} joints" + (f"; {moved} changed by hand, kept" if moved else "")
            )
        else:
            self.built.setText("No joints yet." if pegs else "Find pegs first.")
