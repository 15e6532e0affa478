"""The other side of a rig: which control, joint and channel lies across the middle, and what becomes of places and axes.

The middle is x = 0 of the character. What is carried across is told by rest frames, never by names of axes: a control
and its partner may be turned anyhow.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, is_dataclass, replace
from functools import cached_property
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.constraints import Constraint, Follow, Target
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Combine, Coupling, What
from pegloom.core.rig.formulas import scaled
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.outputs import CONTROL, MorphDrive, ShowDrive
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.twists import TwistSpread
from pegloom.core.skeleton.joints import Side, Skeleton, Vector, other_side_name

FLIP = np.diag([-1.0, 1.0, 1.0, 1.0])
ACROSS = "_across"
"""Ends the keys of a board's channel that belongs to the other side."""
SIDED = ("hold", "spring")
"""How keys of the board begin that are of one side: of a joint's constraints, of what follows through."""


@dataclass(frozen=True)
class Across:
    """made : partners of what was made by hand, by id."""

    skeleton: Skeleton
    rig: ControlRig
    made: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))

    def control(self, control_id: str) -> str | None:
        """The control across; its own where it is of the middle; None where there is none."""
        if control_id in self.made:
            return self.made[control_id]
        return self.rig.other_side(control_id) if control_id in self.rig.index else None

    def joint(self, joint_id: str) -> str | None:
        return self.skeleton.other_side(joint_id) if joint_id in self.skeleton.index else None

    def node(self, ref: NodeRef) -> NodeRef | None:
        if ref.kind is NodeKind.WORLD:
            return ref
        found = self.joint(ref.id) if ref.kind is NodeKind.JOINT else self.control(ref.id)
        return None if found is None else NodeRef(ref.kind, found)

    def channel(self, ref: ChannelRef) -> ChannelRef | None:
        if ref.owner == BOARD:
            return ChannelRef(BOARD, board_key(ref.key)) if ref.key.startswith(SIDED) else ref
        found = self.control(ref.owner)
        return None if found is None else ChannelRef(found, ref.key)

    def place(self, ref: NodeRef) -> FloatArray:
        """character_from_node at rest (4, 4)."""
        if ref.kind is NodeKind.WORLD:
            return np.eye(4)
        if ref.kind is NodeKind.JOINT:
            return np.asarray(self.skeleton.world[self.skeleton.index[ref.id]])
        return self.rig.control(ref.id).matrix

    def turned(self, here: FloatArray, there: FloatArray) -> FloatArray:
        """From a frame's axes to those of its partner's, mirrored (3, 3): improper."""
        return np.asarray(there[:3, :3].T @ FLIP[:3, :3] @ here[:3, :3])

    @cached_property
    def one_sided(self) -> frozenset[str]:
        """Controls of a side that have no partner."""
        return frozenset(c.id for c in self.rig.controls if c.side is not Side.CENTRE and self.control(c.id) is None)


def board_key(key: str) -> str:
    return key.removesuffix(ACROSS) if key.endswith(ACROSS) else key + ACROSS


def swapped_id(told: str) -> str:
    """An id with its sides swapped: arm.l to arm.r."""
    return ".".join({"l": "r", "r": "l"}.get(piece, piece) for piece in told.split("."))


def mirrored_place(place: FloatArray) -> FloatArray:
    """A frame (4, 4) seen in the middle, its x axis turned so that it is one again."""
    return np.asarray(FLIP @ place @ FLIP)


def mirrored_vector(across: FloatArray, vector: Vector) -> Vector:
    x, y, z = (across @ np.array(vector)).tolist()
    return (x, y, z)


def mirrored_limit(across: Across, limit: JointLimit) -> JointLimit | None:
    """A joint's limits on its partner: turns go through the two rest frames, axis by axis as far as they line up."""
    other = across.joint(limit.joint)
    if other is None or other == limit.joint:
        return None
    here, there = (across.skeleton.world[across.skeleton.index[j]] for j in (limit.joint, other))
    # A turn is an axial vector: seen in a mirror it keeps its sign where a place changes it.
    axes = -across.turned(here, there)
    low, high, stiff = [0.0] * 3, [0.0] * 3, [0.0] * 3
    for i in range(3):
        k = int(np.argmax(np.abs(axes[i])))
        bounds = (limit.low[k], limit.high[k]) if axes[i, k] > 0 else (-limit.high[k], -limit.low[k])
        low[i], high[i], stiff[i] = bounds[0], bounds[1], limit.stiffness[k]
    return JointLimit(other, (low[0], low[1], low[2]), (high[0], high[1], high[2]), (stiff[0], stiff[1], stiff[2]))


def mirrored(across: Across, record: Any, made: str) -> Any | None:
    """A record of a rig on the other side, of id `made`; None where something it needs has no partner."""
    values: dict[str, Any] = {}
    for part in fields(record):
        value = getattr(record, part.name)
        found = _mirrored_value(across, part.name, value)
        if found is None and value is not None:
            return None
        values[part.name] = found
    values["id"] = made
    if values.get("name"):
        values["name"] = other_side_name(values["name"]) or f"{values['name']} across"
    result = type(record)(**values)
    if isinstance(record, Constraint):
        return _constraint(across, record, result)
    if isinstance(record, Coupling):
        return _coupling(across, record, result)
    if isinstance(record, TwistSpread):
        turn = across.turned(across.place(record.of), across.place(result.of))
        return replace(result, axis=mirrored_vector(turn, record.axis))
    if isinstance(record, ShowDrive) and record.thing.startswith(CONTROL):
        other = across.control(record.thing.removeprefix(CONTROL))
        return None if other is None else replace(result, thing=CONTROL + other)
    if isinstance(record, MorphDrive):
        return replace(result, morph=other_side_name(record.morph) or record.morph)
    return result


def across_key(across: Across, here: str, there: str, key: str) -> tuple[str, float]:
    """The channel across that does what this one does, and whether it runs the other way (-1)."""
    rig = across.rig
    if here not in rig.index or there not in rig.index:
        return key, 1.0
    turn = across.turned(rig.control(here).matrix, rig.control(there).matrix)
    for keys, axes in ((MOVE, turn), (ROTATE, -turn)):
        if key in keys:
            k = keys.index(key)
            i = int(np.argmax(np.abs(axes[:, k])))
            return keys[i], float(np.sign(axes[i, k]))
    channel = rig.control(here).channel(key)
    return key, -1.0 if channel is not None and channel.opposed else 1.0


def _coupling(across: Across, old: Coupling, new: Coupling) -> Coupling:
    """A coupling that does on the other side what the old one does on its own: axes and signs through the rest frames."""
    factors: dict[str, float] = {}
    readings = []
    for before, after in zip(old.readings, new.readings, strict=True):
        if before.channel is not None and after.channel is not None:
            key, factors[before.name] = across_key(across, before.channel.owner, after.channel.owner, before.channel.key)
            after = replace(after, channel=ChannelRef(after.channel.owner, key))
        if before.measure is not None and after.measure is not None:
            # A turn is an axial vector, a way out is not.
            along = before.measure.what is What.ALONG
            of, to = (m.other if along else m.node for m in (before.measure, after.measure))
            turn = across.turned(across.place(of), across.place(to)) * (1.0 if along else -1.0)
            after = replace(after, measure=replace(after.measure, axis=mirrored_vector(turn, before.measure.axis)))
        readings.append(after)
    key, sign = across_key(across, old.drives.owner, new.drives.owner, old.drives.key)
    if old.combine is Combine.TIMES:
        sign = 1.0
    return replace(
        new, readings=tuple(readings), formula=scaled(old.formula, factors), gain=sign * old.gain, offset=sign * old.offset,
        drives=ChannelRef(new.drives.owner, key),
    )  # fmt: skip


def _mirrored_value(across: Across, name: str, value: Any) -> Any:
    if name == "joints":
        found = [across.joint(j) for j in value]
        return None if None in found else tuple(found)
    if name == "joint":
        return across.joint(value)
    if name == "fk":
        found = [across.control(c) for c in value]
        return None if None in found else tuple(found)
    if isinstance(value, NodeRef):
        return across.node(value)
    if isinstance(value, ChannelRef):
        return across.channel(value)
    if isinstance(value, tuple) and value and not isinstance(value[0], (float, int, str)):
        each = [_mirrored_value(across, "", v) for v in value]
        return None if any(e is None for e in each) else tuple(each)
    if is_dataclass(value) and not isinstance(value, type):
        inner = {p.name: _mirrored_value(across, p.name, getattr(value, p.name)) for p in fields(value)}
        lost = any(inner[p.name] is None and getattr(value, p.name) is not None for p in fields(value))
        return None if lost else type(value)(**inner)
    return value


def _constraint(across: Across, old: Constraint, new: Constraint) -> Constraint:
    """Axes and offsets of a constraint, carried across."""
    held = across.turned(across.place(old.held), across.place(new.held))
    targets = tuple(_target(across, old, new, a, b) for a, b in zip(old.targets, new.targets, strict=True))
    return replace(
        new, targets=targets, aim=None if old.aim is None else mirrored_vector(held, old.aim),
        up=None if old.up is None else mirrored_vector(held, old.up),
    )  # fmt: skip


def _target(across: Across, old: Constraint, new: Constraint, before: Target, after: Target) -> Target:
    if before.offset is None:
        return after
    offset = np.array(before.offset).reshape(4, 4)
    if old.follow is Follow.POSITION:
        carriers = [_carrier(across, c.held) for c in (old, new)]
        result = np.eye(4)
        result[:3, 3] = across.turned(across.place(carriers[0]), across.place(carriers[1])) @ offset[:3, 3]
    else:
        target, held = np.eye(4), np.eye(4)
        target[:3, :3] = across.turned(across.place(before.node), across.place(after.node))
        held[:3, :3] = across.turned(across.place(old.held), across.place(new.held))
        result = target @ offset @ np.linalg.inv(held)
    return replace(after, offset=tuple(float(v) for v in result.ravel()))


def _carrier(across: Across, held: NodeRef) -> NodeRef:
    if held.kind is NodeKind.JOINT:
        parent = across.skeleton.joint(held.id).parent
        return NodeRef(NodeKind.JOINT, parent) if parent else NodeRef()
    return across.rig.control(held.id).parent
