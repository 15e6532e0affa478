"""A control's channels."""

from __future__ import annotations

from collections.abc import Hashable
from functools import partial

from PyQt6.QtWidgets import QPushButton

from pegloom.app.actions.posing import commit_pose, pose_edit, show_pose
from pegloom.app.context import Context
from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button
from pegloom.core.rig.channels import BLEND, TRANSFORM, Quantity
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.couplings import Combine, Coupling
from pegloom.core.rig.evaluate import nodes_at
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe.comfort import BALL, BALL_TO, BANK, HEEL, HEEL_SWING, ROLL, TIP, TIP_SWING
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.use import controls_of, idle
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.told.poses import open_goals
from pegloom.scene.rig_drawing import limb_words

FOOT = (ROLL, HEEL, BALL, TIP, BALL_TO, BANK, HEEL_SWING, TIP_SWING)


class ControlForm(Form):
    scrubbed: tuple[str, Pose] | None = None
    """The channel whose caption is dragged, and the pose from before."""

    @staticmethod
    def there(state: State, subject: str) -> bool:
        return state.character is not None and state.character.rig is not None and subject in state.character.rig.index

    @staticmethod
    def made_of(c: Context, subject: str) -> Hashable:
        rig = c.character.require_rig()
        held = tuple(h.id for h in rig.holds_on(subject) if not h.spaces)
        shown = tuple((x.key, x.title) for x in rig.control(subject).channels if x.shown and not x.locked)
        return (shown, held, c.area.springs_back(c.state))

    def build(self) -> None:
        rig = self.c.character.require_rig()
        control = rig.control(self.subject)
        shown = [c for c in control.channels if c.shown and not c.locked]
        spaces = {t.weight.key for h in rig.holds_on(control.id) for t in h.targets} | {h.amount.key for h in rig.holds_on(control.id)}
        own = {c.key for c in self.c.character.rig_changes.own_channels.get(control.id, ())}
        if not any(control.id in (*s.fk, *controls_of(s)) for s in rig.solvers):
            own |= {c.key for c in shown if c.key not in (*TRANSFORM, BLEND)} - spaces
        groups = {
            "Place": [c for c in shown if c.key in (*TRANSFORM, BLEND)],
            "IK": [c for c in shown if c.key not in (*TRANSFORM, BLEND, *FOOT, *own) and c.key not in spaces],
            "Foot": [c for c in shown if c.key in FOOT and c.key not in own],
            "Own": [c for c in shown if c.key in own and c.key not in spaces],
            "Follows": [c for c in shown if c.key in spaces],
        }  # fmt: skip
        filled = {title: some for title, some in groups.items() if some}
        for title, some in filled.items():
            if len(filled) > 1:
                self.tag.group(title)
            for channel in some:
                said = channel.title.removeprefix("follow ") if channel.key in spaces else channel.title
                if channel.quantity is Quantity.SWITCH or channel.options:
                    self.tag.options(channel.key, said, channel.options or ("off", "on"), self._commit)
                else:
                    self.tag.field(channel.key, said, self._commit, channel.quantity, scrub=self._scrub)
                drivers = rig.drivers.get(ChannelRef(control.id, channel.key), ())
                if drivers:
                    self.tag.driven(channel.key, "driven by " + ", ".join(d.name for d in drivers), partial(self._to_driver, drivers[0]))
        self.tag.end_groups()
        self.tag.text("state", "State")
        # These are for what is selected; a pinned tag may be another's.
        building = self.c.area.springs_back(self.c.state)
        # What springs back needs no key.
        offered: list[tuple[str, str]] = [] if building else [("keys.write", "Set key")]
        offered += [("pose.rest", "To rest"), ("controls.use", "Use it")]
        for action, text in offered if self.tag.holds is None else []:
            self.tag.buttons.addWidget(action_button(self.c.actions.qactions[action], text))
        if self.tag.holds is None and building:
            # While it is built, its editors open from where it was picked.
            if any(not h.spaces for h in rig.holds_on(control.id)):
                self.tag.buttons.addWidget(action_button(self.c.actions.qactions["controls.edit_hold"], "Constraint"))
            if any(control.id in (*s.fk, *controls_of(s)) for s in rig.solvers):
                self.tag.buttons.addWidget(action_button(self.c.actions.qactions["controls.edit_ik"], "IK"))

    def show(self) -> None:
        rig, pose = self.c.character.require_rig(), self.c.frames.control_pose
        control = rig.control(self.subject)
        self.tag.name.setText(control.name)
        frame = self.c.frames.frame()
        others = [rig.control(i) for i in self.all if i != control.id and i in rig.index]
        for channel in control.channels:
            ref = ChannelRef(control.id, channel.key)
            value = rig.value(pose, ref)
            if ref in rig.drivers and frame is not None and len(frame.values) == len(rig.slots.channels):
                # What is driven shows what it came to.
                value = float(frame.values[rig.slots.index[ref]])
            if channel.key in self.tag.fields:
                apart = [rig.value(pose, ChannelRef(o.id, channel.key)) for o in others if o.channel(channel.key) is not None]
                several = any(abs(v - value) > 1e-9 for v in apart)
                self.tag.put(channel.key, value * channel.quantity.on_screen, several=several)
            elif channel.key in self.tag.choices:
                self.tag.put_option(channel.key, round(value))
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
        ref = ChannelRef(lead, key)
        if ref in rig.drivers:
            frame = self.c.frames.frame()
            if any(d.combine is not Combine.ADD for d in rig.drivers[ref]) or frame is None:
                self.c.say(f"{control.name} {channel.title} is driven by {rig.drivers[ref][0].name}; change that, or what it reads", error=True)
                self.tag.refresh()
                return
            # A number typed into what is driven is what it is to come to.
            value -= float(frame.values[rig.slots.index[ref]]) - rig.value(self.c.frames.control_pose, ref)
        limb = next((s for s in rig.solvers if s.amount == (lead, key)), None)
        if limb is not None:
            pose_edit(self.c, f"Blend of {control.name}", lambda d: edits.switch_limb(d, limb.id, value))
            return
        pose, some = self.c.frames.control_pose, [i for i in self.all if rig.control(i).channel(key) is not None]
        for one in some:
            pose = with_values(rig, pose, one, **{key: value})
        said = control.name if len(some) == 1 else counted(len(some), "control")
        commit_pose(self.c, f"{said} {key.replace('_', ' ')}", pose, tuple(some))

    def _scrub(self, key: str, change: float, over: bool) -> None:
        """A field's caption dragged sideways: every picked control's own number goes along."""
        rig = self.c.character.require_rig()
        channel = rig.control(self.subject).channel(key)
        if channel is None or ChannelRef(self.subject, key) in rig.drivers:
            return
        if self.scrubbed is None or self.scrubbed[0] != key:
            self.scrubbed = (key, self.c.frames.control_pose)
        pose = base = self.scrubbed[1]
        some = [i for i in self.all if key in rig.control(i).free]
        for one in some:
            now = rig.value(base, ChannelRef(one, key)) + change / channel.quantity.on_screen
            slot = rig.slots.index[ChannelRef(one, key)]
            pose = with_values(rig, pose, one, **{key: min(max(now, float(rig.slots.low[slot])), float(rig.slots.high[slot]))})
        if not over:
            show_pose(self.c, pose, some)
            return
        self.scrubbed = None
        said = rig.control(self.subject).name if len(some) == 1 else counted(len(some), "control")
        commit_pose(self.c, f"{said} {key.replace('_', ' ')}", pose, some)

    def _to_driver(self, coupling: Coupling) -> None:
        """Go where a driven channel's thread leads: to the control that is read."""
        source = next((r.channel.owner for r in coupling.readings if r.channel is not None), "")
        if source in self.c.character.require_rig().index:
            self.c.store.select("control", source)
        else:
            self.c.say(f"{coupling.name} reads where something stands: {coupling.formula}")
