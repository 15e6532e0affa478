"""The sheet on which joints of another character are paired with ours before its weights are read."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.widgets import label
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document import edits
from pegloom.document.model import Character

ABOVE = "to its parent's joint"


class PairingSheet(QDialog):
    """`pairs`: their joint ids to ours, as chosen; a joint left to its parent is not in it."""

    def __init__(self, other: Character, ours: Skeleton, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pairing")
        self.setWindowTitle("Read weights from another character")
        self.resize(520, 560)
        assert other.skeleton is not None and other.skin is not None
        column = QVBoxLayout(self)
        column.setSpacing(7)
        column.addWidget(label(f"Weights of {other.name}", "area"))
        column.addWidget(
            label(
                "It is stood in this character's place at this height; each part here then reads the nearest surface. "
                "The current weights are kept as a weave.",
                "soft",
                wrap=True,
            )
        )
        bound_joints = {j for weights in other.skin.weights.values() for j in weights.joint_ids}
        self.joints = [j for j in other.skeleton.joints if j.id in bound_joints]
        guess = edits.matching_joints(other.skeleton, ours)
        self.table = QTableWidget(len(self.joints), 2)
        self.table.setObjectName("pairing.table")
        self.table.setHorizontalHeaderLabels(["Theirs", "Read as"])
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.boxes: list[QComboBox] = []
        for row, joint in enumerate(self.joints):
            item = QTableWidgetItem(joint.name)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.table.setItem(row, 0, item)
            box = QComboBox()
            box.setObjectName(f"pairing.{joint.id}")
            box.addItem(ABOVE, "")
            for mine in ours.joints:
                box.addItem(mine.name, mine.id)
            box.setCurrentIndex(max(box.findData(guess.get(joint.id, "")), 0))
            box.currentIndexChanged.connect(self._count)
            self.table.setCellWidget(row, 1, box)
            self.boxes.append(box)
        column.addWidget(self.table, 1)
        self.summary = label("", "caption", name="pairing.summary")
        column.addWidget(self.summary)
        buttons = QDialogButtonBox()
        self.read = buttons.addButton("Read the weights", QDialogButtonBox.ButtonRole.AcceptRole)
        self.read.setObjectName("pairing.read")
        self.read.setProperty("role", "main")
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._count()

    def _count(self) -> None:
        paired = len(self.pairs)
        self.summary.setText(f"{paired} of {len(self.joints)} joints are paired")
        self.read.setEnabled(paired > 0)

    @property
    def pairs(self) -> dict[str, str]:
        chosen = {j.id: box.currentData() for j, box in zip(self.joints, self.boxes, strict=True)}
        return {theirs: mine for theirs, mine in chosen.items() if mine}
