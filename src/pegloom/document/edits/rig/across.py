"""All that was made and changed by hand on one side, on the other too, in one step."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import euler_quaternion, matrix_quaternion, quaternion_euler, rotation_matrix
from pegloom.core.rig.across import (
    SIDED,
    Across,
    across_key,
    board_key,
    mirrored,
    mirrored_limit,
    mirrored_place,
    swapped_id,
)
from pegloom.core.rig.changes import OWN, ControlChange, OwnControl, RigChanges, references
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.controls import Control, ControlRig, Lines
from pegloom.core.rig.outputs import MorphDrive
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind
from pegloom.core.rig.solvers import Solver
from pegloom.core.skeleton.joints import Side, Skeleton, Vector, other_side_name
from pegloom.document.edits.controls import put_changes
from pegloom.document.edits.rebuild import recipe_rig, resting
from pegloom.document.edits.rig.changing import MADE, fresh, rigged
from pegloom.document.edits.rig.shapes import mirrored_look
from pegloom.document.model import Document

SIDES = {"left": Side.LEFT, "right": Side.RIGHT}
OTHER = {Side.LEFT: Side.RIGHT, Side.RIGHT: Side.LEFT}
TAIL = ".across"
"""Ends the id of what was made as the other side of something."""


def mirror_rig(document: Document, source: str = "left") -> tuple[Document, str]:
    """Mirror everything from one side ("left" or "right") to the other: shapes, kits' choices, IK, poles, constraints, spaces,
    limits, channels, what was dropped. Nothing moves. Gives what was done and what has no partner, in words.

    What the other side had of its own and the source has no partner of stays.
    """
    if source not in SIDES:
        raise EditError(f"mirror from left or from right, not from {source}")
    side = SIDES[source]
    character, skeleton, rig = rigged(document)
    recipe = dict(character.rig_recipe)
    for kit, how in character.rig_recipe.items():
        if _side_of_id(kit) is side:
            recipe[swapped_id(kit)] = how
    for kit in [k for k in recipe if _side_of_id(k) is OTHER[side] and swapped_id(k) not in character.rig_recipe]:
        del recipe[kit]
    document = document.with_character(replace(character, rig_recipe=MappingProxyType(recipe)))
    document = put_changes(document, character.rig_changes)
    document, partners = _own_controls(document, side)
    character, skeleton, rig = rigged(document)
    across = Across(skeleton, rig, MappingProxyType(partners))
    morphs = {m.name for p in character.parts for m in p.morphs}
    changes, lost = _records(character.rig_changes, across, side, morphs)
    changes = _controls(changes, across, recipe_rig(character), side)
    document, closed = _put_as_many(document, changes)
    lost += closed
    said = f"{source} to {'right' if source == 'left' else 'left'}"
    if lost:
        said += f"; without a partner there: {', '.join(lost[:6])}"
    return document, said


def _put_as_many(document: Document, changes: RigChanges) -> tuple[Document, list[str]]:
    """The changes put in; where the other side of a constraint would close a loop, all but those, which are told."""
    try:
        return put_changes(document, changes), []
    except EditError:
        had = {c.id for c in document.require_character().rig_changes.own}
        new = [(k, c) for k in ("own_constraints", "own_couplings") for c in getattr(changes, k) if c.id not in had]
        if not new:
            raise
    without: dict[str, Any] = {
        k: tuple(c for c in getattr(changes, k) if c.id in had) for k in ("own_constraints", "own_couplings")
    }
    document = put_changes(document, replace(changes, **without))
    lost = []
    for kind, record in new:
        now = document.require_character().rig_changes
        more: dict[str, Any] = {kind: (*getattr(now, kind), record)}
        try:
            document = put_changes(document, replace(now, **more))
        except EditError:
            lost.append(f"{record.name or record.id} (it would close a loop)")
    return document, lost


def _side_of_id(told: str) -> Side:
    pieces = told.split(".")
    return Side.LEFT if "l" in pieces else Side.RIGHT if "r" in pieces else Side.CENTRE


def _side_of(record: Solver | object, skeleton: Skeleton, rig: ControlRig) -> Side:
    """The side a record is of: that of its joints, of what it holds, of the channel it drives or reads."""
    one = getattr(record, "joint", "")
    joints = (one,) if one else getattr(record, "joints", ())
    if joints:
        sides = {skeleton.joint(j).side for j in joints if j in skeleton.index} - {Side.CENTRE}
        return sides.pop() if len(sides) == 1 else Side.CENTRE
    held = getattr(record, "held", None)
    told = getattr(record, "drives", None) or getattr(record, "channel", None)
    if isinstance(told, ChannelRef):
        return rig.control(told.owner).side if told.owner in rig.index else Side.CENTRE
    if held is None:
        return Side.CENTRE
    if held.kind is NodeKind.JOINT:
        return skeleton.joint(held.id).side if held.id in skeleton.index else Side.CENTRE
    return rig.control(held.id).side if held.id in rig.index else Side.CENTRE


def _own_controls(document: Document, side: Side) -> tuple[Document, dict[str, str]]:
    """Controls made by hand on a side, on the other one; partners by id, both ways."""
    character, skeleton, rig = rigged(document)
    changes, places = character.rig_changes, resting(character)
    known = {o.control.id: o for o in changes.own_controls}
    partners: dict[str, str] = {}
    made: dict[str, OwnControl] = {}
    for own in changes.own_controls:
        one = own.control
        if one.side is not side or one.id not in rig.index:
            continue
        name = other_side_name(one.name)
        across = skeleton.other_side(own.along) if own.along else ""
        if name is None or across is None:
            continue
        twin = next((o.control.id for o in changes.own_controls if o.control.name == name), None)
        if twin is None:
            document, (twin,) = fresh(document, MADE)
        partners |= {one.id: twin, twin: one.id}
        rest = mirrored_place(rig.control(one.id).matrix)
        if across:
            rest = np.linalg.inv(places[across]) @ rest
        partner = replace(
            one, id=twin, name=name, side=OTHER[side], rest=tuple(float(v) for v in rest.ravel()),
            offset=(-one.offset[0], one.offset[1], one.offset[2]), tilt=_flipped(one.tilt),
            channels=tuple(_other_limits(c) for c in one.channels),
        )  # fmt: skip
        made[twin] = OwnControl(partner, across)
    middle = Across(skeleton, rig, MappingProxyType(partners))
    for twin, own in made.items():
        parent = middle.node(rig.control(partners[twin]).parent)
        if parent is not None:
            made[twin] = replace(own, control=replace(own.control, parent=parent))
    if not made:
        return document, partners
    kept = tuple(made.pop(o, known[o]) for o in known)
    own_controls = (*kept, *made.values())
    return put_changes(document, replace(document.require_character().rig_changes, own_controls=own_controls)), partners


def _other_limits(channel: Channel) -> Channel:
    """A channel of a control whose frame is mirrored: what goes to the side, or turns about up or ahead, runs the other way."""
    if channel.key not in ("move_x", "rotate_y", "rotate_z"):
        return channel
    low, high = (None if v is None else -v for v in (channel.high, channel.low))
    return replace(channel, low=low, high=high)


def _flipped(tilt: tuple[float, float, float]) -> tuple[float, float, float]:
    """A shape's tilt seen in the middle."""
    flip = np.diag([-1.0, 1.0, 1.0])
    x, y, z = quaternion_euler(matrix_quaternion(flip @ rotation_matrix(euler_quaternion(tilt)) @ flip)).tolist()
    return (x, y, z)


def _records(changes: RigChanges, across: Across, side: Side, morphs: set[str]) -> tuple[RigChanges, list[str]]:
    """Solvers, constraints, couplings, springs, limits, added channels and what was dropped, on the other side too.

    morphs : names of the morph targets there are.
    """
    skeleton, rig = across.skeleton, across.rig
    lost: list[str] = []

    def both(some: tuple[Any, ...]) -> tuple[Any, ...]:
        result = {r.id: r for r in some}
        for record in some:
            if _side_of(record, skeleton, rig) is not side:
                continue
            told = record.id
            made = swapped_id(told) if swapped_id(told) != told else told.removesuffix(TAIL) if told.endswith(TAIL) else told + TAIL
            found = mirrored(across, record, made)
            if found is None or (isinstance(found, MorphDrive) and found.morph not in morphs):
                lost.append(getattr(record, "name", "") or getattr(record, "morph", "") or told)
            else:
                result[made] = found
        return tuple(result.values())

    channels = dict(changes.own_channels)
    for owner, some in changes.own_channels.items():
        if owner == BOARD:
            mine = [c for c in some if c.key.startswith(SIDED) and _board_side(changes, across, c.key) is side]
            have = {c.key: c for c in channels[BOARD]}
            have |= {board_key(c.key): replace(c, key=board_key(c.key)) for c in mine}
            channels[BOARD] = tuple(have.values())
            continue
        if owner not in rig.index or rig.control(owner).side is not side:
            continue
        other = across.control(owner)
        if other is not None and other != owner:
            channels[other] = tuple(_other_title(c) for c in some)
    limits = {j: v for j, v in changes.limits.items() if j not in skeleton.index or skeleton.joint(j).side is not OTHER[side]}
    for limit in [v for j, v in changes.limits.items() if j in skeleton.index and skeleton.joint(j).side is side]:
        other_limit = mirrored_limit(across, limit)
        if other_limit is not None:
            limits[other_limit.joint] = other_limit
    dropped = {d for d in changes.dropped if _side_of_id(d) is not OTHER[side]}
    dropped |= {swapped_id(d) for d in dropped if _side_of_id(d) is side}
    made: dict[str, Any] = {f"own_{kind}": both(getattr(changes, f"own_{kind}")) for kind in OWN}
    result = replace(
        changes, **made, own_channels=MappingProxyType(channels), limits=MappingProxyType(limits), dropped=frozenset(dropped),
    )  # fmt: skip
    return result, lost


def _board_side(changes: RigChanges, across: Across, key: str) -> Side:
    for record in (*changes.own_constraints, *changes.own_springs):
        if any(isinstance(r, ChannelRef) and r == (BOARD, key) for r in references(record)):
            return _side_of(record, across.skeleton, across.rig)
    return Side.CENTRE


def _other_title(channel: Channel) -> Channel:
    words = [other_side_name(w) or w for w in channel.title.split(" ")]
    return replace(channel, title=" ".join(words))


def _controls(changes: RigChanges, across: Across, built: ControlRig, side: Side) -> RigChanges:
    """Names, shapes, places, limits and locks changed on built controls, on their partners too."""
    rig = across.rig
    controls = {
        c: v for c, v in changes.controls.items() if c not in rig.index or rig.control(c).side is not OTHER[side]
    }
    channels = {
        ref: v for ref, v in changes.channels.items() if ref[0] not in rig.index or rig.control(ref[0]).side is not OTHER[side]
    }
    for control_id, change in changes.controls.items():
        if control_id not in rig.index or rig.control(control_id).side is not side:
            continue
        other = across.control(control_id)
        if other is not None and other in rig.index:
            controls[other] = _mirrored_change(across, built, control_id, other, change)
    for (owner, key), channel in changes.channels.items():
        if owner not in rig.index or rig.control(owner).side is not side:
            continue
        other = across.control(owner)
        if other is None or other not in rig.index:
            continue
        new_key, sign = across_key(across, owner, other, key)
        limits = channel.limits
        if limits is not None and sign < 0:
            limits = (None if limits[1] is None else -limits[1], None if limits[0] is None else -limits[0])
        rest = None if channel.rest is None else sign * channel.rest
        channels[other, new_key] = replace(channel, limits=limits, rest=rest)
    return replace(changes, controls=MappingProxyType(controls), channels=MappingProxyType(channels))


def _mirrored_change(across: Across, built: ControlRig, here: str, there: str, change: ControlChange) -> ControlChange:
    # Places are told in the axes of what was built. What was made by hand has no other.
    rig = built if here in built.index and there in built.index else across.rig
    turn = across.turned(rig.control(here).matrix, rig.control(there).matrix)

    def place(v: tuple[float, float, float]) -> tuple[float, float, float]:
        x, y, z = (turn @ np.array(v)).tolist()
        return (x, y, z)

    def angle(v: tuple[float, float, float]) -> tuple[float, float, float]:
        mirrored_turn = turn @ rotation_matrix(euler_quaternion(v)) @ turn.T
        x, y, z = quaternion_euler(matrix_quaternion(mirrored_turn)).tolist()
        return (x, y, z)

    def factors(v: Vector) -> Vector:
        x, y, z = (np.abs(turn) @ np.array(v)).tolist()
        return (x, y, z)

    def lines(control: Control) -> Lines | None:
        if change.lines is None:
            return None
        return mirrored_look(across, rig, here, there).lines if control.lines else ()

    name = None if change.name is None else other_side_name(change.name)
    seen = None if change.seen is None else tuple(rig.control(there).rest)
    return replace(
        change, name=name, offset=place(change.offset), tilt=angle(change.tilt), rest_move=place(change.rest_move),
        rest_turn=angle(change.rest_turn), seen=seen, stretch=factors(change.stretch),
        lines=lines(across.rig.control(here)) if here in across.rig.index and there in across.rig.index else change.lines,
    )  # fmt: skip
