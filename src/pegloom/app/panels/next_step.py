"""The foot of every area's column: the next step of the road, always in view, with a button that does it."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.spec import AreaSpec, Step
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel

DONE = "Every step is done. Pose it, look at it, export it again."


def next_step(areas: tuple[AreaSpec, ...], state: State) -> tuple[AreaSpec, Step] | None:
    """The first step of the road that is still missing, and its area; None where all are done."""
    return next(((area, step) for area in areas for step in area.steps if step.missing(state)), None)


class NextStep(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("foot")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 8)
        self.button = button("", "next.do", self._do, role="main")
        self.words = label(DONE, "caption", wrap=True, name="next.words")
        column.addWidget(self.button)
        column.addWidget(self.words)

    def key(self, state: State) -> tuple[object, ...]:
        found = next_step(self.c.areas, state)
        return () if found is None else (state.area, found[0].id, found[1].action, found[1].says(state), found[1].note(state))

    def show_state(self, state: State) -> None:
        found = next_step(self.c.areas, state)
        self.button.setVisible(found is not None)
        note = DONE if found is None else found[1].note(state)
        self.words.setText(note)
        self.words.setVisible(bool(note))
        if found is not None:
            area, step = found
            there = "" if area.id == state.area else f", in {area.title}"
            text = f"Next: {step.says(state)}{there}"
            self.button.setText(text)
            self.button.setAccessibleName(text)
            self.button.setToolTip(self.c.actions.entries[step.action].tip)

    def _do(self) -> None:
        found = next_step(self.c.areas, self.c.state)
        if found is not None:
            self.c.go(found[0].id)
            self.c.actions.run(found[1].action)
