"""Exclusive buttons in a row."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import Enum
from typing import Any

from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QWidget


class Choices(QWidget):
    """Exclusive buttons for the members of an Enum."""

    def __init__(
        self, name: str, options: Sequence[tuple[str, Any]], chosen: Callable[[Any], None], *, role: str = "",
        flows: bool = False,
    ) -> None:  # fmt: skip
        super().__init__()
        line = None if flows else QHBoxLayout(self)
        if line is not None:
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(5)
        self.group = QButtonGroup(self)
        self.buttons: dict[Any, QPushButton] = {}
        for text, option in options:
            button_ = QPushButton(text, self)
            button_.setCheckable(True)
            button_.setObjectName(f"{name}.{option.name.lower()}")
            button_.setAccessibleName(text)
            if role:
                button_.setProperty("role", role)
            button_.clicked.connect(lambda _=False, o=option: chosen(o))
            self.group.addButton(button_)
            self.buttons[option] = button_
            if line is not None:
                line.addWidget(button_)

    def set(self, option: Enum) -> None:
        if option in self.buttons:
            self.buttons[option].setChecked(True)

    def flow(self, width: int) -> None:
        """Lay the buttons of a flowing row out in as many rows as `width` asks for."""
        x = y = wide = 0
        for button_ in self.buttons.values():
            size = button_.sizeHint()
            if x and x + size.width() > width:
                x, y = 0, y + size.height() + 6
            button_.setGeometry(x, y, size.width(), size.height())
            x += size.width() + 5
            wide = max(wide, x - 5)
        tall = y + max((m.sizeHint().height() for m in self.buttons.values()), default=0)
        self.setFixedSize(wide, tall)
