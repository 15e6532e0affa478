"""How far joints turn by what they are: knees bend one way, spines a little every way."""

from __future__ import annotations

import numpy as np

from pegloom.core.rig.limits import FREE, JointLimit
from pegloom.core.skeleton.joints import Skeleton

HINGES = ("elbow", "knee", "hock", "lower", "forearm", "shin")
STIFF = {
    "hips": 0.9, "body": 0.9, "spine": 0.85, "loin": 0.85, "chest": 0.85, "neck": 0.3, "head": 0.2, "clavicle": 0.8, "blade": 0.8,
}  # fmt: skip
"""How stiff what carries much is beside limbs, by role or the word a joint is called."""
SPINE_TURN = 0.7
FOLDED, OVER, SIDEWAYS = 2.6, 0.05, 0.1
"""Radians a hinge folds from straight, bends the wrong way from rest, and turns on its other axes."""


def usual_limit(skeleton: Skeleton, joint_id: str, folds: tuple[str, str, str] | None = None) -> JointLimit:
    """The limit a joint has by what it is.

    folds : where it is the middle of a limb, the limb's three joints: it bends on from how it is bent, and little else.
    """
    if folds is not None:
        return _hinge(skeleton, folds)
    joint = skeleton.joint(joint_id)
    words = {joint.role, *joint.name.lower().replace("-", "_").split("_"), *joint_id.split(".")}
    stiff = next((value for word, value in STIFF.items() if word in words), 0.0)
    if words & {"spine", "chest", "neck", "waist"} and "hips" not in words:
        return JointLimit(joint_id, (-SPINE_TURN,) * 3, (SPINE_TURN,) * 3, (stiff,) * 3)
    return JointLimit(joint_id, stiffness=(stiff,) * 3)


def _hinge(skeleton: Skeleton, folds: tuple[str, str, str]) -> JointLimit:
    start, middle, end = (skeleton.joint(j).matrix for j in folds)
    first, second = middle[:3, 3] - start[:3, 3], end[:3, 3] - middle[:3, 3]
    axis = middle[:3, :3].T @ np.cross(first, second)
    length = float(np.linalg.norm(axis))
    straight = length < 1e-3 * float(np.linalg.norm(first) * np.linalg.norm(second))
    k = 0 if straight else int(np.argmax(np.abs(axis)))
    low, high, stiff = [-SIDEWAYS] * 3, [SIDEWAYS] * 3, [0.0] * 3
    if straight:
        # Nothing says which way it folds.
        low[0], high[0] = -FOLDED, FOLDED
    else:
        fold = float(np.arctan2(length, first @ second))
        if axis[k] > 0:
            low[k], high[k] = -max(fold, OVER), FOLDED - fold
        else:
            low[k], high[k] = -(FOLDED - fold), max(fold, OVER)
    if abs(axis[k]) < 0.9 * length and not straight:
        # No axis of its own is its hinge's: it may turn anyhow.
        low, high = [-FREE] * 3, [FREE] * 3
    return JointLimit(folds[1], (low[0], low[1], low[2]), (high[0], high[1], high[2]), (stiff[0], stiff[1], stiff[2]))
