"""Many keys of a curve at once: moved, scaled in time, copied, snapped to frames, made fewer; values between neighbours."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.curves.curve import SAME_TIME, Curve, Run, Slope
from pegloom.core.errors import ShapeError

Chosen = NDArray[np.bool_]
"""Which keys of a curve (k,)."""
BETWEEN = (0.25, 0.5, 0.75)
"""Where between two keys a reduced curve is held against the one before, too."""


def keys_between(one: Curve, first: float, last: float) -> Chosen:
    """The keys from a time to another, both included."""
    return np.asarray((one.times >= first - SAME_TIME) & (one.times <= last + SAME_TIME))


def shifted(one: Curve, chosen: Chosen, seconds: float = 0.0, value: float = 0.0) -> Curve:
    """Chosen keys moved in time and in value; a key that is not chosen gives way to one that comes to stand on it.

    Raises ShapeError where a key would stand before time zero.
    """
    return _placed(one, chosen, one.times[chosen] + seconds, one.values[chosen] + value)


def scaled_in_time(one: Curve, chosen: Chosen, about: float, factor: float) -> Curve:
    """Chosen keys drawn apart or together about a time; slopes set by hand follow, so that shapes between stay.

    factor : above 0. Raises ShapeError for another one, or where a key would stand before time zero.
    """
    if not factor > 0.0 or not np.isfinite(factor):
        raise ShapeError("keys are scaled in time by a factor above 0")
    slower = replace(one, before=np.where(chosen, one.before / factor, one.before), after=np.where(chosen, one.after / factor, one.after))
    return _placed(slower, chosen, about + (one.times[chosen] - about) * factor, one.values[chosen])


def scaled_in_value(one: Curve, chosen: Chosen, about: float, factor: float) -> Curve:
    """Chosen keys' values drawn away from a value, or to it."""
    steeper = replace(one, before=np.where(chosen, one.before * factor, one.before), after=np.where(chosen, one.after * factor, one.after))
    return _placed(steeper, chosen, one.times[chosen], about + (one.values[chosen] - about) * factor)


def copied(one: Curve, chosen: Chosen, seconds: float) -> Curve:
    """Chosen keys put in once more so much later; one that stood there gives way."""
    more = one.some(chosen)
    if more is None or seconds == 0.0:
        return one
    later = _placed(more, np.ones(len(more.times), dtype=bool), more.times + seconds, more.values)
    return joined(one, later)


def joined(one: Curve, over: Curve) -> Curve:
    """Keys of both; where both have one, that of `over`."""
    apart = np.abs(one.times[:, None] - over.times[None]).min(axis=1) > SAME_TIME
    order = np.argsort(np.concatenate([one.times[apart], over.times]), kind="stable")
    times, values, runs, slopes, before, after = (np.concatenate([getattr(one, k)[apart], getattr(over, k)])[order] for k in COLUMNS)
    return Curve(times, values, runs, slopes, before, after, one.first, one.last)


def snapped(one: Curve, chosen: Chosen, rate: float) -> Curve:
    """Chosen keys on the nearest frames; of several that come to one frame the one nearest to it stays."""
    frames = np.round(one.times * rate) / rate
    off = np.abs(one.times - frames)
    kept = np.ones(len(one.times), dtype=bool)
    for frame in np.unique(frames[chosen]):
        here = np.flatnonzero(chosen & (frames == frame))
        kept[here] = False
        kept[here[np.argmin(off[here])]] = True
    fewer = one.some(kept)
    assert fewer is not None
    still = chosen[kept]
    return _placed(fewer, still, frames[kept][still], fewer.values[still])


def reduced(one: Curve, tolerance: float, chosen: Chosen | None = None) -> Curve:
    """The curve with fewer keys, nowhere further than `tolerance` from what it was.

    Starts from the ends, jumps and keys that are not chosen, and puts back the worst key of each run until the curve,
    at every key it had and at BETWEEN each two, holds; kept keys take the slopes the curve had there, each side its own.
    """
    count = len(one.times)
    if count < 3:
        return _constant(one, tolerance)
    kept = np.zeros(count, dtype=bool) if chosen is None else ~chosen
    kept[[0, -1]] = True
    step = one.runs == Run.STEP
    kept |= step | np.concatenate([[False], step[:-1]])
    times = np.unique(np.concatenate([one.times, *(one.times[:-1] + f * np.diff(one.times) for f in BETWEEN)]))
    wanted, sloped = one.at_all(times), _sloped(one)
    owner = np.clip(np.searchsorted(one.times, times + SAME_TIME, side="right") - 1, 0, count - 1)
    for _ in range(count):
        now = sloped.some(kept)
        assert now is not None
        off = np.abs(now.at_all(times) - wanted)
        bad = off > tolerance
        if not bad.any():
            return _constant(now, tolerance)
        run = np.cumsum(kept)[owner]
        at = np.flatnonzero(bad)
        worst = at[np.lexsort((-off[at], run[at]))]
        worst = worst[np.concatenate([[True], np.diff(run[worst]) != 0])]
        more = _nearest_free(kept, owner[worst])
        if not more.any():
            return one
        kept |= more
    return one


def cut(one: Curve, first: float, last: float) -> Curve:
    """A stretch of a curve, told from its beginning on: it runs as it did, with a key at either end."""
    whole = _sloped(one)
    inside = (one.times > first + SAME_TIME) & (one.times < last - SAME_TIME)
    small = 1e-6 * max(last - first, 1e-6)
    a, a_on, b_before, b = one.at_all(np.array([first, first + small, last - small, last])).tolist()
    at = int(np.clip(np.searchsorted(one.times, first + SAME_TIME, side="right") - 1, 0, len(one.times) - 1))
    step = bool(one.runs[at] == Run.STEP) and first >= one.times[0] - SAME_TIME

    def ends(values: np.ndarray, head: float, tail: float) -> np.ndarray:
        return np.concatenate([[head], values[inside], [tail]]).astype(values.dtype)

    run = int(Run.STEP) if step else int(Run.SMOOTH)
    rise, fall = (a_on - a) / small, (b - b_before) / small
    kept = replace(
        whole, times=ends(whole.times, first, last) - first, values=ends(whole.values, a, b), runs=ends(whole.runs, run, int(Run.SMOOTH)),
        slopes=ends(whole.slopes, int(Slope.TWO), int(Slope.TWO)), before=ends(whole.before, rise, fall), after=ends(whole.after, rise, fall),
    )  # fmt: skip
    return _constant(kept, 1e-12)


def between(one: Curve, time: float, share: float) -> float:
    """A value on the way from the key before a time (0) to the key after it (1); beyond them for shares outside."""
    before = int(np.clip(np.searchsorted(one.times, time - SAME_TIME) - 1, 0, len(one.times) - 1))
    after = int(np.clip(np.searchsorted(one.times, time + SAME_TIME, side="right"), 0, len(one.times) - 1))
    low, high = float(one.values[before]), float(one.values[after])
    return low + share * (high - low)


def with_slopes(one: Curve, chosen: Chosen, kind: Slope, before: float | None = None, after: float | None = None) -> Curve:
    """Chosen keys with slopes of a kind; set by hand they start from those they have. before, after : value per second."""
    slopes = np.where(chosen, int(kind), one.slopes)
    left = one.before if before is None else np.where(chosen, before, one.before)
    right = one.after if after is None else np.where(chosen, after, one.after)
    if kind is Slope.ONE:
        same = right if before is None and after is not None else left if after is None and before is not None else (left + right) / 2
        left, right = np.where(chosen, same, left), np.where(chosen, same, right)
    return replace(one, slopes=slopes, before=left, after=right)


COLUMNS = ("times", "values", "runs", "slopes", "before", "after")


def _placed(one: Curve, chosen: Chosen, times: FloatArray, values: FloatArray) -> Curve:
    """Chosen keys at other times and values; of several at one time a chosen one stays."""
    if not chosen.any():
        return one
    if times.min() < -SAME_TIME:
        raise ShapeError("a key cannot stand before the clip's start")
    all_times, all_values = one.times.copy(), one.values.copy()
    all_times[chosen], all_values[chosen] = np.maximum(times, 0.0), values
    over = np.abs(all_times[:, None] - all_times[chosen][None]).min(axis=1) <= SAME_TIME
    kept = chosen | ~over
    order = np.flatnonzero(kept)[np.argsort(all_times[kept], kind="stable")]
    first = np.concatenate([[True], np.diff(all_times[order]) > SAME_TIME])
    order = order[first]
    return replace(
        one, times=all_times[order], values=all_values[order], runs=one.runs[order], slopes=one.slopes[order],
        before=one.before[order], after=one.after[order],
    )  # fmt: skip


def _sloped(one: Curve) -> Curve:
    """The same curve with every slope its own, so that keys can go without the others changing theirs; straight runs
    become smooth ones with the run's slope at both ends."""
    rise = np.diff(one.values) / np.diff(one.times)
    straight = one.runs[:-1] == Run.LINEAR
    after, before = one.after.copy(), one.before.copy()
    after[:-1] = np.where(straight, rise, after[:-1])
    before[1:] = np.where(straight, rise, before[1:])
    runs = np.where(one.runs == Run.LINEAR, int(Run.SMOOTH), one.runs)
    return replace(one, runs=runs, slopes=np.full(len(one.times), int(Slope.TWO)), before=before, after=after)


def _nearest_free(kept: Chosen, wanted: IntArray) -> Chosen:
    """Of the keys that are gone the nearest to each wanted one."""
    gone = np.flatnonzero(~kept)
    more = np.zeros(len(kept), dtype=bool)
    for i in wanted if len(gone) else ():
        more[gone[np.argmin(np.abs(gone - i))]] = True
    return more


def _constant(one: Curve, tolerance: float) -> Curve:
    """One key for a curve that does not move."""
    flat = np.ptp(one.values) <= tolerance * 0.5 and (np.abs(one.before).max() + np.abs(one.after).max()) * np.ptp(one.times) <= tolerance
    if len(one.times) > 1 and flat:
        first = one.some(np.arange(len(one.times)) == 0)
        assert first is not None
        return first
    return one
