"""Two-bone IK beside an FK chain; solved by `kernels/limb.py`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.kernels.algebra import aim_frame, cross, norm, signed_angle, size_of, square_to
from pegloom.core.rig.kernels.limb import fk_normal, fold_of, plane_normal
from pegloom.core.rig.refs import ChannelRef, NodeRef, joint_node
from pegloom.core.rig.solvers.packing import Back, Packed, Rests

OPCODE = walk.LIMB
ASIDE = 1e-12
"""Share of a limb's length: a middle joint nearer to the line from end to end stands on it."""


@dataclass(frozen=True, slots=True)
class LimbIk:
    """joints and fk (ids of the controls that turn them by hand): upper, lower, end.

    amount : channel from FK (0) to IK (1).
    goal : where the end goes.
    pole : which way the limb bends.
    goal_place, goal_turn, pole_share : channels of how much each of them counts; None: wholly.
    swivel : channel that turns the limb about the line from end to end, beside the pole.
    stretch, soft : channels of how much the bones give way beyond reach, and over which share of it they ease in.
    under : what rides on the goal and carries the end, as the pivots of a foot do; None: the goal itself.
    """

    id: str
    joints: tuple[str, str, str]
    fk: tuple[str, str, str]
    goal: NodeRef
    pole: NodeRef
    amount: ChannelRef
    name: str = ""
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
        return self.goal_place, self.goal_turn, self.pole_share, self.swivel, self.stretch, self.soft


USUAL = (1.0, 1.0, 1.0, 0.0, 0.0, 0.0)
"""What the settings are where they have no channel."""


def reads(solver: LimbIk) -> tuple[NodeRef | ChannelRef, ...]:
    return (solver.end_goal, solver.pole, solver.amount, *(c for c in solver.settings if c is not None))


def writes(solver: LimbIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: LimbIk) -> Mapping[str, str]:
    _, middle, end = solver.joints
    pivots = {} if solver.under is None else {solver.under.id: end}
    return dict(zip(solver.fk, solver.joints, strict=True)) | {solver.goal.id: end, solver.pole.id: middle} | pivots


def pack(solver: LimbIk, rests: Rests, starts: tuple[int, ...]) -> Packed:
    upper, lower, end = (rests.joint(j) for j in solver.joints)
    floats = rest_numbers(upper, lower, end, rests.place(solver.pole), rests.place(solver.end_goal))
    nodes = (*(rests.node(n) for n in writes(solver)), *starts, rests.node(solver.end_goal), rests.node(solver.pole))
    return Packed(OPCODE, (*nodes, *rests.slots(solver.amount, *solver.settings)), np.concatenate([floats, USUAL]))


def rest_numbers(upper: FloatArray, lower: FloatArray, end: FloatArray, pole: FloatArray, goal: FloatArray) -> FloatArray:
    """What makes the solver give back the rest exactly (48,): bones and the pole's plane in each joint's own axes, how far
    the limb's own plane is turned from that, and the end in its goal. All (4, 4), character_from_node at rest."""
    spare = np.array([1.0, 0.0, 0.0])
    start, middle, tip = upper[:3, 3], lower[:3, 3], end[:3, 3]
    first, second, direction = (normalised(v) for v in (middle - start, tip - middle, tip - start))
    normal = plane_normal(direction, pole[:3, 3] - start, spare)
    frames, bends = np.zeros((3, 3, 3)), np.zeros(5)
    aside = np.cross(direction, middle - start)
    a, b = float(np.linalg.norm(middle - start)), float(np.linalg.norm(tip - middle))
    if np.linalg.norm(aside) > ASIDE * (a + b):
        bends[0] = signed_angle(normal, normalised(aside), direction)
    apart, along = float(np.linalg.norm(tip - start)), float((middle - start) @ direction)
    bends[1] = fold_of(apart, a, b)
    bends[2:] = np.array([apart, along, float(np.linalg.norm(aside))]) / (a + b)
    for k, (joint, bone) in enumerate(((upper, first), (lower, second))):
        frames[k] = joint[:3, :3].T @ aim_frame(bone, square_to(normal, bone, spare))
    frames[2, 0] = upper[:3, :3].T @ normal
    return np.concatenate([frames.ravel(), bends, (np.linalg.inv(goal) @ end).ravel()])


def back(solver: LimbIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
    """Goal on the end joint, pole in the limb's own plane."""
    upper, middle, end = (np.ascontiguousarray(m) for m in joints)
    places = placed_back(packed.floats, rests, solver.goal, solver.pole, solver.joints[1:], upper, middle, end)
    return Back(places, {} if solver.swivel is None else {solver.swivel: np.zeros(len(upper))})


def placed_back(
    floats: FloatArray, rests: Rests, goal: NodeRef, pole: NodeRef, below: Sequence[str], upper: FloatArray, middle: FloatArray,
    end: FloatArray,
) -> Mapping[str, FloatArray]:  # fmt: skip
    """Goal and pole (k, 4, 4) by id for a limb's joints (k, 4, 4). below : ids of its middle and its end joint."""
    lower_rest, end_rest = rests.joint(below[0]), rests.joint(below[1])
    goal_rest, pole_rest = rests.place(goal), rests.place(pole)
    reach = float(np.linalg.norm(pole_rest[:3, 3] - lower_rest[:3, 3]))
    stands = np.repeat(pole_rest[None], len(upper), axis=0)
    stands[:, :3, 3] = _pole_places(upper, middle, end, floats[:27].reshape(3, 3, 3), floats[27:32], reach)
    return {goal.id: end @ (np.linalg.inv(end_rest) @ goal_rest), pole.id: stands}


@njit(cache=True, nogil=True)
def _pole_places(upper, middle, end, frames, bends, reach):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Where a limb's pole stands (k, 3) for its joints (k, 4, 4): in its plane, from the line from end to end."""
    result = np.empty((len(upper), 3))
    for k in range(len(upper)):
        start = upper[k, :3, 3].copy()
        first, second = middle[k, :3, 3] - start, end[k, :3, 3] - middle[k, :3, 3]
        a, b = max(norm(first), 1e-12), max(norm(second), 1e-12)
        size = size_of(upper[k])
        normal = fk_normal(upper[k, :3, :3] / size, first / a, second / b, a, b, frames, bends)
        line = end[k, :3, 3] - start
        line = line / max(norm(line), 1e-12)
        result[k] = start + line * np.sum(first * line) + cross(normal, line) * (reach * size)
    return result
