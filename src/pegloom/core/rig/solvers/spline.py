"""A chain laid along a smooth curve through controls, beside FK; solved by `kernels/spline.py`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.kernels.algebra import square_to
from pegloom.core.rig.kernels.spline import FINE, curve_frames, curve_points, on_curve
from pegloom.core.rig.refs import ChannelRef, NodeRef, joint_node
from pegloom.core.rig.solvers.packing import Back, Packed, Rests

OPCODE = walk.SPLINE
LEAST = 3
"""Controls a curve goes through, and joints it carries."""


@dataclass(frozen=True, slots=True)
class SplineIk:
    """joints and fk (ids of the controls that turn them by hand), from base to tip.

    points : what the curve goes through, three or more; the first and the last also say its twist.
    keep_length : channel, 1: bones keep their length, 0: they spread over the curve; None: they keep it.
    slide : channel that moves the chain along, in lengths of the curve.
    roll : channel that turns all of it about the curve, radians.
    """

    id: str
    joints: tuple[str, ...]
    fk: tuple[str, ...]
    points: tuple[NodeRef, ...]
    amount: ChannelRef
    name: str = ""
    keep_length: ChannelRef | None = None
    slide: ChannelRef | None = None
    roll: ChannelRef | None = None


def reads(solver: SplineIk) -> tuple[NodeRef | ChannelRef, ...]:
    more = (solver.keep_length, solver.slide, solver.roll)
    return (*solver.points, solver.amount, *(x for x in more if x is not None))


def writes(solver: SplineIk) -> tuple[NodeRef, ...]:
    return tuple(joint_node(j) for j in solver.joints)


def belongs(solver: SplineIk) -> Mapping[str, str]:
    last = len(solver.joints) - 1
    through = {
        p.id: solver.joints[round(k * last / (len(solver.points) - 1))] for k, p in enumerate(solver.points)
    }
    return dict(zip(solver.fk, solver.joints, strict=True)) | through


def pack(solver: SplineIk, rests: Rests, starts: tuple[int, ...]) -> Packed:
    joints = [rests.joint(j) for j in solver.joints]
    holds = [rests.place(p) for p in solver.points]
    points = np.empty(((len(holds) - 1) * FINE + 1, 3))
    curve_points(np.array([h[:3, 3] for h in holds]), points)
    frames, along = np.empty((len(points), 3, 3)), np.empty(len(points))
    spare = np.array([0.3, 0.5, 0.8])
    ends = []
    for hold, here, there in ((holds[0], points[0], points[1]), (holds[-1], points[-2], points[-1])):
        tangent = normalised(there - here)
        ends.append(square_to(hold[:3, 0].copy(), tangent, spare))
    twist = curve_frames(points, ends[0], ends[1], 0.0, frames, along)
    curve_frames(points, ends[0], ends[1], twist, frames, along)
    inside = [hold[:3, :3].T @ end for hold, end in zip((holds[0], holds[-1]), ends, strict=True)]
    nearest = [_distance_of(points, along, m[:3, 3]) for m in joints]
    at = np.maximum.accumulate(nearest)
    offsets = []
    for own, joint in zip(at, joints, strict=True):
        place, frame = np.empty(3), np.empty((3, 3))
        on_curve(points, frames, along, own, place, frame)
        offset = np.eye(4)
        offset[:3, :3], offset[:3, 3] = frame.T @ joint[:3, :3], frame.T @ (joint[:3, 3] - place)
        offsets.append(offset.ravel())
    floats = np.concatenate([[1.0, 0.0, 0.0, along[-1], twist], *inside, at, *offsets])
    nodes = (*(rests.node(n) for n in writes(solver)), *starts, *(rests.node(p) for p in solver.points))
    slots = rests.slots(solver.amount, solver.keep_length, solver.slide, solver.roll)
    return Packed(OPCODE, (len(joints), len(holds), *nodes, *slots), floats)


def _distance_of(points: FloatArray, along: FloatArray, place: FloatArray) -> float:
    """How far along a curve the nearest of it to a place lies."""
    a, b = points[:-1], points[1:]
    edge = b - a
    t = np.clip(((place - a) * edge).sum(1) / np.maximum((edge * edge).sum(1), 1e-30), 0.0, 1.0)
    k = int(np.argmin(((a + edge * t[:, None] - place) ** 2).sum(1)))
    return float(along[k] + t[k] * (along[k + 1] - along[k]))


def back(solver: SplineIk, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
    """Each control where the joint it goes along with stands. A curve shows no bend between two of its controls."""
    number = {j: k for k, j in enumerate(solver.joints)}
    goes = belongs(solver)
    places = {}
    for point in solver.points:
        joint = goes[point.id]
        places[point.id] = joints[number[joint]] @ (np.linalg.inv(rests.joint(joint)) @ rests.place(point))
    values = {c: np.zeros(len(joints[0])) for c in (solver.slide, solver.roll) if c is not None}
    return Back(places, values)
