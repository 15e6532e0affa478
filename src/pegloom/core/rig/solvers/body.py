"""IK of a whole body from goals on some of its joints, beside FK; solved by `kernels/body.py`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.channels import TRANSFORM
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.refs import ChannelRef, NodeKind, NodeRef, control_node, joint_node
from pegloom.core.rig.solvers.packing import Back, Packed, Rests

OPCODE = walk.BODY
OWN_START = True
"""It works its start pose out from its FK controls' channels: those ride on what it writes."""


@dataclass(frozen=True, slots=True)
class BodyGoal:
    """Where one joint goes. place, turn : channels of how much its place and its turn count; None: wholly, not at all."""

    joint: str
    node: NodeRef
    place: ChannelRef | None = None
    turn: ChannelRef | None = None


@dataclass(frozen=True, slots=True)
class BodyIk:
    """joints and fk (ids of the controls that turn them by hand), each after the one it hangs on, the first the root.

    root_held : channel, 1: the root keeps its place; None: it is free.
    """

    id: str
    joints: tuple[str, ...]
    fk: tuple[str, ...]
    goals: tuple[BodyGoal, ...]
    amount: ChannelRef
    name: str = ""
    root_held: ChannelRef | None = None


def reads(solver: BodyIk) -> tuple[NodeRef | ChannelRef, ...]:
    goals = [x for g in solver.goals for x in (g.node, g.place, g.turn) if x is not None]
    return (*goals, solver.amount, *(() if solver.root_held is None else (solver.root_held,)))


def writes(solver: BodyIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: BodyIk) -> Mapping[str, str]:
    return dict(zip(solver.fk, solver.joints, strict=True)) | {g.node.id: g.joint for g in solver.goals}


def outside(solver: BodyIk, carrier: NodeRef) -> bool:
    """Whether what an FK control rides on is none of what the solver works out itself."""
    return not (
        (carrier.kind is NodeKind.JOINT and carrier.id in solver.joints)
        or (carrier.kind in (NodeKind.CONTROL, NodeKind.BASE) and carrier.id in solver.fk)
    )


def pack(solver: BodyIk, rests: Rests, starts: tuple[int, ...]) -> Packed:
    if not solver.goals:
        raise EditError(f"the whole body {solver.name or solver.id} has no goal; give it one on a hand or a foot")
    number = {j: k for k, j in enumerate(solver.joints)}
    rows: list[int] = []
    floats: list[FloatArray | list[float]] = [[rests.height]]
    for k, (joint, fk) in enumerate(zip(solver.joints, solver.fk, strict=True)):
        parent = rests.above(joint)
        while parent is not None and parent not in number:
            parent = rests.above(parent)
        above = -1 if parent is None else number[parent]
        if (above < 0) != (k == 0) or above >= k:
            raise EditError(f"the whole body {solver.name or solver.id} has {joint} on no joint of its own; it has one root")
        carrier = rests.carrier(fk)
        kind, which = (0, rests.node(carrier)) if outside(solver, carrier) else (
            (1, number[carrier.id]) if carrier.kind is NodeKind.JOINT else (2, solver.fk.index(carrier.id))
        )
        if kind and which >= k:
            raise EditError(f"the control {fk} rides on one below it")
        rows += [rests.node(joint_node(joint)), above, kind, which, *rests.rows(fk)]
        held, own = rests.place(control_node(fk)), rests.joint(joint)
        floats += [(np.linalg.inv(rests.place(carrier)) @ held).ravel(), (np.linalg.inv(held) @ own).ravel()]
        floats.append(rests.bounds(joint, parent))
    for goal in solver.goals:
        if goal.joint not in number:
            raise EditError(f"the whole body {solver.name or solver.id} has a goal on {goal.joint}, which is none of its joints")
        rows += [number[goal.joint], rests.node(goal.node), *rests.slots(goal.place, goal.turn)]
        floats += [(np.linalg.inv(rests.place(goal.node)) @ rests.joint(goal.joint)).ravel(), [1.0, 0.0]]
    free = rests.slots(solver.root_held)[0]
    head = (len(solver.joints), len(solver.goals), rests.slot(solver.amount), free)
    return Packed(OPCODE, (*head, *rows), np.concatenate(floats))


def channels_read(solver: BodyIk) -> tuple[tuple[str, str], ...]:
    """Channels of its FK controls, which it takes without their places."""
    return tuple((fk, key) for fk in solver.fk for key in TRANSFORM)


def back(solver: BodyIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
    """Goals on their joints; the body's own shape is what its FK controls say."""
    number = {j: k for k, j in enumerate(solver.joints)}
    places = {
        g.node.id: joints[number[g.joint]] @ (np.linalg.inv(rests.joint(g.joint)) @ rests.place(g.node)) for g in solver.goals
    }
    return Back(places)
