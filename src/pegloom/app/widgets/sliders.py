"""A slider with its figure."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QSlider, QWidget

from pegloom.app.widgets.texts import label


class SliderRow(QWidget):
    """A slider with its figure; `changed(value)` while dragged, `released(value)` at the end."""

    def __init__(self, name: str, low: float, high: float, show: Callable[[float], str],
                 changed: Callable[[float], None], released: Callable[[float], None] | None = None) -> None:  # fmt: skip
        super().__init__()
        self.low, self.high, self.show_as = low, high, show
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName(name)
        self.slider.setRange(0, 1000)
        self.figure = label("", "figure")
        self.figure.setFixedWidth(54)
        self.figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        line.addWidget(self.slider, 1)
        line.addWidget(self.figure)
        self.changed = changed
        self.slider.valueChanged.connect(self._moved)
        if released is not None:
            self.slider.sliderReleased.connect(lambda: released(self.value))
        self.setFocusProxy(self.slider)

    def setAccessibleName(self, name: str | None) -> None:
        """The slider is what takes the focus: its name is read."""
        super().setAccessibleName(name)
        self.slider.setAccessibleName(name)

    def _moved(self) -> None:
        self.figure.setText(self.show_as(self.value))
        self.changed(self.value)

    @property
    def value(self) -> float:
        return self.low + (self.high - self.low) * self.slider.value() / 1000

    def set(self, value: float) -> None:
        """Show a value without telling anybody."""
        if self.slider.isSliderDown():
            return
        self.slider.blockSignals(True)
        self.slider.setValue(round(1000 * (value - self.low) / (self.high - self.low)))
        self.slider.blockSignals(False)
        self.figure.setText(self.show_as(value))
