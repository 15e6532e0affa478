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
from pegloom.core.rig.refs import ChannelRef, NodeRef, control_node, joint_node
from pegloom.core.rig.solvers.packing import Packed, Rests

OPCODE = walk.LIMB
ASIDE = 1e-12
"""Share of a limb's length: a middle joint nearer to the line from end to end stands on it."""


@dataclass(frozen=True, slots=True)
class LimbIk:
    """joints and fk (ids of the controls that turn them by hand): upper, lower, end.

    amount : channel from FK (0) to IK (1).
    goal : where the end goes.
    pole : which way the limb bends.
    """

    id: str
    joints: tuple[str, str, str]
    fk: tuple[str, str, str]
    goal: NodeRef
    pole: NodeRef
    amount: ChannelRef
    name: str = ""


def reads(solver: LimbIk) -> tuple[NodeRef | ChannelRef, ...]:
    return (*(control_node(c) for c in solver.fk), solver.goal, solver.pole, solver.amount)


def writes(solver: LimbIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: LimbIk) -> Mapping[str, str]:
    _, middle, end = solver.joints
    return dict(zip(solver.fk, solver.joints, strict=True)) | {solver.goal.id: end, solver.pole.id: middle}


def pack(solver: LimbIk, rests: Rests) -> Packed:
    """What makes the solver give back the rest exactly: bones and the pole's plane in each joint's own axes, and how
    far the limb's own plane is turned from that."""
    nodes = (*writes(solver), *(control_node(c) for c in solver.fk), solver.goal, solver.pole)
    spare = np.array([1.0, 0.0, 0.0])
    upper, lower, end = (rests.place(n) for n in writes(solver))
    start, middle, tip = upper[:3, 3], lower[:3, 3], end[:3, 3]
    first, second, direction = (normalised(v) for v in (middle - start, tip - middle, tip - start))
    normal = plane_normal(direction, rests.place(solver.pole)[:3, 3] - start, spare)
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
    offset = np.linalg.inv(rests.place(solver.goal)) @ end
    floats = np.concatenate([frames.ravel(), bends, offset.ravel()])
    return Packed((*(rests.node(n) for n in nodes), rests.slot(solver.amount)), floats)


def back(solver: LimbIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Mapping[str, FloatArray]:
    """Goal on the end joint, pole in the limb's own plane."""
    upper, middle, end = (np.ascontiguousarray(m) for m in joints)
    lower_rest, end_rest = (rests.place(n) for n in writes(solver)[1:])
    goal, pole = rests.place(solver.goal), rests.place(solver.pole)
    reach = float(np.linalg.norm(pole[:3, 3] - lower_rest[:3, 3]))
    stands = np.repeat(pole[None], len(upper), axis=0)
    frames, bends = packed.floats[:27].reshape(3, 3, 3), packed.floats[27:32]
    stands[:, :3, 3] = _pole_places(upper, middle, end, frames, bends, reach)
    return {solver.goal.id: end @ (np.linalg.inv(end_rest) @ goal), solver.pole.id: stands}


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
