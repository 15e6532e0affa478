"""A question with answers that say what will happen."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

WIDE = 420


class QuestionSheet(QDialog):
    """A sentence or two, and a button for each way out; Esc is the last, which changes nothing."""

    def __init__(self, question: str, yes: str, no: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setObjectName("question")
        self.setWindowTitle("Peg Loom")
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 18)
        column.setSpacing(16)
        words = QLabel(question)
        words.setObjectName("question.words")
        words.setTextFormat(Qt.TextFormat.PlainText)
        words.setWordWrap(True)
        words.setMinimumWidth(WIDE)
        column.addWidget(words)
        line = QHBoxLayout()
        line.addStretch(1)
        self.no, self.yes = QPushButton(no), QPushButton(yes)
        self.no.setObjectName("question.no")
        self.yes.setObjectName("question.yes")
        self.yes.setProperty("role", "main")
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.accept)
        line.addWidget(self.no)
        line.addWidget(self.yes)
        column.addLayout(line)
        # Return takes the way out that loses nothing.
        self.no.setDefault(True)
        self.no.setFocus()


class ChoiceSheet(QDialog):
    """One of some rows."""

    def __init__(self, title: str, options: list[str], parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setObjectName("choice")
        self.setWindowTitle("Peg Loom")
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 18)
        column.setSpacing(12)
        words = QLabel(title)
        words.setTextFormat(Qt.TextFormat.PlainText)
        words.setWordWrap(True)
        words.setMinimumWidth(WIDE)
        column.addWidget(words)
        self.list = QListWidget()
        self.list.setObjectName("choice.list")
        self.list.setAccessibleName(title)
        self.list.addItems(options)
        self.list.setCurrentRow(0)
        self.list.itemActivated.connect(lambda _: self.accept())
        column.addWidget(self.list)
        line = QHBoxLayout()
        line.addStretch(1)
        no, yes = QPushButton("Cancel"), QPushButton("Take this one")
        no.setObjectName("choice.no")
        yes.setObjectName("choice.yes")
        yes.setProperty("role", "main")
        yes.setDefault(True)
        no.clicked.connect(self.reject)
        yes.clicked.connect(self.accept)
        line.addWidget(no)
        line.addWidget(yes)
        column.addLayout(line)

    @property
    def chosen(self) -> int:
        return self.list.currentRow()


class FieldSheet(QDialog):
    """One field to fill: a name, or a number."""

    def __init__(self, title: str, field: QWidget, yes: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setObjectName("field")
        self.setWindowTitle("Peg Loom")
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 18)
        column.setSpacing(12)
        words = QLabel(title)
        words.setTextFormat(Qt.TextFormat.PlainText)
        words.setWordWrap(True)
        words.setMinimumWidth(WIDE)
        column.addWidget(words)
        field.setAccessibleName(title)
        column.addWidget(field)
        line = QHBoxLayout()
        line.addStretch(1)
        no, self.yes = QPushButton("Cancel"), QPushButton(yes)
        no.setObjectName("field.no")
        self.yes.setObjectName("field.yes")
        self.yes.setProperty("role", "main")
        self.yes.setDefault(True)
        no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.accept)
        line.addWidget(no)
        line.addWidget(self.yes)
        column.addLayout(line)
        field.setFocus()


def ask_name(title: str, suggestion: str, parent: QWidget | None) -> str:
    """A name, "" where none is given."""
    field = QLineEdit(suggestion)
    field.setObjectName("field.name")
    field.selectAll()
    sheet = FieldSheet(title, field, "Use this name", parent)
    return field.text().strip() if sheet.exec() == QDialog.DialogCode.Accepted else ""


def ask_share(title: str, now: float, parent: QWidget | None) -> float | None:
    """A number from 0 to 1, None where none is given."""
    field = QDoubleSpinBox()
    field.setObjectName("field.number")
    field.setRange(0.0, 1.0)
    field.setDecimals(3)
    field.setSingleStep(0.05)
    field.setValue(now)
    sheet = FieldSheet(title, field, "Use this value", parent)
    return field.value() if sheet.exec() == QDialog.DialogCode.Accepted else None
