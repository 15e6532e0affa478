"""Influences: the joints that move this skin; locked, dropped, handed over."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QStyledItemDelegate, QStyleOptionViewItem

from pegloom.app.areas.weights.actions.influences import heir_of
from pegloom.app.areas.weights.settings import InfluenceSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets import action_button, label, tip
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, line, tick
from pegloom.app.widgets.panel import same
from pegloom.scene.drawing import SIDE_COLOURS

JOINT, SHARE, FIGURE, COLOUR = (Qt.ItemDataRole.UserRole + k for k in range(4))


class ShareDelegate(QStyledItemDelegate):
    """A row: a tick, the joint's name, a bar and a figure."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
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

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(100, 24)


class InfluenceCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Influences", "weights.influence_list")
        find = line(self, InfluenceSettings, "find", name="weights.find", hint="find a joint")
        find.setAccessibleName("Find a joint")
        self.body.addWidget(find)
        self.body.addWidget(
            tick(self, InfluenceSettings, "here", "Only those of the selected vertices", name="weights.here")
        )
        self.list = QListWidget()
        self.list.setObjectName("weights.list")
        self.list.setAccessibleName("Influences")
        self.list.setItemDelegate(ShareDelegate(self.list))
        self.list.setMinimumHeight(168)
        self.list.itemClicked.connect(self._pick)
        self.list.itemActivated.connect(self._pick)
        self.list.itemChanged.connect(self._lock)
        self.body.addWidget(self.list)
        self.body.addWidget(label("A ticked joint is locked: it keeps what it holds.", "caption", wrap=True))
        q = c.actions.qactions
        self.row(
            action_button(q["influence.drop"], "Remove influence"), action_button(q["influence.irrelevant"], "Remove unused")
        )
        self.heir = choice(self, InfluenceSettings, "heir", (), name="weights.heir")
        self.field("Move weight to", filled_by_pick(self, self.heir, InfluenceSettings, "heir", "joint", "Move weight to"))
        self.heir.setAccessibleName("Joint that takes over")
        self.row(action_button(q["influence.replace"], "Move weight"), action_button(q["weights.reduce"], "Reduce"))
        self.listed: tuple[object, ...] | None = None

    def _rows_of(self, state: State) -> tuple[object, ...]:
        one, chosen = state.character, state.settings.of(InfluenceSettings)
        pieces = (one.skeleton, one.skin) if one is not None else ()
        return (*pieces, chosen.find, chosen.here, state.vertices if chosen.here else None)

    def key(self, state: State) -> tuple[object, ...]:
        return (*self._rows_of(state), state.tooling.locked, state.viewing.influence)

    def show_state(self, state: State) -> None:
        rows = self._rows_of(state)
        if self.listed is not None and same(rows, self.listed):
            # Ticks and the mark change in place: a row must not go while its own click is being dealt with.
            self._tick(state)
        else:
            self.listed = rows
            self._fill(state)
        self.heir.setCurrentIndex(max(self.heir.findData(heir_of(state)), 0))

    def _fill(self, state: State) -> None:
        character, chosen = state.character, state.settings.of(InfluenceSettings)
        skeleton, skin = (character.skeleton, character.skin) if character else (None, None)
        self.list.blockSignals(True)
        self.list.clear()
        if skeleton is not None:
            amounts, most = self._held()
            wanted = chosen.find.lower()
            joints = [j for j in skeleton.joints if not wanted or wanted in j.name.lower()]
            if skin is not None and not wanted:
                joints = [j for j in joints if amounts.get(j.id, 0)]
            top = max(amounts.values(), default=0) or 1
            for joint in joints:
                number = amounts.get(joint.id, 0)
                item = QListWidgetItem(joint.name)
                item.setData(JOINT, joint.id)
                if skin is not None:
                    item.setData(SHARE, float(number / top))
                    item.setData(FIGURE, f"{number:.2f}" if chosen.here else f"{number:.0f}")
                    item.setData(COLOUR, SIDE_COLOURS[joint.side])
                    item.setToolTip(tip(f"{joint.name}: at most {most.get(joint.id, 0.0):.2f} on a vertex"))
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                locked = joint.id in state.tooling.locked
                item.setCheckState(Qt.CheckState.Checked if locked else Qt.CheckState.Unchecked)
                self.list.addItem(item)
                item.setSelected(joint.id == state.viewing.influence)
                if joint.id == state.viewing.influence:
                    self.list.scrollToItem(item)
            self.note.setText(f"{self.list.count()} of {len(skeleton.joints)}")
            names = [(j.name, j.id) for j in skeleton.joints]
            if [self.heir.itemData(i) for i in range(self.heir.count())] != [i for _, i in names]:
                fill(self.heir, names)
        self.list.blockSignals(False)

    def _held(self) -> tuple[dict[str, float], dict[str, float]]:
        """How many vertices each joint moves (of a selection: its mean weight there), and its largest weight."""
        state = self.c.state
        skin, here = self.c.character.skin, state.settings.of(InfluenceSettings).here
        amounts: dict[str, float] = {}
        most: dict[str, float] = {}
        total = sum(len(v) for v in state.vertices.values())
        for part, weights in skin.weights.items() if skin else ():
            matrix = weights.matrix()
            if here:
                matrix = matrix[state.vertices.get(part, np.zeros(0, dtype=np.int64))]
                per = np.asarray(matrix.sum(axis=0)).ravel() / max(total, 1)
            else:
                per = np.bincount(matrix.indices, minlength=len(weights.joint_ids)).astype(float)
            top = np.zeros(len(weights.joint_ids))
            np.maximum.at(top, matrix.indices, matrix.data)
            for joint, number, largest in zip(weights.joint_ids, per, top, strict=True):
                amounts[joint] = amounts.get(joint, 0.0) + float(number)
                most[joint] = max(most.get(joint, 0.0), float(largest))
        return amounts, most

    def _tick(self, state: State) -> None:
        self.list.blockSignals(True)
        for row in range(self.list.count()):
            item = self.list.item(row)
            assert item is not None
            wanted = item.data(JOINT) in state.tooling.locked
            if (item.checkState() == Qt.CheckState.Checked) is not wanted:
                item.setCheckState(Qt.CheckState.Checked if wanted else Qt.CheckState.Unchecked)
            active = item.data(JOINT) == self.c.state.viewing.influence
            if active is not item.isSelected():
                item.setSelected(active)
                if active:
                    self.list.scrollToItem(item)
        self.list.blockSignals(False)

    def _pick(self, item: QListWidgetItem) -> None:
        self.c.store.pick("joint", item.data(JOINT))

    def _lock(self, item: QListWidgetItem) -> None:
        joint = item.data(JOINT)
        on = item.checkState() == Qt.CheckState.Checked
        self.c.store.put(locked=self.c.state.tooling.locked | {joint} if on else self.c.state.tooling.locked - {joint})
