"""Axes of joints: aimed, squared, matched, checked."""

from __future__ import annotations

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import JOINT_PICKED, WITH_JOINTS
from pegloom.app.areas.joints.actions.changing import lead_name
from pegloom.app.context import Context, Edit
from pegloom.core.said import counted
from pegloom.core.skeleton.axes import crooked_axes
from pegloom.core.skeleton.joints import Origin
from pegloom.document import edits


def _axes(c: Context, name: str, edit: Edit) -> None:
    ids = c.state.selection.ids
    c.try_edit(f"{name}, {counted(len(ids), 'joint')}" if len(ids) > 1 else f"{name}, {lead_name(c)}", edit)


def aim(c: Context) -> None:
    ids, both = c.state.selection.ids, c.state.hand.both_sides
    _axes(c, "Aim along", lambda d: edits.aim_along(d, ids, both_sides=both))


def square(c: Context) -> None:
    ids, both = c.state.selection.ids, c.state.hand.both_sides
    _axes(c, "Bend axis square", lambda d: edits.square_bend(d, ids, both_sides=both))


def match(c: Context) -> None:
    ids = c.state.selection.ids
    if len(ids) < 2:
        c.say("Pick two joints or more: the last one picked gives its axes to the others", error=True)
        return
    _axes(c, "Match axes", lambda d: edits.match_axes(d, ids[:-1], ids[-1]))


def align(c: Context) -> None:
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    _axes(c, "Align the chain", lambda d: edits.align_chain(d, lead, both_sides=both))


def mirror(c: Context) -> None:
    ids = c.state.selection.ids
    _axes(c, "Mirror axes", lambda d: edits.mirror_axes(d, ids))


def check(c: Context) -> None:
    """Pick the joints whose axes are crooked, and say which."""
    skeleton = c.skeleton
    crooked = crooked_axes(skeleton)
    if not crooked:
        c.say("All axes run down their limbs, bend axes square to them")
        return
    own = [one for one in crooked if skeleton.joint(one.joint).origin is not Origin.FILE]
    c.store.select("joint", *[one.joint for one in crooked])
    names = ", ".join(skeleton.joint(one.joint).name for one in crooked[:4])
    c.say(
        f"{counted(len(crooked), 'joint')} with crooked axes: {names}"
        + ("" if own else "; they came so and are kept for the way back")
    )


def mend(c: Context) -> None:
    crooked = [j.joint for j in crooked_axes(c.skeleton)]
    kept = [j for j in crooked if c.skeleton.joint(j).origin is Origin.FILE]
    why = (
        f"{len(kept)} joint{'s' if len(kept) > 1 else ''} of the file keep their own axes, as they are delivered with them; "
        "they are shown and held clean. To turn them all the same: pick them, then Bend axis square to the limb"
    )
    if len(kept) == len(crooked):
        c.say(why if kept else "No axes are crooked")
        return
    done = f"{counted(len(crooked) - len(kept), 'joint')} put right"
    c.try_edit("Mend crooked axes", edits.mend_axes, lambda _: c.say(f"{done}; {why}" if kept else done))


PICKED = (*WITH_JOINTS, JOINT_PICKED)
ACTIONS = (
    Action("axes.aim", "Aim along the bone", "Joints", "y axis down the limb", aim, needs=PICKED),
    Action("axes.square", "Bend axis square to the limb", "Joints", "x axis square to the limb's plane", square, needs=PICKED),
    Action("axes.match", "Match axes of the last picked", "Joints", "The others take its axes", match, needs=PICKED),
    Action("axes.align", "Align the chain", "Joints", "The picked joint's roll carried down its chain", align, needs=PICKED),
    Action("axes.mirror", "Mirror axes", "Joints", "The other side folds alike", mirror, needs=PICKED),
    Action("axes.check", "Check axes", "Joints", "Find crooked axes", check, needs=WITH_JOINTS),
    Action("axes.mend", "Mend crooked axes", "Joints", "Put every crooked axis right", mend, needs=WITH_JOINTS),
)  # fmt: skip
