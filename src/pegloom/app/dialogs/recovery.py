"""The sheet of unsaved work that was left behind, with pictures."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.widgets import label
from pegloom.files.leftovers import KEPT_DAYS, LeftOver, when_told


class RecoverySheet(QDialog):
    """`chosen`: the number of the work to open, -1 for none now."""

    def __init__(self, found: list[LeftOver], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("recovery")
        self.setWindowTitle("Unsaved work")
        self.resize(480, min(160 + 92 * len(found), 560))
        column = QVBoxLayout(self)
        column.setSpacing(7)
        column.addWidget(label("Unsaved work was left behind", "area"))
        column.addWidget(
            label(
                f"Peg Loom was stopped before it was saved. Not now keeps it for {KEPT_DAYS} days; "
                "“Unsaved work left behind” finds it again.",
                "soft",
                wrap=True,
            )
        )
        self.list = QListWidget()
        self.list.setObjectName("recovery.list")
        self.list.setIconSize(QSize(96, 72))
        self.list.setSpacing(2)
        for one in found:
            of = f"not saved in {one.project.name}" if one.project is not None else "never saved"
            item = QListWidgetItem(f"{one.name or 'untitled'}\n{of}\nkept {when_told(one.when)}")
            picture = QPixmap()
            if picture.loadFromData(one.picture, "PNG"):
                icon = QIcon(picture)
                # Qt would tint the picked one's picture.
                icon.addPixmap(picture, QIcon.Mode.Selected)
                item.setIcon(icon)
            item.setSizeHint(QSize(0, 84))
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        column.addWidget(self.list, 1)
        buttons = QDialogButtonBox()
        take = buttons.addButton("Open it", QDialogButtonBox.ButtonRole.AcceptRole)
        take.setObjectName("recovery.open")
        take.setProperty("role", "main")
        later = buttons.addButton("Not now", QDialogButtonBox.ButtonRole.RejectRole)
        later.setObjectName("recovery.later")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.list.setFocus(Qt.FocusReason.OtherFocusReason)

    @property
    def chosen(self) -> int:
        return self.list.currentRow() if self.result() == QDialog.DialogCode.Accepted else -1
