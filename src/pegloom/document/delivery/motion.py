"""Clips for a receiver: sampled, at whole frames where it plays no others, on the joints it gets."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.motion.clips import Clip, MorphTrack
from pegloom.core.motion.follow_through import joints_of
from pegloom.core.motion.retell import local_rows, posed_at
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.baking import (
    baked_clip,
    live,
    morph_weights_at,
    rate_error,
    shows_at,
    with_followers,
    with_widths,
)
from pegloom.document.model import Character

SPANS = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
WORTH_SAYING = 5e-4
"""Share of the height between whole frames from which a rate is told of."""


def sampled(character: Character, clip: Clip, rate: float) -> tuple[Clip, str]:
    """A clip as tracks of every joint, and what to say of it. rate : frames a second, whole frames alone; 0 for samples wherever
    they are needed."""
    on_controls = bool(clip.every_curve) and not clip.tracks
    if rate <= 0.0:
        made = baked_clip(character, clip)
        count = max((len(t.times) for rows in made.tracks.values() for t in rows), default=0)
        return made, f"{clip.name}: controls baked to {counted(count, 'sample')} of each joint" if on_controls else ""
    times = np.arange(round(clip.length * rate) + 1) / rate
    if not on_controls:
        return _resampled(with_followers(character, clip), times, rate), ""
    on = live(character)
    local = local_rows(on.skeleton, joints_of(on.skeleton, on.rig, clip, times, on.pose)).astype(np.float32)
    local = with_widths(character, clip, times, local)
    tracks = {j.id: tuple(Track(path, times, frozen(local[:, i, span].astype(np.float64))) for path, span in SPANS) for i, j in enumerate(on.skeleton.joints)}
    morphs = [m.resampled(times) for m in clip.morphs]
    for part in character.parts:
        found = morph_weights_at(character, part, clip, times)
        if found is not None:
            rows = np.stack([np.interp(times, found[0], found[1][:, k]) for k in range(found[1].shape[1])], axis=1)
            morphs.append(MorphTrack(part.name, tuple(m.name for m in part.morphs), frozen(times), frozen(rows)))
    made = replace(clip, rate=rate, curves=MappingProxyType({}), layers=(), tracks=joint_tracks(tracks), morphs=tuple(morphs), shows=shows_at(character, clip, rate))
    error = rate_error(on, clip, rate)
    said = f"{clip.name}: controls baked at {rate:g} frames a second"
    if error > WORTH_SAYING * on.height:
        said += f", between them it strays by up to {1000 * error:.1f} mm"
    return made, said


def _resampled(clip: Clip, times: FloatArray, rate: float) -> Clip:
    """Sampled motion at other moments; what never moves keeps its one sample."""
    tracks = {
        joint: tuple(t if len(t.times) == 1 else Track(t.path, times, frozen(t.at_all(times)), t.step) for t in rows)
        for joint, rows in clip.tracks.items()
    }  # fmt: skip
    return replace(clip, rate=rate, tracks=joint_tracks(tracks), morphs=tuple(m.resampled(times) for m in clip.morphs))


def without_joints(clip: Clip, skeleton: Skeleton, left: Skeleton) -> Clip:
    """Sampled motion on fewer joints, whose parents may be others: every joint that stays is where it was."""
    if not clip.tracks:
        return clip
    if all(left.joint(j.id).parent == skeleton.joint(j.id).parent for j in left.joints):
        return replace(clip, tracks=joint_tracks({j: tuple(rows) for j, rows in clip.tracks.items() if j in left.index}))
    times = np.unique(np.concatenate([t.times for rows in clip.tracks.values() for t in rows]))
    worlds = _worlds(clip, skeleton, times)[:, [skeleton.index[j.id] for j in left.joints]]
    local = local_rows(left, worlds)
    return replace(clip, tracks=joint_tracks({j.id: tuple(Track(path, times, frozen(local[:, i, span])) for path, span in SPANS) for i, j in enumerate(left.joints)}))


def _worlds(clip: Clip, skeleton: Skeleton, times: FloatArray) -> FloatArray:
    return posed_at(_resampled(clip, times, clip.rate), skeleton, times)
