"""Joints: place pegs inside the mesh, build the skeleton, change it joint by joint."""

from __future__ import annotations

from html import escape

import numpy as np
from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtSvgWidgets import QSvgWidget
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSpinBox,
)

from pegloom.app.benches.bench import Bench
from pegloom.app.session import AS_SEEN
from pegloom.app.snagcard import SnagCard
from pegloom.app.widgets import SliderRow, action_button, button, label
from pegloom.core.errors import PegLoomError
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.patterns import kit_library, sentence
from pegloom.document import edits
from pegloom.files.patterns import known_patterns
from pegloom.scene.sketch import sketch

SKETCH = 92


class JointsBench(Bench):
    title, line = "Joints", "place them inside the mesh"

    def build(self) -> None:
        q = self.actions.qactions
        self.patterns = known_patterns()
        find = self.card("Body pattern", "joints.find", "Which body it is; its landmarks are looked for in the shape.")
        self.pattern = QComboBox()
        self.pattern.setObjectName("joints.pattern")
        self.pattern.addItem("as the shape says", "auto")
        for name, plan in self.patterns.items():
            self.pattern.addItem(plan.title, name)
            self.pattern.setItemData(self.pattern.count() - 1, plan.sentence, Qt.ItemDataRole.ToolTipRole)
        self.pattern.activated.connect(lambda _: self.session.set_view(pattern=self.pattern.currentData()))
        self.fingers = QSpinBox()
        self.fingers.setObjectName("joints.fingers")
        self.fingers.setRange(AS_SEEN, 5)
        self.fingers.setSpecialValueText("as seen")
        self.fingers.valueChanged.connect(lambda value: setattr(self.session, "fingers", value))
        self.pairs = QSpinBox()
        self.pairs.setObjectName("joints.pairs")
        self.pairs.setRange(0, 12)
        self.pairs.setSpecialValueText("as seen")
        self.pairs.valueChanged.connect(lambda value: setattr(self.session, "pairs", value))
        find.field("Pattern", self.pattern)
        self.fingers.setFixedWidth(71)
        self.pairs.setFixedWidth(71)
        line = find.row(label("Fingers", "soft"), self.fingers, label("Leg pairs", "soft"), self.pairs, stretch=0)
        line.addStretch(1)
        find.row(
            action_button(q["joints.find_pegs"], role="main"), action_button(q["joints.lay_out"], "Lay out"), stretch=1
        )
        self.find_card = find

        pegs = self.card(
            "Pegs", "joints.pegs", "Drag a peg in the view or in the slice window; a press only selects it."
        )
        self.both = QCheckBox("Both sides at once")
        self.both.setObjectName("joints.both")
        self.both.clicked.connect(lambda on: self.session.set_view(both_sides=on))
        pegs.body.addWidget(self.both)
        self.list = QListWidget()
        self.list.setObjectName("joints.list")
        self.list.setAccessibleName("Pegs")
        self.list.setFixedHeight(134)
        self.list.itemClicked.connect(lambda item: self.session.select("peg", item.data(Qt.ItemDataRole.UserRole)))
        pegs.body.addWidget(self.list)
        place = QHBoxLayout()
        self.sketch = QSvgWidget()
        self.sketch.setObjectName("joints.sketch")
        self.sketch.setAccessibleName("Where the peg goes")
        self.sketch.setFixedSize(SKETCH, SKETCH)
        place.addWidget(self.sketch)
        self.where = label("", "caption", wrap=True, name="joints.sentence")
        self.where.setAlignment(Qt.AlignmentFlag.AlignTop)
        place.addWidget(self.where, 1)
        pegs.body.addLayout(place)
        pegs.row(action_button(q["joints.next_weak"]), action_button(q["joints.accept"]))
        pegs.row(action_button(q["joints.centre"]), action_button(q["joints.even"]))
        self.sides = label("", "caption", wrap=True, name="joints.sides")
        pegs.body.addWidget(self.sides)
        self.pegs_card = pegs

        build = self.card(
            "Build",
            "joints.build",
            "Joints from the pegs, aimed down the limbs. Build again at any time: work below stays.",
        )
        build.body.addWidget(action_button(q["joints.build"], role="main"))
        self.build_card = build
        self.built = label("", "caption", wrap=True, name="joints.built")
        build.body.addWidget(self.built)
        self._kits_card()
        self._change_card()
        self._axes_card()
        self._names_card()
        rest = self.card(
            "New rest", "joints.rest", "Points are settled so; weights, controls and clips are kept.", is_open=False
        )
        rest.row(
            action_button(q["rest.t"], "T-pose"),
            action_button(q["rest.a"], "A-pose"),
            action_button(q["rest.pose"], "This pose"),
        )
        rest.body.addWidget(action_button(q["rest.first"], "First frame of the clip"))
        self.snags = SnagCard(self.session, self.actions, "joints", "Nothing is wrong with the joints.")
        self.column.addWidget(self.snags)
        self.had_pegs = False
        self.shown: object = None
        self.kits_shown: object = None

    def _kits_card(self) -> None:
        q = self.actions.qactions
        kits = self.card(
            "Limb kits", "joints.kits", "How many joints each limb has; kits added and hung elsewhere.", is_open=False
        )
        self.kit = QComboBox()
        self.kit.setObjectName("joints.kit")
        self.kit.activated.connect(lambda _: self._show_kit())
        kits.field("Kit", self.kit)
        self.count, self.twist = QSpinBox(), QSpinBox()
        for box, name, high in ((self.count, "joints.count", 64), (self.twist, "joints.twist", 4)):
            box.setObjectName(name)
            box.setRange(0 if box is self.twist else 1, high)
            box.setKeyboardTracking(False)
            box.setFixedWidth(58)
        self.count.valueChanged.connect(self._set_count)
        self.twist.valueChanged.connect(self._set_twist)
        line = kits.row(label("Joints", "soft"), self.count, label("Twist", "soft"), self.twist, stretch=0)
        line.addStretch(1)
        self.roll = SliderRow(
            "joints.roll", -np.pi / 2, np.pi / 2, lambda v: f"{np.degrees(v):.0f}°", lambda v: None, self._set_roll
        )
        kits.field("Roll", self.roll)
        kits.row(
            action_button(q["joints.mirror_kit"], "Mirror"),
            action_button(q["joints.attach_kit"], "Hang here"),
            action_button(q["joints.remove_kit"], "Remove"),
        )
        self.kit_kind = QComboBox()
        self.kit_kind.setObjectName("joints.kit_kind")
        for kind, entry in kit_library().items():
            self.kit_kind.addItem(entry["title"], kind)
            self.kit_kind.setItemData(self.kit_kind.count() - 1, entry["say"], Qt.ItemDataRole.ToolTipRole)
        kits.row(self.kit_kind, action_button(q["joints.add_kit"], "Add on picked joint"))
        self.kit_note = label(
            "Pick a joint in the view to hang a kit on it.", "caption", wrap=True, name="joints.kit_note"
        )
        kits.body.addWidget(self.kit_note)
        self.kits_card = kits

    def _change_card(self) -> None:
        q = self.actions.qactions
        change = self.change_card = self.card(
            "Draw and change",
            "joints.change",
            "J draws joints: click inside the mesh. M drags picked ones.",
            is_open=False,
        )
        self.children = QCheckBox("Children come along")
        self.children.setObjectName("joints.children")
        self.children.clicked.connect(lambda on: self.session.set_view(with_children=on))
        change.body.addWidget(self.children)
        change.row(
            action_button(q["joints.draw"], "Draw"),
            action_button(q["joints.extend"], "Extend"),
            action_button(q["joints.insert"], "Put in"),
        )
        self.pieces = QSpinBox()
        self.pieces.setObjectName("joints.pieces")
        self.pieces.setRange(2, 32)
        self.pieces.setSuffix(" pieces")
        change.row(action_button(q["joints.split"], "Split bone in"), self.pieces)
        change.row(
            action_button(q["joints.duplicate"], "Duplicate"),
            action_button(q["joints.mirror"], "Mirror"),
            action_button(q["joints.float"], "Float"),
        )
        change.row(
            action_button(q["joints.delete"], "Delete"), action_button(q["joints.delete_branch"], "With all below")
        )
        change.body.addWidget(
            label("Drag a joint onto another in the parts drawer to hang it there.", "caption", wrap=True)
        )

    def _axes_card(self) -> None:
        q = self.actions.qactions
        axes = self.card(
            "Axes", "joints.axes", "Cords show the twist: the bright strand is the bend axis.", is_open=False
        )
        axes.row(action_button(q["axes.check"], "Check"), action_button(q["axes.mend"], "Mend all"))
        axes.row(action_button(q["axes.aim"], "Aim along"), action_button(q["axes.square"], "Square bend"))
        axes.row(
            action_button(q["axes.align"], "Align chain"),
            action_button(q["axes.match"], "Match last"),
            action_button(q["axes.mirror"], "Mirror"),
        )

    def _names_card(self) -> None:
        names = self.card(
            "Names", "joints.names", "* stands for any text. Joints picked in the view, or all of them.", is_open=False
        )
        self.find_text, self.put_text, self.prefix = QLineEdit(), QLineEdit(), QLineEdit()
        for box, name, text in (
            (self.find_text, "joints.rename.find", "Find"),
            (self.put_text, "joints.rename.put", "Put"),
            (self.prefix, "joints.rename.prefix", "Prefix"),
        ):
            box.setObjectName(name)
            box.textChanged.connect(lambda _: self._preview_names())
            names.field(text, box)
        self.style = QComboBox()
        self.style.setObjectName("joints.rename.style")
        self.style.addItem("as they are", None)
        for style in SideStyle:
            self.style.addItem(style.value, style)
        self.style.activated.connect(lambda _: self._preview_names())
        names.field("Sides", self.style)
        self.preview = label("", "caption", wrap=True, name="joints.rename.preview")
        names.body.addWidget(self.preview)
        names.body.addWidget(button("Rename", "joints.rename.apply", self._rename))

    def kit_in_hand(self) -> str:
        """The kit chosen in the Limb kits card."""
        return self.kit.currentData() or ""

    # Kits

    def _set_count(self, value: int) -> None:
        kit = self.kit_in_hand()
        if kit:
            self.session.try_edit(
                f"{value} joints in {kit}",
                lambda d: edits.set_joint_count(d, kit, value, both_sides=self.session.both_sides),
            )

    def _set_twist(self, value: int) -> None:
        kit = self.kit_in_hand()
        if kit:
            self.session.try_edit(
                f"{value} twist joints a bone in {kit}",
                lambda d: edits.set_twist(d, kit, value, both_sides=self.session.both_sides),
            )

    def _set_roll(self, value: float) -> None:
        kit = self.kit_in_hand()
        if kit:
            self.session.try_edit(
                f"Roll {kit} {np.degrees(value):.0f}°",
                lambda d: edits.set_roll(d, kit, value, both_sides=self.session.both_sides),
            )

    def _show_kit(self) -> None:
        character = self.session.character
        kits = {k.id: k for k in kits_in(character.pegs)} if character and character.pegs else {}
        kit = kits.get(self.kit_in_hand())
        for box in (self.count, self.twist):
            box.blockSignals(True)
        if kit is not None:
            self.count.setRange(kit.least, max(kit.most, kit.least))
            self.count.setValue(len(kit.joints))
            self.twist.setValue(kit.twist)
            self.roll.set(kit.roll)
        self.count.setEnabled(kit is not None and kit.most > kit.least)
        self.count.setToolTip(
            f"{kit.least} to {kit.most} joints"
            if kit is not None and kit.most > kit.least
            else "This kit has a fixed number of joints"
        )
        self.twist.setEnabled(kit is not None and len(kit.ik) == 3)
        self.twist.setToolTip(
            "Joints along each bone that share its twist out"
            if kit is not None and len(kit.ik) == 3
            else "Only limbs with two bones twist"
        )
        self.roll.setEnabled(kit is not None and kit.kind != "root")
        for box in (self.count, self.twist):
            box.blockSignals(False)

    # Names

    def _wanted_names(self) -> dict[str, object]:
        return {
            "find": self.find_text.text(),
            "put": self.put_text.text(),
            "prefix": self.prefix.text(),
            "style": self.style.currentData(),
        }

    def _chosen(self) -> tuple[str, ...] | None:
        return self.session.selection.ids if self.session.selection.kind == "joint" else None

    def _preview_names(self) -> None:
        try:
            wanted = edits.rename_preview(self.session.history.present, self._chosen(), **self._wanted_names())
        except PegLoomError as error:
            self.preview.setText(str(error))
            return
        changed = [(a, b) for a, b in wanted.items() if a != b]
        rows = [f"{a}  →  {b}" for a, b in changed[:5]]
        self.preview.setText("\n".join([*rows, f"{len(changed)} of {len(wanted)} change"]))

    def _rename(self) -> None:
        if self.session.try_edit(
            "Rename joints", lambda d: edits.rename_joints(d, self._chosen(), **self._wanted_names())
        ):
            self._preview_names()

    def show_document(self) -> None:
        character = self.session.character
        for box, value in ((self.fingers, self.session.fingers), (self.pairs, self.session.pairs)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self.pattern.setCurrentIndex(max(self.pattern.findData(self.session.pattern), 0))
        self.both.setChecked(self.session.both_sides)
        self.children.setChecked(self.session.with_children)
        pegs = character.pegs if character else None
        # Once found the pattern makes room for the pegs; the card stays where the user puts it then.
        if (pegs is not None) is not self.had_pegs:
            self.had_pegs = pegs is not None
            self.find_card.set_open(not self.had_pegs)
        self._show_pegs(pegs)
        kits = kits_in(pegs) if pegs else ()
        if kits is not self.kits_shown:
            self.kits_shown = kits
            held = self.kit_in_hand()
            self.kit.clear()
            for kit in kits:
                if kit.kind != "root":
                    self.kit.addItem(f"{kit.id}  ({len(kit.joints)})", kit.id)
            self.kit.setCurrentIndex(max(self.kit.findData(held), 0) if kits else -1)
            self._show_kit()
        self.kits_card.note.setText(f"{max(len(kits) - 1, 0)} kits" if kits else "")
        picked = self.session.selection.kind == "joint" and character is not None and character.skeleton is not None
        if picked and self.session.selection.lead in character.skeleton.index:
            self.kit_note.setText(f"Picked: {character.skeleton.joint(self.session.selection.lead).name}")
        else:
            self.kit_note.setText("Pick a joint in the view to hang a kit on it.")
        if character and character.skeleton:
            moved = len(character.joint_overrides) + len(character.own_joints)
            self.built.setText(
                f"{len(character.skeleton.joints)} joints"
                + (f"; {moved} changed or added by hand, kept" if moved else "")
            )
        else:
            self.built.setText("No joints yet." if pegs else "Find pegs first, or draw joints (J).")

    def _show_pegs(self, pegs: object) -> None:
        if pegs is not self.shown:
            self.shown = pegs
            row = self.list.verticalScrollBar().value()
            self.list.clear()
            for peg in pegs.pegs if pegs else ():
                if peg.by_hand:
                    state = "placed"
                else:
                    state = "weak guess, look" if peg.weak else f"found {peg.confidence:.0%}"
                item = QListWidgetItem(f"{peg.name.replace('_', ' ')}    {state}")
                item.setData(Qt.ItemDataRole.UserRole, peg.name)
                self.list.addItem(item)
            self.list.verticalScrollBar().setValue(row)
        weak = sum(p.weak for p in pegs.pegs) if pegs else 0
        placed = sum(p.by_hand for p in pegs.pegs) if pegs else 0
        title = self.patterns[pegs.pattern].title if pegs and pegs.pattern in self.patterns else ""
        self.find_card.note.setText(f"{title}, {len(pegs.pegs)} pegs" if pegs else "")
        self.pegs_card.note.setText((f"{weak} weak, " if weak else "") + f"{placed} placed" if pegs else "")
        lead = self.session.selection.lead if self.session.selection.kind == "peg" else ""
        known = bool(lead and pegs and lead in pegs.by_name)
        words = sentence(lead, pegs.pattern) if known else "Select a peg to read where it goes."
        self.where.setTextFormat(Qt.TextFormat.RichText)
        name = f"<b>{escape(lead.replace('_', ' '))}</b><br>" if known else ""
        self.where.setText(name + escape(words))
        self.sketch.setVisible(bool(pegs))
        self.list.setVisible(bool(pegs))
        if pegs and pegs.pattern in self.patterns:
            text = sketch(self.patterns[pegs.pattern], kits_in(pegs), lead, size=SKETCH)
            self.sketch.load(QByteArray(text.encode()))
        gaps = edits.side_gaps(pegs) if pegs else {}
        if gaps:
            worst = max(gaps, key=lambda n: gaps[n])
            even = gaps[worst] < 1e-4
            self.sides.setText(
                "Both sides agree."
                if even
                else f"Sides differ most at {worst[2:].replace('_', ' ')}: {100 * gaps[worst]:.1f} cm."
            )
        else:
            self.sides.setText("")
        for row in range(self.list.count()):
            item = self.list.item(row)
            item.setSelected(item.data(Qt.ItemDataRole.UserRole) in self.session.selection.ids)
            if item.data(Qt.ItemDataRole.UserRole) == lead:
                self.list.scrollToItem(item)
