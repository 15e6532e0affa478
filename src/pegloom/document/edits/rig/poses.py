"""Poses copied, pasted, mirrored, kept by name and put on again; sets of controls that are picked together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

from pegloom.core.errors import EditError
from pegloom.core.rig.posing import across, copied_across, toward, values_of
from pegloom.document.edits.controls import posed, set_pose
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.rig.by_name import kept_one, renamed, without
from pegloom.document.edits.rig.changing import near, rigged
from pegloom.document.model import Character, Document, Image, ShelfPose

STEM = "pose."


def paste_pose(
    document: Document, values: Mapping[tuple[str, str], float], *, mirrored: bool = False,
    control_ids: tuple[str, ...] | None = None,
) -> Document:  # fmt: skip
    """Put channel values on the pose in hand. mirrored : on the other side, seen in a mirror. control_ids : on these alone."""
    character, _, rig = rigged(document)
    told = across(rig, values) if mirrored else values
    return set_pose(document, toward(rig, posed(character), told, 1.0, control_ids))


def pose_across(document: Document, control_ids: tuple[str, ...]) -> Document:
    """The partners of some controls do what these do, seen in a mirror. Raises EditError where none has one."""
    character, _, rig = rigged(document)
    if all(rig.other_side(c) in (None, c) for c in control_ids if c in rig.index):
        raise EditError("none of these has a partner on the other side")
    return set_pose(document, copied_across(rig, posed(character), control_ids))


def keep_pose(
    document: Document, name: str, control_ids: tuple[str, ...] = (), *, picture: Image | None = None
) -> tuple[Document, str]:
    """Keep the pose in hand by name, of some controls or, with (), of all; one of that name is replaced. Returns its id."""
    character, _, rig = rigged(document)
    if not name.strip():
        raise EditError("a pose needs a name")
    for one in control_ids:
        rig.control(one)
    values = values_of(rig, posed(character), control_ids or None)
    if not values:
        raise EditError("what is picked has nothing that can be posed")
    there = next((p for p in character.poses if p.name == name.strip()), None)
    if there is None:
        character, (made,) = fresh_ids(character, STEM, (p.id for p in character.poses))
    else:
        made = there.id
    kept = ShelfPose(made, name.strip(), values, picture, bool(control_ids))
    every = tuple(kept if p.id == made else p for p in character.poses)
    every = every if there is not None else (*every, kept)
    return document.with_character(replace(character, poses=every)), made


def apply_pose(document: Document, pose: str, amount: float = 1.0, control_ids: tuple[str, ...] = ()) -> Document:
    """Bring the pose in hand toward a kept one, told by id or name, by an amount 0 to 1. control_ids : these alone."""
    character, _, rig = rigged(document)
    if not 0.0 <= amount <= 1.0:
        raise EditError(f"a pose is put on by an amount of 0 to 1, not {amount:g}")
    one = pose_of(character, pose)
    return set_pose(document, toward(rig, posed(character), one.values, amount, control_ids or None))


def rename_pose(document: Document, pose: str, name: str) -> Document:
    """Another name for a kept pose. Raises EditError for an empty or taken one."""
    character, _, _ = rigged(document)
    return document.with_character(replace(character, poses=renamed(character.poses, pose, name, "pose")))


def drop_pose(document: Document, pose: str) -> Document:
    """Forget a kept pose."""
    character, _, _ = rigged(document)
    return document.with_character(replace(character, poses=without(character.poses, pose, "pose")))


def pose_of(character: Character, told: str) -> ShelfPose:
    """A kept pose told by id or name. Raises EditError for one there is not."""
    return kept_one(character.poses, told, "pose")


def keep_set(document: Document, name: str, control_ids: tuple[str, ...]) -> Document:
    """Keep some controls as a set by name; one of that name is replaced."""
    character, _, rig = rigged(document)
    if not name.strip() or not control_ids:
        raise EditError("pick the controls of the set and give it a name")
    for one in control_ids:
        rig.control(one)
    return document.with_character(replace(character, control_sets=MappingProxyType({**character.control_sets, name.strip(): control_ids})))


def drop_set(document: Document, name: str) -> Document:
    """Forget a set of controls; the controls stay."""
    character = document.require_character()
    if name not in character.control_sets:
        raise EditError(f"there is no set {name}{near(name, list(character.control_sets))}")
    kept = {n: ids for n, ids in character.control_sets.items() if n != name}
    return document.with_character(replace(character, control_sets=MappingProxyType(kept)))
