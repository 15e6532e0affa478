"""Control clips told in joints alone, for what plays no controls: files, and a character delivered in another rest."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.motion.carry import local_rows
from pegloom.core.motion.clips import Clip, Track, sample
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.tolerances import BAKE_OF_SIZE
from pegloom.document.model import Character

FINEST = 16
"""A clip is sampled at most this many times a frame."""


def baked_clip(character: Character, clip: Clip) -> Clip:
    """The clip as tracks of every joint, see `bake_clip`; one that has tracks already is itself."""
    if clip.tracks or not clip.curves or character.skeleton is None:
        return clip
    times, local = bake_clip(character, clip)
    spans = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
    tracks = {
        joint.id: tuple(
            Track(path, frozen(times.copy()), frozen(np.ascontiguousarray(local[:, i, span]))) for path, span in spans
        )
        for i, joint in enumerate(character.skeleton.joints)
    }
    return replace(clip, curves=MappingProxyType({}), tracks=MappingProxyType(tracks))


def bake_clip(character: Character, clip: Clip) -> tuple[FloatArray, FloatArray]:
    """A control clip as samples every joint can play: times (k,), local values (k, j, 10).

    Starts at the frame rate; a sample is put into each interval whose middle strays by more than BAKE_OF_SIZE of
    the height from the live rig (turns weighed at a limb's distance, so that skinned points hold as well), and so
    on to FINEST a frame.
    """
    skeleton = character.skeleton
    if skeleton is None:
        raise EditError("there are no joints to bake to")
    allowed = BAKE_OF_SIZE * character.height
    worlds: dict[float, FloatArray] = {}

    def world(time: float) -> FloatArray:
        if time not in worlds:
            worlds[time] = evaluate_rig(
                skeleton, character.rig, sample(clip, time, skeleton, character.pose, character.rig)
            ).joints
        return worlds[time]

    count = max(round(clip.length * clip.rate), 1)
    # Times as the file holds them, so that live and file agree about the moment.
    times = _as_stored(np.concatenate([np.linspace(0.0, clip.length, count + 1), clip.key_times]))
    shortest = 1.0 / (clip.rate * FINEST)
    while True:
        exact = np.array([world(float(t)) for t in times])
        local = local_rows(skeleton, exact)
        middles = _as_stored((times[:-1] + times[1:]) / 2)
        stray = _stray(skeleton, local, np.array([world(float(t)) for t in middles]), character.height)
        more = middles[(stray > allowed) & (np.diff(times) > shortest)]
        if len(more) == 0:
            return times, local
        times = _as_stored(np.concatenate([times, more]))


def _as_stored(times: FloatArray) -> FloatArray:
    """Rising times rounded to float32."""
    return np.asarray(np.unique(times.astype(np.float32)).astype(np.float64))


def _stray(skeleton: Skeleton, local: FloatArray, exact: FloatArray, height: float) -> FloatArray:
    """How far (k - 1,), in metres, a point 0.12 of the height off a joint strays half way between samples."""
    if len(local) < 2:
        return np.zeros(0)
    middle = (local[:-1] + local[1:]) / 2  # half way, the spherical blend is the normalised mean
    q = middle[..., 3:7] / np.linalg.norm(middle[..., 3:7], axis=-1, keepdims=True)
    made = np.zeros(exact.shape)
    made[..., :3, :3] = rotation_matrix(q) * middle[..., None, 7:]
    made[..., :3, 3] = middle[..., :3]
    made[..., 3, 3] = 1.0
    for j, parent in enumerate(skeleton.parents):
        if parent >= 0:
            made[:, j] = made[:, parent] @ made[:, j]
    gap = np.linalg.norm(made[..., :3, 3] - exact[..., :3, 3], axis=-1)
    turn = np.linalg.norm(made[..., :3, :3] - exact[..., :3, :3], axis=(-2, -1)) / np.sqrt(2.0)
    return np.asarray((gap + 0.12 * height * turn).max(axis=1))
