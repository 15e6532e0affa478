"""Find an action: type, arrows, Enter."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.actions.registry import Actions
from pegloom.app.widgets import tip


class Palette(QFrame):
    """Drops down from the title row; Esc closes it."""

    def __init__(self, actions: Actions, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("palette")
        self.registry = actions
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 10, 10)
        self.search = QLineEdit()
        self.search.setObjectName("palette.search")
        self.search.setAccessibleName("Find an action")
        self.search.setPlaceholderText("Find an action")
        self.list = QListWidget()
        self.list.setObjectName("palette.list")
        self.list.setAccessibleName("Actions found")
        column.addWidget(self.search)
        column.addWidget(self.list)
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(self._run)
        self.search.installEventFilter(self)
        self.list.itemClicked.connect(lambda _: self._run())
        self.setFixedSize(460, 330)
        self.hide()

    def open(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.move((parent.width() - self.width()) // 2, 44)
        self.search.clear()
        self._fill("")
        self.show()
        self.raise_()
        self.search.setFocus()

    def _fill(self, text: str) -> None:
        self.list.clear()
        for action in self.registry.find(text):
            missing = action.missing(self.registry.c.state)
            item = QListWidgetItem(f"{action.title}    {self.registry.key(action.id)}".rstrip())
            item.setData(Qt.ItemDataRole.UserRole, action.id)
            item.setToolTip(tip(missing.says if missing is not None else action.tip))
            if missing is not None:
                item.setForeground(self.palette().placeholderText())
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        item = self.list.currentItem()
        self.hide()
        if item is not None:
            self.registry.run(item.data(Qt.ItemDataRole.UserRole))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        assert event is not None
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            key = event.key()
            if key == Qt.Key.Key_Escape:
                self.hide()
                return True
            if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if key == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        if event.type() == QEvent.Type.FocusOut and not self.list.hasFocus() and not self.underMouse():
            self.hide()
        return False
