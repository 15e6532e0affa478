"""Stances made by one command: T and A."""

from __future__ import annotations

import numpy as np

from pegloom.core.errors import ShapeError
from pegloom.core.motion.trials import OUT, UP, Poser, turned_pose
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joints import Side, Skeleton


def arms_of(skeleton: Skeleton) -> list[tuple[Side, str, str, str]]:
    """Upper arm, forearm and hand of each arm: (side, three roles in the body)."""
    found = []
    for s, side in (("l", Side.LEFT), ("r", Side.RIGHT)):
        upper, lower, end = f"arm.{s}.upper", f"arm.{s}.lower", f"arm.{s}.end"
        if all(i in skeleton.index for i in (upper, lower, end)):
            found.append((side, upper, lower, end))
    return found


def _straight_arms(skeleton: Skeleton, down: float) -> JointPose:
    body = body_of(skeleton)
    arms = arms_of(body.skeleton)
    if not arms:
        raise ShapeError("this skeleton has no two arms to bring into a T or an A")
    poser = Poser(body.skeleton)
    for side, upper, lower, end in arms:
        sign = 1.0 if side is Side.LEFT else -1.0
        direction = np.cos(down) * OUT * sign - np.sin(down) * UP
        poser.aim_bone(upper, lower, direction)
        poser.aim_bone(lower, end, direction)
        poser.aim(end, direction)
    return turned_pose(skeleton, poser.turns(skeleton, body.joint_of))


def t_pose(skeleton: Skeleton) -> JointPose:
    """Arms straight out. Raises ShapeError for a skeleton without two arms."""
    return _straight_arms(skeleton, 0.0)


def a_pose(skeleton: Skeleton) -> JointPose:
    """Arms straight, 45 degrees down."""
    return _straight_arms(skeleton, np.pi / 4)
