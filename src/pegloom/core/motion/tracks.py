"""Sampled motion of joints as flat arrays, and all of it sampled at once, compiled."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numba import njit

from pegloom.core.arrays import BoolArray, FloatArray, IntArray, frozen
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.transforms import decompose, normalised, slerp
from pegloom.core.memo import by_identity
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.joints import Skeleton

PATHS = ("translation", "rotation", "scale")
"""What a track moves, by the number it is kept under."""
FIRST, WIDTH = (0, 3, 7), (3, 4, 3)
"""Where a path's values begin in a joint's row of ten, and how many they are."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Track:
    """Sampled motion of one joint in its parent, as glTF stores it: a view into `JointTracks`, or what one is made from.

    times (k,) seconds; values (k, 3) position or scale, (k, 4) quaternion; CUBICSPLINE is sampled on reading.
    """

    path: str
    times: FloatArray
    values: FloatArray
    step: bool = False

    def at(self, time: float) -> FloatArray:
        """Value at a time: linear, spherical for quaternions, as the glTF 2.0 specification says (appendix C)."""
        i = int(np.clip(np.searchsorted(self.times, time, side="right") - 1, 0, len(self.times) - 1))
        if i == len(self.times) - 1 or time <= self.times[0] or self.step:
            return np.asarray(self.values[i])
        u = float((time - self.times[i]) / (self.times[i + 1] - self.times[i]))
        if self.path == "rotation":
            return slerp(normalised(self.values[i]), normalised(self.values[i + 1]), u)
        return np.asarray(self.values[i] + u * (self.values[i + 1] - self.values[i]))

    def at_all(self, times: FloatArray) -> FloatArray:
        """`at` for many times (t,) at once: (t, 3 or 4)."""
        last = len(self.times) - 1
        i = np.clip(np.searchsorted(self.times, times, side="right") - 1, 0, last)
        a, b = self.values[i], self.values[np.minimum(i + 1, last)]
        span = self.times[np.minimum(i + 1, last)] - self.times[i]
        constant = (i == last) | (times <= self.times[0]) | self.step
        u = np.where(constant, 0.0, (times - self.times[i]) / np.where(span > 0, span, 1.0))[:, None]
        if self.path != "rotation":
            return np.asarray(np.where(constant[:, None], a, a + u * (b - a)))
        qa, qb = normalised(a), normalised(b)
        cosine = np.einsum("tk,tk->t", qa, qb)[:, None]
        qb, cosine = np.where(cosine < 0, -qb, qb), np.abs(cosine)
        angle = np.arccos(np.minimum(cosine, 1.0))
        near = cosine > 1.0 - 1e-9
        sine = np.where(near, 1.0, np.sin(angle))
        arc = (np.sin((1 - u) * angle) * qa + np.sin(u * angle) * qb) / sine
        return np.asarray(np.where(constant[:, None], a, np.where(near, normalised(qa + u * (qb - qa)), arc)))


def _none(columns: int = 0) -> FloatArray:
    return np.asarray(frozen(np.zeros((0, columns) if columns else 0)))


def _no_numbers() -> IntArray:
    return np.asarray(frozen(np.zeros(0, dtype=np.int64)))


def _no_flags() -> BoolArray:
    return np.asarray(frozen(np.zeros(0, dtype=bool)))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class JointTracks(Mapping[str, tuple[Track, ...]]):
    """Sampled motion of some joints, as a file had it: each track with keys of its own. Reads as joint id -> tracks.

    joints : ids.
    joint, path, step (t,) : whose a track is (index into joints), what it moves (index into PATHS), and whether it
        holds each value until the next.
    first, count (t,) : its keys in times (m,), seconds; tracks may share them.
    starts (t,) : where its values begin in rows (r, 4); places and scales leave the last column free. Raises
        ShapeError for tracks that do not fit their keys.
    """

    joints: tuple[str, ...] = ()
    joint: IntArray = field(default_factory=_no_numbers)
    path: IntArray = field(default_factory=_no_numbers)
    step: BoolArray = field(default_factory=_no_flags)
    first: IntArray = field(default_factory=_no_numbers)
    count: IntArray = field(default_factory=_no_numbers)
    starts: IntArray = field(default_factory=_no_numbers)
    times: FloatArray = field(default_factory=_none)
    rows: FloatArray = field(default_factory=lambda: _none(4))

    def __post_init__(self) -> None:
        tables = (self.joint, self.path, self.step, self.first, self.count, self.starts)
        tracks = len(self.joint)
        if any(a.shape != (tracks,) for a in tables) or self.times.ndim != 1 or self.rows.shape[1:] != (4,):
            raise ShapeError("sampled tracks are not one joint, path and place of keys each")
        if len(set(self.joints)) != len(self.joints):
            raise ShapeError("sampled tracks name a joint twice")
        if tracks:
            bounds = ((self.joint, len(self.joints)), (self.path, len(PATHS)), (self.first, len(self.times)), (self.starts, len(self.rows)))
            inside = all(a.min() >= 0 and a.max() < most for a, most in bounds) and self.count.min() > 0
            if not inside or (self.first + self.count).max() > len(self.times) or (self.starts + self.count).max() > len(self.rows):
                raise ShapeError("sampled tracks name keys that are not there")
        for array in (*tables, self.times, self.rows):
            array.setflags(write=False)

    def __getitem__(self, joint: str) -> tuple[Track, ...]:
        if joint not in self.joints:
            raise KeyError(joint)
        return tuple(self.track(t) for t in np.flatnonzero(self.joint == self.joints.index(joint)).tolist())

    def __iter__(self) -> Iterator[str]:
        return iter(self.joints)

    def __len__(self) -> int:
        return len(self.joints)

    # One immutable piece among others, not a bag of values to compare.
    __eq__, __hash__ = object.__eq__, object.__hash__

    def track(self, number: int) -> Track:
        """One track, as a view."""
        path, count = int(self.path[number]), int(self.count[number])
        first, start = int(self.first[number]), int(self.starts[number])
        values = self.rows[start : start + count, : WIDTH[path]]
        return Track(PATHS[path], self.times[first : first + count], values, bool(self.step[number]))


def joint_tracks(tracks: Mapping[str, Sequence[Track]]) -> JointTracks:
    """Tracks by joint id as flat arrays; keys that several share are kept once. Raises ShapeError for an unknown path."""
    table: list[tuple[int, int, bool, int, int, int]] = []
    times: list[FloatArray] = []
    rows: list[FloatArray] = []
    known: dict[bytes, int] = {}
    keys = values = 0
    for j, some in enumerate(tracks.values()):
        for track in some:
            if track.path not in PATHS or len(track.times) != len(track.values):
                raise ShapeError(f"a track of {track.path} has not one value for each of its times")
            seconds = np.ascontiguousarray(track.times, dtype=np.float64)
            key = seconds.tobytes()
            if key not in known:
                known[key] = keys
                times.append(seconds)
                keys += len(seconds)
            path = PATHS.index(track.path)
            row = np.zeros((len(seconds), 4))
            row[:, : WIDTH[path]] = track.values
            rows.append(row)
            table.append((j, path, bool(track.step), known[key], len(seconds), values))
            values += len(seconds)
    columns = [np.array([row[k] for row in table], dtype=np.int64) for k in (0, 1, 3, 4, 5)]
    step = np.array([row[2] for row in table], dtype=bool)
    return JointTracks(
        tuple(tracks), columns[0], columns[1], step, columns[2], columns[3], columns[4],
        np.concatenate([np.zeros(0), *times]), np.concatenate([np.zeros((0, 4)), *rows]),
    )  # fmt: skip


@by_identity
def _on(tracks: JointTracks, skeleton: Skeleton) -> tuple[tuple[str, ...], FloatArray, IntArray]:
    """The joints that are moved here, their local values at rest (j, 10), and a table of their tracks (t, 7)."""
    known = [n for n, joint in enumerate(tracks.joints) if joint in skeleton.index]
    place = np.full(len(tracks.joints), -1)
    place[known] = np.arange(len(known))
    local = [np.concatenate(decompose(skeleton.local[skeleton.index[tracks.joints[n]]])) for n in known]
    kept = np.flatnonzero(place[tracks.joint] >= 0) if len(tracks.joint) else np.zeros(0, dtype=np.int64)
    path = tracks.path[kept]
    first, count = tracks.first[kept], tracks.count[kept]
    table = np.stack([
        place[tracks.joint[kept]], np.array(FIRST)[path], np.array(WIDTH)[path], tracks.step[kept], first, first + count,
        tracks.starts[kept] - first,
    ], axis=1).astype(np.int64)  # fmt: skip
    rest = np.asarray(frozen(np.array(local).reshape(-1, 10)))
    return tuple(tracks.joints[n] for n in known), rest, np.asarray(frozen(table))


def rows_at(tracks: JointTracks, skeleton: Skeleton, time: float) -> JointPose:
    """Where tracks put their joints in their parents at a time, as `Track.at` says."""
    joints, rest, table = _on(tracks, skeleton)
    rows = rest.copy()
    _sample(table, tracks.times, tracks.rows, time, rows)
    return JointPose(joints, rows)


@njit(cache=True, nogil=True)
def _sample(tracks, times, rows, time, out):  # pragma: no cover
    for t in range(len(tracks)):
        joint, first, width, stepped = tracks[t, 0], tracks[t, 1], tracks[t, 2], tracks[t, 3]
        # Keys a to b of the times; what they say begins at row a + shift.
        a, b, shift = tracks[t, 4], tracks[t, 5], tracks[t, 6]
        # The last key at or before the time.
        low, high = a, b
        while low < high:
            middle = (low + high) // 2
            if times[middle] <= time:
                low = middle + 1
            else:
                high = middle
        i = min(max(low - 1, a), b - 1)
        here = rows[i + shift]
        if i == b - 1 or time <= times[a] or stepped != 0:
            for k in range(width):
                out[joint, first + k] = here[k]
            continue
        following = rows[i + 1 + shift]
        u = (time - times[i]) / (times[i + 1] - times[i])
        if width == 3:
            for k in range(3):
                out[joint, first + k] = here[k] + u * (following[k] - here[k])
            continue
        na, nb, cosine = 0.0, 0.0, 0.0
        for k in range(4):
            na += here[k] * here[k]
            nb += following[k] * following[k]
        na, nb = np.sqrt(max(na, 1e-24)), np.sqrt(max(nb, 1e-24))
        for k in range(4):
            cosine += here[k] / na * following[k] / nb
        sign = -1.0 if cosine < 0.0 else 1.0
        cosine = min(abs(cosine), 1.0)
        if cosine > 1.0 - 1e-9:
            wa, wb = 1.0 - u, u
        else:
            angle = np.arccos(cosine)
            wa, wb = np.sin((1.0 - u) * angle) / np.sin(angle), np.sin(u * angle) / np.sin(angle)
        total = 0.0
        for k in range(4):
            out[joint, first + k] = wa * here[k] / na + wb * sign * following[k] / nb
            total += out[joint, first + k] ** 2
        total = np.sqrt(total)
        for k in range(4):
            out[joint, first + k] /= total
