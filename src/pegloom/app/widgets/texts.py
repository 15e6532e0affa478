"""Words."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QSizePolicy


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
