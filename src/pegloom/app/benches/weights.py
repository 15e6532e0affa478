"""Weights: bind, look, refine."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
)

from pegloom.app.benches.bench import Bench
from pegloom.app.session import Brush, BrushMode, Tool
from pegloom.app.widgets import Choices, SliderRow, action_button, label
from pegloom.core.skin.bind import BindMethod

LADDER = (0.05, 0.2, 0.35, 0.5, 0.65, 0.8, 1.0)


class WeightsBench(Bench):
    title, line = "Weights", "who moves what, how much"

    def build(self) -> None:
        bind = self.card("Bind", "weights.bind", "Which joints carry which vertices, computed. One undo step.")
        self.method = QComboBox()
        self.method.setObjectName("weights.method")
        for method in BindMethod:
            self.method.addItem(method.value, method)
            self.method.setItemData(self.method.count() - 1, method.says, Qt.ItemDataRole.ToolTipRole)
        self.method.currentIndexChanged.connect(lambda _: self.method_says.setText(self.method.currentData().says))
        self.method_says = label(BindMethod.SEGMENT.says, "caption", wrap=True, name="weights.method_says")
        self.influences = QSpinBox()
        self.influences.setObjectName("weights.influences")
        self.influences.setRange(1, 16)
        self.influences.setValue(4)
        self.influences.setSuffix(" a vertex")
        bind.field("Method", self.method)
        bind.body.addWidget(self.method_says)
        bind.field("At most", self.influences)
        bind.body.addWidget(action_button(self.actions.qactions["weights.bind"], role="main"))
        bind.row(
            action_button(self.actions.qactions["weights.reduce"], "Reduce"),
            action_button(self.actions.qactions["weights.drop_strays"], "Drop strays"),
        )
        self.bind_card = bind

        brush = self.card("Brush", "weights.brush")
        self.mode = Choices("weights.brush", [(m.value, m) for m in BrushMode], self._take_brush)
        brush.body.addWidget(self.mode)
        self.size = SliderRow("weights.brush.size", 0.005, 0.2, self._centimetres, lambda v: self._set(radius=v))
        self.strength = SliderRow(
            "weights.brush.strength", 0.05, 1.0, lambda v: f"{v:.2f}", lambda v: self._set(strength=v)
        )
        brush.field("Size", self.size)
        brush.field("Strength", self.strength)
        ladder = QHBoxLayout()
        ladder.setSpacing(3)
        self.ladder: dict[float, QPushButton] = {}
        for value in LADDER:
            step = QPushButton(f"{value:g}".lstrip("0"))
            step.setObjectName(f"weights.ladder.{value:g}")
            step.setAccessibleName(f"Value {value:g}")
            step.setCheckable(True)
            step.setStyleSheet("padding: 3px 0px;")
            step.clicked.connect(lambda _=False, v=value: self._set(value=v))
            self.ladder[value] = step
            ladder.addWidget(step, 1)
        brush.body.addLayout(ladder)
        self.both = QCheckBox("Both sides at once")
        self.both.setObjectName("weights.both")
        self.both.clicked.connect(lambda on: self.session.set_view(both_sides=on))
        brush.body.addWidget(self.both)
        self.gives = label("", "caption", wrap=True, name="weights.rule")
        brush.body.addWidget(self.gives)
        fill = brush.row(
            action_button(self.actions.qactions["weights.fill"], "Fill", role="main"),
            action_button(self.actions.qactions["weights.smooth"], "Smooth"),
            action_button(self.actions.qactions["weights.mirror"], "Mirror"),
        )
        fill.setSpacing(5)
        self.brush_card = brush

        influences = self.card("Influences", "weights.influence_list")
        self.find = QLineEdit()
        self.find.setObjectName("weights.find")
        self.find.setPlaceholderText("find a joint")
        self.find.setAccessibleName("Find a joint")
        self.find.textChanged.connect(lambda _: self._fill_list(force=True))
        influences.body.addWidget(self.find)
        self.list = QListWidget()
        self.list.setObjectName("weights.list")
        self.list.setAccessibleName("Influences")
        self.list.setMinimumHeight(150)
        self.list.itemClicked.connect(self._pick)
        self.list.itemChanged.connect(self._lock)
        influences.body.addWidget(self.list)
        influences.body.addWidget(label("A ticked joint is locked: it keeps what it holds.", "caption", wrap=True))
        self.influences_card = influences
        self.listed: object = None

    def _centimetres(self, share: float) -> str:
        character = self.session.character
        return f"{100 * share * (character.height if character else 1):.1f} cm"

    def _set(self, **values: float) -> None:
        self.session.set_view(brush=replace(self.session.brush, **values))

    def _take_brush(self, mode: BrushMode) -> None:
        self.session.set_view(brush=replace(self.session.brush, mode=mode), tool=Tool.BRUSH)

    def show_document(self) -> None:
        session, character = self.session, self.session.character
        brush: Brush = session.brush
        skin = character.skin if character else None
        self.bind_card.note.setText(f"{skin.method}, {skin.influences}" if skin else "not bound")
        self.mode.group.setExclusive(session.tool is Tool.BRUSH)
        for mode, made in self.mode.buttons.items():
            made.setChecked(session.tool is Tool.BRUSH and mode is brush.mode)
        self.size.set(brush.radius)
        self.strength.set(brush.strength)
        for value, step in self.ladder.items():
            step.setChecked(abs(value - brush.value) < 1e-9)
        self.both.setChecked(session.both_sides)
        chosen = sum(len(v) for v in session.vertices.values())
        self.brush_card.note.setText(f"inside {chosen} vertices" if chosen else "anywhere")
        skeleton = character.skeleton if character else None
        name = skeleton.joint(session.influence).name if skeleton and session.influence in skeleton.index else ""
        if not name:
            self.gives.setText("Take a joint: click one in the view or the list.")
        else:
            self.gives.setText(f"{name} takes from and gives to the others by their shares; locked ones keep theirs.")
        self._fill_list()

    def _fill_list(self, *, force: bool = False) -> None:
        session, character = self.session, self.session.character
        skeleton, skin = (character.skeleton, character.skin) if character else (None, None)
        key = (skeleton, skin, session.influence, session.locked)
        if not force and self.listed == key:
            return
        self.listed = key
        self.list.blockSignals(True)
        self.list.clear()
        if skeleton is not None:
            counts: dict[str, int] = {}
            for weights in skin.weights.values() if skin else ():
                per = np.bincount(weights.indices, minlength=len(weights.joint_ids))
                for joint, number in zip(weights.joint_ids, per, strict=True):
                    counts[joint] = counts.get(joint, 0) + int(number)
            wanted = self.find.text().lower()
            for joint in skeleton.joints:
                if wanted and wanted not in joint.name.lower():
                    continue
                number = counts.get(joint.id, 0)
                if skin is not None and number == 0 and not wanted:
                    continue
                item = QListWidgetItem(f"{joint.name}    {number} vertices" if skin else joint.name)
                item.setData(Qt.ItemDataRole.UserRole, joint.id)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                locked = joint.id in session.locked
                item.setCheckState(Qt.CheckState.Checked if locked else Qt.CheckState.Unchecked)
                self.list.addItem(item)
                item.setSelected(joint.id == session.influence)
                if joint.id == session.influence:
                    self.list.scrollToItem(item)
            self.influences_card.note.setText(f"{self.list.count()} of {len(skeleton.joints)}")
        self.list.blockSignals(False)

    def _pick(self, item: QListWidgetItem) -> None:
        self.session.select("joint", item.data(Qt.ItemDataRole.UserRole))
        self.session.view_changed.emit()

    def _lock(self, item: QListWidgetItem) -> None:
        joint = item.data(Qt.ItemDataRole.UserRole)
        on = item.checkState() == Qt.CheckState.Checked
        self.session.set_view(locked=self.session.locked | {joint} if on else self.session.locked - {joint})
