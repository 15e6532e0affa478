"""From a pose to where every control and joint stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import decompose, quaternion_euler
from pegloom.core.rig import walk
from pegloom.core.rig.controls import Control, ControlRig, JointRows, Pose, channel_rows, with_values
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


def nodes_at(skeleton: Skeleton, rig: ControlRig, channels: FloatArray) -> FloatArray:
    """Controls, then joints (k, nodes, 4, 4) for the channel values of many moments (k, c, 8); see `evaluate_rig`."""
    return _many(skeleton, rig, channels, 0)


def joints_at(skeleton: Skeleton, rig: ControlRig, channels: FloatArray) -> FloatArray:
    """character_from_joint (k, j, 4, 4) alone, as `nodes_at` has it."""
    return _many(skeleton, rig, channels, len(rig.controls))


def _many(skeleton: Skeleton, rig: ControlRig, channels: FloatArray, first: int) -> FloatArray:
    plan = make_plan(skeleton, rig)
    made = np.empty((len(channels), len(plan.local) - first, 4, 4))
    solve_plan.run_many(
        plan.steps, plan.local, plan.limbs, plan.frames, plan.bends, plan.end_offset,
        np.ascontiguousarray(channels, dtype=np.float64), first, made,
    )  # fmt: skip
    return made


def _direct(skeleton: Skeleton, pose: Pose) -> FloatArray:
    if not pose.direct:
        return skeleton.world
    local = skeleton.local.copy()
    there = pose.placements
    known = [j for j in there if j in skeleton.index]
    if known:
        if isinstance(there, JointRows):
            rows = there.rows if len(known) == len(there) else there.rows[[j in skeleton.index for j in there.joints]]
        else:
            rows = np.array([there[j] for j in known], dtype=np.float64)
        walk.put_rows(local, np.array([skeleton.index[j] for j in known]), rows)
    turned = [j for j in pose.turns if j in skeleton.index]
    if turned:
        turns = np.array([pose.turns[j] for j in turned], dtype=np.float64)
        walk.turn_some(local, np.array([skeleton.index[j] for j in turned]), turns)
    return np.asarray(walk.down(skeleton.parents, local))


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
