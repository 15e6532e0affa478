"""A control's channels."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton

from pegloom.app.actions.posing import commit_pose, pose_edit
from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button
from pegloom.core.rig.channels import BLEND, TRANSFORM
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.evaluate import nodes_at
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.use import controls_of, idle
from pegloom.document import edits
from pegloom.document.told.poses import open_goals
from pegloom.scene.rig_drawing import limb_words


class ControlForm(Form):
    @staticmethod
    def there(state: State, subject: str) -> bool:
        return state.character is not None and state.character.rig is not None and subject in state.character.rig.index

    def build(self) -> None:
        rig = self.c.character.require_rig()
        control = rig.control(self.subject)
        shown = [c for c in control.channels if c.shown and not c.locked]
        spaces = {t.weight.key for h in rig.holds_on(control.id) for t in h.targets} | {h.amount.key for h in rig.holds_on(control.id)}
        groups = {
            "Place": [c for c in shown if c.key in (*TRANSFORM, BLEND)],
            "IK": [c for c in shown if c.key not in (*TRANSFORM, BLEND) and c.key not in spaces],
            "Follows": [c for c in shown if c.key in spaces],
        }  # fmt: skip
        filled = {title: some for title, some in groups.items() if some}
        for title, some in filled.items():
            if len(filled) > 1:
                self.tag.group(title)
            for channel in some:
                self.tag.field(channel.key, channel.title.removeprefix("follow ") if channel.key in spaces else channel.title, self._commit, channel.quantity)
        self.tag.end_groups()
        self.tag.text("state", "State")
        # These are for what is selected; a pinned tag may be another's.
        for action, text in (("keys.write", "Set key"), ("pose.rest", "To rest"), ("controls.use", "Use it")) if self.tag.holds is None else ():
            self.tag.buttons.addWidget(action_button(self.c.actions.qactions[action], text))

    def show(self) -> None:
        rig, pose = self.c.character.require_rig(), self.c.frames.control_pose
        control = rig.control(self.subject)
        self.tag.name.setText(control.name)
        for channel in control.channels:
            if channel.key in self.tag.fields:
                value = rig.value(pose, ChannelRef(control.id, channel.key))
                self.tag.put(channel.key, value * channel.quantity.on_screen)
        solver, said = idle(rig, pose).get(control.id), "in use"
        if solver is not None:
            said = f"out of use: {limb_words(solver)} on " + ("IK" if control.id in solver.fk else "FK")
        gap = self._missed()
        if gap > 1e-4 * self.c.character.height:
            said += f", missed by {100 * gap:.1f} cm"
        self.tag.texts["state"].setText(said)
        for k in range(self.tag.buttons.count()):
            item = self.tag.buttons.itemAt(k)
            widget = item.widget() if item is not None else None
            if isinstance(widget, QPushButton) and widget.text() == "Use it":
                widget.setVisible(solver is not None)

    def _missed(self) -> float:
        """How far the joint of a goal in use stands from it, metres; 0 for other controls."""
        rig, skeleton = self.c.character.require_rig(), self.c.skeleton
        if not any(self.subject in controls_of(s) for s in rig.solvers):
            return 0.0
        values = rig.slots.vector(self.c.frames.control_pose)[None]
        gaps = open_goals(skeleton, rig, values, nodes_at(skeleton, rig, values)).get(self.subject)
        return 0.0 if gaps is None else float(gaps[0])

    def _commit(self, key: str, shown: float) -> None:
        rig, lead = self.c.character.require_rig(), self.subject
        control = rig.control(lead)
        channel = control.channel(key)
        if channel is None:
            return
        value = shown / channel.quantity.on_screen
        limb = next((s for s in rig.solvers if s.amount == (lead, key)), None)
        if limb is not None:
            pose_edit(self.c, f"Blend of {control.name}", lambda d: edits.switch_limb(d, limb.id, value))
            return
        pose = with_values(rig, self.c.frames.control_pose, lead, **{key: value})
        commit_pose(self.c, f"{control.name} {key.replace('_', ' ')}", pose, (lead,))
