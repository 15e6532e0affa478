"""What a person says of a file's joints: what they are for, and what in the body they and their chains are."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.skeleton.body_words import NOTHING, choices, other_side
from pegloom.core.skeleton.joints import Origin
from pegloom.core.skeleton.uses import Use, uses_of
from pegloom.document.edits.skeleton import partners_of, skeleton_in, with_changes
from pegloom.document.model import Document


def set_use(document: Document, joint_id: str, use: Use | None, *, both_sides: bool = True) -> Document:
    """Say what a joint is for: a bone, a helper or the end of its parent's bone; None for what its place and name tell.

    Weights stay until the next bind. Raises EditError where no joint would be left to hold the skin.
    """
    character = document.require_character()
    skeleton = skeleton_in(character)
    targets = (joint_id, *partners_of(skeleton, joint_id, both_sides))
    said = {j: u for j, u in character.uses.items() if j not in targets}
    if use is not None:
        said |= dict.fromkeys(targets, use)
    if all(u is not Use.BONE for u in uses_of(skeleton, said).values()):
        raise EditError("one joint at least has to hold the skin")
    return document.with_character(replace(character, uses=MappingProxyType(said)))


def say_part(document: Document, joint_id: str, role: str | None, *, both_sides: bool = True) -> Document:
    """Say what in the body a joint from a file is: a role of core/skeleton/body_words, its NOTHING, None as it is found.

    What goes with it in its chain follows. Another joint said to be the same is no more. Raises EditError for a joint
    built here, or for a role there is not.
    """
    character = document.require_character()
    skeleton = skeleton_in(character)
    joint = skeleton.joint(joint_id)
    if joint.origin is not Origin.FILE:
        raise EditError(f"{joint.name} was built here and is known; only joints a file brought can be said to be another's")
    if role is not None and role != NOTHING and role not in choices():
        raise EditError(f"there is no part of a body called {role}")
    wanted: dict[str, str | None] = {joint_id: role}
    for twin in partners_of(skeleton, joint_id, both_sides):
        across = role if role is None or role == NOTHING else other_side(role)
        if across is not None or role is None:
            wanted[twin] = across
    said = set(wanted.values()) - {None, NOTHING}
    before = {j for j, change in character.joint_overrides.items() if change.role in said and j not in wanted}
    return with_changes(document, character, {j: {"role": r} for j, r in {**dict.fromkeys(before), **wanted}.items()})


def say_chain(document: Document, joints: tuple[str, ...], limb: str | None, *, both_sides: bool = True) -> Document:
    """Say which limb a chain of a file's joints is: `arm.l`, body_words' NOTHING, None for what is found.

    joints : of one chain, base first. Its longest two bones in a row are the upper and the lower. Raises EditError for a
    limb there is not, or a chain of fewer than three joints.
    """
    cleared = document
    for joint in joints:
        cleared = say_part(cleared, joint, None, both_sides=both_sides)
    if limb is None:
        return cleared
    if limb == NOTHING:
        return say_part(cleared, joints[0], NOTHING, both_sides=both_sides)
    if f"{limb}.upper" not in choices():
        raise EditError(f"there is no limb called {limb}")
    if len(joints) < 3:
        raise EditError("a limb has three joints at least; say what each joint of this chain is instead")
    places = np.array([skeleton_in(cleared.require_character()).joint(j).position for j in joints])
    bones = np.linalg.norm(np.diff(places, axis=0), axis=1)
    start = int(np.argmax(bones[:-1] + bones[1:] + np.minimum(bones[:-1], bones[1:])))
    return say_part(cleared, joints[start], f"{limb}.upper", both_sides=both_sides)
