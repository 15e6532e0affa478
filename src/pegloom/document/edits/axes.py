"""Axes put right: aim, bend, match, align, mirror. No joint moves."""

from __future__ import annotations

from collections.abc import Iterable

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.skeleton.axes import aim_of, aimed, carried, crooked_axes, mirrored, squared
from pegloom.core.skeleton.joints import Origin, Skeleton
from pegloom.document.edits.skeleton import turn_joints
from pegloom.document.model import Document


def aim_along(document: Document, joints: Iterable[str], *, both_sides: bool = True) -> Document:
    """Turn joints so that their y axis runs down their bone; the bend axis stays as near as it was."""
    skeleton = _skeleton(document)
    return turn_joints(
        document, {j: aimed(skeleton, skeleton.joint(j)) for j in _with_partners(skeleton, joints, both_sides)}
    )


def square_bend(document: Document, joints: Iterable[str], *, both_sides: bool = True) -> Document:
    """Turn joints so that their bend axis stands square to the limb's plane, and aim down the bone."""
    skeleton = _skeleton(document)
    return turn_joints(
        document, {j: squared(skeleton, skeleton.joint(j)) for j in _with_partners(skeleton, joints, both_sides)}
    )


def match_axes(document: Document, joints: Iterable[str], like: str) -> Document:
    """Give joints the axes of another one."""
    skeleton = _skeleton(document)
    axes = skeleton.joint(like).matrix[:3, :3]
    return turn_joints(document, {j: axes for j in joints if j != like})


def align_chain(document: Document, first: str, *, both_sides: bool = True) -> Document:
    """Carry the first joint's roll down its chain: each joint aims down its bone without any twist to the one before."""
    skeleton = _skeleton(document)
    turns: dict[str, FloatArray] = {}
    for start in _with_partners(skeleton, [first], both_sides):
        here = skeleton.joint(start)
        axes = aimed(skeleton, here)
        while True:
            turns[here.id] = axes
            children = [c for c in skeleton.children(here.id) if not c.floating and not c.aside]
            if len(children) != 1:
                break
            here = children[0]
            aim = aim_of(skeleton, here)
            axes = carried(axes, aim) if aim is not None else axes
    return turn_joints(document, turns)


def mirror_axes(document: Document, joints: Iterable[str]) -> Document:
    """Give the partners of joints the mirrored axes, so that equal turns fold both sides alike."""
    skeleton = _skeleton(document)
    turns = {}
    for joint_id in joints:
        other = skeleton.other_side(joint_id)
        if other is None or other == joint_id:
            raise EditError(f"{skeleton.joint(joint_id).name} has no partner on the other side")
        turns[other] = mirrored(skeleton.joint(joint_id).matrix[:3, :3])
    return turn_joints(document, turns)


def mend_axes(document: Document) -> Document:
    """Put right every joint whose axes the check finds crooked. Foreign joints keep theirs for the way back."""
    skeleton = _skeleton(document)
    crooked = [c.joint for c in crooked_axes(skeleton) if skeleton.joint(c.joint).origin is not Origin.FILE]
    if not crooked:
        return document
    return turn_joints(document, {j: squared(skeleton, skeleton.joint(j)) for j in crooked})


def _with_partners(skeleton: Skeleton, joints: Iterable[str], both_sides: bool) -> list[str]:
    found = dict.fromkeys(joints)
    for joint in list(found):
        other = skeleton.other_side(joint) if both_sides else None
        if other is not None:
            found[other] = None
    return list(found)


def _skeleton(document: Document) -> Skeleton:
    skeleton = document.require_character().skeleton
    if skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return skeleton


__all__ = ["aim_along", "align_chain", "match_axes", "mend_axes", "mirror_axes", "square_bend"]
