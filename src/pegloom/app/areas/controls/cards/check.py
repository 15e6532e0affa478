"""Check: whether the rig is fit for other hands, what is not, with Show and Fix; closed and opened up."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.areas.controls.finishing import POSE_IN, mend
from pegloom.app.areas.controls.settings import CheckSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State, with_values
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.checks import CHECKS, Finding
from pegloom.core.said import counted

MOST = 14
"""Findings listed at once."""


class CheckCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Check", "controls.check", is_open=False,
            sentence="Moves every channel and measures what comes of it, before other hands do.",
        )  # fmt: skip
        q = c.actions.qactions
        self.row(action_button(q["rig.check"], "Check the rig", role="main"), action_button(q["rig.mend"], "Mend all"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        self.body.addLayout(self.rows)
        self.body.addWidget(action_button(q["view.animators"], "See it as animators will"))
        self.row(action_button(q["rig.close"], "Close the rig"), action_button(q["rig.open_up"], "Open it up"))
        self.closed = label("", "caption", wrap=True, name="controls.check.closed")
        self.body.addWidget(self.closed)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(CheckSettings), state.character.rig if state.character is not None else None, state.character is not None and state.character.closed)

    def show_state(self, state: State) -> None:
        closed = state.character is not None and state.character.closed
        self.closed.setText("Closed: it is posed and animated, and not built." if closed else "Closed, a rig is posed and animated, and not built.")
        told = state.settings.of(CheckSettings)
        clear(self.rows)
        rig = state.character.rig if state.character is not None else None
        if not told.done or rig is None:
            self.note.setText("not checked yet")
            return
        old = told.of != id(rig)
        self.note.setText(("before the last change: " if old else "") + ("all holds" if not told.found else counted(len(told.found), "finding")))
        by_check: dict[str, list[int]] = {key: [] for key in CHECKS}
        for number, one in enumerate(told.found):
            by_check[one.check].append(number)
        listed = 0
        for key, words in CHECKS.items():
            numbers = by_check[key]
            self.rows.addWidget(label(f"✗  Not yet: {words[0].lower()}{words[1:]}" if numbers else f"✓  {words}", "soft" if not numbers else "snag", wrap=True))
            for number in numbers:
                if listed < MOST:
                    self._row(number, told.found[number])
                listed += 1
        holds = unpickable(self.c)
        self.rows.addWidget(label(f"{'✓' if holds else '!'}  Mesh and joints cannot be picked in the Animator's view", "soft" if holds else "snag", wrap=True))
        if listed > MOST:
            self.rows.addWidget(label(f"and {listed - MOST} more; mending brings them up", "caption"))

    def _row(self, number: int, one: Finding) -> None:
        self.rows.addWidget(label(one.message, "caption", wrap=True))
        line = QHBoxLayout()
        line.setSpacing(6)
        if one.control or one.joint:
            line.addWidget(button("Show", f"check.show.{number}", partial(self._show, one)))
        if one.fix:
            line.addWidget(button(one.fix_says, f"check.fix.{number}", partial(mend, self.c, number)))
        line.addStretch(1)
        self.rows.addLayout(line)

    def _show(self, one: Finding) -> None:
        character = self.c.character
        if one.control and character.rig is not None and one.control in character.rig.index:
            self.c.store.select("control", one.control)
            self.c.view.show_selection()
        elif one.joint and character.skeleton is not None and one.joint in character.skeleton.index:
            self.c.store.select("joint", one.joint)
            self.c.view.show_point(np.array(character.skeleton.joint(one.joint).position))


def unpickable(c: Context) -> bool:
    """Whether in the Animator's view a press picks controls and clips alone, in every area that poses."""
    seen = with_values(c.state, animators=True, wanted=None)
    areas = [spec for spec in c.areas if spec.id in POSE_IN]
    return all(set(spec.picks) - spec.passes_by(seen) <= {"control", "clip"} for spec in areas)
