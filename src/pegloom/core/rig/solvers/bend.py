"""IK of a limb with a hock beside an FK chain; solved by `kernels/bend.py`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.kernels.algebra import size_of
from pegloom.core.rig.kernels.bend import hock_fold, hock_turn, in_plane
from pegloom.core.rig.kernels.limb import fold_of
from pegloom.core.rig.refs import ChannelRef, NodeRef, joint_node
from pegloom.core.rig.solvers.limb import ASIDE, USUAL, placed_back, rest_numbers
from pegloom.core.rig.solvers.packing import Back, Packed, Rests

OPCODE = walk.BEND
HALF = 0.5
"""The hock's share of a fold where no channel tells it."""


@dataclass(frozen=True, slots=True)
class BendIk:
    """joints and fk (ids of the controls that turn them by hand): upper, middle, hock, end.

    hock : channel of how much of a fold the hock takes, beside the middle joint.
    hock_bend : channel of what it is folded more by hand, radians. All else as a limb of two bones has it.
    """

    id: str
    joints: tuple[str, str, str, str]
    fk: tuple[str, str, str, str]
    goal: NodeRef
    pole: NodeRef
    amount: ChannelRef
    name: str = ""
    hock: ChannelRef | None = None
    hock_bend: ChannelRef | None = None
    goal_place: ChannelRef | None = None
    goal_turn: ChannelRef | None = None
    pole_share: ChannelRef | None = None
    swivel: ChannelRef | None = None
    stretch: ChannelRef | None = None
    soft: ChannelRef | None = None
    under: NodeRef | None = None

    @property
    def end_goal(self) -> NodeRef:
        """What the end follows: the goal, or what carries it there."""
        return self.under or self.goal

    @property
    def settings(self) -> tuple[ChannelRef | None, ...]:
        """Channels in the order the kernel takes them."""
        return (
            self.goal_place, self.goal_turn, self.pole_share, self.swivel, self.stretch, self.soft, self.hock, self.hock_bend,
        )  # fmt: skip


def reads(solver: BendIk) -> tuple[NodeRef | ChannelRef, ...]:
    return (solver.end_goal, solver.pole, solver.amount, *(c for c in solver.settings if c is not None))


def writes(solver: BendIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: BendIk) -> Mapping[str, str]:
    _, middle, _, end = solver.joints
    pivots = {} if solver.under is None else {solver.under.id: end}
    return dict(zip(solver.fk, solver.joints, strict=True)) | {solver.goal.id: end, solver.pole.id: middle} | pivots


def pack(solver: BendIk, rests: Rests, starts: tuple[int, ...]) -> Packed:
    upper, middle, hock, end = (rests.place(n) for n in writes(solver))
    limb = rest_numbers(upper, middle, end, rests.place(solver.pole), rests.place(solver.end_goal))
    into = middle[:3, :3].T
    bone, tail = into @ (hock[:3, 3] - middle[:3, 3]), into @ (end[:3, 3] - hock[:3, 3])
    b, c = float(np.linalg.norm(bone)), float(np.linalg.norm(tail))
    whole = float(np.linalg.norm(middle[:3, 3] - upper[:3, 3])) + b + c
    hinge = np.cross(bone, tail)
    if np.linalg.norm(hinge) <= ASIDE * b * c:
        # Straight: it folds the other way than the middle joint does, in the pole's plane.
        hinge = limb[9:18].reshape(3, 3)[:, 0]
        hinge = hinge - normalised(bone) * float(hinge @ normalised(bone))
    span = float(np.linalg.norm(end[:3, 3] - middle[:3, 3]))
    apart = float(np.linalg.norm(end[:3, 3] - upper[:3, 3]))
    fold = fold_of(span, b, c)
    more = [*USUAL, HALF, 0.0, *normalised(hinge), *(into @ hock[:3, :3]).ravel(), apart / whole, span / whole, fold]
    nodes = (*(rests.node(n) for n in writes(solver)), *starts, rests.node(solver.end_goal), rests.node(solver.pole))
    return Packed(OPCODE, (*nodes, *rests.slots(solver.amount, *solver.settings)), np.concatenate([limb, more]))


def back(solver: BendIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
    """Goal on the end joint, pole in the limb's own plane, the hock's fold by hand as it is folded."""
    upper, middle, hock, end = (np.ascontiguousarray(m) for m in joints)
    floats = packed.floats
    places = placed_back(floats, rests, solver.goal, solver.pole, (solver.joints[1], solver.joints[3]), upper, middle, end)
    values = {} if solver.swivel is None else {solver.swivel: np.zeros(len(upper))}
    if solver.hock is not None:
        values[solver.hock] = np.full(len(upper), HALF)
    if solver.hock_bend is not None:
        values[solver.hock_bend] = np.array([_bent(floats, *row) for row in zip(upper, middle, hock, end, strict=True)])
    return Back(places, values)


def _bent(floats: FloatArray, upper: FloatArray, middle: FloatArray, hock: FloatArray, end: FloatArray) -> float:
    """How much more a hock is folded by hand than it would be by itself."""
    size = size_of(middle)
    into = (middle[:3, :3] / size).T
    resting = floats[59:68].reshape(3, 3)
    bone, own = into @ (hock[:3, 3] - middle[:3, 3]), hock[:3, :3] / size_of(hock)
    tail = resting @ own.T @ (end[:3, 3] - hock[:3, 3])
    hinge = floats[56:59].copy()
    angle, swung = hock_turn(np.ascontiguousarray(into @ own @ resting.T), tail, hinge)
    lengths = [np.linalg.norm(v) for v in (middle[:3, 3] - upper[:3, 3], bone, tail)]
    bones = np.array([*lengths, in_plane(swung @ tail, hinge)])
    apart = float(np.linalg.norm(end[:3, 3] - upper[:3, 3]))
    # The fold as the kernel has it before what is added by hand.
    free = hock_fold(apart, bones, HALF, 1e-300, floats[68:71].copy())
    return float(floats[70] + angle - free)
