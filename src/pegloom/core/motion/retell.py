"""Clips brought along when the rest changes: the same motion of the body, told in the new joints and controls."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.curves import Curve, Run, curve
from pegloom.core.geometry.transforms import decompose, rotation_matrix
from pegloom.core.motion.clips import Clip, sample, values_at
from pegloom.core.motion.layers import whole
from pegloom.core.motion.mixing import HEARD, difference, flattened
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import AT_ONCE, evaluate_rig, joints_at, nodes_at
from pegloom.core.rig.halfway import halfway_rows
from pegloom.core.rig.kernels.halfway import all_halfway
from pegloom.core.rig.match import values_for, values_of_joints
from pegloom.core.rig.pose import JointPose, Pose, joint_pose
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
    posed = posed_at(clip, old, times)
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
        result = []
        for path, span in (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10))):
            result.append(Track(path, frozen(times.copy()), frozen(np.ascontiguousarray(rows[:, j, span]))))
        tracks[joint.id] = tuple(result)
    return replace(clip, tracks=joint_tracks(tracks))


def posed_at(clip: Clip, skeleton: Skeleton, times: FloatArray) -> FloatArray:
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
    rows, floats = halfway_rows(skeleton)
    for world in worlds if len(rows) else ():
        all_halfway(world, rows, floats)
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


def carried_pose(
    pose: JointPose, old: Skeleton, new: Skeleton, *, settled: FloatArray | None = None
) -> JointPose:
    """A pose told by joints, on a changed skeleton: every joint carries its part of the body as before.

    settled : see `carried_clip`.
    """
    if settled is None and _same_rest(old, new):
        return pose
    rests = _rests(old, settled)
    posed = evaluate_rig(old, None, pose).joints
    worlds: list[FloatArray] = []
    placements: dict[str, FloatArray] = {}
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
        placements[joint.id] = np.concatenate(decompose(local))
    return joint_pose(placements)


def rerested(pose: JointPose, old: Skeleton, new: Skeleton) -> JointPose:
    """A pose told by joints, on joints placed or turned otherwise: each turns from its rest as before, about the body's
    axes, and bones keep the length they have now. Joints that are gone are left out."""
    if _same_rest(old, new):
        return pose
    result: dict[str, FloatArray] = {}
    for joint, row in zip(pose.joints, pose.rows, strict=True):
        if joint not in old.index or joint not in new.index:
            continue
        i, j = old.index[joint], new.index[joint]
        before, after = old.world[i, :3, :3], new.world[j, :3, :3]
        turn = old.local[i, :3, :3].T @ rotation_matrix(row[3:7])
        axes = after.T @ before
        here = np.eye(4)
        here[:3, :3] = new.local[j, :3, :3] @ (axes @ turn @ axes.T)
        # A place differs from rest in the parent's axes, which may have turned as well.
        p, q = int(old.parents[i]), int(new.parents[j])
        frame = (np.eye(3) if q < 0 else new.world[q, :3, :3].T) @ (np.eye(3) if p < 0 else old.world[p, :3, :3])
        place = new.local[j, :3, 3] + frame @ (row[:3] - old.local[i, :3, 3])
        result[joint] = np.concatenate([place, decompose(here)[1], row[7:]])
    return joint_pose(result)


def _same_rest(old: Skeleton, new: Skeleton) -> bool:
    if [j.id for j in old.joints] != [j.id for j in new.joints] or (old.parents != new.parents).any():
        return False
    return bool(np.allclose(old.world, new.world, atol=1e-9))


def reposed(pose: Pose, old: Skeleton, old_rig: ControlRig, new: Skeleton, new_rig: ControlRig, rest: Pose) -> Pose:
    """The values of the new controls that show what `pose` showed on the old ones.

    `rest` is the old pose that became the new rest. Each control moves as the old one did, from where it stood then.
    """
    values = old_rig.slots.vector(pose)[None]
    return new_rig.slots.pose(reposed_values(values, old, old_rig, new, new_rig, rest)[0])


def reposed_values(
    values: FloatArray, old: Skeleton, old_rig: ControlRig, new: Skeleton, new_rig: ControlRig, rest: Pose
) -> FloatArray:
    """As `reposed`, of many moments: channel values (k, v) of the old controls to those (k, w) of the new."""
    then = evaluate_rig(old, old_rig, rest).controls
    now = nodes_at(old, old_rig, values)
    poles = {limb.pole.id for limb in new_rig.limbs}
    start = np.repeat(new_rig.slots.rest[None], len(values), axis=0)
    placed = {*MOVE, *ROTATE}
    for ref, slot in new_rig.slots.index.items():
        if ref[1] not in placed and ref in old_rig.slots.index:
            start[:, slot] = values[:, old_rig.slots.index[ref]]
    targets = {}
    for control in new_rig.controls:
        if control.id not in old_rig.index:
            continue
        i = old_rig.index[control.id]
        if control.id in poles:
            # A pole is a place: it stands where it stood, so that the limb keeps its plane.
            target = np.repeat(control.matrix[None], len(values), axis=0)
            target[:, :3, 3] = now[:, i, :3, 3]
        else:
            target = now[:, i] @ (np.linalg.inv(then[i]) @ control.matrix)
        targets[control.id] = target
    result = values_for(new, new_rig, targets, start)
    result[np.abs(result) < 1e-9] = 0.0
    return result


DRIFT_OF_SIZE = 5e-4
"""Fraction of the skeleton's size that a clip told from a new rest may differ from what it was, at any frame."""


def reposed_clip(
    clip: Clip, old: Skeleton, old_rig: ControlRig, new: Skeleton, new_rig: ControlRig, rest: Pose
) -> Clip:
    """A key clip told from a new rest: every control that moves, or no longer rests at zero, is keyed.

    Values between keys do not run the same from another rest: keys are put in where a frame would otherwise show
    something else by more than DRIFT_OF_SIZE. A layer is told as if it alone lay over the clip.
    """
    if clip.layers:
        base = reposed_clip(replace(clip, layers=()), old, old_rig, new, new_rig, rest)
        layers = []
        for layer in clip.layers:
            over = replace(layer, on=True, alone=False, amount=layer.amount if (layer.amount.values >= HEARD).any() else whole())
            flat = flattened(replace(clip, layers=(over,)), old_rig)
            retold = reposed_clip(flat, old, old_rig, new, new_rig, rest)
            layers.append(replace(layer, curves=difference(base, retold, new_rig, layer.mode, frozenset(layer.curves), over.amount)))
        return replace(base, layers=tuple(layers))
    if not clip.curves:
        return clip
    keys = np.array(clip.key_times or (0.0,))
    frames = np.arange(int(np.floor(clip.length * clip.rate + 1e-6)) + 1) / clip.rate
    inside = frames[(frames > keys[0]) & (frames < keys[-1])]
    apart = np.abs(inside[:, None] - keys[None]).min(axis=1, initial=np.inf) if len(inside) else np.zeros(0)
    times = np.sort(np.concatenate([keys, inside[apart > 0.1 / clip.rate]]))
    exact = np.empty((len(times), len(new_rig.slots.rest)), dtype=np.float32)
    for first in range(0, len(times), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        exact[some] = reposed_values(values_at(clip, times[some], old_rig), old, old_rig, new, new_rig, rest)
    at_keys = reposed_values(values_at(clip, keys, old_rig), old, old_rig, new, new_rig, rest)
    size = max(float(np.linalg.norm(np.ptp(new.positions, axis=0))), 1e-9)
    chosen = np.isin(times, keys)
    while True:
        rows = exact[chosen].astype(np.float64)
        rows[np.searchsorted(times[chosen], keys)] = at_keys
        result = _keyed(clip, new_rig, times[chosen], rows)
        stray = np.where(chosen, 0.0, _strays(result, times, exact, new, new_rig, size))
        if stray.max(initial=0.0) <= DRIFT_OF_SIZE * size:
            return result
        # The worst frame of each run between two keys becomes one.
        run = np.cumsum(chosen)
        for number in np.unique(run[stray > DRIFT_OF_SIZE * size]):
            chosen[int(np.argmax(np.where(run == number, stray, -1.0)))] = True


def _strays(
    clip: Clip, times: FloatArray, exact: NDArray[np.float32], skeleton: Skeleton, rig: ControlRig, size: float
) -> FloatArray:
    """How far (k,) a clip strays at each moment from what values (k, v) show, metres; turns weighed at a limb's distance."""
    result = np.empty(len(times))
    for first in range(0, len(times), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        shown = joints_at(skeleton, rig, values_at(clip, times[some], rig))
        wanted = joints_at(skeleton, rig, exact[some].astype(np.float64))
        gap = np.linalg.norm(shown[..., :3, 3] - wanted[..., :3, 3], axis=-1)
        turn = np.linalg.norm(shown[..., :3, :3] - wanted[..., :3, :3], axis=(-2, -1)) / np.sqrt(2.0)
        result[some] = (gap + 0.12 * size * turn).max(axis=1, initial=0.0)
    return result


def _keyed(clip: Clip, rig: ControlRig, times: FloatArray, rows: FloatArray) -> Clip:
    """The clip with these values (k, v) as keys of every channel that moves or does not rest."""
    # Curves of channels that are gone wait.
    curves: dict[tuple[str, str], Curve] = {r: c for r, c in clip.curves.items() if r not in rig.slots.index}
    usual = Run(int(next(iter(clip.curves.values())).runs[0]))
    for (ref, slot), channel in zip(rig.slots.index.items(), rig.slots.channels, strict=True):
        values, keyed = rows[:, slot], clip.curves.get(ref)
        if channel.locked or (keyed is None and np.allclose(values, channel.rest, atol=1e-7)):
            continue
        if np.allclose(values, values[0], atol=1e-9):
            result = curve(times[:1], values[:1], usual if keyed is None else Run(int(keyed.runs[0])))
        else:
            result = curve(times, values, usual)
            if keyed is not None:
                # Each moment runs on as the key before it did.
                i = np.clip(np.searchsorted(keyed.times, times + 1e-9, side="right") - 1, 0, None)
                result = replace(result, runs=keyed.runs[i])
        curves[ref] = result
    return replace(clip, curves=MappingProxyType(curves))


def controls_of_joints(pose: JointPose, skeleton: Skeleton, rig: ControlRig) -> Pose:
    """Control values that show a pose given by joints; see `values_of_joints`."""
    joints = evaluate_rig(skeleton, None, pose).joints
    return rig.slots.pose(values_of_joints(skeleton, rig, joints[None])[0])
