"""What a solver's module gets from the plan, and gives it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.refs import ChannelRef, NodeRef, joint_node


@dataclass(frozen=True, slots=True, eq=False)
class Rests:
    """node : number of a node.
    slot : number of a channel.
    place : its character_from_node at rest (4, 4).
    limit : of a joint, by id.
    above : the joint above a joint, by id; None for a root.
    carrier : what a control rides on, by its id.
    rows : slots of a control's move, rotate and scale (7,), by its id.
    value : of a slot, at rest.
    height : of the joints at rest, metres.
    tip : where a joint's own bone ends at rest (3,), by its id.
    """

    node: Callable[[NodeRef], int]
    slot: Callable[[tuple[str, str]], int]
    place: Callable[[NodeRef], FloatArray]
    limit: Callable[[str], JointLimit]
    above: Callable[[str], str | None]
    carrier: Callable[[str], NodeRef]
    rows: Callable[[str], tuple[int, ...]]
    value: Callable[[int], float]
    height: float
    tip: Callable[[str], FloatArray]

    def node_of_joint(self, joint_id: str) -> int:
        return self.node(joint_node(joint_id))

    def slots(self, *channels: ChannelRef | None) -> tuple[int, ...]:
        """Numbers of channels, -1 for those there are not."""
        return tuple(-1 if c is None else self.slot(c) for c in channels)

    def joint(self, joint_id: str) -> FloatArray:
        return self.place(joint_node(joint_id))

    def bounds(self, joint_id: str, parent: str | None) -> FloatArray:
        """A joint's turn in another at rest (9), its limits (6) and how much each axis gives way (3)."""
        turn = self.joint(joint_id)[:3, :3]
        if parent is not None:
            turn = self.joint(parent)[:3, :3].T @ turn
        limit = self.limit(joint_id)
        give = [(1.0 - s) ** 2 for s in limit.stiffness]
        return np.concatenate([turn.ravel(), limit.low, limit.high, give])


@dataclass(frozen=True, slots=True, eq=False)
class Packed:
    """A step's numbers: nodes and slots, and floats, as its kernel reads them. opcode : which kernel."""

    opcode: int
    ints: tuple[int, ...]
    floats: FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class Back:
    """Where a solver's controls stand (k, 4, 4) by id, and values (k,) of channels, so that it shows given joints."""

    places: Mapping[str, FloatArray]
    values: Mapping[ChannelRef, FloatArray] = field(default_factory=lambda: MappingProxyType({}))
