"""Constraints: a node that follows others, and spaces, which are constraints an animator chooses among."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.kernels import hold, walk
from pegloom.core.rig.refs import ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.solvers.packing import Packed, Rests
from pegloom.core.skeleton.joints import Vector


class Follow(Enum):
    """What is taken from the targets."""

    POSITION = "position"
    ROTATION = "rotation"
    AIM = "aim"
    PARENT = "parent"
    """Place, turn and size, as if it rode on them."""
    SCALE = "scale"

    @property
    def code(self) -> int:
        return {
            Follow.POSITION: hold.POSITION, Follow.ROTATION: hold.ROTATION, Follow.AIM: hold.AIM, Follow.PARENT: hold.PARENT,
            Follow.SCALE: hold.SIZE,
        }[self]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Target:
    """What is followed, and how much.

    weight : a channel.
    offset : 16 numbers, target_from_held, kept between them; None: as both stand at rest, so that nothing moves. For
        positions its place alone counts, in the axes of what the held node rides on. Aims have none, see `aim`.
    name : of a space, as a person reads it.
    """

    node: NodeRef
    weight: ChannelRef
    offset: tuple[float, ...] | None = None
    name: str = ""


@dataclass(frozen=True, slots=True)
class Constraint:
    """One node that follows some others.

    held : the base of a control, or a joint no solver works out.
    targets : weights under one in all leave the rest to where the node would be; over one they count as shares.
    amount : channel, from where the node would be (0) to its targets (1).
    axes : of what the held node rides on; along and about the others it stays.
    aim, up : which of the held node's own axes points at the targets, and which is kept up beside it; None: the one that
        points at them at rest, and one square to it.
    up_node : what says where up is; None: where the node would have it.
    order : of several on one node, lower first; each starts from the one before.
    spaces : whether it is told as spaces.
    """

    id: str
    held: NodeRef
    follow: Follow
    targets: tuple[Target, ...]
    amount: ChannelRef
    name: str = ""
    axes: str = "xyz"
    aim: Vector | None = None
    up: Vector | None = None
    up_node: NodeRef | None = None
    order: int = 0
    spaces: bool = False


def reads(constraint: Constraint) -> tuple[NodeRef | ChannelRef, ...]:
    """Nodes and channels that must be known first."""
    up = () if constraint.up_node is None else (constraint.up_node,)
    return (*(x for t in constraint.targets for x in (t.node, t.weight)), constraint.amount, *up)


def pack(constraint: Constraint, rests: Rests, carrier: int, carrier_rest: FloatArray) -> Packed:
    """Its numbers in the plan's pools. carrier : number of what the held node rides on, -1 for the world; at rest (4, 4)."""
    held = rests.place(constraint.held)
    aim, up = _axes(constraint, rests, held)
    up_axis, up_number = np.zeros(3), -1
    if constraint.up_node is not None:
        up_number = rests.node(constraint.up_node)
        up_axis = rests.place(constraint.up_node)[:3, :3].T @ held[:3, :3] @ up
    ints = [rests.node(constraint.held), carrier, constraint.follow.code, rests.slot(constraint.amount), up_number, len(constraint.targets)]
    floats = [np.array([float(a in constraint.axes) for a in "xyz"]), aim, up, up_axis]
    for target in constraint.targets:
        ints += [rests.node(target.node), rests.slot(target.weight)]
        kept = target.offset
        if kept is None:
            kept = kept_offset(constraint.follow, rests.place(target.node), held, carrier_rest)
        floats.append(np.array(kept))
    return Packed(walk.HOLD, tuple(ints), np.concatenate(floats))


def _axes(constraint: Constraint, rests: Rests, held: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Which of the held node's axes is aimed, and which is kept up, unit and square to it."""
    aim = np.array([0.0, 1.0, 0.0] if constraint.aim is None else constraint.aim)
    if constraint.aim is None and constraint.follow is Follow.AIM:
        weights = np.array([max(rests.value(rests.slot(t.weight)), 0.0) for t in constraint.targets])
        weights = weights / weights.sum() if weights.sum() > 0 else np.full(len(weights), 1.0 / len(weights))
        there = weights @ np.array([rests.place(t.node)[:3, 3] for t in constraint.targets])
        aim = held[:3, :3].T @ (there - held[:3, 3])
        if np.linalg.norm(aim) < 1e-9:
            raise EditError(f"{constraint.name or constraint.id} aims at where it stands itself; move one of them")
    if np.linalg.norm(aim) < 1e-9:
        raise EditError(f"{constraint.name or constraint.id} aims along no axis")
    aim = normalised(aim)
    # The same on both sides of a body: up, or ahead for what aims up.
    chosen = [held[:3, :3].T @ axis for axis in ((0.0, 1.0, 0.0), (0.0, 0.0, 1.0))]
    if constraint.up is not None:
        chosen.insert(0, np.array(constraint.up))
    for up in chosen:
        up = up - aim * float(up @ aim)
        if np.linalg.norm(up) > (1e-6 if constraint.up is not None else 0.3):
            break
    return aim, normalised(up)


def kept_offset(follow: Follow, target: FloatArray, held: FloatArray, carrier: FloatArray) -> tuple[float, ...]:
    """The offset that leaves a held node where it stands. All (4, 4): character_from_node."""
    result = np.linalg.inv(target) @ held
    if follow is Follow.POSITION:
        result = np.eye(4)
        result[:3, 3] = np.linalg.inv(carrier[:3, :3]) @ (held[:3, 3] - target[:3, 3])
    return tuple(float(v) for v in result.ravel())


def checked(constraint: Constraint) -> None:
    """Raises EditError for a constraint that cannot be."""
    name = constraint.name or constraint.id
    if constraint.held.kind not in (NodeKind.BASE, NodeKind.JOINT):
        raise EditError(f"the constraint {name} holds {constraint.held}; it holds the base of a control, or a joint")
    if not constraint.targets:
        raise EditError(f"the constraint {name} follows nothing; give it a target")
    if not constraint.axes or not set(constraint.axes) <= set("xyz"):
        raise EditError(f"the constraint {name} works on axes {constraint.axes!r}; choose of x, y, z")
    if any(t.offset is not None and len(t.offset) != 16 for t in constraint.targets):
        raise EditError(f"the constraint {name} has an offset that is no 16 numbers")
    for target in constraint.targets:
        same = target.node.id == constraint.held.id and constraint.held.kind is NodeKind.BASE
        if (same and target.node.kind in (NodeKind.CONTROL, NodeKind.BASE)) or target.node == constraint.held:
            raise EditError(f"the constraint {name} would follow itself")
