"""The foot of every area's column: the next step of the road, always in view, with a button that does it."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.spec import AreaSpec, Step
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel


@dataclass(frozen=True, slots=True)
class GuideSettings(Setting):
    """Whether steps are explained: for who goes the road for the first time."""

    ID = "guide"

    shown: bool = True


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
        self.guide = QWidget()
        inner = QVBoxLayout(self.guide)
        inner.setContentsMargins(0, 0, 0, 2)
        inner.setSpacing(2)
        head = QHBoxLayout()
        self.count = label("", "heading", name="next.count")
        head.addWidget(self.count)
        head.addStretch(1)
        head.addWidget(button("Put the guide away", "next.away", self._away, role="plain"))
        inner.addLayout(head)
        self.says = label("", "soft", wrap=True, name="next.guide")
        inner.addWidget(self.says)
        column.addWidget(self.guide)
        column.addWidget(self.button)
        column.addWidget(self.words)

    def key(self, state: State) -> tuple[object, ...]:
        found = next_step(self.c.areas, state)
        shown = state.settings.of(GuideSettings).shown
        return () if found is None else (shown, state.area, found[0].id, found[1].action, found[1].says(state), found[1].note(state))

    def show_state(self, state: State) -> None:
        found = next_step(self.c.areas, state)
        self.button.setVisible(found is not None)
        note = DONE if found is None else found[1].note(state)
        self.words.setText(note)
        self.words.setVisible(bool(note))
        guided = [step for area in self.c.areas for step in area.steps if step.guide]
        wanted = found is not None and found[1] in guided and state.settings.of(GuideSettings).shown
        self.guide.setVisible(wanted)
        if found is not None:
            area, step = found
            if wanted:
                self.count.setText(f"Step {guided.index(step) + 1} of {len(guided)}")
                self.says.setText(step.guide)
            there = "" if area.id == state.area else f", in {area.title}"
            text = f"Next: {step.says(state)}{there}"
            self.button.setText(text)
            self.button.setAccessibleName(text)
            self.button.setToolTip(self.c.actions.entries[step.action].tip)

    def _away(self) -> None:
        """No guide any more, in this session and those to come."""
        self.c.keep_setting(GuideSettings, shown=False)
        self.c.say("The guide is put away; the button stays")

    def _do(self) -> None:
        found = next_step(self.c.areas, self.c.state)
        if found is not None:
            self.c.go(found[0].id)
            self.c.actions.run(found[1].action)
