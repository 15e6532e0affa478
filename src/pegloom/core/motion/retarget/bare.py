"""A source of motion as a body of joints alone, in metres, that can stand among the figures."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import decompose
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.joined import as_tracks
from pegloom.core.motion.retarget.source import Source, moments_of, stood, worlds_of
from pegloom.core.motion.retarget.turns import straight
from pegloom.core.motion.retell import local_rows
from pegloom.core.skeleton.joints import Joint, Skeleton

BODIES = (0.3, 4.0)
"""Metres within which a height is taken for one that the file means."""
CROWN = 1.06
"""A body is so many times as tall as its joints reach."""
AFLOAT = 0.1
"""Share of the height within which the lowest joint stands on the file's own floor."""


def height_of(skeleton: Skeleton) -> float:
    """How tall the body of some joints is, in their unit: with what ends hang on, or a crown over the highest of them."""
    if not skeleton.joints:
        return 0.0
    ends = [joint.tail[1] for joint in skeleton.joints if joint.tail is not None]
    return max(CROWN * float(np.ptp(skeleton.positions[:, 1])), float(np.ptp([*skeleton.positions[:, 1], *ends])))


def size_of(source: Source, otherwise: float) -> float:
    """Metres a source stands: as tall as its file says in metres or centimetres, where one of them gives a body's height.

    otherwise : metres where neither does. Raises EditError for a source without joints that move.
    """
    own = height_of(stood(source).skeleton)
    return next((own * unit for unit in (1.0, 0.01) if BODIES[0] <= own * unit <= BODIES[1]), otherwise)


def bare_body(source: Source, height: float) -> tuple[Skeleton, Clip]:
    """A source's joints, upright and of a height (metres), and its motion told in them, from 0 s on.

    It rests in the pose the source is read from. Rest and motion stand on the file's floor, or with the lowest joint on ours
    where that is far off: many files rest about the hips. Axes are its own; what they are scaled by is left out, and the
    places of its joints are kept.

    Raises EditError for a source without joints that move.
    """
    read = stood(source)
    scale = height / max(height_of(read.skeleton), 1e-9)

    def told(worlds: FloatArray) -> FloatArray:
        result = np.tile(np.eye(4), (*worlds.shape[:-2], 1, 1))
        result[..., :3, :3] = read.upright @ straight(worlds[..., :3, :3])
        result[..., :3, 3] = scale * worlds[..., :3, 3] @ read.upright.T
        low = float(result[..., 1, 3].min())
        result[..., 1, 3] -= low if abs(low) > AFLOAT * height else 0.0
        return result

    first = source.skeleton.world if read.frame is None else worlds_of(source, np.array([read.frame]))[0]
    rest = told(first)
    shift = rest[0, :3, 3] - scale * read.skeleton.positions[0]
    skeleton = _at(source.skeleton, rest, read.skeleton, scale, shift)
    times = moments_of(source.clip)
    rows = local_rows(skeleton, told(worlds_of(source, times)))
    own = times - times[0]
    tracks = as_tracks(skeleton, rows, own)
    return skeleton, replace(source.clip, tracks=tracks, length=max(float(own[-1]), 1.0 / source.clip.rate), layers=(), morphs=(), borrowed=None, gait=None)


def _at(skeleton: Skeleton, worlds: FloatArray, read: Skeleton, scale: float, shift: FloatArray) -> Skeleton:
    joints: list[Joint] = []
    for joint, there, world in zip(skeleton.joints, read.joints, worlds, strict=True):
        place, turn, _ = decompose(world)
        tail = None if there.tail is None else scale * np.array(there.tail) + shift
        joints.append(replace(
            joint, position=_three(place), rotation=(float(turn[0]), float(turn[1]), float(turn[2]), float(turn[3])),
            tail=None if tail is None else _three(tail), thick=None,
        ))  # fmt: skip
    return Skeleton(tuple(joints))


def _three(values: FloatArray) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])
