"""The number table: weights of the selected vertices, a row each, to read and to type."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QHeaderView, QTableView, QVBoxLayout

from pegloom.app.areas.weights.actions.vertices import NUMBERS
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.panel import Panel
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Document


class NumberModel(QAbstractTableModel):
    """Rows: vertices; columns: the joints that hold anything on them, the strongest first. Nothing is copied: cells
    are read when they are shown, so thousands of rows cost no more than a screenful."""

    def __init__(self, c: Context) -> None:
        super().__init__()
        self.c = c
        self.rows: list[tuple[str, np.ndarray]] = []
        self.starts = np.zeros(1, dtype=np.int64)
        self.joints: list[str] = []
        self.values = np.zeros((0, 0))
        self.together: Callable[[QModelIndex], list[QModelIndex]] = lambda index: [index]
        """The cells that take a number typed into one: those selected with it."""

    def read(self) -> None:
        """Take rows and columns from the selection."""
        c = self.c
        character = c.state.character
        skin = character.skin if character else None
        bound = skin.weights if skin is not None else {}
        rows = [(p, v) for p, v in c.state.vertices.items() if p in bound and len(v)]
        starts = np.cumsum([0, *[len(v) for _, v in rows]])
        blocks: list[dict[str, np.ndarray]] = []
        total: dict[str, float] = {}
        for part, vertices in rows:
            weights = bound[part]
            some = weights.matrix()[vertices].toarray()
            columns = {j: some[:, k] for k, j in enumerate(weights.joint_ids) if some[:, k].any()}
            blocks.append(columns)
            for joint, column in columns.items():
                total[joint] = total.get(joint, 0.0) + float(column.sum())
        skeleton = character.skeleton if character is not None else None
        if skeleton is not None and c.state.viewing.influence in skeleton.index:
            total.setdefault(c.state.viewing.influence, 0.0)
        same = len(rows) == len(self.rows) and all(
            a[0] == b[0] and a[1] is b[1] for a, b in zip(rows, self.rows, strict=True)
        )
        # While the same vertices are looked at the columns keep their places, so that typing does not shuffle them.
        joints = [j for j in self.joints if j in total] if same else []
        joints += sorted((j for j in total if j not in joints), key=lambda j: -total[j])
        values = np.zeros((int(starts[-1]), len(joints)))
        for columns, start in zip(blocks, starts, strict=False):
            for joint, column in columns.items():
                values[start : start + len(column), joints.index(joint)] = column
        if same and joints == self.joints:
            self.values = values
            if values.size:
                self.dataChanged.emit(self.index(0, 0), self.index(values.shape[0] - 1, values.shape[1] - 1))
            return
        self.beginResetModel()
        self.rows, self.starts, self.joints, self.values = rows, starts, joints, values
        self.endResetModel()

    def vertex(self, row: int) -> tuple[str, int]:
        """Part and vertex of a row."""
        k = int(np.searchsorted(self.starts, row, side="right") - 1)
        part, vertices = self.rows[k]
        return part, int(vertices[row - self.starts[k]])

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.values)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.joints)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        value = float(self.values[index.row(), index.column()])
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return f"{value:.3f}" if value or role == Qt.ItemDataRole.EditRole else "·"
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.BackgroundRole and value > 0:
            shade = QColor(current().woad)
            shade.setAlphaF(0.08 + 0.35 * min(value, 1.0))
            return shade
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if orientation == Qt.Orientation.Horizontal:
            joint = self.joints[section]
            one = self.c.state.character
            skeleton = one.skeleton if one is not None else None
            locked = " ⚿" if joint in self.c.state.tooling.locked else ""
            known = skeleton is not None and joint in skeleton.index
            return (skeleton.joint(joint).name if known and skeleton is not None else joint) + locked
        return str(self.vertex(section)[1])

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEditable

    def setData(self, index: QModelIndex, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        return self.put(self.together(index), str(value))

    def put(self, cells: list[QModelIndex], text: str) -> bool:
        """Type a number into cells: one step, however many."""
        c = self.c
        try:
            number = number_of(text)
        except ValueError:
            c.say(f"“{text}” is no number", error=True)
            return False
        locked = c.state.tooling.locked
        typed: dict[tuple[str, str], list[int]] = {}
        for cell in cells:
            part, vertex = self.vertex(cell.row())
            typed.setdefault((part, self.joints[cell.column()]), []).append(vertex)

        def edit(document: Document) -> Document:
            for (part, joint), vertices in typed.items():
                document = edits.set_number(document, part, np.array(vertices), joint, number, locked=locked)
            return document

        return c.try_edit(f"Type {number:g} into {len(cells)} weight{'s' if len(cells) > 1 else ''}", edit)


def number_of(text: str) -> float:
    """A weight as it is typed: 0.25, ,25 or 25 %. Raises ValueError for what is no number."""
    bare = text.strip().replace(",", ".")
    return float(bare[:-1]) / 100 if bare.endswith("%") else float(bare)


class NumberTable(Panel):
    """The table beside the view."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("numbers")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 10, 8)
        head = QHBoxLayout()
        head.addWidget(label("Numbers", "heading"))
        self.note = label("", "caption", name="numbers.note")
        head.addWidget(self.note)
        head.addStretch(1)
        head.addWidget(button("Close", "numbers.close", lambda: c.actions.run("vertices.numbers"), role="plain"))
        column.addLayout(head)
        self.model = NumberModel(c)
        self.table = QTableView()
        self.table.setObjectName("numbers.table")
        self.table.setAccessibleName("Weights of the selected vertices")
        self.table.setModel(self.model)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        rows, columns = self.table.verticalHeader(), self.table.horizontalHeader()
        assert rows is not None and columns is not None
        rows.setDefaultSectionSize(22)
        rows.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        columns.setDefaultSectionSize(86)
        columns.sectionClicked.connect(self._take_joint)
        column.addWidget(self.table, 1)
        column.addWidget(label("Type into a cell; with several selected, all of them take it.", "caption", wrap=True))
        line = QHBoxLayout()
        for name, text in (("vertices.copy", "Copy"), ("vertices.paste", "Paste"), ("vertices.average", "Average")):
            line.addWidget(action_button(c.actions.qactions[name], text))
        column.addLayout(line)
        self.model.together = self._together

    def _together(self, index: QModelIndex) -> list[QModelIndex]:
        picked = self.table.selectionModel()
        cells = picked.selectedIndexes() if picked is not None else []
        return cells if index in cells else [index]

    def _take_joint(self, section: int) -> None:
        self.c.store.select("joint", self.model.joints[section])

    def key(self, state: State) -> tuple[object, ...]:
        skin = state.character.skin if state.character is not None else None
        return (skin, state.vertices, state.tooling.locked, state.viewing.influence, state.dragging)

    def show_state(self, state: State) -> None:
        if state.dragging:
            return
        self.model.read()
        count = len(self.model.values)
        self.note.setText(counted(count, "vertex", "vertices") if count else "draw a box over some vertices")


def wanted(state: State) -> bool:
    """Whether the table is open and there are weights to show."""
    return NUMBERS in state.viewing.panes and state.character is not None and state.character.skin is not None
