"""From a pose to where every control and joint stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import decompose, quaternion_euler
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.controls import Control, ControlRig, with_values
from pegloom.core.rig.couplings import Combine
from pegloom.core.rig.halfway import halfway_rows
from pegloom.core.rig.kernels import joints as joint_kernels
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.kernels.halfway import all_halfway
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import JointPose, Pose, Shown
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.skeleton.joints import Skeleton

NOTHING = Pose()
AT_ONCE = 250
"""Moments worked out at once where there may be very many: their places take some ten megabytes."""


@dataclass(frozen=True, slots=True, eq=False)
class Frame:
    """joints (j, 4, 4) and controls (c, 4, 4): character_from_node in this pose. bases (c, 4, 4): the controls without
    their own channels. values (v,): of the channels, as they were driven and limited."""

    joints: FloatArray
    controls: FloatArray
    bases: FloatArray
    values: FloatArray


def evaluate_rig(skeleton: Skeleton, rig: ControlRig | None, pose: Shown, state: FloatArray = walk.SETTLED) -> Frame:
    """World matrices of a pose. Joints of a pose told by joints stand as it says, controls rest then.

    state : of what follows through, see `core/motion/follow_through`; empty: it hangs still.

    Raises EditError where the rig refers to something missing or to itself in a loop.
    """
    by_joints = _by_joints(skeleton, pose) if isinstance(pose, JointPose) else None
    if rig is None:
        none = np.zeros((0, 4, 4))
        return Frame(skeleton.world if by_joints is None else by_joints, none, none, np.zeros(0))
    plan = make_plan(skeleton, rig)
    world = np.empty(plan.local.shape)
    values = plan.slots.vector(pose if isinstance(pose, Pose) else NOTHING)
    walk.walk(*plan.arrays, values, world, state.copy() if len(state) == plan.state else walk.SETTLED, 0.0)
    controls, bases = len(rig.controls), len(rig.controls) + len(skeleton.joints)
    joints = world[controls:bases] if by_joints is None else by_joints
    return Frame(joints, world[:controls], world[bases : bases + controls], values)


def nodes_at(skeleton: Skeleton, rig: ControlRig, values: FloatArray, *, bases: bool = False) -> FloatArray:
    """Controls, then joints (k, c + j, 4, 4) for the channel values of many moments (k, v); see `evaluate_rig`. With
    `bases`, then the controls' bases."""
    return _many(skeleton, rig, values, 0, len(rig.controls) if bases else 0)


def joints_at(skeleton: Skeleton, rig: ControlRig, values: FloatArray) -> FloatArray:
    """character_from_joint (k, j, 4, 4) alone, as `nodes_at` has it."""
    return _many(skeleton, rig, values, len(rig.controls), 0)


def driven(skeleton: Skeleton, rig: ControlRig, values: FloatArray) -> FloatArray:
    """Channel values (k, v) of many moments as couplings and limits leave them."""
    plan, result = make_plan(skeleton, rig), np.array(values, dtype=np.float64)
    walk.walk_values(*plan.arrays, result)
    return result


def _many(skeleton: Skeleton, rig: ControlRig, values: FloatArray, first: int, more: int) -> FloatArray:
    plan = make_plan(skeleton, rig)
    last = len(rig.controls) + len(skeleton.joints) + more
    result = np.empty((len(values), last - first, 4, 4))
    walk.walk_many(*plan.arrays, np.ascontiguousarray(values, dtype=np.float64), first, last, result)
    return result


def _by_joints(skeleton: Skeleton, pose: JointPose) -> FloatArray:
    local = skeleton.local.copy()
    known = np.array([skeleton.index.get(j, -1) for j in pose.joints], dtype=np.int64)
    rows = pose.rows
    if len(known) and known.min() < 0:
        rows, known = rows[known >= 0], known[known >= 0]
    joint_kernels.put_rows(local, known, np.ascontiguousarray(rows, dtype=np.float64))
    world = np.asarray(joint_kernels.down(skeleton.parents, local))
    helpers, floats = halfway_rows(skeleton)
    if len(helpers):
        all_halfway(world, helpers, floats)
    return world


def skin_matrices(skeleton: Skeleton, joints: FloatArray) -> FloatArray:
    """(j, 4, 4) that carry rest points to the pose: joint world times inverse rest."""
    return np.asarray(joints @ skeleton.inverse_world)


def place_control(
    skeleton: Skeleton, rig: ControlRig, pose: Pose, control: Control, target: FloatArray, *, keep: tuple[str, ...] = ()
) -> Pose:
    """Channel values that bring a control to `target` (4x4, character space). Channels in `keep` stay."""
    frame = evaluate_rig(skeleton, rig, pose)
    base = frame.bases[rig.index[control.id]]
    position, turn, _ = decompose(np.linalg.inv(base) @ target)
    found = dict(zip((*MOVE, *ROTATE), (*position.tolist(), *quaternion_euler(turn).tolist()), strict=True))
    wanted = {k: v for k, v in found.items() if k in control.free and k not in keep}
    for key in [k for k in wanted if (control.id, k) in rig.drivers]:
        ref = ChannelRef(control.id, key)
        if any(d.combine is not Combine.ADD for d in rig.drivers[ref]):
            # What is set, or a factor, leaves nothing to a hand.
            del wanted[key]
        else:
            wanted[key] -= float(frame.values[rig.slots.index[ref]]) - rig.value(pose, ref)
    return with_values(rig, pose, control.id, **wanted)
