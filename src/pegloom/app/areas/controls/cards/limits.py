"""Limits: how far the picked turner's joint turns, and how stiff it is, where chains and whole bodies ask."""

from __future__ import annotations

from pegloom.app.areas.controls.actions import free_limit, limit
from pegloom.app.areas.controls.limit_grid import LimitGrid
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button
from pegloom.app.widgets.card import Card
from pegloom.core.rig.limits import JointLimit
from pegloom.core.skeleton.joints import Vector
from pegloom.document.edits.rig.solvers import turners_of


class LimitCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Limits", "controls.limits",
            sentence="How far the picked turner's joint turns about its axes, and how stiff it is: for chains and the whole body.",
            is_open=False,
        )  # fmt: skip
        self.stays_on("control")
        self.grid = LimitGrid("controls.limit", self._put)
        self.body.addWidget(self.grid)
        self.row(button("No limits", "controls.limit.free", self._free))

    def _joint(self, state: State) -> str:
        rig = state.character.rig if state.character is not None else None
        lead = self.subject_id(state)
        joints = {control: joint for joint, control in turners_of(rig).items()} if rig is not None else {}
        return joints.get(lead, "")

    def _put(self, what: str, values: Vector) -> None:
        joint = self._joint(self.c.state)
        if joint:
            limit(self.c, joint, **{what: values})

    def _free(self) -> None:
        joint = self._joint(self.c.state)
        if joint:
            free_limit(self.c, joint)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, self.subject_id(state))

    def show_state(self, state: State) -> None:
        joint = self._joint(state)
        rig = state.character.rig if state.character is not None else None
        self.grid.show_limit(rig.limit_of.get(joint, JointLimit(joint)) if rig is not None and joint else None)
        one = state.character
        self.note.setText(one.skeleton.joint(joint).name if joint and one is not None and one.skeleton is not None else "select a turner")
