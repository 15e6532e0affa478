"""What can be done in Controls: build the rig, pose it, switch limbs, shape controls."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import CONTROL_PICKED, WITH_JOINTS, WITH_RIG
from pegloom.app.actions.posing import pose_edit
from pegloom.app.context import Context
from pegloom.core.rig.controls import Shape
from pegloom.document import edits
from pegloom.document.model import Document


def build(c: Context) -> None:
    def then(_: object) -> None:
        if c.state.clock.source and c.state.clip is None:
            c.player.stop()
            c.player.play_source("")
        c.say("Controls built, nothing moved. This is the current pose: drag a control")

    c.try_edit("Build controls", edits.build_controls, then)


def rest(c: Context) -> None:
    ids = c.state.selection.ids
    pose_edit(c, "To rest", lambda d: edits.rest_controls(d, ids), ids)


def rest_all(c: Context) -> None:
    pose_edit(c, "All to rest", edits.rest_controls)


def mirror_pose(c: Context) -> None:
    pose_edit(c, "Mirror the pose", edits.mirror_pose)


def arms(blend: float, c: Context) -> None:
    """Both arms to IK (1) or FK (0), matched."""
    limbs = [limb for limb in c.character.require_rig().limbs if limb.id.startswith("arm.")]

    def edit(document: Document) -> Document:
        for limb in limbs:
            document = edits.switch_limb(document, limb.id, blend)
        return document

    pose_edit(c, "Arms to IK" if blend else "Arms to FK", edit)


def blend_limb(c: Context, name: str, limb: str, value: float) -> None:
    """Slide one limb between FK (0) and IK (1), matched."""
    pose_edit(c, name, lambda d: edits.switch_limb(d, limb, value))


def reshape(c: Context, control: str, shape: Shape) -> None:
    """Another shape of a control."""
    c.try_edit(f"Shape of {control}", lambda d: edits.reshape_control(d, control, shape=shape))


def resize(c: Context, control: str, size: float) -> None:
    """Another size of a control."""
    c.try_edit(f"Size of {control}", lambda d: edits.reshape_control(d, control, size=size))


ACTIONS = (
    Action("controls.build", "Build controls", "Controls", "All controls from the limb kits", build, needs=WITH_JOINTS),
    Action("controls.arms_ik", "Arms to IK", "Controls", "Both arms to IK, matched", partial(arms, 1.0), needs=WITH_RIG),
    Action("controls.arms_fk", "Arms to FK", "Controls", "Both arms to FK, matched", partial(arms, 0.0), needs=WITH_RIG),
    Action("pose.rest", "To rest", "Controls", "Selected controls to zero", rest, key="Backspace", needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("pose.rest_all", "All to rest", "Controls", "All controls to zero", rest_all, key="Shift+Backspace", needs=WITH_RIG),
    Action("pose.mirror", "Mirror the pose", "Controls", "Left and right trade their pose", mirror_pose, needs=WITH_RIG),
)  # fmt: skip
