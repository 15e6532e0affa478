"""The number table: weights of the selected vertices, a row each, to read and to type."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, QTimer
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QAbstractItemView, QFrame, QHBoxLayout, QHeaderView, QTableView, QVBoxLayout

from pegloom.app.actions import Actions
from pegloom.app.session import Area, Session
from pegloom.app.theme import current
from pegloom.app.widgets import action_button, button, label
from pegloom.document import edits


class NumberModel(QAbstractTableModel):
    """Rows: vertices; columns: the joints that hold anything on them, the strongest first. Nothing is copied: cells
    are read when they are shown, so thousands of rows cost no more than a screenful."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rows: list[tuple[str, np.ndarray]] = []
        self.starts = np.zeros(1, dtype=np.int64)
        self.joints: list[str] = []
        self.values = np.zeros((0, 0))
        self.together: Callable[[QModelIndex], list[QModelIndex]] = lambda index: [index]
        """The cells that take a number typed into one: those selected with it."""

    def read(self) -> None:
        """Take rows and columns from the selection."""
        session = self.session
        character = session.character
        skin = character.skin if character else None
        rows = [(p, v) for p, v in session.vertices.items() if skin and p in skin.weights and len(v)]
        starts = np.cumsum([0, *[len(v) for _, v in rows]])
        blocks: list[dict[str, np.ndarray]] = []
        total: dict[str, float] = {}
        for part, vertices in rows:
            weights = skin.weights[part]
            some = weights.matrix()[vertices].toarray()
            held = {j: some[:, c] for c, j in enumerate(weights.joint_ids) if some[:, c].any()}
            blocks.append(held)
            for joint, column in held.items():
                total[joint] = total.get(joint, 0.0) + float(column.sum())
        if session.influence and character and session.influence in character.skeleton.index:
            total.setdefault(session.influence, 0.0)
        same = len(rows) == len(self.rows) and all(
            a[0] == b[0] and a[1] is b[1] for a, b in zip(rows, self.rows, strict=True)
        )
        # While the same vertices are looked at the columns keep their places, so that typing does not shuffle them.
        joints = [j for j in self.joints if j in total] if same else []
        joints += sorted((j for j in total if j not in joints), key=lambda j: -total[j])
        values = np.zeros((int(starts[-1]), len(joints)))
        for held, start in zip(blocks, starts, strict=False):
            for joint, column in held.items():
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
            skeleton = self.session.character.skeleton
            locked = " ⚿" if joint in self.session.locked else ""
            there = skeleton is not None and joint in skeleton.index
            return (skeleton.joint(joint).name if there else joint) + locked
        return str(self.vertex(section)[1])

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEditable

    def setData(self, index: QModelIndex, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        return self.put(self.together(index), str(value))

    def put(self, cells: list[QModelIndex], text: str) -> bool:
        """Type a number into cells: one step, however many."""
        session = self.session
        try:
            number = float(text.replace(",", "."))
        except ValueError:
            session.say(f"“{text}” is no number", error=True)
            return False
        locked = session.locked
        told: dict[tuple[str, str], list[int]] = {}
        for cell in cells:
            part, vertex = self.vertex(cell.row())
            told.setdefault((part, self.joints[cell.column()]), []).append(vertex)

        def edit(document: object) -> object:
            for (part, joint), vertices in told.items():
                document = edits.set_number(document, part, np.array(vertices), joint, number, locked=locked)
            return document

        return session.try_edit(f"Type {number:g} into {len(cells)} weight{'s' if len(cells) > 1 else ''}", edit)


class NumberTable(QFrame):
    """The table beside the stage."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self.setObjectName("numbers")
        self.setFixedWidth(340)
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 10, 8)
        head = QHBoxLayout()
        head.addWidget(label("Numbers", "heading"))
        self.note = label("", "caption", name="numbers.note")
        head.addWidget(self.note)
        head.addStretch(1)
        head.addWidget(button("Close", "numbers.close", lambda: session.set_view(numbers_shown=False), role="plain"))
        column.addLayout(head)
        self.model = NumberModel(session)
        self.table = QTableView()
        self.table.setObjectName("numbers.table")
        self.table.setAccessibleName("Weights of the selected vertices")
        self.table.setModel(self.model)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.verticalHeader().setDefaultSectionSize(22)
        self.table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.table.horizontalHeader().setDefaultSectionSize(86)
        self.table.horizontalHeader().sectionClicked.connect(self._take_joint)
        column.addWidget(self.table, 1)
        column.addWidget(label("Type into a cell; with several selected, all of them take it.", "caption", wrap=True))
        line = QHBoxLayout()
        for name, text in (("vertices.copy", "Copy"), ("vertices.paste", "Paste"), ("vertices.average", "Average")):
            line.addWidget(action_button(actions.qactions[name], text))
        column.addLayout(line)
        self.shown: object = None
        # Later, not at once: a cell's editor must not lose its model while it hands its number over.
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.setInterval(0)
        self.later.timeout.connect(self.refresh)
        session.selection_changed.connect(self.later.start)
        session.changed.connect(lambda *_: self.later.start())
        session.view_changed.connect(self.later.start)
        self.model.together = self._together
        self.refresh()

    def _together(self, index: QModelIndex) -> list[QModelIndex]:
        cells = self.table.selectionModel().selectedIndexes()
        return cells if index in cells else [index]

    def _take_joint(self, section: int) -> None:
        self.session.select("joint", self.model.joints[section])
        self.session.view_changed.emit()

    def refresh(self) -> None:
        session, character = self.session, self.session.character
        on = (
            session.numbers_shown
            and session.area is Area.WEIGHTS
            and character is not None
            and character.skin is not None
        )
        self.setVisible(on)
        if not on or not session.drag_free:
            return
        key = (
            character.skin,
            tuple((p, id(v)) for p, v in session.vertices.items()),
            session.locked,
            session.influence,
        )
        if key == self.shown:
            return
        self.shown = key
        self.model.read()
        count = len(self.model.values)
        self.note.setText(f"{count} vertices" if count else "draw a box over some vertices")
