"""Poses to sample a deformation over: the range test, and random ones within its range."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.geometry.transforms import (
    quaternion_about,
    quaternion_inverse,
    quaternion_product,
)
from pegloom.core.motion.trials import trial_amount, trials_of, turned_pose, turns_of
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.joints import Quaternion, Skeleton

LITTLE = 0.25
"""Radians a joint that no trial turns may turn in a random pose."""


def sampled_poses(skeleton: Skeleton, *, random: int = 40, seed: int = 7) -> list[JointPose]:
    """Every trial at half and full amount, then random poses, each followed by its mirror image.

    In a random pose each joint takes its turn from one trial that turns it, at a random amount; so no joint leaves
    the range the trials show. Joints no trial turns get a little of anything.
    """
    poses = [trial_amount(skeleton, t.id, a) for t in trials_of(skeleton) for a in (0.5, 1.0)]
    full = [turns_of(skeleton, t.id).turns for t in trials_of(skeleton)]
    rng = np.random.default_rng(seed)
    for _ in range((random + 1) // 2):
        turns: dict[str, Quaternion] = {}
        for joint in skeleton.joints:
            options = [t[joint.id] for t in full if joint.id in t]
            if options:
                q = np.array(options[int(rng.integers(len(options)))])
                turns[joint.id] = _share_of_turn(q, float(rng.random()))
            elif joint.parent is not None and rng.random() < 0.3:
                axis = rng.normal(size=3)
                axis /= max(float(np.linalg.norm(axis)), 1e-9)
                turns[joint.id] = _told(quaternion_about(axis, float(rng.uniform(-LITTLE, LITTLE))))
        poses.append(turned_pose(skeleton, turns))
        poses.append(_mirrored(skeleton, turns))
    return poses


def _share_of_turn(q: np.ndarray, share: float) -> Quaternion:
    vector = Rotation.from_quat(q).as_rotvec()
    angle = float(np.linalg.norm(vector))
    if angle < 1e-9:
        return (0.0, 0.0, 0.0, 1.0)
    return _told(quaternion_about(vector / angle, angle * share))


def _told(q: np.ndarray) -> Quaternion:
    x, y, z, w = (float(v) for v in q)
    return x, y, z, w


def _mirrored(skeleton: Skeleton, turns: dict[str, Quaternion]) -> JointPose:
    """The pose seen in the mirror: each turn told in body axes, reflected across x, given to the joint across."""
    result: dict[str, Quaternion] = {}
    for joint_id, q in turns.items():
        other = skeleton.other_side(joint_id)
        if other is None:
            continue
        rest, other_rest = (np.array(skeleton.joint(j).rotation) for j in (joint_id, other))
        x, y, z, w = quaternion_product(quaternion_product(rest, np.array(q)), quaternion_inverse(rest))
        body = np.array([x, -y, -z, w])
        result[other] = _told(quaternion_product(quaternion_product(quaternion_inverse(other_rest), body), other_rest))
    return turned_pose(skeleton, result)
