"""Small pieces the panels are made of."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QSlider,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.theme import INK, icon


def label(text: str = "", role: str = "", *, wrap: bool = False, name: str = "") -> QLabel:
    made = QLabel()
    # Names come from files: one that looks like markup must not load what it names.
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setText(text)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wrap)
    if name:
        made.setObjectName(name)
    if wrap:
        made.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
    return made


def tip(text: str) -> str:
    """Text for a tool tip that holds a name, shown as it is even where it looks like markup."""
    return f"<qt>{escape(text)}</qt>" if "<" in text else text


def button(text: str, name: str, run: Callable[[], object], *, role: str = "", tip: str = "") -> QPushButton:
    made = QPushButton(text)
    made.setObjectName(name)
    made.setAccessibleName(text)
    if role:
        made.setProperty("role", role)
    made.setToolTip(tip)
    made.clicked.connect(lambda: run())
    return made


class _ActionButton(QPushButton):
    """Its tip follows the action's, which names the key as it stands."""

    def __init__(self, action: QAction, text: str) -> None:
        super().__init__(text or action.text())
        self.action_ = action
        action.changed.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        self.setToolTip(self.action_.toolTip())


def action_button(action: QAction, text: str = "", *, role: str = "") -> QPushButton:
    """A button that runs an action of the registry."""
    made = _ActionButton(action, text)
    made.setObjectName(f"button.{action.objectName()}")
    made.setAccessibleName(text or action.text())
    if role:
        made.setProperty("role", role)
    made.clicked.connect(action.trigger)
    return made


class Card(QFrame):
    """A collapsible card: a head with a title and a note, a sentence, and what it holds."""

    def __init__(self, title: str, name: str, *, sentence: str = "", is_open: bool = True) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setProperty("role", "card")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 7, 10, 9)
        outer.setSpacing(5)
        head = QHBoxLayout()
        head.setSpacing(4)
        self.head = QToolButton()
        self.head.setProperty("role", "cardhead")
        self.head.setText(title)
        self.head.setObjectName(f"{name}.head")
        self.head.setAccessibleName(f"{title}: fold or unfold")
        self.head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.head.clicked.connect(lambda: self.set_open(not self.is_open))
        self.note = label("", "caption")
        self.note.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        head.addWidget(self.head)
        head.addStretch(1)
        head.addWidget(self.note)
        outer.addLayout(head)
        self.content = QWidget()
        self.body = QVBoxLayout(self.content)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(6)
        if sentence:
            self.body.addWidget(label(sentence, "caption", wrap=True))
        outer.addWidget(self.content)
        self.is_open = True
        self.set_open(is_open)

    def set_open(self, is_open: bool) -> None:
        self.is_open = is_open
        self.content.setVisible(is_open)
        self.head.setIcon(icon("chevron-down" if is_open else "chevron-right", INK.soft))

    def row(self, *widgets: QWidget, stretch: int = 1) -> QHBoxLayout:
        """Widgets side by side."""
        line = QHBoxLayout()
        line.setSpacing(6)
        for widget in widgets:
            line.addWidget(widget, stretch)
        self.body.addLayout(line)
        return line

    def field(self, text: str, widget: QWidget) -> None:
        """A labelled setting."""
        line = QHBoxLayout()
        line.setSpacing(8)
        caption = label(text, "soft")
        caption.setFixedWidth(76)
        widget.setAccessibleName(text)
        line.addWidget(caption)
        line.addWidget(widget, 1)
        self.body.addLayout(line)


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
        self.slider.valueChanged.connect(lambda _: (self.figure.setText(show(self.value)), changed(self.value)))
        if released is not None:
            self.slider.sliderReleased.connect(lambda: released(self.value))
        self.setFocusProxy(self.slider)

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


class Choices(QWidget):
    """Exclusive buttons for the members of an Enum."""

    def __init__(
        self, name: str, options: list[tuple[str, Enum]], chosen: Callable[[Enum], None], *, role: str = "",
        flows: bool = False,
    ) -> None:  # fmt: skip
        super().__init__()
        line = None if flows else QHBoxLayout(self)
        if line is not None:
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(5)
        self.group = QButtonGroup(self)
        self.buttons: dict[Enum, QPushButton] = {}
        for text, option in options:
            made = QPushButton(text, self)
            made.setCheckable(True)
            made.setObjectName(f"{name}.{option.name.lower()}")
            made.setAccessibleName(text)
            if role:
                made.setProperty("role", role)
            made.clicked.connect(lambda _=False, o=option: chosen(o))
            self.group.addButton(made)
            self.buttons[option] = made
            if line is not None:
                line.addWidget(made)

    def set(self, option: Enum) -> None:
        if option in self.buttons:
            self.buttons[option].setChecked(True)

    def flow(self, width: int) -> None:
        """Lay the buttons of a flowing row out in as many rows as `width` asks for."""
        x = y = wide = 0
        for made in self.buttons.values():
            size = made.sizeHint()
            if x and x + size.width() > width:
                x, y = 0, y + size.height() + 6
            made.setGeometry(x, y, size.width(), size.height())
            x += size.width() + 5
            wide = max(wide, x - 5)
        tall = y + max((m.sizeHint().height() for m in self.buttons.values()), default=0)
        self.setFixedSize(wide, tall)


def clear(layout: QVBoxLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif item.layout() is not None:
            clear(item.layout())
