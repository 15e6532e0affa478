"""Where a limb's plane is in doubt: its goal near the line through its pole.

No pure function of goal and pole can agree with the pole all around that line and be continuous on it. Within CONE of the
line a limb that is dragged keeps its plane by its swivel; a clip that enters there is told.
"""

from __future__ import annotations

from collections.abc import Mapping
from math import pi

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.controls import ControlRig, with_values
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kernels.algebra import least_turn, signed_angle, square_to
from pegloom.core.rig.kernels.limb import plane_normal
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.joints import Skeleton

CONE = np.deg2rad(10.0)
SPARE = np.array([1.0, 0.0, 0.0])


def cone_angles(skeleton: Skeleton, rig: ControlRig, nodes: FloatArray) -> Mapping[str, FloatArray]:
    """The angle (k,), radians, between each limb's line to its goal and the line through its pole, by the limb's id.

    nodes (k, c + j, 4, 4) : see `nodes_at`.
    """
    count = len(rig.controls)
    found = {}
    for limb in rig.limbs:
        start = nodes[:, count + skeleton.index[limb.joints[0]], :3, 3]
        goal, pole = (_places(rig, nodes, node_id) for node_id in (limb.end_goal.id, limb.pole.id))
        to, out = normalised(goal - start), normalised(pole - start)
        angle = np.arccos(np.clip((to * out).sum(axis=1), -1.0, 1.0))
        found[limb.id] = np.minimum(angle, pi - angle)
    return found


def _places(rig: ControlRig, nodes: FloatArray, control: str) -> FloatArray:
    return np.asarray(nodes[:, rig.index[control], :3, 3])


def planes_kept(skeleton: Skeleton, rig: ControlRig, before: Pose, after: Pose) -> Pose:
    """The later of two poses with the swivels of limbs on IK such that none turns over between them.

    Outside the cone a swivel stays what it was before; within, the limb's plane is carried along with its line.
    """
    limbs = [limb for limb in rig.limbs if limb.swivel is not None and rig.value(after, limb.amount) > 0.0]
    if not limbs:
        return after
    for limb in limbs:
        assert limb.swivel is not None
        after = with_values(rig, after, limb.swivel.owner, **{limb.swivel.key: rig.value(before, limb.swivel)})
    old, new = (evaluate_rig(skeleton, rig, pose) for pose in (before, after))
    nodes = np.concatenate([new.controls, new.joints])[None]
    angles = cone_angles(skeleton, rig, nodes)
    for limb in limbs:
        if angles[limb.id][0] > CONE or limb.swivel is None:
            continue
        index = [skeleton.index[limb.joints[0]], rig.index[limb.end_goal.id], rig.index[limb.pole.id]]
        lines, normals = [], []
        for frame in (old, new):
            start = frame.joints[index[0], :3, 3]
            line = normalised(frame.controls[index[1], :3, 3] - start)
            lines.append(line)
            normals.append(plane_normal(line, frame.controls[index[2], :3, 3] - start, SPARE))
        swivel = rig.value(before, limb.swivel)
        # What the limb's plane was, carried along with its line by the least turn.
        was = _turned(normals[0], lines[0], swivel)
        wanted = square_to(least_turn(lines[0], lines[1]) @ was, lines[1], normals[1])
        angle = float(signed_angle(normals[1], wanted, lines[1]))
        angle += 2.0 * pi * round((swivel - angle) / (2.0 * pi))
        after = with_values(rig, after, limb.swivel.owner, **{limb.swivel.key: angle})
    return after


def _turned(vector: FloatArray, axis: FloatArray, angle: float) -> FloatArray:
    return np.asarray(vector * np.cos(angle) + np.cross(axis, vector) * np.sin(angle) + axis * float(axis @ vector) * (1.0 - np.cos(angle)))
