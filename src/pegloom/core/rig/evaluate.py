"""From a pose to where every control and joint stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import compose, decompose, normalised, quaternion_euler, rotation_matrix
from pegloom.core.rig.controls import Control, ControlRig, IkLimb, Pose, channel_rows, with_values
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.solve import solve_plan
from pegloom.core.skeleton.joints import Skeleton


@dataclass(frozen=True, slots=True, eq=False)
class Frame:
    """joints (j, 4, 4) and controls (c, 4, 4): character_from_node in this pose."""

    joints: FloatArray
    controls: FloatArray


def evaluate_rig(skeleton: Skeleton, rig: ControlRig | None, pose: Pose) -> Frame:
    """World matrices of a pose. Without controls, or for a direct pose, joints turn by the pose's own turns.

    Raises EditError where the rig refers to something missing or to itself in a loop.
    """
    if rig is None:
        return Frame(_direct(skeleton, pose), np.zeros((0, 4, 4)))
    plan = make_plan(skeleton, rig)
    world = solve_plan.run(
        plan.steps, plan.local, plan.limbs, plan.frames, plan.bends, plan.end_offset, channel_rows(rig, pose)
    )
    joints = _direct(skeleton, pose) if pose.direct else world[plan.controls :]
    return Frame(joints, world[: plan.controls])


def joints_at(skeleton: Skeleton, rig: ControlRig, channels: FloatArray) -> FloatArray:
    """character_from_joint (k, j, 4, 4) for the channel values of many moments (k, c, 8); see `evaluate_rig`."""
    plan = make_plan(skeleton, rig)
    made = np.empty((len(channels), len(skeleton.joints), 4, 4))
    solve_plan.run_many(
        plan.steps, plan.local, plan.limbs, plan.frames, plan.bends, plan.end_offset,
        np.ascontiguousarray(channels, dtype=np.float64), plan.controls, made,
    )  # fmt: skip
    return made


def _direct(skeleton: Skeleton, pose: Pose) -> FloatArray:
    if not pose.direct:
        return skeleton.world
    world = np.empty_like(skeleton.world)
    for i, joint in enumerate(skeleton.joints):
        local = skeleton.local[i]
        if joint.id in pose.placements:
            v = pose.placements[joint.id]
            local = compose(v[:3], v[3:7], v[7:10])
        if joint.id in pose.turns:
            local = local.copy()
            local[:3, :3] = local[:3, :3] @ rotation_matrix(pose.turns[joint.id])
        parent = int(skeleton.parents[i])
        world[i] = local if parent < 0 else world[parent] @ local
    return world


def skin_matrices(skeleton: Skeleton, joints: FloatArray) -> FloatArray:
    """(j, 4, 4) that carry rest points to the pose: joint world times inverse rest."""
    return np.asarray(joints @ skeleton.inverse_world)


def base_of(skeleton: Skeleton, rig: ControlRig, frame: Frame, control: Control) -> FloatArray:
    """character_from_control with the control's own channels at rest, in this pose (4x4)."""
    if not control.parent:
        return control.matrix
    kind, _, name = control.parent.partition(":")
    if kind == "control":
        parent, rest = frame.controls[rig.index[name]], rig.control(name).matrix
    else:
        i = skeleton.index[name]
        parent, rest = frame.joints[i], skeleton.world[i]
    return np.asarray(parent @ np.linalg.inv(rest) @ control.matrix)


def place_control(
    skeleton: Skeleton, rig: ControlRig, pose: Pose, control: Control, target: FloatArray, *, keep: tuple[str, ...] = ()
) -> Pose:
    """Channel values that bring a control to `target` (4x4, character space). Channels in `keep` stay."""
    frame = evaluate_rig(skeleton, rig, Pose(pose.controls))
    position, turn, _ = decompose(np.linalg.inv(base_of(skeleton, rig, frame, control)) @ target)
    angles = quaternion_euler(turn)
    values = dict(zip(("move_x", "move_y", "move_z"), position.tolist(), strict=True))
    values |= dict(zip(("turn_x", "turn_y", "turn_z"), angles.tolist(), strict=True))
    return with_values(pose, control, **{k: v for k, v in values.items() if k in control.free and k not in keep})


def match_fk(skeleton: Skeleton, rig: ControlRig, pose: Pose, limb: IkLimb) -> Pose:
    """Set the FK controls of a limb to where its joints stand now, so that switching to FK moves nothing."""
    joints = evaluate_rig(skeleton, rig, pose).joints
    for joint, control_id in zip(limb.joints, limb.fk, strict=True):
        control = rig.control(control_id)
        i = skeleton.index[joint]
        target = joints[i] @ np.linalg.inv(skeleton.world[i]) @ control.matrix
        pose = place_control(skeleton, rig, pose, control, target, keep=("move_x", "move_y", "move_z"))
    return pose


def match_ik(skeleton: Skeleton, rig: ControlRig, pose: Pose, limb: IkLimb) -> Pose:
    """Set goal and pole of a limb to where its joints stand now, so that switching to IK moves no joint."""
    joints = evaluate_rig(skeleton, rig, pose).joints
    upper, middle, end = (joints[skeleton.index[j]] for j in limb.joints)
    i = skeleton.index[limb.joints[2]]
    goal, pole = rig.control(limb.goal), rig.control(limb.pole)
    # The FK limb stands where the joints do: what its bones are twisted by about themselves stays.
    pose = place_control(skeleton, rig, pose, goal, end @ np.linalg.inv(skeleton.world[i]) @ goal.matrix)
    plan = make_plan(skeleton, rig)
    row = next(k for k, known in enumerate(rig.limbs) if known.id == limb.id)
    ways = middle[:3, 3] - upper[:3, 3], end[:3, 3] - middle[:3, 3]
    a, b = (max(float(np.linalg.norm(way)), 1e-12) for way in ways)
    turn = upper[:3, :3] / np.linalg.norm(upper[:3, 0])
    normal = solve_plan.fk_normal(turn, ways[0] / a, ways[1] / b, a, b, plan.frames[row], plan.bends[row])
    line = normalised(end[:3, 3] - upper[:3, 3])
    lower_rest = skeleton.world[skeleton.index[limb.joints[1]]]
    reach = float(np.linalg.norm(pole.matrix[:3, 3] - lower_rest[:3, 3])) * float(np.linalg.norm(upper[:3, 0]))
    place = np.eye(4)
    place[:3, :3] = pole.matrix[:3, :3]
    # From the line, not from the middle joint, which may stand aside of the pole's plane.
    place[:3, 3] = upper[:3, 3] + line * float(ways[0] @ line) + np.cross(normal, line) * reach
    return place_control(skeleton, rig, pose, pole, place, keep=("turn_x", "turn_y", "turn_z"))
