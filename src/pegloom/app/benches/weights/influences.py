"""Influences: the joints that move this skin; locked, dropped, handed over."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QStyleOptionViewItem,
)

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.theme import current
from pegloom.app.widgets import Card, action_button, label, tip
from pegloom.scene.drawing import SIDE_COLOURS

JOINT, SHARE, FIGURE, COLOUR = (Qt.ItemDataRole.UserRole + k for k in range(4))


class ShareDelegate(QStyledItemDelegate):
    """A row: a tick, the joint's name, a bar and a figure."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: object) -> None:
        super().paint(painter, option, index)
        share, figure = index.data(SHARE), index.data(FIGURE)
        if figure is None:
            return
        box = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bar = QRectF(box.right() - 100, box.center().y() - 2.5, 52, 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(current().line))
        painter.drawRoundedRect(bar, 2.5, 2.5)
        painter.setBrush(QColor(index.data(COLOUR)))
        painter.drawRoundedRect(QRectF(bar.left(), bar.top(), max(bar.width() * share, 2.0), 5), 2.5, 2.5)
        painter.setPen(QColor(current().soft))
        painter.drawText(
            QRectF(box.right() - 46, box.top(), 42, box.height()),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            figure,
        )
        painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: object) -> QSize:
        return QSize(100, 24)


class InfluenceCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__("Influences", "weights.influence_list")
        self.session = session
        self.find = QLineEdit()
        self.find.setObjectName("weights.find")
        self.find.setPlaceholderText("find a joint")
        self.find.setAccessibleName("Find a joint")
        self.find.textChanged.connect(lambda _: self._fill(force=True))
        self.here = QCheckBox("Only those of the selected vertices")
        self.here.setObjectName("weights.here")
        self.here.toggled.connect(lambda _: self._fill(force=True))
        self.body.addWidget(self.find)
        self.body.addWidget(self.here)
        self.list = QListWidget()
        self.list.setObjectName("weights.list")
        self.list.setAccessibleName("Influences")
        self.list.setItemDelegate(ShareDelegate(self.list))
        self.list.setMinimumHeight(168)
        self.list.itemClicked.connect(self._pick)
        self.list.itemChanged.connect(self._lock)
        self.body.addWidget(self.list)
        self.body.addWidget(label("A ticked joint is locked: it keeps what it holds.", "caption", wrap=True))
        self.heir = QComboBox()
        self.heir.setObjectName("weights.heir")
        self.heir.setAccessibleName("Joint that takes over")
        q = actions.qactions
        self.row(
            action_button(q["influence.drop"], "Take off"), action_button(q["influence.irrelevant"], "Drop slight ones")
        )
        self.field("Hand over to", self.heir)
        self.row(action_button(q["influence.replace"], "Hand over"), action_button(q["weights.reduce"], "Reduce"))
        self.listed: object = None

    def show_document(self) -> None:
        self._fill()

    def _fill(self, *, force: bool = False) -> None:
        session, character = self.session, self.session.character
        skeleton, skin = (character.skeleton, character.skin) if character else (None, None)
        chosen = tuple((p, id(v)) for p, v in session.vertices.items()) if self.here.isChecked() else ()
        key = (skeleton, skin, chosen)
        if not force and self.listed == key:
            # Ticks and the mark change in place: a row must not go while its own click is being dealt with.
            self._tick()
            return
        self.listed = key
        self.list.blockSignals(True)
        self.list.clear()
        if skeleton is not None:
            held, most = self._held()
            wanted = self.find.text().lower()
            joints = [j for j in skeleton.joints if not wanted or wanted in j.name.lower()]
            if skin is not None and not wanted:
                joints = [j for j in joints if held.get(j.id, 0)]
            top = max(held.values(), default=0) or 1
            for joint in joints:
                number = held.get(joint.id, 0)
                item = QListWidgetItem(joint.name)
                item.setData(JOINT, joint.id)
                if skin is not None:
                    item.setData(SHARE, float(number / top))
                    item.setData(FIGURE, f"{number:.2f}" if self.here.isChecked() else f"{number:.0f}")
                    item.setData(COLOUR, SIDE_COLOURS[joint.side])
                    item.setToolTip(tip(f"{joint.name}: at most {most.get(joint.id, 0.0):.2f} on a vertex"))
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                locked = joint.id in session.locked
                item.setCheckState(Qt.CheckState.Checked if locked else Qt.CheckState.Unchecked)
                self.list.addItem(item)
                item.setSelected(joint.id == session.influence)
                if joint.id == session.influence:
                    self.list.scrollToItem(item)
            self.note.setText(f"{self.list.count()} of {len(skeleton.joints)}")
            names = [(j.name, j.id) for j in skeleton.joints]
            if [self.heir.itemData(i) for i in range(self.heir.count())] != [i for _, i in names]:
                self.heir.clear()
                for name, joint_id in names:
                    self.heir.addItem(name, joint_id)
        self.list.blockSignals(False)

    def _held(self) -> tuple[dict[str, float], dict[str, float]]:
        """How many vertices each joint moves (of a selection: its mean weight there), and its largest weight."""
        session = self.session
        skin = session.character.skin
        held: dict[str, float] = {}
        most: dict[str, float] = {}
        total = sum(len(v) for v in session.vertices.values())
        for part, weights in skin.weights.items() if skin else ():
            matrix = weights.matrix()
            if self.here.isChecked():
                matrix = matrix[session.vertices.get(part, np.zeros(0, dtype=np.int64))]
                per = np.asarray(matrix.sum(axis=0)).ravel() / max(total, 1)
            else:
                per = np.bincount(matrix.indices, minlength=len(weights.joint_ids)).astype(float)
            top = np.zeros(len(weights.joint_ids))
            np.maximum.at(top, matrix.indices, matrix.data)
            for joint, number, largest in zip(weights.joint_ids, per, top, strict=True):
                held[joint] = held.get(joint, 0.0) + float(number)
                most[joint] = max(most.get(joint, 0.0), float(largest))
        return held, most

    def _tick(self) -> None:
        self.list.blockSignals(True)
        for row in range(self.list.count()):
            item = self.list.item(row)
            wanted = item.data(JOINT) in self.session.locked
            if (item.checkState() == Qt.CheckState.Checked) is not wanted:
                item.setCheckState(Qt.CheckState.Checked if wanted else Qt.CheckState.Unchecked)
            held = item.data(JOINT) == self.session.influence
            if held is not item.isSelected():
                item.setSelected(held)
                if held:
                    self.list.scrollToItem(item)
        self.list.blockSignals(False)

    def _pick(self, item: QListWidgetItem) -> None:
        self.session.select("joint", item.data(JOINT))
        self.session.view_changed.emit()

    def _lock(self, item: QListWidgetItem) -> None:
        joint = item.data(JOINT)
        on = item.checkState() == Qt.CheckState.Checked
        self.session.set_view(locked=self.session.locked | {joint} if on else self.session.locked - {joint})
