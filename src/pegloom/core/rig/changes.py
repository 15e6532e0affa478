"""What was changed by hand on a built rig, kept apart from it and put on again after each rebuild.

Changes name stable ids. What names something that is gone waits for its return.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields, is_dataclass, replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import compose, euler_quaternion
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import Control, ControlRig, Drive, Lines, Shape
from pegloom.core.rig.couplings import Coupling
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.outputs import MorphDrive, ShowDrive, WidthDrive
from pegloom.core.rig.refs import BOARD, WORLD, ChannelRef, NodeKind, NodeRef, control_node, joint_node
from pegloom.core.rig.solvers import Solver, belongs, own_start
from pegloom.core.rig.springs import Spring, SpringGroup
from pegloom.core.rig.twists import TwistSpread
from pegloom.core.skeleton.joints import Vector

NOWHERE: Vector = (0.0, 0.0, 0.0)
EVEN: Vector = (1.0, 1.0, 1.0)
NO_JOINTS: Mapping[str, FloatArray] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class ControlChange:
    """A change of a built control; what is None stays as built.

    size, stretch, thickness : factors of the built ones.
    offset, tilt : of the shape, added to the built one's (metres; radians).
    colour : #RRGGBB.
    lines : drawn by hand in the shape's place; () for the shape's again.
    hidden : kept from animators, or not.
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
    stretch: Vector = EVEN
    thickness: float = 1.0
    colour: str | None = None
    lines: Lines | None = None
    hidden: bool | None = None


@dataclass(frozen=True, slots=True)
class ChannelChange:
    """A change of a built channel; what is None stays as built. limits : low and high, None for no limit there. rest : its value
    where nothing is posed."""

    title: str | None = None
    limits: tuple[float | None, float | None] | None = None
    soft: float | None = None
    locked: bool | None = None
    shown: bool | None = None
    rest: float | None = None


@dataclass(frozen=True, slots=True)
class OwnControl:
    """A control made by hand. along : the joint it goes along with when joints move; its rest is told in that joint's axes
    then; "" for none."""

    control: Control
    along: str = ""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class RigChanges:
    """controls : by id.
    channels : by control id and key.
    dropped : controls, solvers and constraints taken out.
    own_controls, own_channels (by control), own_solvers, own_constraints : made by hand. A solver or constraint of the id
        of a built one stands in its place.
    own_couplings, own_twists, own_springs, own_spring_groups, own_morphs, own_shows, own_widths : likewise.
    limits : of joints, by id.
    """

    controls: Mapping[str, ControlChange] = field(default_factory=lambda: MappingProxyType({}))
    channels: Mapping[tuple[str, str], ChannelChange] = field(default_factory=lambda: MappingProxyType({}))
    dropped: frozenset[str] = frozenset()
    own_controls: tuple[OwnControl, ...] = ()
    own_channels: Mapping[str, tuple[Channel, ...]] = field(default_factory=lambda: MappingProxyType({}))
    own_solvers: tuple[Solver, ...] = ()
    own_constraints: tuple[Constraint, ...] = ()
    limits: Mapping[str, JointLimit] = field(default_factory=lambda: MappingProxyType({}))
    own_couplings: tuple[Coupling, ...] = ()
    own_twists: tuple[TwistSpread, ...] = ()
    own_springs: tuple[Spring, ...] = ()
    own_spring_groups: tuple[SpringGroup, ...] = ()
    own_morphs: tuple[MorphDrive, ...] = ()
    own_shows: tuple[ShowDrive, ...] = ()
    own_widths: tuple[WidthDrive, ...] = ()

    @property
    def empty(self) -> bool:
        return not any(getattr(self, part.name) for part in fields(self))

    @property
    def own(self) -> tuple[Any, ...]:
        """All records made by hand that have an id of their own, controls apart."""
        return tuple(record for kind in OWN for record in getattr(self, f"own_{kind}"))


OWN = ("solvers", "constraints", "couplings", "twists", "springs", "spring_groups", "morphs", "shows", "widths")
"""Records of a rig beside its controls that may be made by hand: a rig has them by these names, changes as `own_` and these."""
APART = OWN[2:]
"""Those of which none needs another kind's special care."""


def changed_rig(rig: ControlRig, changes: RigChanges, joints: Mapping[str, FloatArray] = NO_JOINTS) -> ControlRig:
    """The rig with the changes that find what they change.

    joints : character_from_joint (4, 4) of each joint at rest, for what was made by hand on them.
    """
    if changes.empty:
        return rig
    return with_own(_changed_rig(rig, changes), changes, joints)


def _changed_rig(rig: ControlRig, changes: RigChanges) -> ControlRig:
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


def with_own(rig: ControlRig, changes: RigChanges, joints: Mapping[str, FloatArray]) -> ControlRig:
    """What was made by hand, put in where all it refers to is there; the rest waits."""
    controls = list(rig.controls)
    present = {c.id for c in controls}
    waiting = [own for own in changes.own_controls if own.control.id not in present | changes.dropped]
    while waiting:
        ready = [own for own in waiting if _is_there(own.control.parent, present, joints) and (not own.along or own.along in joints)]
        if not ready:
            break
        for own in ready:
            rest = own.control.matrix if not own.along else joints[own.along] @ own.control.matrix
            controls.append(_changed_own(replace(own.control, rest=tuple(rest.ravel().tolist())), changes))
            present.add(own.control.id)
        waiting = [own for own in waiting if own not in ready]
    for k, control in enumerate(controls):
        have = {c.key for c in control.channels}
        more = tuple(c for c in changes.own_channels.get(control.id, ()) if c.key not in have)
        if more:
            more = tuple(
                _changed_channel(c, changes.channels[control.id, c.key]) if (control.id, c.key) in changes.channels else c
                for c in more
            )
            controls[k] = replace(control, channels=(*control.channels, *more))
    known = {c.key for c in rig.board}
    board = (*rig.board, *(c for c in changes.own_channels.get(BOARD, ()) if c.key not in known))
    board = tuple(_changed_channel(c, changes.channels[BOARD, c.key]) if (BOARD, c.key) in changes.channels else c for c in board)
    channels = {(c.id, channel.key) for c in controls for channel in c.channels} | {(BOARD, c.key) for c in board}

    def whole(record: object) -> bool:
        return all(_is_there(r, present, joints) if isinstance(r, NodeRef) else tuple(r) in channels for r in references(record))

    limits = {limit.joint: limit for limit in rig.limits} | {j: v for j, v in changes.limits.items() if j in joints}
    solvers = _put_in(rig.solvers, [s for s in changes.own_solvers if s.id not in changes.dropped and whole(s)])
    # What starts from channels alone comes first: others start from what it gives.
    solvers = tuple(sorted(solvers, key=lambda s: not own_start(s)))
    constraints = _put_in(rig.constraints, [c for c in changes.own_constraints if c.id not in changes.dropped and whole(c)])
    others: dict[str, Any] = {kind: _put_in(getattr(rig, kind), _ready(getattr(changes, f"own_{kind}"), changes.dropped, whole)) for kind in APART}
    groups = {g.id for g in others["spring_groups"]}
    others["springs"] = tuple(s for s in others["springs"] if s.group in groups)
    drives = rig.drives
    solved = {j for s in solvers for j in s.joints}
    if any(d.joint in solved for d in drives):
        drives = tuple(d for d in drives if d.joint not in solved)
    controls = _apart(controls, solvers)
    return replace(
        rig, controls=tuple(controls), drives=drives, solvers=solvers, constraints=constraints, board=board,
        limits=tuple(limits.values()), **others,
    )  # fmt: skip


def _ready(own: tuple[Any, ...], dropped: frozenset[str], whole: Callable[[object], bool]) -> list[Any]:
    return [record for record in own if record.id not in dropped and whole(record)]


def _apart(controls: list[Control], solvers: tuple[Solver, ...]) -> list[Control]:
    """FK controls that rode on joints which a solver now works out, on the FK controls of those: FK must not wait for IK."""
    rides: dict[str, str] = {}
    for solver in solvers:
        if not own_start(solver):
            rides |= {fk: dict(zip(solver.joints, solver.fk, strict=True)).get(_joint_of(controls, fk), "") for fk in solver.fk}
    return [replace(c, parent=control_node(rides[c.id])) if rides.get(c.id) else c for c in controls]


def _joint_of(controls: list[Control], control_id: str) -> str:
    """The joint a control rides on, "" where it rides on something else."""
    control = next((c for c in controls if c.id == control_id), None)
    return control.parent.id if control is not None and control.parent.kind is NodeKind.JOINT else ""


def _put_in(built: tuple[Any, ...], own: list[Any]) -> tuple[Any, ...]:
    by_id = {record.id: record for record in own}
    have = {record.id for record in built}
    return (*(by_id.get(record.id, record) for record in built), *(record for record in own if record.id not in have))


def _changed_own(control: Control, changes: RigChanges) -> Control:
    return _changed(control, changes.controls.get(control.id), {key: c for (owner, key), c in changes.channels.items() if owner == control.id})


def _is_there(node: NodeRef, controls: Container[str], joints: Mapping[str, FloatArray]) -> bool:
    if node.kind is NodeKind.WORLD:
        return True
    return node.id in joints if node.kind is NodeKind.JOINT else node.id in controls


def references(record: object) -> Iterator[NodeRef | ChannelRef]:
    """All nodes and channels a record of a rig refers to, its joints and FK controls among them."""
    assert is_dataclass(record)
    for part in fields(record):
        value = getattr(record, part.name)
        if part.name == "joints":
            yield from (joint_node(j) for j in value)
        elif part.name == "joint":
            yield joint_node(value)
        elif part.name == "fk":
            yield from (control_node(c) for c in value)
        elif isinstance(value, (NodeRef, ChannelRef)):
            yield value
        elif isinstance(value, tuple):
            for each in value:
                if isinstance(each, (NodeRef, ChannelRef)):
                    yield each
                elif is_dataclass(each):
                    yield from references(each)
        elif is_dataclass(value):
            yield from references(value)


def unchanged(rig: ControlRig, changes: RigChanges, spare: ControlRig) -> ControlRig:
    """A rig with its changes taken back, as far as it can tell: `changed_rig` the other way round.

    Words, shapes and channels that a change replaced, and controls it dropped, are taken from `spare`, what today's recipe
    builds in its place.
    """

    rig = _without_own(rig, changes)

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
            stretch=times(control.stretch, change.stretch, -1), thickness=control.thickness / change.thickness,
            colour=usual.colour if change.colour is not None else control.colour,
            lines=usual.lines if change.lines is not None else control.lines,
            hidden=usual.hidden if change.hidden is not None else control.hidden,
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


def _without_own(rig: ControlRig, changes: RigChanges) -> ControlRig:
    """The rig without what was made by hand; what it stood in the place of is not known any more."""
    made = {x.id for x in changes.own} | {o.control.id for o in changes.own_controls}
    result = without(rig, made) if made else rig
    if not changes.own_channels and not changes.limits:
        return result
    own = {owner: {c.key for c in some} for owner, some in changes.own_channels.items()}
    controls = tuple(
        replace(c, channels=tuple(x for x in c.channels if x.key not in own[c.id])) if c.id in own else c for c in result.controls
    )
    board = tuple(c for c in result.board if c.key not in own.get(BOARD, set()))
    limits = tuple(limit for limit in result.limits if limit.joint not in changes.limits)
    return replace(result, controls=controls, board=board, limits=limits)


def _less(a: Vector, b: Vector) -> Vector:
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


def waiting(rig: ControlRig, changes: RigChanges, joints: Mapping[str, FloatArray] = NO_JOINTS) -> tuple[str, ...]:
    """What was done by hand and finds no partner in the rig as built, one line each."""
    final = changed_rig(rig, changes, joints)
    known = {c.id for c in (*rig.controls, *final.controls)}
    things = {x.id for one in (rig, final) for kind in OWN for x in getattr(one, kind)}
    found = [f"control {c}" for c in changes.controls if c not in known]
    found += [f"control {c}" for c in sorted(changes.dropped) if c not in known | things]
    slots = {*rig.slots.index, *final.slots.index}
    found += [
        f"control {owner}" if owner not in known else str(ChannelRef(owner, key))
        for owner, key in changes.channels
        if (owner, key) not in slots
    ]
    found += [f"control {own.control.name}" for own in changes.own_controls if own.control.id not in known | changes.dropped]
    found += [f"channels of control {owner}" for owner in changes.own_channels if owner not in known | {BOARD}]
    for kind in OWN:
        word = "" if kind == "solvers" else f"{kind[:-1].replace('_', ' ')} "
        own = getattr(changes, f"own_{kind}")
        found += [f"{word}{getattr(x, 'name', '') or x.id}" for x in own if x.id not in things | changes.dropped]
    found += [f"limits of joint {j}" for j in changes.limits if joints and j not in joints]
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
        stretch=times(control.stretch, change.stretch), thickness=control.thickness * change.thickness,
        colour=control.colour if change.colour is None else change.colour,
        lines=control.lines if change.lines is None else change.lines,
        hidden=control.hidden if change.hidden is None else change.hidden,
    )  # fmt: skip


def _sum(a: Vector, b: Vector) -> Vector:
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


def times(a: Vector, b: Vector, power: int = 1) -> Vector:
    """Factors taken together, one axis at a time; power -1: the first by the second."""
    return (a[0] * b[0] ** power, a[1] * b[1] ** power, a[2] * b[2] ** power)


def _changed_channel(channel: Channel, change: ChannelChange) -> Channel:
    low, high = (channel.low, channel.high) if change.limits is None else change.limits
    return replace(
        channel, low=low, high=high,
        title=channel.title if change.title is None else change.title,
        soft=channel.soft if change.soft is None else change.soft,
        locked=channel.locked if change.locked is None else change.locked,
        shown=channel.shown if change.shown is None else change.shown,
        rest=channel.rest if change.rest is None else change.rest,
    )  # fmt: skip


def without(rig: ControlRig, dropped: Iterable[str]) -> ControlRig:
    """The rig without some controls: what rode on one rides on what that rode on, its joint on its parent.

    A solver that loses a control it needs goes; its joints are turned by the FK controls that are left.
    """
    gone = frozenset(dropped) & set(rig.index)
    rig = _without_records(rig, frozenset(dropped))
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
    solved = {j for s in solvers for j in s.joints}
    kept = tuple({d.joint: d for d in drives if d.joint not in solved}.values())
    constraints = []
    for constraint in rig.constraints:
        targets = tuple(t for t in constraint.targets if not _of(t.node, gone) and t.weight.owner not in gone)
        if _of(constraint.held, gone) or constraint.amount.owner in gone or not targets:
            continue
        up = None if constraint.up_node is not None and _of(constraint.up_node, gone) else constraint.up_node
        constraints.append(replace(constraint, targets=targets, up_node=up))

    def stays(record: object) -> bool:
        return not any(_of(r, gone) if isinstance(r, NodeRef) else r.owner in gone for r in references(record))

    others: dict[str, Any] = {kind: tuple(x for x in getattr(rig, kind) if stays(x)) for kind in APART}
    return replace(rig, controls=controls, drives=kept, solvers=tuple(solvers), constraints=tuple(constraints), **others)


def _of(node: NodeRef, controls: Container[str]) -> bool:
    return node.kind in (NodeKind.CONTROL, NodeKind.BASE) and node.id in controls


def _without_records(rig: ControlRig, dropped: frozenset[str]) -> ControlRig:
    """The rig without some solvers, constraints and others; joints of the first are turned by their FK controls, unless
    another solver works them out."""
    others: dict[str, Any] = {kind: tuple(x for x in getattr(rig, kind) if x.id not in dropped) for kind in APART}
    if any(len(some) != len(getattr(rig, kind)) for kind, some in others.items()):
        groups = {g.id for g in others["spring_groups"]}
        others["springs"] = tuple(s for s in others["springs"] if s.group in groups)
        rig = replace(rig, **others)
    going = [s for s in rig.solvers if s.id in dropped]
    held = tuple(c for c in rig.constraints if c.id not in dropped)
    if not going:
        return rig if len(held) == len(rig.constraints) else replace(rig, constraints=held)
    stay = tuple(s for s in rig.solvers if s.id not in dropped)
    solved = {j for s in stay for j in s.joints}
    pairs = {j: fk for s in going for j, fk in zip(s.joints, s.fk, strict=True) if j not in solved}
    drives = (*rig.drives, *(Drive(j, control_node(fk)) for j, fk in pairs.items() if fk in rig.index))
    return replace(rig, solvers=stay, constraints=held, drives=drives)


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
    held = tuple(
        c for c in kept.constraints if all(r.kind is not NodeKind.JOINT or r.id in new for r in references(c) if isinstance(r, NodeRef))
    )

    def here(record: object) -> bool:
        return all(r.kind is not NodeKind.JOINT or r.id in new for r in references(record) if isinstance(r, NodeRef))

    others: dict[str, Any] = {kind: tuple(x for x in getattr(kept, kind) if here(x)) for kind in APART}
    return replace(
        kept, solvers=whole, constraints=held, limits=tuple(limit for limit in kept.limits if limit.joint in new), **others
    )


def _still(node: NodeRef, joints: Mapping[str, FloatArray]) -> NodeRef:
    return WORLD if node.kind is NodeKind.JOINT and node.id not in joints else node
