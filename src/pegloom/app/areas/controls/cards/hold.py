"""Constraints: what the picked control follows, how, and along which axes."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.areas.controls.actions import add_space, drop_constraint, hold
from pegloom.app.areas.controls.editing import open_hold
from pegloom.app.areas.controls.settings import HoldSettings
from pegloom.app.context import Context
from pegloom.app.state.state import JOINT, State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, tick
from pegloom.core.rig.constraints import Follow
from pegloom.document.edits.rig.changing import name_of, node


class HoldCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Constraints", "controls.hold",
            sentence="Let the picked control or joint follow another. Or pick what is followed, then what follows, and press Constrain.",
            is_open=False,
        )  # fmt: skip
        self.stays_on("control", "joint")
        self.target = choice(self, HoldSettings, "target", (), name="controls.hold_target")
        self.field("Follows", filled_by_pick(self, self.target, HoldSettings, "target", ("control", "joint"), "Follows"))
        self.follow = choice(self, HoldSettings, "follow", [(f.value, f) for f in Follow], name="controls.hold_follow")
        self.field("Takes its", self.follow)
        boxes = [tick(self, HoldSettings, a, a) for a in "xyz"]
        for box, axis in zip(boxes, "xyz", strict=True):
            box.setToolTip(f"Along and about {axis} of what it rides on")
        self.row(label("Axes", "soft"), *boxes)
        self.row(
            tick(self, HoldSettings, "keep", "Keep the offset", tip="Else it goes onto what it follows"),
            tick(self, HoldSettings, "posed", "as posed", tip="The offset of the pose shown, not that at rest"),
        )
        self.row(
            button("Follow it", "controls.hold_it", lambda: hold(c, self.subject_id(c.state))),
            button("As a space", "controls.hold_space", lambda: add_space(c, self.subject_id(c.state))),
        )
        self.body.addWidget(action_button(c.actions.qactions["controls.constrain"], "Constrain last picked to the others"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(2)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.rig if one is not None else None, self.subject_id(state))

    def show_state(self, state: State) -> None:
        one = state.character
        rig = one.rig if one is not None else None
        lead = self.subject_id(state)
        target = state.settings.of(HoldSettings).target
        clear(self.rows)
        if rig is None or one is None or one.skeleton is None:
            self.note.setText("build controls first")
            return
        joints = [(f"{j.name} (joint)", f"{JOINT}{j.id}") for j in one.skeleton.joints]
        options = [*((c.name, c.id) for c in rig.handles), *joints]
        fill(self.target, [("pick one", ""), *(option for option in options if option[1] != lead)])
        self.target.setCurrentIndex(max(self.target.findData(target), 0))
        held = node(one.skeleton, rig, lead, held=True) if lead else None
        self.note.setText(name_of(one.skeleton, rig, held) if held is not None else "select what follows")
        for constraint in [k for k in rig.constraints if held is None or k.held == held]:
            if not lead and constraint.spaces:
                continue
            line = QHBoxLayout()
            follows = ", ".join(t.name or name_of(one.skeleton, rig, t.node) for t in constraint.targets)
            what = "spaces" if constraint.spaces else constraint.follow.value
            words = f"{what}: {follows}" if lead else f"{constraint.name}: {follows}"
            line.addWidget(label(words, "caption", wrap=True), 1)
            line.addWidget(button("Open", f"controls.open.{constraint.id}", partial(open_hold, self.c, constraint.id), role="plain"))
            drop = button("Drop", f"controls.drop.{constraint.id}", partial(drop_constraint, self.c, constraint.id), role="plain")
            line.addWidget(drop)
            self.rows.addLayout(line)
