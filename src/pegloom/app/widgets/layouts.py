"""Layouts filled and emptied."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QLayout, QWidget


def clear(layout: QLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        widget, inner = (item.widget(), item.layout()) if item is not None else (None, None)
        if widget is not None:
            widget.hide()
            # What goes later must not be found by its name meanwhile.
            widget.setObjectName("")
            widget.deleteLater()
        elif inner is not None:
            clear(inner)


def side_by_side(*widgets: QWidget, stretch: int = 1) -> QHBoxLayout:
    """Widgets in a row."""
    line = QHBoxLayout()
    line.setSpacing(6)
    for widget in widgets:
        line.addWidget(widget, stretch)
    return line
