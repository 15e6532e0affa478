"""Control clips told in joints alone, for what plays no controls: files, and a character delivered in another rest."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.motion.carry import local_rows
from pegloom.core.motion.clips import Between, Clip, Track, channels_at
from pegloom.core.rig.evaluate import joints_at
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.tolerances import BAKE_OF_SIZE
from pegloom.document.model import Character

FINEST = 8
"""Times an interval between two frames or keys is halved at most."""
PROBES = (0.15, 0.35, 0.5, 0.65, 0.85)
"""Shares of an interval at which it is held against the live rig."""
MOMENTS = 2000
"""Worked out at once: a human's joints at as many take some 100 MB."""


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

    Starts at the frames and at all keys, and just before and after the jumps of stepped curves. An interval that strays by more
    than BAKE_OF_SIZE of the height from the live rig at any of PROBES (turns weighed at a limb's distance, so that
    skinned points hold as well) is halved, and so on to FINEST halvings: wherever the keys stand, and however near each
    other. Testing the middle alone would miss a symmetric ease, which is exact there.
    """
    skeleton, rig = character.skeleton, character.rig
    if skeleton is None or rig is None:
        raise EditError("there are no joints or controls to bake")
    allowed = BAKE_OF_SIZE * character.height
    count = max(round(clip.length * clip.rate), 1)
    keys = np.array(clip.key_times, dtype=np.float64)
    jumps = np.array([t for c in clip.curves.values() if c.between is Between.STEP for t in c.times[1:]])
    after = jumps.astype(np.float32)
    after = np.where(after < jumps, np.nextafter(after, np.float32(np.inf)), after)
    # Times as the file holds them, so that live and file agree about the moment.
    times = _as_stored(
        np.concatenate([np.linspace(0.0, clip.length, count + 1), keys, after, np.nextafter(after, np.float32(-1.0))])
    )
    times = times[times >= 0.0]
    local = _locals(character, clip, times)
    open_ = np.arange(len(times) - 1)
    for _ in range(FINEST):
        bad = open_[_strays(character, clip, times, local, open_) > allowed]
        more = _as_stored((times[bad] + times[bad + 1]) / 2)
        more = more[~np.isin(more, times)]
        if len(more) == 0:
            break
        place = np.searchsorted(times, more)
        local = np.insert(local, place, _locals(character, clip, more), axis=0)
        times = np.insert(times, place, more)
        # Only the halves of what was bad are looked at again.
        place = np.searchsorted(times, more)
        open_ = np.unique(np.concatenate([place - 1, place]))
    _one_half_space(local)
    return times, local


def _locals(character: Character, clip: Clip, times: FloatArray) -> FloatArray:
    """Local values (k, j, 10) of the live rig, some moments at a time, so that long clips take little."""
    skeleton, rig = character.skeleton, character.rig
    assert skeleton is not None and rig is not None
    made = np.empty((len(times), len(skeleton.joints), 10))
    for first in range(0, len(times), MOMENTS):
        some = slice(first, first + MOMENTS)
        worlds = joints_at(skeleton, rig, channels_at(clip, times[some], rig, character.pose))
        made[some] = local_rows(skeleton, worlds)
    return made


def _one_half_space(local: FloatArray) -> None:
    """Quaternions of neighbouring samples on one side, in place."""
    q = local[..., 3:7]
    flips = np.cumprod(np.where((q[1:] * q[:-1]).sum(axis=-1) < 0, -1.0, 1.0), axis=0)
    q[1:] *= flips[..., None]


def _strays(character: Character, clip: Clip, times: FloatArray, local: FloatArray, chosen: IntArray) -> FloatArray:
    """How far (m,), in metres, a point 0.12 of the height off a joint strays at most in the chosen intervals (m,)."""
    skeleton, rig = character.skeleton, character.rig
    assert skeleton is not None and rig is not None
    worst = np.zeros(len(chosen))
    for first in range(0, len(chosen), MOMENTS):
        some = chosen[first : first + MOMENTS]
        for share in PROBES:
            at = times[some] + share * (times[some + 1] - times[some])
            exact = joints_at(skeleton, rig, channels_at(clip, at, rig, character.pose))
            made = _between(skeleton, local[some], local[some + 1], share)
            gap = np.linalg.norm(made[..., :3, 3] - exact[..., :3, 3], axis=-1)
            turn = np.linalg.norm(made[..., :3, :3] - exact[..., :3, :3], axis=(-2, -1)) / np.sqrt(2.0)
            here = (gap + 0.12 * character.height * turn).max(axis=1, initial=0.0)
            worst[first : first + len(some)] = np.maximum(worst[first : first + len(some)], here)
    return worst


def _between(skeleton: Skeleton, a: FloatArray, b: FloatArray, share: float) -> FloatArray:
    """character_from_joint (k, j, 4, 4) a share of the way from local values a to b (k, j, 10), as a file's player has it."""
    qa, qb = a[..., 3:7], b[..., 3:7]
    cosine = (qa * qb).sum(axis=-1, keepdims=True)
    qb, cosine = np.where(cosine < 0, -qb, qb), np.minimum(np.abs(cosine), 1.0)
    angle = np.arccos(cosine)
    near = angle < 1e-6
    sine = np.where(near, 1.0, np.sin(angle))
    wa = np.where(near, 1.0 - share, np.sin((1.0 - share) * angle) / sine)
    wb = np.where(near, share, np.sin(share * angle) / sine)
    mixed = (1.0 - share) * a + share * b
    q = wa * qa + wb * qb
    q /= np.linalg.norm(q, axis=-1, keepdims=True)
    made = np.zeros((*a.shape[:2], 4, 4))
    made[..., :3, :3] = rotation_matrix(q) * mixed[..., None, 7:]
    made[..., :3, 3] = mixed[..., :3]
    made[..., 3, 3] = 1.0
    for j, parent in enumerate(skeleton.parents):
        if parent >= 0:
            made[:, j] = made[:, parent] @ made[:, j]
    return made


def _as_stored(times: FloatArray) -> FloatArray:
    """Rising times rounded to float32."""
    return np.asarray(np.unique(times.astype(np.float32)).astype(np.float64))
