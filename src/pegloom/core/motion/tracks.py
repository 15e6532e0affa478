"""A clip's sampled tracks as flat arrays, and all of them sampled at once, compiled."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.geometry.transforms import decompose
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.controls import JointRows
from pegloom.core.skeleton.joints import Skeleton

WHERE = {"translation": 0, "rotation": 3, "scale": 7}
"""Where a path's values begin in a joint's row of ten."""


class PackedTracks(NamedTuple):
    """rest (j, 10): local values of joints the clip moves, at rest. joint, first, width, step (t,): of each track.
    starts (t + 1,): into times (m,) and values (m, 4)."""

    rest: FloatArray
    joint: IntArray
    first: IntArray
    width: IntArray
    step: IntArray
    starts: IntArray
    times: FloatArray
    values: FloatArray


@by_identity
def pack_tracks(clip: Clip, skeleton: Skeleton) -> tuple[tuple[str, ...], PackedTracks]:
    """The joints a clip moves, in the order of its tracks, and those tracks."""
    joints = tuple(j for j in clip.tracks if j in skeleton.index)
    rest = np.array([np.concatenate(decompose(skeleton.local[skeleton.index[j]])) for j in joints]).reshape(-1, 10)
    rows, times, values = [], [np.zeros(0)], [np.zeros((0, 4))]
    for i, joint in enumerate(joints):
        for track in clip.tracks[joint]:
            wide = np.zeros((len(track.times), 4))
            wide[:, : track.values.shape[1]] = track.values
            rows.append((i, WHERE[track.path], track.values.shape[1], int(track.step), len(track.times)))
            times.append(track.times)
            values.append(wide)
    table = np.array(rows, dtype=np.int64).reshape(-1, 5)
    starts = np.concatenate([[0], np.cumsum(table[:, 4])])
    arrays = (rest, *(np.ascontiguousarray(table[:, k]) for k in range(4)), starts, np.concatenate(times), np.concatenate(values))
    return joints, PackedTracks(*(frozen(a) for a in arrays))


def rows_at(clip: Clip, skeleton: Skeleton, time: float) -> JointRows:
    """Where a clip's tracks put its joints in their parents at a time, as `Track.at` says."""
    joints, packed = pack_tracks(clip, skeleton)
    rows = packed.rest.copy()
    _sample(packed, time, rows)
    return JointRows(joints, rows)


@njit(cache=True, nogil=True)
def _sample(tracks, time, out):  # pragma: no cover
    for t in range(len(tracks.joint)):
        a, b = tracks.starts[t], tracks.starts[t + 1]
        joint, first, width = tracks.joint[t], tracks.first[t], tracks.width[t]
        # The last key at or before the time.
        low, high = a, b
        while low < high:
            middle = (low + high) // 2
            if tracks.times[middle] <= time:
                low = middle + 1
            else:
                high = middle
        i = min(max(low - 1, a), b - 1)
        here = tracks.values[i]
        if i == b - 1 or time <= tracks.times[a] or tracks.step[t] != 0:
            for k in range(width):
                out[joint, first + k] = here[k]
            continue
        there = tracks.values[i + 1]
        u = (time - tracks.times[i]) / (tracks.times[i + 1] - tracks.times[i])
        if width == 3:
            for k in range(3):
                out[joint, first + k] = here[k] + u * (there[k] - here[k])
            continue
        na, nb, cosine = 0.0, 0.0, 0.0
        for k in range(4):
            na += here[k] * here[k]
            nb += there[k] * there[k]
        na, nb = np.sqrt(max(na, 1e-24)), np.sqrt(max(nb, 1e-24))
        for k in range(4):
            cosine += here[k] / na * there[k] / nb
        sign = -1.0 if cosine < 0.0 else 1.0
        cosine = min(abs(cosine), 1.0)
        if cosine > 1.0 - 1e-9:
            wa, wb = 1.0 - u, u
        else:
            angle = np.arccos(cosine)
            wa, wb = np.sin((1.0 - u) * angle) / np.sin(angle), np.sin(u * angle) / np.sin(angle)
        total = 0.0
        for k in range(4):
            out[joint, first + k] = wa * here[k] / na + wb * sign * there[k] / nb
            total += out[joint, first + k] ** 2
        total = np.sqrt(total)
        for k in range(4):
            out[joint, first + k] /= total
