"""A control's channels."""

from __future__ import annotations

from pegloom.app.actions.posing import commit_pose, pose_edit
from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.refs import ChannelRef
from pegloom.document import edits
from pegloom.scene.drawing import out_of_use


class ControlForm(Form):
    @staticmethod
    def there(state: State, subject: str) -> bool:
        return state.character is not None and state.character.rig is not None and subject in state.character.rig.index

    def build(self) -> None:
        control = self.c.character.require_rig().control(self.subject)
        for channel in control.channels:
            if channel.shown and not channel.locked:
                self.tag.field(channel.key, channel.title, self._commit, channel.quantity)
        self.tag.text("state", "State")
        # These two are for what is selected; a pinned tag may be another's.
        for action, text in (("keys.write", "Set key"), ("pose.rest", "To rest")) if self.tag.holds is None else ():
            self.tag.buttons.addWidget(action_button(self.c.actions.qactions[action], text))

    def show(self) -> None:
        rig, pose = self.c.character.require_rig(), self.c.frames.control_pose
        control = rig.control(self.subject)
        self.tag.name.setText(control.name)
        for channel in control.channels:
            if channel.key in self.tag.fields:
                value = rig.value(pose, ChannelRef(control.id, channel.key))
                self.tag.put(channel.key, value * channel.quantity.on_screen)
        limb, said = rig.limb_of(control.id), "in use"
        if control.id in out_of_use(rig, pose) and limb is not None:
            said = "out of use: limb on " + ("IK" if control.id in limb.fk else "FK")
        self.tag.texts["state"].setText(said)

    def _commit(self, key: str, shown: float) -> None:
        rig, lead = self.c.character.require_rig(), self.subject
        control = rig.control(lead)
        channel = control.channel(key)
        if channel is None:
            return
        value = shown / channel.quantity.on_screen
        limb = rig.limb_of(lead)
        if limb is not None and limb.amount == (lead, key):
            pose_edit(self.c, f"Blend of {control.name}", lambda d: edits.switch_limb(d, limb.id, value))
            return
        pose = with_values(rig, self.c.frames.control_pose, lead, **{key: value})
        commit_pose(self.c, f"{control.name} {key.replace('_', ' ')}", pose, (lead,))
