"""The job under way: what it does, how far it is, and Cancel."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.widgets import button, label


class JobCard(QFrame):
    changed = pyqtSignal()

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("job")
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 8, 8, 8)
        words = QVBoxLayout()
        words.setSpacing(3)
        self.title = label("", "heading", name="job.title")
        self.text = label("", "caption", name="job.text")
        self.bar = QProgressBar()
        self.bar.setObjectName("job.bar")
        self.bar.setTextVisible(False)
        self.bar.setRange(0, 1000)
        for widget in (self.title, self.text, self.bar):
            words.addWidget(widget)
        line.addLayout(words, 1)
        line.addWidget(button("Cancel", "job.cancel", c.jobs.cancel))
        self.setFixedSize(360, 76)
        self.hide()
        c.jobs.started.connect(self._started)
        c.jobs.progressed.connect(self._progressed)
        c.jobs.finished.connect(self.hide)

    def _started(self, title: str) -> None:
        self.title.setText(title)
        self.text.setText("")
        self.bar.setValue(0)
        self.show()
        self.raise_()
        self.changed.emit()

    def _progressed(self, fraction: float, text: str) -> None:
        self.bar.setValue(int(1000 * fraction))
        self.text.setText(text)
