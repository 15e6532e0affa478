"""Curves sampled, compiled: one curve at many moments, or many curves at one."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray


class PackedCurves(NamedTuple):
    """starts (c + 1,) : where each curve's keys begin in the others (k,).
    ends (c, 2) : what it does beyond them.
    """

    starts: IntArray
    times: FloatArray
    values: FloatArray
    runs: IntArray
    before: FloatArray
    after: FloatArray
    ends: IntArray


STAY, LINE, LOOP, LOOP_ON, MIRROR = 0, 1, 2, 3, 4
LINEAR, STEP = 1, 2


@njit(cache=True, nogil=True)
def auto_slopes(t, v):  # pragma: no cover
    """Slopes (k,) of keys: weighted harmonic means of the runs beside, 0 at ends and extremes."""
    result = np.zeros(len(t))
    for i in range(1, len(t) - 1):
        left, right = t[i] - t[i - 1], t[i + 1] - t[i]
        before, after = (v[i] - v[i - 1]) / left, (v[i + 1] - v[i]) / right
        if before * after <= 0:
            continue
        w1, w2 = 2 * right + left, right + 2 * left
        result[i] = (w1 + w2) / (w1 / before + w2 / after)
    return result


@njit(cache=True, nogil=True)
def value_at(curves, c, time):  # pragma: no cover
    """The value of a curve at a time."""
    a, b = curves.starts[c], curves.starts[c + 1]
    start, end = curves.times[a], curves.times[b - 1]
    length = end - start
    plus = 0.0
    if time < start or time > end:
        early = time < start
        how = curves.ends[c, 0] if early else curves.ends[c, 1]
        edge = a if early else b - 1
        if how == LINE:
            slope = curves.after[edge] if early else curves.before[edge]
            return curves.values[edge] + slope * (time - curves.times[edge])
        if how == STAY or length <= 0.0:
            return curves.values[edge]
        rounds = np.floor((time - start) / length)
        time = time - rounds * length
        if how == MIRROR and int(rounds) % 2 != 0:
            time = end - (time - start)
        if how == LOOP_ON:
            plus = rounds * (curves.values[b - 1] - curves.values[a])
    if time <= start:
        return curves.values[a] + plus
    if time >= end:
        return curves.values[b - 1] + plus
    low, high = a, b
    while low < high:
        middle = (low + high) // 2
        if curves.times[middle] <= time:
            low = middle + 1
        else:
            high = middle
    i = low - 1
    here, following, run = curves.values[i], curves.values[i + 1], curves.runs[i]
    if run == STEP:
        return here + plus
    span = curves.times[i + 1] - curves.times[i]
    u = (time - curves.times[i]) / span
    if run == LINEAR:
        return here + u * (following - here) + plus
    p, q = curves.after[i] * span, curves.before[i + 1] * span
    u2, u3 = u * u, u * u * u
    return (2 * u3 - 3 * u2 + 1) * here + (u3 - 2 * u2 + u) * p + (3 * u2 - 2 * u3) * following + (u3 - u2) * q + plus


@njit(cache=True, nogil=True)
def sample_one(curves, c, times, out):  # pragma: no cover
    """One curve at many times (t,) into out (t,)."""
    for k in range(len(times)):
        out[k] = value_at(curves, c, times[k])


@njit(cache=True, nogil=True)
def sample_all(curves, slots, times, out):  # pragma: no cover
    """All curves at many times into out (t, v), each at its slot (c,); those of slot -1 are passed by."""
    for c in range(len(slots)):
        if slots[c] >= 0:
            for k in range(len(times)):
                out[k, slots[c]] = value_at(curves, c, times[k])


@njit(cache=True, nogil=True)
def straight_keys(times, values, tolerance):  # pragma: no cover
    """Which keys (k,) to keep so that straight runs between them miss none by more than a tolerance (D. Douglas, T. Peucker,
    "Algorithms for the reduction of the number of points", Cartographica 10, 1973)."""
    count = len(times)
    kept = np.zeros(count, dtype=np.bool_)
    kept[0] = kept[count - 1] = True
    stack = np.empty((count + 1, 2), dtype=np.int64)
    stack[0, 0], stack[0, 1] = 0, count - 1
    waiting = 1
    while waiting > 0:
        waiting -= 1
        a, b = stack[waiting, 0], stack[waiting, 1]
        slope = (values[b] - values[a]) / (times[b] - times[a]) if b > a else 0.0
        worst, at = tolerance, -1
        for i in range(a + 1, b):
            off = abs(values[i] - values[a] - slope * (times[i] - times[a]))
            if off > worst:
                worst, at = off, i
        if at >= 0:
            kept[at] = True
            stack[waiting, 0], stack[waiting, 1] = a, at
            stack[waiting + 1, 0], stack[waiting + 1, 1] = at, b
            waiting += 2
    return kept
