"""Clips: curves on control channels, or sampled joint tracks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.curves import Curve, curve
from pegloom.core.curves.curve import pack
from pegloom.core.curves.kernel import PackedCurves, sample_all
from pegloom.core.errors import ShapeError
from pegloom.core.memo import by_identity
from pegloom.core.motion.borrowed import Borrowed
from pegloom.core.motion.gait.told import GaitTold
from pegloom.core.motion.layers import Layer, lay_on, playing
from pegloom.core.motion.origin import ClipOrigin
from pegloom.core.motion.tracks import JointTracks, rows_at
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import JointPose, Pose, Shown
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.skeleton.joints import Skeleton


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class MorphTrack:
    """Sampled weights of one part's morph targets, as files have them.

    part : its name. names (m) : of the targets.
    times (k,), weights (k, m) : straight between samples, or held until the next where `step`.
    """

    part: str
    names: tuple[str, ...]
    times: FloatArray
    weights: FloatArray
    step: bool = False

    def at(self, time: float) -> tuple[tuple[str, str, float], ...]:
        """Part, target and weight at a time (seconds)."""
        if self.step:
            row = self.weights[max(int(np.searchsorted(self.times, time + 1e-9, side="right")) - 1, 0)]
        else:
            row = np.array([np.interp(time, self.times, self.weights[:, k]) for k in range(len(self.names))])
        return tuple((self.part, name, float(w)) for name, w in zip(self.names, row, strict=True))

    def resampled(self, times: FloatArray) -> MorphTrack:
        """At other moments (k,)."""
        if self.step:
            rows = self.weights[np.maximum(np.searchsorted(self.times, times + 1e-9, side="right") - 1, 0)]
        else:
            rows = np.stack([np.interp(times, self.times, self.weights[:, k]) for k in range(len(self.names))], axis=1)
        return replace(self, times=frozen(times), weights=frozen(rows))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class ShowTrack:
    """When a part is seen, sampled for files that tell it.

    part : its name. times (k,) : rising, the first at the clip's beginning. seen (k,) : from each until the next.
    """

    part: str
    times: FloatArray
    seen: tuple[bool, ...]


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Clip:
    """Motion.

    curves : (control id, channel key) -> keys.
    layers : laid over the curves, from the bottom up.
    tracks : sampled motion of joints. seconds.
    morphs : sampled weights of morph targets beside it.
    shows : when parts are seen, of a clip that was sampled to be delivered.
    borrowed : the source its motion was carried over from, where it was.
    gait : the numbers it was made from, where it was.
    origin : where it comes from, where that is known.
    worked_out : controls whose curves are told by another character's motion, not by hand.
    """

    id: str
    name: str
    rate: float = 30.0
    length: float = 2.0
    curves: Mapping[tuple[str, str], Curve] = field(default_factory=lambda: MappingProxyType({}))
    tracks: JointTracks = field(default_factory=JointTracks)
    layers: tuple[Layer, ...] = ()
    morphs: tuple[MorphTrack, ...] = ()
    borrowed: Borrowed | None = None
    gait: GaitTold | None = None
    origin: ClipOrigin | None = None
    worked_out: frozenset[str] = frozenset()
    shows: tuple[ShowTrack, ...] = ()

    @property
    def playing(self) -> tuple[Layer, ...]:
        """The layers that play, from the bottom up."""
        return playing(self.layers)

    @property
    def own(self) -> Mapping[tuple[str, str], Curve]:
        """The clip's own curves, none where a layer is shown alone."""
        return {} if any(layer.alone for layer in self.playing) else self.curves

    @property
    def every_curve(self) -> tuple[Curve, ...]:
        """All curves that have a say while it plays, amounts of layers too."""
        over = (one for layer in self.playing if layer.curves for one in (layer.amount, *layer.curves.values()))
        return (*self.own.values(), *over)

    @property
    def key_times(self) -> tuple[float, ...]:
        """All times at which some control has a key that was set."""
        return tuple(sorted({round(t, 6) for ref, keys in self.curves.items() if ref[0] not in self.worked_out for t in keys.times.tolist()}))


def sample(
    clip: Clip,
    time: float,
    skeleton: Skeleton | None = None,
    base: Shown | None = None,
    rig: ControlRig | None = None,
) -> Shown:
    """The pose of a clip at a time. Channels without keys keep `base`'s values, or the rig's rest. Layers need the rig."""
    if clip.tracks and skeleton is not None:
        pose = rows_at(clip.tracks, skeleton, float(time))
        return replace(pose, morphs=_morphs_at(clip, time)) if clip.morphs else pose
    if clip.morphs and not clip.curves:
        return JointPose((), np.zeros((0, 10)), _morphs_at(clip, time))
    if rig is None:
        values = dict(base.values) if isinstance(base, Pose) else {}
        return Pose(values | {ref: keys.at(time) for ref, keys in clip.own.items()})
    return rig.slots.pose(values_at(clip, np.array([float(time)]), rig, base)[0])


def _morphs_at(clip: Clip, time: float) -> tuple[tuple[str, str, float], ...]:
    return tuple(found for track in clip.morphs for found in track.at(time))


@by_identity
def packed_curves(clip: Clip, rig: ControlRig) -> tuple[PackedCurves, IntArray]:
    """A clip's own curves as flat arrays, and the slot of each; -1 for a channel the rig does not have."""
    slots = np.array([rig.slots.index.get(ref, -1) for ref in clip.own], dtype=np.int64)
    return pack(tuple(clip.own.values())), np.asarray(frozen(slots))


def values_at(clip: Clip, times: FloatArray, rig: ControlRig, base: Shown | None = None) -> FloatArray:
    """Channel values (k, v) of a rig at many times (k,): what `sample` gives, without a pose for each."""
    result = rig.slots.many(base if isinstance(base, Pose) else Pose(), len(times))
    curves, slots = packed_curves(clip, rig)
    moments = np.ascontiguousarray(times, dtype=np.float64)
    sample_all(curves, slots, moments, result)
    for layer in clip.playing:
        lay_on(layer, rig, moments, result)
    return result


def waiting_curves(clip: Clip, rig: ControlRig) -> tuple[ChannelRef, ...]:
    """Channels a clip has keys of and the rig does not have: they wait for their return."""
    every = dict.fromkeys([*clip.curves, *(ref for layer in clip.layers for ref in layer.curves)])
    return tuple(ChannelRef(*ref) for ref in every if ref not in rig.slots.index)


def with_keys(clip: Clip, time: float, control_id: str, values: Mapping[str, float]) -> Clip:
    """Key some channels of a control, value by channel key, at a time. Raises ShapeError for a time before zero."""
    if time < 0:
        raise ShapeError("a key cannot stand before the clip's start")
    curves = dict(clip.curves)
    for key, value in values.items():
        existing = curves.get((control_id, key))
        curves[ChannelRef(control_id, key)] = existing.with_key(time, value) if existing else curve((time,), (value,))
    return replace(clip, curves=MappingProxyType(curves), length=max(clip.length, time))


def without_keys(clip: Clip, time: float, control_ids: frozenset[str] | None = None) -> Clip:
    """Remove the keys at a time, of some controls or of all."""
    curves: dict[tuple[str, str], Curve] = {}
    for ref, keys in clip.curves.items():
        kept = keys.without_key(time) if control_ids is None or ref[0] in control_ids else keys
        if kept is not None:
            curves[ref] = kept
    return replace(clip, curves=MappingProxyType(curves))


def moved_keys(clip: Clip, old: float, new: float, control_ids: frozenset[str] | None = None) -> Clip:
    """Move the keys at one time to another; a key already there gives way."""
    curves = {
        ref: keys.moved_key(old, new) if control_ids is None or ref[0] in control_ids else keys
        for ref, keys in clip.curves.items()
    }
    return replace(clip, curves=MappingProxyType(curves), length=max(clip.length, new))
