"""Buttons."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QPushButton


def button(text: str, name: str, run: Callable[[], object], *, role: str = "", tip: str = "") -> QPushButton:
    button_ = QPushButton(text)
    button_.setObjectName(name)
    button_.setAccessibleName(text)
    if role:
        button_.setProperty("role", role)
    button_.setToolTip(tip)
    button_.clicked.connect(lambda: run())
    return button_


class _ActionButton(QPushButton):
    """Its tip follows the action's, which names the key as it stands."""

    def __init__(self, action: QAction, text: str) -> None:
        super().__init__(text or action.text())
        self.action_ = action
        self.setCheckable(action.isCheckable())
        action.changed.connect(self.follow)
        self.follow()

    def follow(self) -> None:
        self.setToolTip(self.action_.toolTip())
        if self.action_.isCheckable():
            self.setChecked(self.action_.isChecked())


def action_button(action: QAction, text: str = "", *, role: str = "") -> QPushButton:
    """A button that runs an action of the registry."""
    button_ = _ActionButton(action, text)
    button_.setObjectName(f"button.{action.objectName()}")
    button_.setAccessibleName(text or action.text())
    if role:
        button_.setProperty("role", role)
    button_.clicked.connect(action.trigger)
    # What a click could not do is not shown as done.
    button_.clicked.connect(button_.follow)
    return button_
