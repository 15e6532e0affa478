"""Limits: how far the picked turner's joint turns, and how stiff it is, where chains and whole bodies ask."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import QSpinBox

from pegloom.app.areas.controls.actions import free_limit, limit
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.card import Card
from pegloom.core.rig.limits import JointLimit
from pegloom.document.edits.rig.solvers import turners_of

WHAT = ("low", "high", "stiffness")
MOST = 180


class LimitCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Limits", "controls.limits",
            sentence="How far the picked turner's joint turns about its axes, and how stiff it is: for chains and the whole body.",
            is_open=False,
        )  # fmt: skip
        self.stays_on("control")
        self.boxes: dict[tuple[str, int], QSpinBox] = {}
        self.row(label("", "soft"), *(label(w, "caption") for w in ("from", "to", "stiff")))
        for k, axis in enumerate("xyz"):
            boxes = []
            for what in WHAT:
                box = QSpinBox()
                box.setObjectName(f"controls.limit.{what}.{axis}")
                box.setAccessibleName(f"{what} about {axis}")
                box.setKeyboardTracking(False)
                low, high, suffix = {"low": (-MOST, 0, "°"), "high": (0, MOST, "°"), "stiffness": (0, 100, " %")}[what]
                box.setRange(low, high)
                box.setSuffix(suffix)
                box.valueChanged.connect(partial(self._put, what))
                self.boxes[what, k] = box
                boxes.append(box)
            self.row(label(axis, "soft"), *boxes)
        self.row(button("No limits", "controls.limit.free", self._free))

    def _joint(self, state: State) -> str:
        rig = state.character.rig if state.character is not None else None
        lead = self.subject_id(state)
        joints = {control: joint for joint, control in turners_of(rig).items()} if rig is not None else {}
        return joints.get(lead, "")

    def _put(self, what: str, _: int) -> None:
        joint = self._joint(self.c.state)
        if self.showing or not joint:
            return
        scale = 0.01 if what == "stiffness" else np.pi / 180
        x, y, z = (self.boxes[what, k].value() * scale for k in range(3))
        limit(self.c, joint, **{what: (x, y, z)})

    def _free(self) -> None:
        joint = self._joint(self.c.state)
        if joint:
            free_limit(self.c, joint)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, self.subject_id(state))

    def show_state(self, state: State) -> None:
        joint = self._joint(state)
        rig = state.character.rig if state.character is not None else None
        now = rig.limit_of.get(joint, JointLimit(joint)) if rig is not None else JointLimit(joint)
        for (what, k), box in self.boxes.items():
            value = getattr(now, what)[k] * (100 if what == "stiffness" else 180 / np.pi)
            box.blockSignals(True)
            box.setValue(round(min(max(value, -MOST), MOST)))
            box.blockSignals(False)
            box.setEnabled(bool(joint))
        one = state.character
        self.note.setText(one.skeleton.joint(joint).name if joint and one is not None and one.skeleton is not None else "select a turner")
