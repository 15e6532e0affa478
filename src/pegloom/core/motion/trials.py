"""Trial poses in body axes: what a limb is asked to do while its weights are judged."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import (
    normalised,
    quaternion_about,
    quaternion_between,
    quaternion_inverse,
    quaternion_product,
    rotation_matrix,
)
from pegloom.core.rig.controls import Pose
from pegloom.core.skeleton.axes import clean_matrix
from pegloom.core.skeleton.joints import Skeleton

UP, FORWARD, OUT = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0])


@dataclass(frozen=True, slots=True)
class Trial:
    id: str
    label: str
    tests: str


TRIALS = (
    Trial("arm_up", "Arm up", "shoulder and armpit, the clavicle following"),
    Trial("arm_down", "Arm down", "the top of the shoulder"),
    Trial("arm_forward", "Arm forward", "the shoulder blade and the chest's edge"),
    Trial("elbow", "Elbow", "the crook of the arm"),
    Trial("knee", "Knee", "the hollow of the knee"),
    Trial("crouch", "Crouch", "hips, groin and seat"),
)


def trial_pose(skeleton: Skeleton, trial_id: str) -> Pose:
    """The pose of one trial, both sides, from whatever rest the skeleton has. Unknown joints are passed by."""
    poser = Poser(skeleton)
    for s, sign in (("l", 1.0), ("r", -1.0)):
        out = OUT * sign
        if trial_id == "arm_up":
            poser.turn_about(f"arm.{s}.clavicle", FORWARD * sign, 0.42)
            poser.aim(f"arm.{s}.upper", UP + 0.25 * out)
        elif trial_id == "arm_down":
            poser.turn_about(f"arm.{s}.clavicle", FORWARD * sign, -0.1)
            poser.aim(f"arm.{s}.upper", -UP + 0.2 * out)
        elif trial_id == "arm_forward":
            poser.turn_about(f"arm.{s}.clavicle", UP, -0.3 * sign)
            poser.aim(f"arm.{s}.upper", FORWARD + 0.05 * out)
        elif trial_id == "elbow":
            poser.fold(f"arm.{s}.lower", 2.2)
        elif trial_id == "knee":
            poser.fold(f"leg.{s}.lower", 2.2)
        elif trial_id == "crouch":
            poser.turn_about(f"leg.{s}.upper", OUT, -1.75)
            poser.turn_about(f"leg.{s}.upper", FORWARD * sign, 0.22)
            poser.fold(f"leg.{s}.lower", 2.1)
            poser.turn_about(f"leg.{s}.end", OUT, -0.4)
    if trial_id == "crouch":
        for joint in ("spine.spine", "spine.chest"):
            poser.turn_about(joint, OUT, 0.22)
    return Pose(turns=poser.turns())


def trial_amount(skeleton: Skeleton, trial_id: str, amount: float) -> Pose:
    """A trial from rest (0) to full (1): every turn at a share of its angle."""
    turns = {}
    for joint_id, q in trial_pose(skeleton, trial_id).turns.items():
        w = min(abs(q[3]), 1.0)
        angle = 2 * np.arccos(w)
        axis = np.array(q[:3]) * np.sign(q[3] or 1.0)
        x, y, z, w2 = quaternion_about(axis, angle * amount) if angle > 1e-9 else (0.0, 0.0, 0.0, 1.0)
        turns[joint_id] = (float(x), float(y), float(z), float(w2))
    return Pose(turns=MappingProxyType(turns))


class Poser:
    """Turns joints about body axes, parents first, keeping what each turn means in the body."""

    def __init__(self, skeleton: Skeleton) -> None:
        self.skeleton = skeleton
        self.body: dict[str, FloatArray] = {}

    def turn_about(self, joint: str, axis: FloatArray, angle: float) -> None:
        """A further turn about a body axis (as seen at rest, carried along by the parents)."""
        if joint in self.skeleton.index:
            there = self.body.get(joint, np.array([0.0, 0.0, 0.0, 1.0]))
            self.body[joint] = quaternion_product(quaternion_about(axis, angle), there)

    def aim(self, joint: str, direction: FloatArray) -> None:
        """Turn a joint so that, its parents' turns included, its bone points along a body direction."""
        if joint not in self.skeleton.index:
            return
        carried = self._carried(joint)
        wanted = rotation_matrix(quaternion_inverse(carried)) @ normalised(direction)
        self.body[joint] = quaternion_between(self._bone(joint), wanted)

    def aim_bone(self, joint: str, end: str, direction: FloatArray) -> None:
        """Turn a joint so that the line from it to `end` points along a body direction, whatever its axes are."""
        i, k = self.skeleton.index[joint], self.skeleton.index[end]
        bone = normalised(self.skeleton.positions[k] - self.skeleton.positions[i])
        wanted = rotation_matrix(quaternion_inverse(self._carried(joint))) @ normalised(direction)
        self.body[joint] = quaternion_between(bone, wanted)

    def fold(self, joint: str, angle: float) -> None:
        """A turn about the joint's own bend axis, to `angle` from straight (what it is bent already counts)."""
        if joint not in self.skeleton.index:
            return
        i = self.skeleton.index[joint]
        bend = self.skeleton.world[i][:3, 0]
        parent = self.skeleton.joints[i].parent
        already = 0.0
        if parent is not None:
            already = float(np.arccos(np.clip(self._bone(parent, i) @ self._bone(joint), -1.0, 1.0)))
        self.turn_about(joint, bend, max(angle - already, 0.0))

    def _bone(self, joint: str, towards: int | None = None) -> FloatArray:
        i = self.skeleton.index[joint]
        if towards is not None:
            return normalised(self.skeleton.positions[towards] - self.skeleton.positions[i])
        if joint.startswith("file."):
            return np.asarray(clean_matrix(self.skeleton, self.skeleton.joints[i])[:3, 1])
        return np.asarray(self.skeleton.world[i][:3, 1])

    def _carried(self, joint: str) -> FloatArray:
        carried = np.array([0.0, 0.0, 0.0, 1.0])
        parent = self.skeleton.joint(joint).parent
        while parent is not None:
            carried = quaternion_product(self.body.get(parent, np.array([0.0, 0.0, 0.0, 1.0])), carried)
            parent = self.skeleton.joint(parent).parent
        return carried

    def turns(self) -> Mapping[str, tuple[float, float, float, float]]:
        """The turns in each joint's own rest axes."""
        local = {}
        for joint, q in self.body.items():
            rest = np.array(self.skeleton.joint(joint).rotation)
            x, y, z, w = quaternion_product(quaternion_product(quaternion_inverse(rest), q), rest)
            local[joint] = (float(x), float(y), float(z), float(w))
        return MappingProxyType(local)
