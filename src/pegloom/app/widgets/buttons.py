"""Buttons."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QPushButton


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
