"""A sheet of ways of bending, in figures: one is taken."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.widgets import button, label
from pegloom.checks.ways import Told, cells, worst_joints


class WaysSheet(QDialog):
    """`chosen`: the number of the way taken, -1 for none."""

    def __init__(self, told: Sequence[Told], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("ways")
        self.setWindowTitle("Ways to bend")
        self.told = told
        joints = worst_joints(told)
        heads = ["Way", "Longest edge", "p99", "Folded", "Crossing", "Girth", "Area", *(j.replace("_", " ") for j in joints)]
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 18, 22, 18)
        column.setSpacing(9)
        column.addWidget(label("Ways to bend", "area"))
        column.addWidget(label(
            "Over the whole range test. Longest edge and p99: posed over rest. Girth and area: the least a section keeps; the last columns are the area "
            "kept at the joints that keep least as it is now.", "soft", wrap=True,
        ))  # fmt: skip
        self.table = QTableWidget(len(told), len(heads))
        self.table.setObjectName("ways.table")
        self.table.setAccessibleName("Ways to bend")
        self.table.setHorizontalHeaderLabels(heads)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        rows, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.hide()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        for k, one in enumerate(told):
            for n, text in enumerate([one.way.title, *cells(one, joints)]):
                item = QTableWidgetItem(text)
                item.setTextAlignment(Qt.AlignmentFlag.AlignVCenter | (Qt.AlignmentFlag.AlignLeft if n == 0 else Qt.AlignmentFlag.AlignRight))
                self.table.setItem(k, n, item)
        column.addWidget(self.table, 1)
        self.says = label("", "caption", wrap=True, name="ways.says")
        column.addWidget(self.says)
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(button("Close", "ways.close", self.reject))
        self.take = button("Take it", "ways.take", self.accept, role="main")
        self.take.setDefault(True)
        line.addWidget(self.take)
        column.addLayout(line)
        self.table.itemSelectionChanged.connect(self._said)
        self.table.selectRow(min(1, len(told) - 1))
        self._said()
        wide = 2 * self.table.frameWidth() + header.length() + 44
        self.resize(min(max(wide, 640), 1240), 214 + 30 * (len(told) + 1))

    def _said(self) -> None:
        row = self.table.currentRow()
        one = self.told[row] if row >= 0 else None
        self.take.setEnabled(one is not None and row > 0 and one.way.document is not None)
        self.says.setText("" if one is None else f"Played by {one.way.plays}." if one.bends is not None else one.way.why)

    @property
    def chosen(self) -> int:
        return self.table.currentRow() if self.result() == QDialog.DialogCode.Accepted else -1
