"""The sheet that shows what a revised file would change before it is taken in."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.widgets import button, label
from pegloom.document.edits.revised import Arrived, ClipWay, Row, Taking
from pegloom.document.model import Character

LEFT = None
HEADS = ("In the file", "Takes the place of", "What that changes")


class RevisedSheet(QDialog):
    """`taking`: what is taken, as chosen."""

    def __init__(self, character: Character, arrived: Arrived, taking: Taking, rows: list[Row], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("revised")
        self.setWindowTitle("A revised file")
        self.setMinimumWidth(760)
        self.start, self.character = taking, character
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 18, 22, 18)
        column.setSpacing(9)
        column.addWidget(label(f"What {arrived.name} changes", "area"))
        words = "Pegs, joints, weights, controls and keys stay. Behind this sheet the view shows the character with it; Cancel leaves all as it was."
        column.addWidget(label(words, "soft", wrap=True))
        said = {(row.kind, row.name): row.said for row in rows}
        self.part_boxes: list[QComboBox] = []
        self.gone_boxes: dict[str, QComboBox] = {}
        self.clip_boxes: list[QComboBox] = []
        met = set(taking.onto)
        gone = [p for p in character.parts if arrived.parts and p.id not in met and p.included]
        self.table = QTableWidget(len(arrived.parts) + len(gone) + len(arrived.clips), 3)
        self.table.setObjectName("revised.table")
        self.table.setHorizontalHeaderLabels(list(HEADS))
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        side = self.table.verticalHeader()
        assert side is not None
        side.hide()
        side.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.setWordWrap(True)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        ways: list[tuple[str, object]] = [("a new part", ""), ("nothing: leave it", LEFT), *((p.name, p.id) for p in character.parts)]
        row = 0
        for k, part in enumerate(arrived.parts):
            self.part_boxes.append(self._row(row, f"{part.name}", f"revised.part{k}", ways, taking.onto[k], said.get(("part", part.name), "")))
            row += 1
        for part in gone:
            box = self._row(row, "not in it", f"revised.gone.{part.id}", [(f"{part.name}: stays", True), (f"{part.name}: goes", False)], part.id in taking.stay, said.get(("gone", part.name), ""))
            self.gone_boxes[part.id] = box
            row += 1
        ours = {c.name: c for c in character.clips}
        for k, clip in enumerate(arrived.clips):
            there = ours.get(clip.name)
            options: list[tuple[str, object]] = [("nothing: leave it", ClipWay.LEAVE), ("none: a new clip", ClipWay.ADD)]
            if there is not None:
                options.append((f"{clip.name}, replaced", ClipWay.REPLACE))
                if character.rig is not None:
                    options.append((f"{clip.name}, as a layer over it", ClipWay.LAYER))
            self.clip_boxes.append(self._row(row, f"clip {clip.name}", f"revised.clip{k}", options, taking.clips[k], said.get(("clip", clip.name), "")))
            row += 1
        column.addWidget(self.table, 1)
        self.looks = QCheckBox("Its materials and textures take the place of ours")
        self.looks.setObjectName("revised.looks")
        self.looks.setChecked(taking.looks)
        self.looks.setVisible(bool(arrived.materials))
        column.addWidget(self.looks)
        for note in arrived.notes[:4]:
            column.addWidget(label(note, "caption", wrap=True))
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(button("Cancel", "revised.leave", self.reject))
        self.take = button("Take it in", "revised.take", self.accept, role="main")
        self.take.setDefault(True)
        line.addWidget(self.take)
        column.addLayout(line)
        self.resize(820, min(250 + 28 * row, 640))
        if parent is not None:
            # Low, so that the view behind it shows the figure.
            low = parent.frameGeometry()
            self.move(low.left() + max((low.width() - self.width()) // 2, 0), low.bottom() - self.height() - 12)

    def _row(self, row: int, name: str, box_name: str, options: list[tuple[str, object]], now: object, said: str) -> QComboBox:
        for place, text in ((0, name), (2, said)):
            item = QTableWidgetItem(text)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.table.setItem(row, place, item)
        box = QComboBox()
        box.setObjectName(box_name)
        box.setAccessibleName(f"{name} takes the place of")
        for text, value in options:
            box.addItem(text, value)
        box.setCurrentIndex(next((k for k, (_, value) in enumerate(options) if value == now and type(value) is type(now)), 0))
        box.currentIndexChanged.connect(lambda _: self._told(row, box, now, said))
        self.table.setCellWidget(row, 1, box)
        return box

    def _told(self, row: int, box: QComboBox, now: object, said: str) -> None:
        """What was measured holds for what was proposed; for another choice it is worked out when it is taken."""
        item = self.table.item(row, 2)
        assert item is not None
        item.setText(said if box.currentData() == now else "as you chose; measured when it is taken in")

    @property
    def taking(self) -> Taking:
        """What is chosen."""
        met = tuple(box.currentData() for box in self.part_boxes)
        stay = {part_id for part_id, box in self.gone_boxes.items() if box.currentData()}
        # What another row stood for and no row stands for now stays as it is.
        stay |= {p for p in self.start.onto if p and p not in met} | {p.id for p in self.character.parts if not p.included and p.id not in met}
        return replace(self.start, onto=met, stay=frozenset(stay), clips=tuple(box.currentData() for box in self.clip_boxes), looks=self.looks.isChecked() and self.looks.isVisibleTo(self))
