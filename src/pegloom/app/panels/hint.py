"""The hint line: what the mouse does now, or what is under it."""

from __future__ import annotations

import re

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.state.state import RANGE_TEST, State
from pegloom.app.widgets import label, tip
from pegloom.app.widgets.panel import Panel
from pegloom.scene.lenses import Lens


class Hint(Panel):
    always = True

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(c, parent)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        self.words = label(name="hint")
        line.addWidget(self.words)
        self.pointed = ""
        self.room = 400

    def key(self, state: State) -> tuple[object, ...]:
        return (
            state.area, state.tooling, state.hand, state.at_rest, state.clock.source, state.viewing.influence, state.viewing.lens,
            state.character, self.pointed, self.room, self.c.area.springs_back(state),
        )  # fmt: skip

    def point(self, words: str) -> None:
        """What is under the pointer now, "" for nothing."""
        self.pointed = words
        self.look()

    def fit(self, width: int) -> None:
        """The view is this wide."""
        self.room = width
        self.look()

    def show_state(self, state: State) -> None:
        text = self.pointed or re.sub(r"<([a-z_.]+)>", lambda found: self._key(found[1]), self._said(state))
        # The legend's corner stays free.
        room = self.room - (250 if state.viewing.lens is not Lens.NONE else 40)
        self.words.setText(
            self.words.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, max(room, 200))
        )
        self.words.setToolTip(tip(text))
        self.words.adjustSize()
        self.adjustSize()

    def _said(self, state: State) -> str:
        wanted = state.tooling.wanted
        if wanted is not None:
            if "point" in wanted.kinds:
                return f"Click a place on the mesh: it is for {wanted.says}; <edit.cancel> ends"
            what = " or a ".join(wanted.kinds)
            return f"Pick a {what} in the view or in Contents: it goes into {wanted.says}; <edit.cancel> ends"
        text = self.c.area.hint(state)
        if state.at_rest and state.character is not None and state.character.skeleton is not None:
            text = "Showing the rest while you place. " + text
        if state.clock.source == RANGE_TEST and "control" in self.c.area.picks:
            text = "The range test is shown; pick “Current pose” on the strip to pose controls"
        return ("Auto-key is on. " if state.hand.auto_key else "") + text

    def _key(self, action: str) -> str:
        """The key of an action, its title where it has none."""
        return self.c.actions.key(action) or self.c.actions.entries[action].title
