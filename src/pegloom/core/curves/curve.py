"""A curve: keys with slopes, and the runs between them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum, IntEnum

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.curves import kernel
from pegloom.core.errors import ShapeError

SAME_TIME = 1e-6
"""Seconds: keys nearer to each other are one."""


class Run(IntEnum):
    """How values run from a key to the next."""

    SMOOTH = 0
    LINEAR = 1
    STEP = 2


class Slope(IntEnum):
    """Where a key's slope comes from."""

    AUTO = 0
    """Worked out from its neighbours, never overshooting."""
    LEVEL = 1
    ONE = 2
    """Set by hand, the same on both sides."""
    TWO = 3
    """Set by hand, each side its own."""


class Beyond(Enum):
    """What a curve does before its first and after its last key."""

    STAY = "stay"
    LINE = "line"
    """Runs on straight with the slope at that end."""
    LOOP = "loop"
    LOOP_ON = "loop on"
    """Repeats from where it arrived."""
    MIRROR = "mirror"
    """Back and forth."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Curve:
    """Keys of one channel; see `curve` for making one.

    times (k,) : seconds, rising. values (k,).
    runs (k,) : Run from each key to the next.
    slopes (k,) : Slope of each.
    before, after (k,) : value per second on either side of a key; those of AUTO and LEVEL keys are worked out here.
        AUTO: cubic Hermite slopes, flat at extremes and ends, so that no value overshoots its keys (Fritsch and
        Carlson, "Monotone piecewise cubic interpolation", 1980). Raises ShapeError for arrays that do not fit each
        other.
    """

    times: FloatArray
    values: FloatArray
    runs: IntArray
    slopes: IntArray
    before: FloatArray
    after: FloatArray
    first: Beyond = Beyond.STAY
    last: Beyond = Beyond.STAY

    def __post_init__(self) -> None:
        count = len(self.times)
        columns = (self.times, self.values, self.runs, self.slopes, self.before, self.after)
        if count == 0 or any(a.shape != (count,) for a in columns):
            raise ShapeError("a curve's keys are not one time, value, run and slope each")
        if not all(np.isfinite(a).all() for a in columns) or (np.diff(self.times) <= 0).any():
            raise ShapeError("a curve's keys are no rising times with a value each")
        if not (
            self.runs.min() >= 0 and self.runs.max() <= Run.STEP and self.slopes.min() >= 0 and self.slopes.max() <= 3
        ):
            raise ShapeError("a curve's runs or slopes are of a kind that is not known")
        auto = kernel.auto_slopes(self.times, self.values)
        level = self.slopes == Slope.LEVEL
        for name in ("before", "after"):
            worked = np.where(self.slopes == Slope.AUTO, auto, np.where(level, 0.0, getattr(self, name)))
            object.__setattr__(self, name, frozen(worked))
        for array in (self.times, self.values, self.runs, self.slopes):
            array.setflags(write=False)

    def at(self, time: float) -> float:
        """The value at a time."""
        return float(self.at_all(np.array([time]))[0])

    def at_all(self, times: FloatArray) -> FloatArray:
        """Values (t,) at many times."""
        result = np.empty(len(times))
        kernel.sample_one(pack((self,)), 0, np.ascontiguousarray(times, dtype=np.float64), result)
        return result

    def with_key(self, time: float, value: float) -> Curve:
        """The curve with a key put in, replacing the value of one at the same time (within a microsecond)."""
        same_time = np.flatnonzero(np.abs(self.times - time) <= SAME_TIME)
        if len(same_time):
            values = self.values.copy()
            values[same_time[0]] = value
            return replace(self, values=values)
        at = int(np.searchsorted(self.times, time))
        run = self.runs[max(at - 1, 0)]
        return replace(
            self, times=np.insert(self.times, at, time), values=np.insert(self.values, at, value),
            runs=np.insert(self.runs, at, run), slopes=np.insert(self.slopes, at, Slope.AUTO),
            before=np.insert(self.before, at, 0.0), after=np.insert(self.after, at, 0.0),
        )  # fmt: skip

    def without_key(self, time: float) -> Curve | None:
        """The curve without its key at a time; None when none is left."""
        return self.some(np.abs(self.times - time) > SAME_TIME)

    def some(self, chosen: np.ndarray) -> Curve | None:
        """Only the chosen keys (mask or indices); None for none."""
        if chosen.all() and chosen.dtype == bool:
            return self
        arrays = {k: getattr(self, k)[chosen] for k in ("times", "values", "runs", "slopes", "before", "after")}
        return replace(self, **arrays) if len(arrays["times"]) else None

    def moved_key(self, old: float, new: float) -> Curve:
        """The curve with its key at one time at another; one already there gives way."""
        here = np.flatnonzero(np.abs(self.times - old) <= SAME_TIME)
        if not len(here):
            return self
        i = here[0]
        kept = np.abs(self.times - new) > SAME_TIME
        kept[i] = True
        times = self.times.copy()
        times[i] = new
        order = np.flatnonzero(kept)[np.argsort(times[kept], kind="stable")]
        others = {k: getattr(self, k)[order] for k in ("values", "runs", "slopes", "before", "after")}
        return replace(self, times=times[order], **others)

    def scaled(self, factor: float) -> Curve:
        """Every value, and slope, times a factor."""
        return replace(self, values=self.values * factor, before=self.before * factor, after=self.after * factor)

    def with_runs(self, run: Run) -> Curve:
        return replace(self, runs=np.full(len(self.times), int(run)))


def curve(times: Sequence[float] | FloatArray, values: Sequence[float] | FloatArray, run: Run = Run.SMOOTH) -> Curve:
    """A curve of keys with slopes worked out. times: seconds, rising. Raises ShapeError for keys that do not fit."""
    t, v = np.array(times, dtype=np.float64), np.array(values, dtype=np.float64)
    return Curve(t, v, np.full(len(t), int(run)), np.zeros(len(t), dtype=np.int64), np.zeros(len(t)), np.zeros(len(t)))


BEYOND = tuple(Beyond)


def pack(curves: Sequence[Curve]) -> kernel.PackedCurves:
    """Many curves as flat arrays, as the kernel reads them."""
    starts = np.cumsum([0, *(len(c.times) for c in curves)])
    ends = np.array([(BEYOND.index(c.first), BEYOND.index(c.last)) for c in curves], dtype=np.int64).reshape(-1, 2)

    def joined(name: str, kind: type) -> np.ndarray:
        return np.concatenate([np.zeros(0, kind), *(getattr(c, name) for c in curves)])

    return kernel.PackedCurves(
        starts.astype(np.int64), joined("times", float), joined("values", float), joined("runs", np.int64),
        joined("before", float), joined("after", float), ends,
    )  # fmt: skip
