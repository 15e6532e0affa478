"""Keys on control channels, sampled joint tracks, and the clips that hold them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.transforms import normalised, slerp
from pegloom.core.rig.controls import CHANNELS, ControlRig, Pose, Values, channel_rows
from pegloom.core.skeleton.joints import Skeleton

NO_VALUES = (0.0,) * len(CHANNELS)


class Between(Enum):
    """How values run between keys."""

    SMOOTH = "smooth"
    LINEAR = "linear"
    STEP = "step"


@dataclass(frozen=True, slots=True)
class Curve:
    """Keys of one channel. times: seconds, rising; values: one each."""

    times: tuple[float, ...]
    values: tuple[float, ...]
    between: Between = Between.SMOOTH

    def at(self, time: float) -> float:
        """The value at a time; before the first and after the last key it stays.

        Smooth runs are cubic Hermite pieces with finite-difference slopes, flat at extremes, so that no value
        overshoots its keys (Fritsch and Carlson 1980).
        """
        t, v = self.times, self.values
        if time <= t[0]:
            return v[0]
        if time >= t[-1]:
            return v[-1]
        i = int(np.searchsorted(t, time, side="right")) - 1
        if self.between is Between.STEP:
            return v[i]
        span = t[i + 1] - t[i]
        u = (time - t[i]) / span
        if self.between is Between.LINEAR:
            return v[i] + u * (v[i + 1] - v[i])
        a, b = self._slope(i) * span, self._slope(i + 1) * span
        u2, u3 = u * u, u * u * u
        return (2 * u3 - 3 * u2 + 1) * v[i] + (u3 - 2 * u2 + u) * a + (3 * u2 - 2 * u3) * v[i + 1] + (u3 - u2) * b

    def at_all(self, times: FloatArray) -> FloatArray:
        """`at` for many times (k,) at once."""
        t, v = np.array(self.times), np.array(self.values)
        last = len(t) - 1
        if last == 0:
            return np.full(len(times), v[0])
        i = np.clip(np.searchsorted(t, times, side="right") - 1, 0, last - 1)
        span = t[i + 1] - t[i]
        u = (times - t[i]) / span
        if self.between is Between.STEP:
            made = v[i]
        elif self.between is Between.LINEAR:
            made = v[i] + u * (v[i + 1] - v[i])
        else:
            slopes = np.array([self._slope(k) for k in range(last + 1)])
            a, b = slopes[i] * span, slopes[i + 1] * span
            u2, u3 = u * u, u * u * u
            made = (2 * u3 - 3 * u2 + 1) * v[i] + (u3 - 2 * u2 + u) * a + (3 * u2 - 2 * u3) * v[i + 1] + (u3 - u2) * b
        return np.asarray(np.where(times <= t[0], v[0], np.where(times >= t[last], v[last], made)))

    def _slope(self, i: int) -> float:
        t, v = self.times, self.values
        if i == 0 or i == len(t) - 1:
            return 0.0
        before, after = (v[i] - v[i - 1]) / (t[i] - t[i - 1]), (v[i + 1] - v[i]) / (t[i + 1] - t[i])
        if before * after <= 0:
            return 0.0
        w1, w2 = 2 * (t[i + 1] - t[i]) + (t[i] - t[i - 1]), (t[i + 1] - t[i]) + 2 * (t[i] - t[i - 1])
        return (w1 + w2) / (w1 / before + w2 / after)

    def with_key(self, time: float, value: float) -> Curve:
        """The curve with a key put in, replacing one at the same time (within a microsecond)."""
        keys = [(t, v) for t, v in zip(self.times, self.values, strict=True) if abs(t - time) > 1e-6]
        keys = sorted([*keys, (time, value)])
        return replace(self, times=tuple(t for t, _ in keys), values=tuple(v for _, v in keys))

    def without_key(self, time: float) -> Curve | None:
        """The curve without its key at a time; None when none is left."""
        keys = [(t, v) for t, v in zip(self.times, self.values, strict=True) if abs(t - time) > 1e-6]
        if not keys:
            return None
        return replace(self, times=tuple(t for t, _ in keys), values=tuple(v for _, v in keys))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Track:
    """Sampled motion of one joint in its parent, as glTF stores it.

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
        held = (i == last) | (times <= self.times[0]) | self.step
        u = np.where(held, 0.0, (times - self.times[i]) / np.where(span > 0, span, 1.0))[:, None]
        if self.path != "rotation":
            return np.asarray(np.where(held[:, None], a, a + u * (b - a)))
        qa, qb = normalised(a), normalised(b)
        cosine = np.einsum("tk,tk->t", qa, qb)[:, None]
        qb, cosine = np.where(cosine < 0, -qb, qb), np.abs(cosine)
        angle = np.arccos(np.minimum(cosine, 1.0))
        near = cosine > 1.0 - 1e-9
        sine = np.where(near, 1.0, np.sin(angle))
        arc = (np.sin((1 - u) * angle) * qa + np.sin(u * angle) * qb) / sine
        return np.asarray(np.where(held[:, None], a, np.where(near, normalised(qa + u * (qb - qa)), arc)))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Clip:
    """Motion. curves: (control id, channel) -> keys. tracks: joint id -> sampled tracks. seconds."""

    id: str
    name: str
    rate: float = 30.0
    length: float = 2.0
    curves: Mapping[tuple[str, str], Curve] = field(default_factory=lambda: MappingProxyType({}))
    tracks: Mapping[str, tuple[Track, ...]] = field(default_factory=lambda: MappingProxyType({}))

    @property
    def key_times(self) -> tuple[float, ...]:
        """All times at which some control has a key."""
        return tuple(sorted({round(t, 6) for curve in self.curves.values() for t in curve.times}))


def sample(
    clip: Clip,
    time: float,
    skeleton: Skeleton | None = None,
    base: Pose | None = None,
    rig: ControlRig | None = None,
) -> Pose:
    """The pose of a clip at a time. Channels without keys keep `base`'s values, or the rig's rest."""
    if clip.tracks and skeleton is not None:
        # Tracks stand above clips: they pack them.
        from pegloom.core.motion.tracks import rows_at

        return Pose(placements=rows_at(clip, skeleton, float(time)))
    rows: dict[str, list[float]] = {}
    controls = dict(base.controls) if base is not None else {}
    for (control_id, channel), curve in clip.curves.items():
        if control_id not in rows:
            resting = rig.control(control_id).zero if rig is not None and control_id in rig.index else NO_VALUES
            rows[control_id] = list(controls.get(control_id, resting))
        rows[control_id][CHANNELS.index(channel)] = curve.at(time)
    for control_id, row in rows.items():
        controls[control_id] = tuple(row)  # type: ignore[assignment]
    return Pose(MappingProxyType(controls))


def channels_at(clip: Clip, times: FloatArray, rig: ControlRig, base: Pose | None = None) -> FloatArray:
    """Channel values (k, c, 8) of all controls at many times (k,): what `sample` gives, without a pose for each."""
    rows = channel_rows(rig, base if base is not None else Pose())
    made = np.repeat(rows[None], len(times), axis=0)
    for (control, channel), curve in clip.curves.items():
        if control in rig.index:
            made[:, rig.index[control], CHANNELS.index(channel)] = curve.at_all(times)
    return made


def with_keys(clip: Clip, time: float, control_id: str, values: Values, channels: tuple[str, ...]) -> Clip:
    """Key some channels of a control at a time. Raises ShapeError for a time before zero."""
    if time < 0:
        raise ShapeError("a key cannot stand before the clip's start")
    curves = dict(clip.curves)
    for channel in channels:
        value = values[CHANNELS.index(channel)]
        there = curves.get((control_id, channel))
        curves[control_id, channel] = there.with_key(time, value) if there else Curve((time,), (value,))
    return replace(clip, curves=MappingProxyType(curves), length=max(clip.length, time))


def without_keys(clip: Clip, time: float, control_ids: frozenset[str] | None = None) -> Clip:
    """Remove the keys at a time, of some controls or of all."""
    curves: dict[tuple[str, str], Curve] = {}
    for key, curve in clip.curves.items():
        kept: Curve | None = curve
        if control_ids is None or key[0] in control_ids:
            kept = curve.without_key(time)
        if kept is not None:
            curves[key] = kept
    return replace(clip, curves=MappingProxyType(curves))


def moved_keys(clip: Clip, old: float, new: float, control_ids: frozenset[str] | None = None) -> Clip:
    """Move the keys at one time to another; a key already there gives way."""
    curves = dict(clip.curves)
    for key, curve in clip.curves.items():
        if control_ids is not None and key[0] not in control_ids:
            continue
        for t, value in zip(curve.times, curve.values, strict=True):
            if abs(t - old) <= 1e-6:
                rest = curve.without_key(t)
                curves[key] = rest.with_key(new, value) if rest else replace(curve, times=(new,), values=(value,))
    return replace(clip, curves=MappingProxyType(curves), length=max(clip.length, new))
