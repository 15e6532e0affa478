"""What was changed by hand on a built rig, kept apart from it and put on again after each rebuild.

Changes name stable ids. What names something that is gone waits for its return.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import compose, euler_quaternion
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.controls import Control, ControlRig, Drive, Shape
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeKind, NodeRef, control_node
from pegloom.core.rig.solvers import belongs
from pegloom.core.skeleton.joints import Vector

NOWHERE: Vector = (0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class ControlChange:
    """A change of a built control; what is None stays as built.

    size : factor of the built one.
    offset, tilt : of the shape, added to the built one's (metres; radians).
    rest_move, rest_turn : of the control itself, in the built one's own axes (metres; x y z radians).
    seen : the built rest when it was moved, 16 numbers.
    """

    name: str | None = None
    shape: Shape | None = None
    size: float = 1.0
    offset: Vector = NOWHERE
    tilt: Vector = NOWHERE
    rest_move: Vector = NOWHERE
    rest_turn: Vector = NOWHERE
    seen: tuple[float, ...] | None = None


@dataclass(frozen=True, slots=True)
class ChannelChange:
    """A change of a built channel; what is None stays as built. limits : low and high, None for no limit there."""

    title: str | None = None
    limits: tuple[float | None, float | None] | None = None
    soft: float | None = None
    locked: bool | None = None
    shown: bool | None = None


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class RigChanges:
    """controls : by id.
    channels : by control id and key.
    dropped : controls taken out.
    """

    controls: Mapping[str, ControlChange] = field(default_factory=lambda: MappingProxyType({}))
    channels: Mapping[tuple[str, str], ChannelChange] = field(default_factory=lambda: MappingProxyType({}))
    dropped: frozenset[str] = frozenset()


def changed_rig(rig: ControlRig, changes: RigChanges) -> ControlRig:
    """The rig with the changes that find what they change."""
    result = without(rig, changes.dropped) if changes.dropped else rig
    if not changes.controls and not changes.channels:
        return result
    by_control: dict[str, dict[str, ChannelChange]] = {}
    for (owner, key), change in changes.channels.items():
        by_control.setdefault(owner, {})[key] = change
    controls = tuple(
        _changed(c, changes.controls.get(c.id), by_control.get(c.id, {}))
        if c.id in changes.controls or c.id in by_control
        else c
        for c in result.controls
    )
    return replace(result, controls=controls)


def unchanged(rig: ControlRig, changes: RigChanges, spare: ControlRig) -> ControlRig:
    """A rig with its changes taken back, as far as it can tell: `changed_rig` the other way round.

    Words, shapes and channels that a change replaced, and controls it dropped, are taken from `spare`, what today's recipe
    builds in its place.
    """

    def back(control: Control) -> Control:
        change, usual = changes.controls.get(control.id), spare.control(control.id) if control.id in spare.index else control
        channels = tuple(
            (usual.channel(c.key) or c) if (control.id, c.key) in changes.channels else c for c in control.channels
        )
        control = replace(control, channels=channels)
        if change is None:
            return control
        moved = compose(change.rest_move, euler_quaternion(change.rest_turn))
        return replace(
            control, name=usual.name if change.name else control.name, shape=usual.shape if change.shape else control.shape,
            rest=tuple((control.matrix @ np.linalg.inv(moved)).ravel().tolist()), size=control.size / change.size,
            offset=_less(control.offset, change.offset), tilt=_less(control.tilt, change.tilt),
        )  # fmt: skip

    controls = [back(c) for c in rig.controls]
    present = set(rig.index)
    returned = [c for c in spare.controls if c.id in changes.dropped - present]
    present |= {c.id for c in returned}
    driven = {d.joint for d in rig.drives} | {j for s in rig.solvers for j in s.joints}
    drives = [d for d in spare.drives if d.joint not in driven and d.node.id in changes.dropped and d.node.id in present]
    known = {s.id for s in rig.solvers}
    needs = {s.id: set(belongs(s)) for s in spare.solvers if s.id not in known}
    solvers = [s for s in spare.solvers if s.id in needs and needs[s.id] & changes.dropped and needs[s.id] <= present]
    solved = {j for s in solvers for j in s.joints}
    kept = tuple(d for d in (*rig.drives, *drives) if d.joint not in solved)
    return replace(rig, controls=(*controls, *returned), drives=kept, solvers=(*rig.solvers, *solvers))


def _less(a: Vector, b: Vector) -> Vector:
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


def waiting(rig: ControlRig, changes: RigChanges) -> tuple[str, ...]:
    """What changes wait for, one line each: controls and channels the rig as built does not have."""
    present = set(rig.index)
    found = [f"control {c}" for c in (*changes.controls, *sorted(changes.dropped)) if c not in present]
    found += [
        f"control {owner}" if owner not in present else str(ChannelRef(owner, key))
        for owner, key in changes.channels
        if (owner, key) not in rig.slots.index
    ]
    return tuple(dict.fromkeys(found))


def _changed(control: Control, change: ControlChange | None, channels: Mapping[str, ChannelChange]) -> Control:
    if channels:
        result = tuple(_changed_channel(c, channels[c.key]) if c.key in channels else c for c in control.channels)
        control = replace(control, channels=result)
    if change is None:
        return control
    rest = control.rest
    if any(change.rest_move) or any(change.rest_turn):
        moved = control.matrix @ compose(change.rest_move, euler_quaternion(change.rest_turn))
        rest = tuple(float(v) for v in moved.ravel())
    return replace(
        control, name=change.name or control.name, shape=change.shape or control.shape, rest=rest,
        size=control.size * change.size, offset=_sum(control.offset, change.offset), tilt=_sum(control.tilt, change.tilt),
    )  # fmt: skip


def _sum(a: Vector, b: Vector) -> Vector:
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


def _changed_channel(channel: Channel, change: ChannelChange) -> Channel:
    low, high = (channel.low, channel.high) if change.limits is None else change.limits
    return replace(
        channel, low=low, high=high,
        title=channel.title if change.title is None else change.title,
        soft=channel.soft if change.soft is None else change.soft,
        locked=channel.locked if change.locked is None else change.locked,
        shown=channel.shown if change.shown is None else change.shown,
    )  # fmt: skip


def without(rig: ControlRig, dropped: Iterable[str]) -> ControlRig:
    """The rig without some controls: what rode on one rides on what that rode on, its joint on its parent.

    A solver that loses a control it needs goes; its joints are turned by the FK controls that are left.
    """
    gone = frozenset(dropped) & set(rig.index)
    if not gone:
        return rig

    def above(node: NodeRef) -> NodeRef:
        while node.kind in (NodeKind.CONTROL, NodeKind.BASE) and node.id in gone:
            node = rig.control(node.id).parent
        return node

    drives = [Drive(d.joint, above(d.node)) for d in rig.drives if above(d.node) is d.node]
    solvers = []
    for solver in rig.solvers:
        if gone & {*belongs(solver), solver.amount.owner}:
            pairs = zip(solver.joints, solver.fk, strict=True)
            drives += [Drive(joint, control_node(fk)) for joint, fk in pairs if fk not in gone]
        else:
            solvers.append(solver)
    controls = tuple(replace(c, parent=above(c.parent)) for c in rig.controls if c.id not in gone)
    return replace(rig, controls=controls, drives=tuple(drives), solvers=tuple(solvers))


def followed(rig: ControlRig, old: Mapping[str, FloatArray], new: Mapping[str, FloatArray]) -> ControlRig:
    """A rig as it was built, on joints that moved: each control goes along with the joint it belongs to.

    old, new : character_from_joint (4, 4) of each joint at rest. A control that belongs to none goes with the control it
    rides on; goals and poles with the joints of their solver. Those whose joint is gone go, as `without` has it.
    """
    holds = {d.node.id: d.joint for d in rig.drives if d.node.kind is NodeKind.CONTROL}
    for solver in rig.solvers:
        holds |= belongs(solver)
    moved: dict[str, FloatArray] = {}

    def motion(control: Control) -> FloatArray:
        if control.id not in moved:
            joint = holds.get(control.id)
            if joint is not None and joint in old and joint in new:
                moved[control.id] = new[joint] @ np.linalg.inv(old[joint])
            elif control.parent.kind is NodeKind.CONTROL:
                moved[control.id] = motion(rig.control(control.parent.id))
            elif control.parent.kind is NodeKind.JOINT and control.parent.id in old and control.parent.id in new:
                moved[control.id] = new[control.parent.id] @ np.linalg.inv(old[control.parent.id])
            else:
                moved[control.id] = np.eye(4)
        return moved[control.id]

    lost = [c.id for c in rig.controls if holds.get(c.id) is not None and holds[c.id] not in new]
    kept = replace(
        rig,
        controls=tuple(
            replace(c, rest=tuple((motion(c) @ c.matrix).ravel().tolist()), parent=_still(c.parent, new))
            for c in rig.controls
        ),
    )
    kept = without(kept, lost)
    kept = replace(kept, drives=tuple(d for d in kept.drives if d.joint in new))
    whole = tuple(s for s in kept.solvers if all(j in new for j in s.joints))
    return replace(kept, solvers=whole)


def _still(node: NodeRef, joints: Mapping[str, FloatArray]) -> NodeRef:
    return WORLD if node.kind is NodeKind.JOINT and node.id not in joints else node
