"""Numbers that are typed, stepped and scrubbed; a field of several things whose numbers differ says so."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QAbstractSpinBox, QDoubleSpinBox, QHBoxLayout, QLabel, QWidget

SEVERAL = "several"
"""What a field says whose things have different values."""
FINE, COARSE = 0.1, 5.0
"""Factors of a scrub with Ctrl and with Shift held."""


class NumberBox(QDoubleSpinBox):
    """A number, or that there are several."""

    several = False
    unit = ""
    """Its suffix, where it says that there are several."""

    def textFromValue(self, value: float) -> str:
        return SEVERAL if self.several else super().textFromValue(value)

    def show_number(self, value: float, *, several: bool = False) -> None:
        """Show a number without telling anybody, unless the user is typing one. several : it is one of several that differ."""
        line = self.lineEdit()
        if self.hasFocus() and line is not None and line.isModified():
            return
        self.blockSignals(True)
        self.setValue(value)
        if self.several is not several:
            self.several = several
            if several:
                self.unit = self.suffix()
            self.setSuffix("" if several else self.unit)
            # A spin box writes its text anew only for another value.
            self.setDecimals(self.decimals())
        self.blockSignals(False)


class ScrubLabel(QLabel):
    """A number's caption: dragged sideways it changes the number. Ctrl finer, Shift coarser.

    scrubbed : steps from the press, so far. ended : the button was let go.
    """

    scrubbed = pyqtSignal(float)
    ended = pyqtSignal()

    def __init__(self, text: str) -> None:
        super().__init__()
        # Names come from files: one that looks like markup must not load what it names.
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)
        self.setProperty("role", "soft")
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setToolTip("Drag sideways to change it; Ctrl finer, Shift coarser")
        self.last: float | None = None
        self.steps = 0.0
        self.moved = False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        super().mousePressEvent(event)
        if event.button() == Qt.MouseButton.LeftButton:
            self.last, self.steps, self.moved = event.globalPosition().x(), 0.0, False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.last is None:
            return
        here = event.globalPosition().x()
        keys = event.modifiers()
        factor = FINE if keys & Qt.KeyboardModifier.ControlModifier else COARSE if keys & Qt.KeyboardModifier.ShiftModifier else 1.0
        self.steps += (here - self.last) * factor
        self.last, self.moved = here, True
        self.scrubbed.emit(self.steps)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        super().mouseReleaseEvent(event)
        if self.last is not None and self.moved:
            self.ended.emit()
        self.last = None


class Triple(QWidget):
    """Three numbers in a row, x y z; changed(axis, value) when one was put in."""

    def __init__(
        self, name: str, said: str, changed: Callable[[int, float], None], *, low: float, high: float, step: float, suffix: str = "",
        decimals: int = 1,
    ) -> None:  # fmt: skip
        super().__init__()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        self.boxes: list[NumberBox] = []
        for axis, letter in enumerate("xyz"):
            box = NumberBox()
            box.setObjectName(f"{name}.{letter}")
            box.setAccessibleName(f"{said} {letter}")
            box.setToolTip(f"{said} {letter}")
            box.setRange(low, high)
            box.setSingleStep(step)
            box.setDecimals(decimals)
            box.setSuffix(suffix)
            box.setKeyboardTracking(False)
            box.setButtonSymbols(QAbstractSpinBox.ButtonSymbols.NoButtons)
            box.setMinimumWidth(40)
            box.setProperty("role", "narrow")
            box.valueChanged.connect(lambda value, a=axis: changed(a, value))
            self.boxes.append(box)
            line.addWidget(box, 1)
        self.setFocusProxy(self.boxes[0])

    def show_numbers(self, rows: Sequence[Sequence[float]]) -> None:
        """Show the numbers of several things, the last one leading; where they differ the field says so."""
        for axis, box in enumerate(self.boxes):
            some = [row[axis] for row in rows]
            box.show_number(some[-1] if some else 0.0, several=any(abs(v - some[-1]) > 1e-6 for v in some))
