"""What edits of a rig share: other changes put in, fresh ids, nodes told by a person."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from types import MappingProxyType

from pegloom.core.errors import EditError
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import WORLD, NodeKind, NodeRef, base_node, control_node, joint_node
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.controls import put_changes
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.model import Character, Document

HOLD, MADE = "hold.", "own."


def rigged(document: Document) -> tuple[Character, Skeleton, ControlRig]:
    """Character, joints and controls. Raises EditError where one is missing."""
    character = document.require_character()
    if character.skeleton is None or character.rig is None:
        raise EditError("there are no controls yet; build controls first")
    return character, character.skeleton, character.rig


def with_changes(document: Document, **changes: object) -> Document:
    """The document with some of its changes of the rig other than they were; a loop is refused with its members named."""
    character = document.require_character()
    return put_changes(document, replace(character.rig_changes, **changes))  # type: ignore[arg-type]


def fresh(document: Document, stem: str, count: int = 1) -> tuple[Document, list[str]]:
    """Ids of things made by hand that were never used."""
    character = document.require_character()
    changes = character.rig_changes
    used = [o.control.id for o in changes.own_controls]
    used += [x.id for x in changes.own]
    character, ids = fresh_ids(character, stem, used, count)
    return document.with_character(character), ids


def more_channels(own: Mapping[str, tuple[Channel, ...]], owner: str, channels: Iterable[Channel]) -> Mapping[str, tuple[Channel, ...]]:
    """Added channels by control with some more; one of the same key is replaced."""
    new = {c.key: c for c in channels}
    kept = tuple(c for c in own.get(owner, ()) if c.key not in new)
    return MappingProxyType({**own, owner: (*kept, *new.values())})


def fewer_channels(own: Mapping[str, tuple[Channel, ...]], owner: str, keys: Iterable[str]) -> Mapping[str, tuple[Channel, ...]]:
    """Added channels by control without some."""
    gone = set(keys)
    kept = tuple(c for c in own.get(owner, ()) if c.key not in gone)
    rest = {o: c for o, c in own.items() if o != owner}
    return MappingProxyType({**rest, owner: kept} if kept else rest)


def free_key(stem: str, taken: Collection[str]) -> str:
    """A key that no channel of an owner has: the stem, else the stem and a number."""
    return stem if stem not in taken else next(f"{stem}_{k}" for k in range(2, len(taken) + 3) if f"{stem}_{k}" not in taken)


def without_values(document: Document, owner: str, keys: Iterable[str]) -> Document:
    """The pose in hand without values of channels that are gone."""
    character, gone = document.require_character(), {(owner, key) for key in keys}
    if not isinstance(character.pose, Pose):
        return document
    pose = Pose({ref: v for ref, v in character.pose.values.items() if tuple(ref) not in gone})
    return document.with_character(replace(character, pose=pose))


def control_id(rig: ControlRig, told: str) -> str:
    """A control told by id or name. Raises EditError naming those near."""
    if told in rig.index:
        return told
    for control in rig.controls:
        if control.name == told:
            return control.id
    raise EditError(f"there is no control {told}{near(told, [c.name for c in rig.controls])}")


def node(skeleton: Skeleton, rig: ControlRig, told: str | NodeRef, *, held: bool = False) -> NodeRef:
    """A node told by id or name: a control before a joint of the same name ("joint:" before it means the joint), "world" for the world. held : as what a constraint holds."""
    if isinstance(told, NodeRef):
        return base_node(told.id) if held and told.kind is NodeKind.CONTROL else told
    if told in ("", "world") and not held:
        return WORLD
    kind, _, rest = told.partition(":")
    if kind == "joint" and rest:
        return joint_node(joint_id(skeleton, rest))
    for control in rig.controls:
        if told in (control.id, control.name):
            return base_node(control.id) if held else control_node(control.id)
    for joint in skeleton.joints:
        if told in (joint.id, joint.name):
            return joint_node(joint.id)
    names = [c.name for c in rig.controls] + [j.name for j in skeleton.joints]
    raise EditError(f"there is no control or joint {told}{near(told, names)}")


def joint_id(skeleton: Skeleton, told: str) -> str:
    """A joint told by id or name. Raises EditError naming those near."""
    for joint in skeleton.joints:
        if told in (joint.id, joint.name):
            return joint.id
    raise EditError(f"there is no joint {told}{near(told, [j.name for j in skeleton.joints])}")


def name_of(skeleton: Skeleton, rig: ControlRig, ref: NodeRef) -> str:
    """What a person reads for a node."""
    if ref.kind is NodeKind.WORLD:
        return "world"
    return skeleton.joint(ref.id).name if ref.kind is NodeKind.JOINT else rig.control(ref.id).name


def near(told: str, names: list[str]) -> str:
    """What to say of names like one that is not there, "" for none."""
    found = difflib.get_close_matches(told, names, 3, 0.4)
    return f"; near it are {', '.join(found)}" if found else ""
