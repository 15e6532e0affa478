"""Words."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QSizePolicy


def label(text: str = "", role: str = "", *, wrap: bool = False, name: str = "") -> QLabel:
    text_label = QLabel()
    # Names come from files: one that looks like markup must not load what it names.
    text_label.setTextFormat(Qt.TextFormat.PlainText)
    text_label.setText(text)
    if role:
        text_label.setProperty("role", role)
    text_label.setWordWrap(wrap)
    if name:
        text_label.setObjectName(name)
    if wrap:
        text_label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
    return text_label


def tip(text: str) -> str:
    """Text for a tool tip that holds a name, shown as it is even where it looks like markup."""
    return f"<qt>{escape(text)}</qt>" if "<" in text else text
