"""Clips brought along when the rest changes: the same motion of the body, told in the new joints and controls."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.transforms import decompose, matrix_quaternion, rotation_matrix
from pegloom.core.motion.clips import Clip, Curve, Track, sample
from pegloom.core.rig.controls import CHANNELS, ControlRig, Pose, with_values
from pegloom.core.rig.evaluate import evaluate_rig, match_ik, place_control
from pegloom.core.skeleton.joints import Skeleton


def carried_clip(clip: Clip, old: Skeleton, new: Skeleton, *, settled: FloatArray | None = None) -> Clip:
    """Sampled motion on a changed skeleton: every joint carries its part of the body as before.

    A joint's motion is posed times inverse rest; that stays, and the local values follow. An added joint goes with
    its parent. Key clips are told by controls and need nothing here.

    settled (j, 4, 4) : what each old joint did to the body when a pose of it was made the new rest; the motion then
    sets out from there. None where the body's rest is the same.
    """
    if not clip.tracks or (settled is None and _same_rest(old, new)):
        return clip
    rests = _rests(old, settled)
    times = np.unique(np.concatenate([t.times for tracks in clip.tracks.values() for t in tracks]))
    posed = _posed(clip, old, times)
    worlds = np.empty((len(times), len(new.joints), 4, 4))
    for j, joint in enumerate(new.joints):
        source: str | None = joint.id
        while source is not None and source not in old.index:
            source = new.joint(source).parent
        if source is None:
            worlds[:, j] = new.world[j]
        else:
            i = old.index[source]
            worlds[:, j] = posed[:, i] @ (rests[i] @ new.world[j])
    rows = local_rows(new, worlds)
    tracks = {}
    for j, joint in enumerate(new.joints):
        made = []
        for path, span in (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10))):
            made.append(Track(path, frozen(times.copy()), frozen(np.ascontiguousarray(rows[:, j, span]))))
        tracks[joint.id] = tuple(made)
    return replace(clip, tracks=MappingProxyType(tracks))


def _posed(clip: Clip, skeleton: Skeleton, times: FloatArray) -> FloatArray:
    """Joints (k, j, 4, 4) of a sampled clip at its moments; at once where all tracks have the same ones."""
    shared = all(len(t.times) == 1 or np.array_equal(t.times, times) for rows in clip.tracks.values() for t in rows)
    if not shared:
        return np.array([evaluate_rig(skeleton, None, sample(clip, float(time), skeleton)).joints for time in times])
    worlds = np.empty((len(times), len(skeleton.joints), 4, 4))
    for j, joint in enumerate(skeleton.joints):
        position, turn, scale = decompose(skeleton.local[j])
        parts = {"translation": position, "rotation": turn, "scale": scale}
        parts |= {track.path: track.values for track in clip.tracks.get(joint.id, ())}
        local = np.tile(np.eye(4), (len(times), 1, 1))
        turns = Rotation.from_quat(np.broadcast_to(parts["rotation"], (len(times), 4))).as_matrix()
        local[:, :3, :3] = turns * np.broadcast_to(parts["scale"], (len(times), 3))[:, None, :]
        local[:, :3, 3] = parts["translation"]
        parent = int(skeleton.parents[j])
        worlds[:, j] = local if parent < 0 else worlds[:, parent] @ local
    return worlds


def local_rows(skeleton: Skeleton, worlds: FloatArray) -> FloatArray:
    """(k, j, 10): position, quaternion, scale of each joint in its parent at k moments, neighbours in one half space.

    worlds : (k, j, 4, 4) character_from_joint.
    """
    parents = np.maximum(skeleton.parents, 0)
    inside = np.linalg.inv(worlds)[:, parents] @ worlds
    roots = np.flatnonzero(skeleton.parents < 0)
    inside[:, roots] = worlds[:, roots]
    scale = np.linalg.norm(inside[..., :3, :3], axis=-2)
    turns = (inside[..., :3, :3] / scale[..., None, :]).reshape(-1, 3, 3)
    q = Rotation.from_matrix(turns).as_quat().reshape(*inside.shape[:2], 4)
    flips = np.cumprod(np.where((q[1:] * q[:-1]).sum(axis=-1) < 0, -1.0, 1.0), axis=0)
    q[1:] *= flips[..., None]
    return np.concatenate([inside[..., :3, 3], q, scale], axis=-1)


def _rests(old: Skeleton, settled: FloatArray | None) -> FloatArray:
    """What takes a joint's posed matrix to its motion of the body at its new rest (j, 4, 4)."""
    return old.inverse_world if settled is None else np.asarray(old.inverse_world @ np.linalg.inv(settled))


def carried_pose(pose: Pose, old: Skeleton, new: Skeleton, *, settled: FloatArray | None = None) -> Pose:
    """A pose told by joints, on a changed skeleton: every joint carries its part of the body as before.

    settled : see `carried_clip`.
    """
    if settled is None and _same_rest(old, new):
        return pose
    rests = _rests(old, settled)
    posed = evaluate_rig(old, None, pose).joints
    worlds: list[FloatArray] = []
    placements = {}
    for j, joint in enumerate(new.joints):
        source: str | None = joint.id
        while source is not None and source not in old.index:
            source = new.joint(source).parent
        motion = np.eye(4)
        if source is not None:
            i = old.index[source]
            motion = posed[i] @ rests[i]
        worlds.append(motion @ new.world[j])
        parent = int(new.parents[j])
        local = worlds[j] if parent < 0 else np.linalg.inv(worlds[parent]) @ worlds[j]
        placements[joint.id] = tuple(float(v) for v in np.concatenate(decompose(local)))
    return Pose(placements=MappingProxyType(placements))


def _same_rest(old: Skeleton, new: Skeleton) -> bool:
    if [j.id for j in old.joints] != [j.id for j in new.joints] or (old.parents != new.parents).any():
        return False
    return bool(np.allclose(old.world, new.world, atol=1e-9))


def reposed(pose: Pose, old: Skeleton, old_rig: ControlRig, new: Skeleton, new_rig: ControlRig, rest: Pose) -> Pose:
    """The values of the new controls that show what `pose` showed on the old ones.

    `rest` is the old pose that became the new rest. Each control moves as the old one did, from where it stood then.
    """
    then = evaluate_rig(old, old_rig, rest).controls
    now = evaluate_rig(old, old_rig, pose)
    poles = {limb.pole for limb in new_rig.limbs}
    result = Pose()
    for control in new_rig.controls:
        if control.id not in old_rig.index:
            continue
        i = old_rig.index[control.id]
        there = pose.controls.get(control.id, old_rig.control(control.id).zero)
        if control.id in poles:
            # A pole is a place: it stands where it stood, so that the limb keeps its plane.
            target = control.matrix.copy()
            target[:3, 3] = now.controls[i][:3, 3]
        else:
            motion = now.controls[i] @ np.linalg.inv(then[i])
            target = motion @ control.matrix
            target[:3, :3] = _rotation(target)
        result = place_control(new, new_rig, result, control, target)
        values = list(result.controls.get(control.id, control.zero))
        for name in ("grow", "blend"):
            values[CHANNELS.index(name)] = there[CHANNELS.index(name)]
        tidy = tuple(0.0 if abs(v) < 1e-9 else v for v in values)
        result = Pose(MappingProxyType({**result.controls, control.id: tidy}))  # type: ignore[dict-item]
    return result


def _rotation(matrix: FloatArray) -> FloatArray:
    return rotation_matrix(matrix_quaternion(matrix))


def reposed_clip(
    clip: Clip, old: Skeleton, old_rig: ControlRig, new: Skeleton, new_rig: ControlRig, rest: Pose
) -> Clip:
    """A key clip told from a new rest: every control that moves, or no longer rests at zero, is keyed."""
    if not clip.curves:
        return clip
    times = clip.key_times or (0.0,)
    poses = [reposed(sample(clip, t, old, None, old_rig), old, old_rig, new, new_rig, rest) for t in times]
    curves: dict[tuple[str, str], Curve] = {}
    for control in new_rig.controls:
        rows = np.array([p.controls.get(control.id, control.zero) for p in poses])
        angles = rows[:, 3:6]
        rows[:, 3:6] = np.unwrap(angles, axis=0)
        for channel in control.free:
            values = rows[:, CHANNELS.index(channel)]
            keyed = clip.curves.get((control.id, channel))
            zero = control.zero[CHANNELS.index(channel)]
            if keyed is None and np.allclose(values, zero, atol=1e-7):
                continue
            between = keyed.between if keyed is not None else next(iter(clip.curves.values())).between
            if np.allclose(values, values[0], atol=1e-9):
                curves[control.id, channel] = Curve((times[0],), (float(values[0]),), between)
            else:
                curves[control.id, channel] = Curve(tuple(times), tuple(float(v) for v in values), between)
    return replace(clip, curves=MappingProxyType(curves))


def controls_of_joints(pose: Pose, skeleton: Skeleton, rig: ControlRig) -> Pose:
    """Control values that show a pose given by joints: each control that drives a joint, then the limbs' two sides."""
    joints = evaluate_rig(skeleton, None, pose).joints
    driven = {control: joint for joint, control in rig.drivers}
    for limb in rig.limbs:
        driven |= dict(zip(limb.fk, limb.joints, strict=True))
    result = Pose()
    for control in rig.controls:
        joint = driven.get(control.id)
        if joint is None:
            continue
        i = skeleton.index[joint]
        target = joints[i] @ skeleton.inverse_world[i] @ control.matrix
        result = place_control(skeleton, rig, result, control, target)
    for limb in rig.limbs:
        blend = rig.control(limb.goal).blend_at_rest
        if blend > 0:
            result = with_values(result, rig.control(limb.goal), blend=0.0)
            result = with_values(match_ik(skeleton, rig, result, limb), rig.control(limb.goal), blend=blend)
    return result
