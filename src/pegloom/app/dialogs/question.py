"""Questions: sheets whose answers say what will happen; rows, names and numbers are asked for in the same way."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QDoubleSpinBox, QHBoxLayout, QLabel, QLineEdit, QListWidget, QVBoxLayout, QWidget

from pegloom.app.widgets import button

WIDE = 420


class Sheet(QDialog):
    """A sentence or two, what is asked for if anything, and two ways out: Esc is the one that changes nothing."""

    def __init__(self, name: str, text: str, field: QWidget | None, yes: str, no: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setObjectName(name)
        self.setWindowTitle("Peg Loom")
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 18)
        column.setSpacing(14)
        words = QLabel(text)
        words.setObjectName(f"{name}.words")
        words.setTextFormat(Qt.TextFormat.PlainText)
        words.setWordWrap(True)
        words.setMinimumWidth(WIDE)
        column.addWidget(words)
        if field is not None:
            field.setAccessibleName(text)
            column.addWidget(field)
        line = QHBoxLayout()
        line.addStretch(1)
        self.no = button(no, f"{name}.no", self.reject)
        self.yes = button(yes, f"{name}.yes", self.accept, role="main")
        line.addWidget(self.no)
        line.addWidget(self.yes)
        column.addLayout(line)
        # Where nothing is filled in, Return takes the way out that loses nothing.
        (self.no if field is None else self.yes).setDefault(True)
        (field or self.no).setFocus()


class QuestionSheet(Sheet):
    """A question with answers that say what will happen."""

    def __init__(self, question: str, yes: str, no: str, parent: QWidget | None) -> None:
        super().__init__("question", question, None, yes, no, parent)


class ChoiceSheet(Sheet):
    """One of some rows."""

    def __init__(self, title: str, options: list[str], parent: QWidget | None) -> None:
        rows = QListWidget()
        rows.setObjectName("choice.list")
        rows.addItems(options)
        rows.setCurrentRow(0)
        super().__init__("choice", title, rows, "Take this one", "Cancel", parent)
        self.list = rows
        self.list.itemActivated.connect(lambda _: self.accept())

    @property
    def chosen(self) -> int:
        return self.list.currentRow()


def ask_name(title: str, suggestion: str, parent: QWidget | None) -> str:
    """A name, "" where none is given."""
    field = QLineEdit(suggestion)
    field.setObjectName("field.name")
    field.selectAll()
    sheet = Sheet("field", title, field, "Use this name", "Cancel", parent)
    return field.text().strip() if sheet.exec() == QDialog.DialogCode.Accepted else ""


def ask_share(title: str, now: float, parent: QWidget | None) -> float | None:
    """A number from 0 to 1, None where none is given."""
    field = QDoubleSpinBox()
    field.setObjectName("field.number")
    field.setRange(0.0, 1.0)
    field.setDecimals(3)
    field.setSingleStep(0.05)
    field.setValue(now)
    sheet = Sheet("field", title, field, "Use this value", "Cancel", parent)
    return field.value() if sheet.exec() == QDialog.DialogCode.Accepted else None
