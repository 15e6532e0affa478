"""IK of a chain of joints beside FK; solved by `kernels/chain.py`, one with limits or stiffness by `kernels/body.py`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.kernels.algebra import signed_angle, square_to
from pegloom.core.rig.refs import ChannelRef, NodeRef, joint_node
from pegloom.core.rig.solvers.packing import Back, Packed, Rests

LEAST = 3
"""Joints of a chain: fewer are no chain."""


@dataclass(frozen=True, slots=True)
class ChainIk:
    """joints and fk (ids of the controls that turn them by hand), from base to tip.

    goal : where the tip goes.
    pole : which way the chain bends; None as it bends on FK.
    tip_turn : channel of how much the tip takes the goal's turn; None: wholly.
    stretch : channel of how much the bones give way beyond reach.
    """

    id: str
    joints: tuple[str, ...]
    fk: tuple[str, ...]
    goal: NodeRef
    amount: ChannelRef
    name: str = ""
    pole: NodeRef | None = None
    tip_turn: ChannelRef | None = None
    stretch: ChannelRef | None = None


def reads(solver: ChainIk) -> tuple[NodeRef | ChannelRef, ...]:
    more = (solver.pole, solver.tip_turn, solver.stretch)
    return (solver.goal, solver.amount, *(x for x in more if x is not None))


def writes(solver: ChainIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: ChainIk) -> Mapping[str, str]:
    own = dict(zip(solver.fk, solver.joints, strict=True)) | {solver.goal.id: solver.joints[-1]}
    return own if solver.pole is None else own | {solver.pole.id: solver.joints[len(solver.joints) // 2]}


def pack(solver: ChainIk, rests: Rests, starts: tuple[int, ...]) -> Packed:
    joints = [rests.joint(j) for j in solver.joints]
    floats = [(np.linalg.inv(rests.place(solver.goal)) @ joints[-1]).ravel()]
    turned = 0.0
    if solver.pole is not None:
        start, aim, side = joints[0][:3, 3], normalised(joints[-1][:3, 3] - joints[0][:3, 3]), _side(joints)
        pole = square_to(rests.place(solver.pole)[:3, 3] - start, aim, np.array([1.0, 0.0, 0.0]))
        turned = signed_angle(pole, normalised(side), aim) if np.linalg.norm(side) > 1e-9 else 0.0
    floats.append(np.array([turned, 1.0, 0.0]))
    floats.append(np.tile([1.0, 0.0, 0.0], len(joints)))
    above = (rests.above(solver.joints[0]), *solver.joints[:-1])
    limited = not all(rests.limit(j).free for j in solver.joints)
    if limited:
        floats.append(np.array([rests.height]))
        floats += [rests.bounds(j, a) for j, a in zip(solver.joints, above, strict=True)]
    nodes = (len(joints), *(rests.node(n) for n in writes(solver)), *starts, rests.node(solver.goal))
    pole_node = -1 if solver.pole is None else rests.node(solver.pole)
    slots = rests.slots(solver.amount, solver.tip_turn, solver.stretch)
    return Packed(walk.LIMITED if limited else walk.CHAIN, (*nodes, pole_node, *slots), np.concatenate(floats))


def back(solver: ChainIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
    """Goal on the tip, pole on the side the chain bends to. The chain's shape is what its FK controls say."""
    goal = rests.place(solver.goal)
    places = {solver.goal.id: joints[-1] @ (np.linalg.inv(rests.joint(solver.joints[-1])) @ goal)}
    if solver.pole is not None:
        rest = rests.place(solver.pole)
        middle = rests.joint(solver.joints[len(joints) // 2])
        reach = float(np.linalg.norm(rest[:3, 3] - middle[:3, 3]))
        stands = np.repeat(rest[None], len(joints[0]), axis=0)
        for k in range(len(stands)):
            here = [m[k] for m in joints]
            side, aim = _side(here), normalised(here[-1][:3, 3] - here[0][:3, 3])
            if np.linalg.norm(side) > 1e-9:
                side = normalised(side)
                turned = float(packed.floats[16])
                side = side * np.cos(turned) - np.cross(aim, side) * np.sin(turned)
                stands[k, :3, 3] = here[len(here) // 2][:3, 3] + side * reach
        places[solver.pole.id] = stands
    return Back(places)


def _side(joints: Sequence[FloatArray]) -> FloatArray:
    """Where a chain stands out from the line between its ends, summed over its inner joints (3,)."""
    start = joints[0][:3, 3]
    aim = normalised(joints[-1][:3, 3] - start)
    off = [m[:3, 3] - start for m in joints[1:-1]]
    return np.asarray(sum((o - aim * float(o @ aim) for o in off), np.zeros(3)))
