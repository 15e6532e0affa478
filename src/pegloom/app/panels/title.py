"""The title row: the project, whether it is saved, undo, finding an action, help."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import button, label, tip
from pegloom.app.widgets.panel import Panel

LONGEST = 40
"""Letters of a step's name that are shown."""


class Title(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("title")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(40)
        line = QHBoxLayout(self)
        line.setContentsMargins(16, 0, 12, 0)
        line.setSpacing(10)
        self.name = label("", "heading", name="title.project")
        self.dot = label("", "caption", name="title.saved")
        self.keyed: dict[QPushButton, str] = {}
        self.undo, self.redo = self._button("", "undo", "edit.undo"), self._button("", "redo", "edit.redo")
        put_icon(self.undo, "undo-2")
        put_icon(self.redo, "redo-2")
        self.redo.setAccessibleName("Redo")
        search = button("Find an action", "title.search", lambda: c.actions.run("edit.palette"), role="search")
        self.keyed[search] = "edit.palette"
        put_icon(search, "search")
        search.setFixedWidth(230)
        help_ = self._button("Help", "help", "help.sheet")
        put_icon(help_, "circle-help")
        for button_ in (self.undo, self.redo, help_):
            button_.setIconSize(QSize(15, 15))
        for widget in (self.name, self.dot, self.undo, self.redo):
            line.addWidget(widget)
        line.addStretch(1)
        line.addWidget(search)
        line.addStretch(1)
        for text, name in (("Open", "open"), ("Save", "save")):
            line.addWidget(self._button(text, name, f"file.{name}"))
        line.addWidget(self._button("History", "steps", "edit.steps"))
        line.addWidget(help_)

    def _button(self, text: str, name: str, action: str) -> QPushButton:
        button_ = button(text, f"title.{name}", lambda: self.c.actions.run(action), role="plain")
        self.keyed[button_] = action
        return button_

    def _with_key(self, text: str, action: str) -> str:
        """A tip with the action's key as it stands."""
        key = self.c.actions.key(action)
        return tip(f"{text}  ({key})" if key else text)

    def key(self, state: State) -> tuple[object, ...]:
        history = self.c.store.history
        known = state.character is not None
        return (state.document.name if known else "", known, state.unsaved, history.undo_name, history.redo_name, current())

    def show_state(self, state: State) -> None:
        known, history = state.character is not None, self.c.store.history
        for button_, action in self.keyed.items():
            button_.setToolTip(self._with_key(self.c.actions.entries[action].tip, action))
        self.name.setText(state.document.name if known else "Peg Loom")
        self.dot.setText(("● unsaved" if state.unsaved else "saved") if known else "")
        self.dot.setStyleSheet(f"color: {'#E5A04A' if state.unsaved else current().soft};")
        undo, redo = history.undo_name, history.redo_name
        short = undo if undo is None or len(undo) < LONGEST else undo[: LONGEST - 2] + "…"
        self.undo.setText(f" Undo: {short}" if short else " Undo")
        self.undo.setToolTip(self._with_key(f"Undo: {undo}", "edit.undo") if undo else "Nothing to undo")
        self.undo.setEnabled(undo is not None)
        self.redo.setVisible(redo is not None)
        self.redo.setToolTip(self._with_key(f"Redo: {redo}", "edit.redo") if redo else "")
