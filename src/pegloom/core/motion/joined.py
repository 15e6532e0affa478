"""One sampled clip after another: the second goes on from where the first has come to, and they flow into each other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retell import local_rows, posed_at
from pegloom.core.motion.tracks import JointTracks, Track, joint_tracks
from pegloom.core.skeleton.joints import Skeleton


def joined(first: Clip, second: Clip, skeleton: Skeleton, base: int, seconds: float, name: str = "") -> Clip:
    """Both as one clip of samples at the first one's rate.

    base : number of the joint whose way over the ground counts. seconds : over which they flow into each other, at most what
    both last. The second is turned and moved over the ground so that it begins where the first is then.
    """
    rate = first.rate
    over = min(max(seconds, 0.0), 0.9 * first.length, 0.9 * second.length)
    start = first.length - over
    times = np.arange(round((start + second.length) * rate) + 1) / rate
    one = posed_at(first, skeleton, np.minimum(times, first.length))
    two = posed_at(second, skeleton, np.clip(times - start, 0.0, second.length))
    there = posed_at(first, skeleton, np.array([min(start + 0.5 * over, first.length)]))[0, base]
    here = posed_at(second, skeleton, np.array([0.5 * over]))[0, base]
    move = _over_ground(there, skeleton.world[base]) @ np.linalg.inv(_over_ground(here, skeleton.world[base]))
    two = move @ two
    # The way is the base's alone, and flows straight from one to the other.
    for worlds in (one, two):
        _at_rest_above(skeleton, worlds, base)
    share = np.clip((times - start) / max(over, 1e-9), 0.0, 1.0)
    share = share * share * (3.0 - 2.0 * share)
    rows = _mixed(local_rows(skeleton, one), local_rows(skeleton, two), share)
    return replace(first, name=name or f"{first.name}, {second.name}", length=float(times[-1]), tracks=as_tracks(skeleton, rows, times), layers=(), morphs=(), borrowed=None, gait=None)


def tracks_of(skeleton: Skeleton, worlds: FloatArray, times: FloatArray, base: int) -> JointTracks:
    """Sampled motion of joints told in space (k, j, 4, 4); what carries the base stays at rest."""
    worlds = worlds.copy()
    _at_rest_above(skeleton, worlds, base)
    return as_tracks(skeleton, local_rows(skeleton, worlds), times)


def _at_rest_above(skeleton: Skeleton, worlds: FloatArray, base: int) -> None:
    above = int(skeleton.parents[base])
    while above >= 0:
        worlds[:, above] = skeleton.world[above]
        above = int(skeleton.parents[above])


def as_tracks(skeleton: Skeleton, rows: FloatArray, times: FloatArray) -> JointTracks:
    """Rows of joints (k, j, 10) as sampled tracks; places of those that stay where they rest are left out."""
    tracks = {}
    for j, joint in enumerate(skeleton.joints):
        found = [Track("rotation", times, np.ascontiguousarray(rows[:, j, 3:7]))]
        if np.abs(rows[:, j, :3] - skeleton.local[j, :3, 3]).max() > 1e-9:
            found.insert(0, Track("translation", times, np.ascontiguousarray(rows[:, j, :3])))
        tracks[joint.id] = tuple(found)
    return joint_tracks(tracks)


def _over_ground(world: FloatArray, rest: FloatArray) -> FloatArray:
    """Where a joint stands over the ground and where it faces, as a place (4, 4)."""
    turned = world[:3, :3] @ np.linalg.inv(rest[:3, :3])
    yaw = np.arctan2(turned[0, 2], turned[2, 2])
    found = np.eye(4)
    found[:3, :3] = Rotation.from_euler("y", yaw).as_matrix()
    found[[0, 2], 3] = world[[0, 2], 3]
    return found


def _mixed(a: FloatArray, b: FloatArray, share: FloatArray) -> FloatArray:
    """Rows (k, j, 10), that share (k,) of the way from a to b; turns the shorter way."""
    result = (1.0 - share)[:, None, None] * a + share[:, None, None] * b
    flips = np.where((a[..., 3:7] * b[..., 3:7]).sum(axis=-1, keepdims=True) < 0.0, -1.0, 1.0)
    q = (1.0 - share)[:, None, None] * a[..., 3:7] + share[:, None, None] * b[..., 3:7] * flips
    q /= np.maximum(np.linalg.norm(q, axis=-1, keepdims=True), 1e-12)
    # Neighbours in one half space.
    signs = np.cumprod(np.where((q[1:] * q[:-1]).sum(axis=-1) < 0.0, -1.0, 1.0), axis=0)
    q[1:] *= signs[..., None]
    result[..., 3:7] = q
    return np.asarray(result)
