"""Mouse and keys: one table of everything they do, in which keys are changed."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.actions.registry import Actions
from pegloom.app.widgets import button, label

ONLY_HELD = (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_Meta, Qt.Key.Key_AltGr)


class KeySheet(QDialog):
    """mouse: (what the hand does, what it means) rows, shown above the actions and not changed."""

    def __init__(self, actions: Actions, mouse: list[tuple[str, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle("Mouse and keys")
        self.resize(560, 620)
        self.actions_, self.mouse = actions, mouse
        column = QVBoxLayout(self)
        column.setSpacing(8)
        self.search = QLineEdit()
        self.search.setObjectName("sheet.search")
        self.search.setPlaceholderText("Search")
        self.search.setAccessibleName("Search the table")
        self.search.textChanged.connect(self._filter)
        column.addWidget(self.search)
        self.table = QTableWidget(0, 2)
        self.table.setObjectName("sheet.table")
        self.table.setAccessibleName("Mouse and keys")
        self.table.setHorizontalHeaderLabels(["What it does", "Key or mouse"])
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.setSectionResizeMode(1, QHeaderView.ResizeMode.Fixed)
        self.table.setColumnWidth(1, 200)
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.itemSelectionChanged.connect(self._show)
        self.table.itemDoubleClicked.connect(lambda _: self.catch())
        column.addWidget(self.table, 1)
        self.answer = label(
            "Pick a row, then Change key; the mouse stays as it is.", "caption", wrap=True, name="sheet.answer"
        )
        column.addWidget(self.answer)
        line = QHBoxLayout()
        self.change = button("Change key", "sheet.change", self.catch, role="main")
        self.none = button("No key", "sheet.none", lambda: self._give(""))
        self.usual = button("Default key", "sheet.usual", self._usual)
        self.all_usual = button("Reset all", "sheet.all_usual", self._all_usual)
        for one in (self.change, self.none, self.usual):
            line.addWidget(one)
        line.addStretch(1)
        line.addWidget(self.all_usual)
        column.addLayout(line)
        self.catching = ""
        self.installEventFilter(self)
        self.table.installEventFilter(self)
        self._fill()
        self._show()

    def _fill(self) -> None:
        picked = self.picked
        rows: list[tuple[str, str, str]] = [(meaning, hand, "") for hand, meaning in self.mouse]
        entries = sorted(self.actions_.entries.values(), key=lambda a: (not self.actions_.key(a.id), a.menu, a.title))
        rows += [(a.title, self.actions_.key(a.id), a.id) for a in entries]
        self.table.setRowCount(len(rows))
        for k, (title, keys, action) in enumerate(rows):
            for side, text in enumerate((title, keys)):
                item = QTableWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, action)
                if action:
                    item.setToolTip(self.actions_.entries[action].tip)
                    own = self.actions_.key(action) != self.actions_.entries[action].key
                    font = item.font()
                    font.setBold(own and side == 1)
                    item.setFont(font)
                self.table.setItem(k, side, item)
            if action and action == picked:
                self.table.selectRow(k)
        self._filter(self.search.text())

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        for row in range(self.table.rowCount()):
            whole = " ".join(self.table.item(row, side).text().lower() for side in (0, 1))
            self.table.setRowHidden(row, not all(word in whole for word in words))

    @property
    def picked(self) -> str:
        """Id of the picked row's action, "" for the mouse's rows and for none."""
        items = self.table.selectedItems()
        return str(items[0].data(Qt.ItemDataRole.UserRole)) if items else ""

    def _show(self) -> None:
        if self.catching and self.picked != self.catching:
            self.catching = ""
        for one in (self.change, self.none, self.usual):
            one.setEnabled(bool(self.picked))
            one.setToolTip("" if self.picked else "Pick an action's row first")

    def catch(self) -> None:
        """Take the next keys pressed for the picked action; Esc leaves it."""
        if self.picked:
            self.catching = self.picked
            title = self.actions_.entries[self.picked].title
            self.answer.setText(f"Press the keys for {title}; Esc leaves it as it is.")
            self.table.setFocus()

    def _give(self, keys: str) -> None:
        action = self.picked
        if not action:
            return
        refused = self.actions_.rebind(action, keys)
        title = self.actions_.entries[action].title
        self.answer.setText(refused or (f"{title} is on {keys} now." if keys else f"{title} has no key now."))
        self._fill()

    def _usual(self) -> None:
        if self.picked:
            self._give(self.actions_.entries[self.picked].key)

    def _all_usual(self) -> None:
        self.actions_.rebind_all({})
        self.answer.setText("Every key is the default one.")
        self._fill()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if self.catching and isinstance(event, QKeyEvent):
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
                return True
            if event.type() == QEvent.Type.KeyPress and event.key() not in ONLY_HELD:
                action, self.catching = self.catching, ""
                if event.key() == Qt.Key.Key_Escape:
                    self.answer.setText("Left as it was.")
                elif action == self.picked:
                    self._give(QKeySequence(event.keyCombination()).toString())
                return True
        return super().eventFilter(watched, event)
