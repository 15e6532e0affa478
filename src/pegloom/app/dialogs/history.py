"""All steps in a list; choosing one goes there."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QListWidget, QVBoxLayout, QWidget

from pegloom.app.state.store import Store
from pegloom.app.widgets import label


class HistorySheet(QDialog):
    def __init__(self, store: Store, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("History")
        self.setObjectName("steps")
        column = QVBoxLayout(self)
        steps = QListWidget()
        steps.setObjectName("steps.list")
        for step in store.history.steps:
            steps.addItem(step.name)
        steps.setCurrentRow(store.history.at)
        for signal in (steps.itemActivated, steps.itemClicked):
            signal.connect(lambda _: store.go_to(steps.currentRow()))
        column.addWidget(label("Choose a step to go there; later ones stay until you do something else.", "caption"))
        column.addWidget(steps)
        self.resize(380, 420)
