"""Motion written to USD: each clip a UsdSkel animation beside the skeleton, one of them bound to it.

Specification: OpenUSD, UsdSkel, "Skeletal animation": joint-local translations, rotations and scales at time codes, straight
between them (turns by slerp), and weights of blend shapes by their names.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retell import local_rows, posed_at
from pegloom.core.motion.together import Figure
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.document.baking import bake_clip, morph_weights_at, shows_at, with_followers, with_widths
from pegloom.document.model import Character
from pegloom.document.world import clip_of
from pegloom.files.gltf_together import on_common_time

MOVES, TURNS, SCALES = slice(0, 3), slice(3, 7), slice(7, 10)


@dataclass(frozen=True, eq=False)
class Motion:
    """What a clip does. times (k,) seconds. rows (k, j, 10) : joints in their parents. weights : times (m,) and weights (m,) by part
    id and morph target. shows : times (s,) by part id, and whether it is seen from each on."""

    name: str
    rate: float
    length: float
    times: FloatArray
    rows: FloatArray
    weights: Mapping[tuple[str, str], tuple[FloatArray, FloatArray]]
    shows: Mapping[str, tuple[FloatArray, tuple[bool, ...]]] = field(default_factory=dict)


def motion_of(character: Character, clip: Clip, notes: list[str]) -> Motion | None:
    """A clip as samples; one on controls is baked, and that is noted. None where it moves nothing."""
    skeleton = character.skeleton
    if skeleton is None or not (clip.tracks or clip.every_curve or clip.morphs):
        return None
    if clip.tracks:
        clip = with_followers(character, clip)
        times = np.unique(np.concatenate([t.times for rows in clip.tracks.values() for t in rows]))
        rows = local_rows(skeleton, posed_at(clip, skeleton, times))
    elif clip.every_curve:
        times, baked = bake_clip(character, clip)
        rows = with_widths(character, clip, times, baked).astype(np.float64)
        notes.append(f"{clip.name}: controls baked to {len(times)} samples of each joint")
    else:
        times = np.zeros(1)
        rows = local_rows(skeleton, skeleton.world[None])
    weights: dict[tuple[str, str], tuple[FloatArray, FloatArray]] = {}
    for part in character.included:
        names = tuple(m.name for m in part.morphs)
        told = next((m for m in clip.morphs if m.part == part.name and m.names == names), None)
        made = (told.times, told.weights) if told is not None else morph_weights_at(character, part, clip, times) if names and not clip.tracks else None
        if made is not None:
            weights |= {(part.id, name): (made[0], made[1][:, k]) for k, name in enumerate(names)}
    ids = {p.name: p.id for p in character.included}
    shows = {ids[s.part]: (s.times, s.seen) for s in (clip.shows or shows_at(character, clip)) if s.part in ids}
    return Motion(clip.name, clip.rate, clip.length, times, rows, weights, shows)


def held_motion(character: Character) -> Motion | None:
    """The pose a character holds, as motion of one sample. None without a skeleton."""
    skeleton = character.skeleton
    if skeleton is None:
        return None
    return Motion("pose", 30.0, 0.0, np.zeros(1), local_rows(skeleton, evaluate_rig(skeleton, character.rig, character.pose).joints[None]), {})


def on_one_time(character: Character, motion: Motion, total: float) -> Motion:
    """Motion told on the common time, from 0 to `total` seconds."""
    figure: Figure = character.figure
    length = clip_of(character).length if clip_of(character) is not None else 0.0  # type: ignore[union-attr]
    count = motion.rows.shape[1]
    times, straight = on_common_time(motion.times, motion.rows[..., [0, 1, 2, 7, 8, 9]].reshape(len(motion.times), -1), figure, length, total)
    rows = np.empty((len(times), count, 10))
    rows[..., [0, 1, 2, 7, 8, 9]] = straight.reshape(len(times), count, 6)
    for j in range(count):
        rows[:, j, TURNS] = on_common_time(motion.times, motion.rows[:, j, TURNS], figure, length, total, turns=True)[1]
    weights = {}
    for key, (moments, values) in motion.weights.items():
        told, shifted = on_common_time(moments, values[:, None], figure, length, total)
        weights[key] = (told, shifted[:, 0])
    shows = {}
    for part, (moments, seen) in motion.shows.items():
        # Told at frames of the common time: what a figure plays over and over comes again there.
        frames = np.arange(round(length * motion.rate) + 1) / motion.rate
        now = np.array(seen, dtype=float)[np.maximum(np.searchsorted(moments, frames + 1e-9, side="right") - 1, 0)]
        told, shifted = on_common_time(frames, now[:, None], figure, length, total)
        shows[part] = (told, tuple((shifted[:, 0] > 0.5).tolist()))
    return Motion("all figures", motion.rate, total, times, rows, weights, shows)


def shape_tokens(parts: Sequence[tuple[str, Sequence[tuple[str, str]]]], motions: Sequence[Motion]) -> dict[tuple[str, str], str]:
    """What a blend shape is called for animations, by part id and morph target: by its own name where every part's target of
    that name does the same, else by the part's as well. parts : id, and (target, token) of each."""
    owners: dict[str, list[tuple[str, str]]] = {}
    for part, some in parts:
        for name, token in some:
            owners.setdefault(token, []).append((part, name))
    result: dict[tuple[str, str], str] = {}
    for token, keys in owners.items():
        alike = all(_alike([motion.weights.get(key) for key in keys]) for motion in motions)
        result |= {key: token if alike else f"{key[0]}_{token}" for key in keys}
    return result


def _alike(some: list[tuple[FloatArray, FloatArray] | None]) -> bool:
    first = some[0]
    return all(
        (one is None) is (first is None) and (one is None or first is None or (np.array_equal(one[0], first[0]) and np.allclose(one[1], first[1], atol=1e-6)))
        for one in some[1:]
    )


def write_motion(stage: Any, path: str, motion: Motion, joints: Sequence[str], shapes: Mapping[tuple[str, str], str], codes: float) -> Any:
    """One animation. joints : the skeleton's, as it names them. codes : time codes a second."""
    from pxr import UsdSkel, Vt

    result = UsdSkel.Animation.Define(stage, path)
    if result.GetPrim().GetName() != motion.name:
        result.GetPrim().SetDisplayName(motion.name)
    result.CreateJointsAttr(Vt.TokenArray(list(joints)))
    moves, turns, scales = result.CreateTranslationsAttr(), result.CreateRotationsAttr(), result.CreateScalesAttr()
    rows = motion.rows.astype(np.float32)
    for k, time in enumerate(motion.times.tolist()):
        at = time * codes
        moves.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(rows[k, :, MOVES])), at)
        turns.Set(Vt.QuatfArray.FromNumpy(np.ascontiguousarray(rows[k, :, TURNS])), at)
        scales.Set(Vt.Vec3hArray.FromNumpy(np.ascontiguousarray(rows[k, :, SCALES]).astype(np.float16)), at)
    told = {shapes[key]: value for key, value in motion.weights.items() if key in shapes}
    if told:
        result.CreateBlendShapesAttr(Vt.TokenArray(list(told)))
        attribute = result.CreateBlendShapeWeightsAttr()
        times = np.unique(np.concatenate([moments for moments, _ in told.values()]))
        columns = np.stack([np.interp(times, moments, values) for moments, values in told.values()], axis=1).astype(np.float32)
        for k, time in enumerate(times.tolist()):
            attribute.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(columns[k])), time * codes)
    return result
