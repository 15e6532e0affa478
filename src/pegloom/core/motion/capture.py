"""A take of a live performance: frames that came unevenly, with gaps, made a source of even ones.

Gaps of places are filled by monotone cubics (Fritsch and Carlson, "Monotone piecewise cubic interpolation", 1980), of rotations along
the shortest way (Shoemake, "Animating rotation with quaternion curves", 1985); smoothing is Savitzky and Golay's ("Smoothing and
differentiation of data by simplified least squares procedures", 1964), by cubics: peaks keep their height.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.signal import savgol_filter
from scipy.spatial.transform import Rotation, Slerp

from pegloom.core.arrays import BoolArray, FloatArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.source import Source
from pegloom.core.motion.tracks import JointTracks, Track, joint_tracks
from pegloom.core.skeleton.joints import Skeleton

MOST_FRAMES = 400_000
ORDER = 3
"""Of the polynomials that smooth."""
LATE = 1.5
"""Steps between two frames from which on something is missing between them."""
MOVES = 1e-4
"""Share of the size by which a joint changes its place in its parent, for its place to be told."""


class Recording:
    """Frames as they come, on whatever thread. times : seconds of the device, ever onward."""

    def __init__(self, skeleton: Skeleton, rate: float) -> None:
        self.skeleton, self.rate = skeleton, rate
        self.lock = threading.Lock()
        self._times: list[float] = []
        self._rows: list[FloatArray] = []
        self._offset = 0.0
        self._arrived = 0.0

    def add(self, seconds: float, rows: FloatArray, arrived: float) -> bool:
        """One more frame: rows (j, 7), NaN for what was out of sight. arrived : seconds of the clock here, by which a device that was
        started anew goes on. Returns whether it was taken."""
        with self.lock:
            if len(self._times) >= MOST_FRAMES:
                return False
            time = seconds + self._offset
            if self._times and not 0.0 < time - self._times[-1] < 60.0:
                self._offset = self._times[-1] + max(arrived - self._arrived, 0.5 / self.rate) - seconds
                time = seconds + self._offset
            self._times.append(time)
            self._rows.append(rows)
            self._arrived = arrived
            return True

    def __len__(self) -> int:
        return len(self._times)

    @property
    def seconds(self) -> float:
        """From the first frame to the last."""
        return self._times[-1] - self._times[0] if self._times else 0.0

    def frames(self) -> tuple[FloatArray, FloatArray]:
        """Times (k,) and rows (k, j, 7) of what has come."""
        with self.lock:
            rows = np.array(self._rows) if self._rows else np.zeros((0, len(self.skeleton.joints), 7))
            return np.array(self._times), rows


@dataclass(frozen=True, slots=True)
class TakeOptions:
    """smooth : seconds the smoothing looks over, 0 for none. first, last : seconds of the take that are kept; None from its beginning, to
    its end."""

    smooth: float = 0.1
    first: float | None = None
    last: float | None = None


@dataclass(frozen=True, slots=True)
class TakeReport:
    """What was done to a take. frames : of it, filled : of them worked out where none came, longest : seconds of the longest gap,
    lost : share of joints' frames out of sight, moved : degrees by which smoothing turned a joint, root of the mean square."""

    frames: int
    filled: int
    longest: float
    lost: float
    moved: float


def taken(skeleton: Skeleton, times: FloatArray, rows: FloatArray, rate: float, *, name: str = "take", options: TakeOptions | None = None) -> tuple[Source, TakeReport]:
    """A source of even frames from those that came.

    times (k,) : seconds, onward. rows (k, j, 7) : place and rotation in the parent, NaN for what was out of sight.

    Raises EditError for a take of less than two frames.
    """
    options = options or TakeOptions()
    if len(times) < 2:
        raise EditError("the take holds less than two frames; record for longer")
    own = times - times[0]
    first = max(options.first or 0.0, 0.0)
    last = min(own[-1] if options.last is None else options.last, own[-1])
    grid = first + np.arange(int(np.floor((last - first) * rate + 1e-6)) + 1) / rate
    if len(grid) < 2:
        raise EditError("nothing of the take is kept; it ends before it begins")
    seen = np.asarray(np.isfinite(rows).all(axis=2))
    even = np.stack([_filled(own, rows[:, j], seen[:, j], grid, _rest(skeleton, j)) for j in range(len(skeleton.joints))], axis=1)
    smooth = smoothed(even, options.smooth, rate)
    cosine = np.clip(np.abs((even[..., 3:] * smooth[..., 3:]).sum(axis=-1)), 0.0, 1.0)
    moved = float(np.degrees(np.sqrt(np.mean((2.0 * np.arccos(cosine)) ** 2))))
    steps = np.diff(own)
    gaps = steps[steps > LATE / rate]
    inside = (own >= first - 1e-9) & (own <= last + 1e-9)
    report = TakeReport(
        len(grid), round(float(np.sum(gaps * rate - 1.0))) if len(gaps) else 0, float(gaps.max(initial=0.0)),
        float(1.0 - seen[inside].mean()) if inside.any() else 1.0, moved,
    )  # fmt: skip
    return Source("", name, skeleton, Clip("", name, rate, float(grid[-1] - grid[0]), tracks=_tracks(skeleton, grid - grid[0], smooth))), report


def _rest(skeleton: Skeleton, joint: int) -> FloatArray:
    local = skeleton.local[joint]
    return np.concatenate([local[:3, 3], Rotation.from_matrix(local[:3, :3]).as_quat()])


def _filled(times: FloatArray, rows: FloatArray, seen: BoolArray, grid: FloatArray, rest: FloatArray) -> FloatArray:
    """One joint (k, 7) on even moments; at rest where it was never seen, and where it was not yet or no more, as it was seen first or
    last."""
    known = np.flatnonzero(seen)
    if len(known) == 0:
        return np.repeat(rest[None], len(grid), axis=0)
    if len(known) == 1:
        return np.repeat(rows[known], len(grid), axis=0)
    at, values = times[known], rows[known]
    moments = np.clip(grid, at[0], at[-1])
    places = PchipInterpolator(at, values[:, :3])(moments) if np.ptp(values[:, :3], axis=0).max() > 0 else np.repeat(values[:1, :3], len(grid), axis=0)
    return np.concatenate([places, onward(Slerp(at, Rotation.from_quat(values[:, 3:]))(moments).as_quat())], axis=1)


def onward(turns: FloatArray) -> FloatArray:
    """Quaternions (k, 4), each in the half space of the one before."""
    flips = np.cumprod(np.where((turns[1:] * turns[:-1]).sum(axis=-1) < 0.0, -1.0, 1.0))
    result = turns.copy()
    result[1:] *= flips[:, None]
    return result


def smoothed(rows: FloatArray, seconds: float, rate: float) -> FloatArray:
    """Rows (k, j, 7) smoothed over some seconds; 0, or less than the polynomial needs, leaves them."""
    window = int(seconds * rate) // 2 * 2 + 1
    window = min(window, (len(rows) - 1) // 2 * 2 + 1)
    if window <= ORDER:
        return rows
    result = np.stack([np.concatenate([rows[:, j, :3], onward(rows[:, j, 3:])], axis=1) for j in range(rows.shape[1])], axis=1)
    result = savgol_filter(result, window, ORDER, axis=0, mode="interp")
    result[..., 3:] /= np.linalg.norm(result[..., 3:], axis=-1, keepdims=True)
    return result


def _tracks(skeleton: Skeleton, times: FloatArray, rows: FloatArray) -> JointTracks:
    size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-9)
    when = np.asarray(frozen(np.array(times)))
    found = {}
    for j, joint in enumerate(skeleton.joints):
        moves = np.abs(rows[:, j, :3] - skeleton.local[j][:3, 3]).max() > MOVES * size
        spans = [("translation", slice(0, 3))] if moves else []
        found[joint.id] = tuple(Track(path, when, np.asarray(frozen(np.ascontiguousarray(rows[:, j, span])))) for path, span in (*spans, ("rotation", slice(3, 7))))
    return joint_tracks(found)
