"""Axes of joints: y down the limb, x the bend axis square to the limb's plane. Read them, judge them, mend them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import compose, frame, normalised, rotation_matrix
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton
from pegloom.core.tolerances import PREBEND

CROOKED_AIM, CROOKED_BEND = np.radians(6.0), np.radians(20.0)
"""An aim axis further off its child, or a bend axis further off the limb's plane, is worth a snag."""


@dataclass(frozen=True, slots=True)
class Crooked:
    """joint id; aim, bend: radians its axes are off; bend is 0 where the limb is too straight to say."""

    joint: str
    aim: float
    bend: float


def aim_of(skeleton: Skeleton, joint: Joint) -> FloatArray | None:
    """Unit direction of a joint's bone: to its first child on its own line, else to its tail; None without one."""
    here = np.array(joint.position)
    children = [c for c in skeleton.children(joint.id) if not c.floating and not c.aside]
    ends = [np.array(c.position) for c in children]
    if len(ends) > 1:
        # Of several children, the one the present axis points to best, so that a chest aims at the neck.
        y = joint.matrix[:3, 1]
        ends.sort(key=lambda e: -float(normalised(e - here) @ y))
    if not ends and joint.tail is not None:
        ends = [np.array(joint.tail)]
    if not ends or np.linalg.norm(ends[0] - here) < 1e-9:
        return None
    return normalised(ends[0] - here)


def limb_normal(skeleton: Skeleton, joint: Joint) -> FloatArray | None:
    """Unit normal of the plane through a joint, its parent and its bone's end; None where they lie in a line."""
    aim = aim_of(skeleton, joint)
    if aim is None or joint.parent is None:
        return None
    before = np.array(joint.position) - np.array(skeleton.joint(joint.parent).position)
    if np.linalg.norm(before) < 1e-9:
        return None
    axis = np.cross(normalised(before), aim)
    if np.linalg.norm(axis) < np.sin(3 * PREBEND):
        return None
    return normalised(axis)


def crooked_axes(skeleton: Skeleton, joints: set[str] | None = None) -> tuple[Crooked, ...]:
    """Joints whose axes are off, the worst first. joints: only these."""
    found = []
    for joint in skeleton.joints:
        if (joints is not None and joint.id not in joints) or joint.parent is None:
            continue
        aim = aim_of(skeleton, joint)
        branches = [c for c in skeleton.children(joint.id) if not c.floating and not c.aside]
        if aim is None or len(branches) > 1:
            continue  # a joint that carries several has no one bone to run along
        if branches and joint.tail is not None and kit_stem(branches[0].id) != kit_stem(joint.id):
            continue  # its own bone ends in its tail; what hangs on it is another limb
        off = float(np.arccos(np.clip(joint.matrix[:3, 1] @ aim, -1.0, 1.0)))
        normal = limb_normal(skeleton, joint)
        bend = 0.0
        if normal is not None and joint.role == "lower":
            bend = float(np.arccos(np.clip(abs(joint.matrix[:3, 0] @ normal), 0.0, 1.0)))
        if off > CROOKED_AIM or bend > CROOKED_BEND:
            found.append(Crooked(joint.id, off, bend))
    return tuple(sorted(found, key=lambda c: -(c.aim + c.bend)))


def kit_stem(joint_id: str) -> str:
    """The limb a joint belongs to, by its id."""
    return joint_id.rsplit(".", 1)[0]


def clean_matrix(skeleton: Skeleton, joint: Joint) -> FloatArray:
    """character_from_joint with clean axes for a joint from a file; another joint's own matrix.

    A foreign joint keeps its own axes for the way back; what is drawn and held uses these.
    """
    if joint.origin is not Origin.FILE:
        return joint.matrix
    aim = aim_of(skeleton, joint)
    if aim is None:
        above = skeleton.joint(joint.parent) if joint.parent else None
        aim = aim_of(skeleton, above) if above else None
    matrix = np.eye(4)
    matrix[:3, :3] = frame(aim if aim is not None else np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0]))
    matrix[:3, 3] = joint.position
    return matrix


def aimed(skeleton: Skeleton, joint: Joint) -> FloatArray:
    """Axes (3, 3): y along the bone, x as near as it was. Unchanged for a joint without a bone."""
    aim = aim_of(skeleton, joint)
    own = rotation_matrix(joint.rotation)
    return own if aim is None else frame(aim, own[:, 0])


def squared(skeleton: Skeleton, joint: Joint) -> FloatArray:
    """Axes (3, 3): y along the bone, x square to the limb's plane, on the side it was. A straight limb only aims."""
    normal, aim = limb_normal(skeleton, joint), aim_of(skeleton, joint)
    if normal is None or aim is None:
        return aimed(skeleton, joint)
    own = rotation_matrix(joint.rotation)
    if float(normal @ own[:, 0]) < 0:
        normal = -normal
    return frame(aim, normal)


def mirrored(axes: FloatArray) -> FloatArray:
    """Axes (3, 3) of the other side with mirrored behaviour: equal turns about x fold both sides alike."""
    flip = np.diag([-1.0, 1.0, 1.0])
    result = flip @ axes
    result[:, 0] = -result[:, 0]
    return np.asarray(result)


def carried(axes: FloatArray, aim: FloatArray) -> FloatArray:
    """Axes (3, 3) brought to another aim by the shortest turn, so that a chain keeps its roll."""
    before = axes[:, 1]
    axis = np.cross(before, aim)
    cosine = float(before @ aim)
    if np.linalg.norm(axis) < 1e-9:
        return frame(aim, axes[:, 0])
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    turn = np.eye(3) + k + k @ k / (1.0 + cosine)
    return np.asarray(frame(aim, turn @ axes[:, 0]))


__all__ = [
    "Crooked", "aim_of", "aimed", "carried", "clean_matrix", "compose", "crooked_axes", "limb_normal", "mirrored", "squared",
]  # fmt: skip
