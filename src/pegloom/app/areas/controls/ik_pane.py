"""The pane of one IK: its joints, what it rests at, how far and how stiffly each joint turns; each change shown at once."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from pegloom.app.actions.posing import blend_limb
from pegloom.app.areas.controls.actions import drop_solver, free_limit, limit
from pegloom.app.areas.controls.editing import open_solver, opened_solver
from pegloom.app.areas.controls.editor_pane import EditorPane
from pegloom.app.areas.controls.limit_grid import LimitGrid
from pegloom.app.areas.controls.settings import EditorSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.fields import choice, fill
from pegloom.core.rig.changes import references
from pegloom.core.rig.channels import BLEND, TRANSFORM
from pegloom.core.rig.evaluate import nodes_at
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.solvers import BendIk, BodyIk, ChainIk, LimbIk, Solver, SplineIk
from pegloom.core.rig.use import controls_of
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Vector
from pegloom.document.told.poses import open_goals
from pegloom.scene.rig_drawing import limb_words

WORDS: dict[type, str] = {
    LimbIk: "Two bones, solved exactly, to a goal; the pole says which way it bends.",
    BendIk: "Three bones to a goal: the hock takes its share.",
    ChainIk: "Any number of bones to a goal, each within its limits.",
    SplineIk: "Bones along a smooth curve through its controls.",
    BodyIk: "The whole body answers to the goals of its limbs.",
}
LIMITED = (ChainIk, BodyIk)


class IkPane(EditorPane):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "ik", lambda: open_solver(c, ""), "IK")
        self.words = label("", "caption", wrap=True, name="ik.words")
        self.body.addWidget(self.words)
        self.met = label("", "caption", wrap=True, name="ik.met")
        self.body.addWidget(self.met)
        self.use = button("Use it", "ik.use", self._use)
        self.body.addWidget(self.use)
        self.rests = QVBoxLayout()
        self.rests.setSpacing(4)
        self.body.addWidget(label("Rests at", "soft"))
        self.body.addLayout(self.rests)
        self.joint: QComboBox = choice(self, EditorSettings, "joint", (), name="ik.joint")
        self.limit_words = label("How far and how stiffly it turns", "soft")
        self.body.addWidget(self.limit_words)
        self.joint_line = QWidget()
        holder = QVBoxLayout(self.joint_line)
        holder.setContentsMargins(0, 0, 0, 0)
        self.line("Joint", self.joint, at=holder)
        self.body.addWidget(self.joint_line)
        self.grid = LimitGrid("ik.limit", self._limit)
        self.body.addWidget(self.grid)
        self.free = button("No limits", "ik.limit.free", self._free)
        row = QHBoxLayout()
        row.addWidget(self.free)
        row.addStretch(1)
        self.body.addLayout(row)
        self.body.addStretch(1)
        self.foot.addWidget(label("Drag its goal to try it: it springs back.", "caption", wrap=True))
        self.foot.addWidget(button("Drop", "ik.drop", self._drop))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(EditorSettings).solver, state.character.rig if state.character is not None else None, self.c.frames.control_pose)

    def show_state(self, state: State) -> None:
        one, character = opened_solver(state), state.character
        if one is None or character is None or character.rig is None or character.skeleton is None:
            return
        rig, skeleton = character.rig, character.skeleton
        words = limb_words(one)
        self.title.setText(words[:1].upper() + words[1:])
        first, last = skeleton.joint(one.joints[0]).name, skeleton.joint(one.joints[-1]).name
        self.words.setText(f"{WORDS[type(one)]} {counted(len(one.joints), 'joint')}, {first} to {last}.")
        pose = self.c.frames.control_pose
        amount = rig.value(pose, one.amount)
        self.use.setText("Put it out of use" if amount > 0.5 else "Use it")
        self.met.setText(self._met(one) if amount >= 1.0 else f"in use by {amount:.0%}" if amount > 0 else "out of use in this pose")
        if not any(row.slider.isSliderDown() for row in self.sliders.values()):
            clear(self.rests)
            self.sliders = {}
            for k, ref in enumerate(settings_of(one)):
                title = next(c.title for c in (rig.board if ref.owner not in rig.index else rig.control(ref.owner).channels) if c.key == ref.key)
                self.line(title, self.slider(rig, ref, f"ik.rest.{k + 1}"), at=self.rests)
            if not self.sliders:
                self.rests.addWidget(label("nothing to choose", "caption"))
        limited = isinstance(one, LIMITED)
        for widget in (self.limit_words, self.grid, self.free, self.joint_line):
            widget.setVisible(limited)
        told = state.settings.of(EditorSettings).joint
        fill(self.joint, [(skeleton.joint(j).name, j) for j in one.joints])
        self.joint.setCurrentIndex(max(self.joint.findData(told), 0))
        joint = self.joint.currentData()
        self.grid.show_limit(rig.limit_of.get(joint, JointLimit(joint)) if limited and joint else None)

    def _met(self, one: Solver) -> str:
        rig, skeleton = self.c.character.require_rig(), self.c.skeleton
        values = rig.slots.vector(self.c.frames.control_pose)[None]
        gaps = open_goals(skeleton, rig, values, nodes_at(skeleton, rig, values))
        mine = [float(gaps[g][0]) for g in controls_of(one) if g in gaps]
        worst = max(mine, default=0.0)
        return "its goals are met" if worst < 1e-4 * self.c.character.height else f"missed by {100 * worst:.1f} cm: out of reach, or limits hold it"

    def _use(self) -> None:
        one = opened_solver(self.c.state)
        if one is not None:
            on = self.c.character.require_rig().value(self.c.frames.control_pose, one.amount) > 0.5
            blend_limb(self.c, f"{limb_words(one)} {'out of' if on else 'into'} use", one.id, 0.0 if on else 1.0)

    def _limit(self, what: str, values: Vector) -> None:
        joint = self.joint.currentData()
        if joint:
            limit(self.c, joint, **{what: values})

    def _free(self) -> None:
        joint = self.joint.currentData()
        if joint:
            free_limit(self.c, joint)

    def _drop(self) -> None:
        one = opened_solver(self.c.state)
        if one is not None:
            open_solver(self.c, "")
            drop_solver(self.c, one.id)


def settings_of(solver: Solver) -> list[ChannelRef]:
    """Channels that say how an IK works, its blend apart."""
    found = [r for r in references(solver) if isinstance(r, ChannelRef) and r != solver.amount]
    return [r for r in dict.fromkeys(found) if r.key not in (*TRANSFORM, BLEND)]
