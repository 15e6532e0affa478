"""Sampled motion of joints brought onto the controls, frame by frame."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve, Run, curve
from pegloom.core.curves.kernel import straight_keys
from pegloom.core.errors import ShapeError
from pegloom.core.jobs import Progress, silent
from pegloom.core.motion.clips import Clip, MorphTrack
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.tracks import JointTracks
from pegloom.core.rig.channels import BLEND, MOVE, ROTATE
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Combine
from pegloom.core.rig.evaluate import AT_ONCE, driven, joints_at
from pegloom.core.rig.match import ik_values, values_of_joints
from pegloom.core.rig.refs import ChannelRef, NodeKind
from pegloom.core.rig.use import controls_of
from pegloom.core.skeleton.joints import Skeleton

HOLDS_OF_SIZE = 1e-4
"""Fraction of the skeleton's size that a limb on IK may differ from the sampled joints; one that differs more goes on FK."""
WEIGHT = 5e-3
"""What a morph target's weight may differ from the sampled one before it is told."""
LEADS = frozenset({*MOVE, *ROTATE, BLEND})
SAME = 1e-7
"""What a key may be left out for, in the channel's own unit."""


@dataclass(frozen=True, slots=True)
class Brought:
    """clip : of keys on controls, at its frames.
    gaps (k,) : the farthest a joint is from the sampled motion, metres, by frame.
    worst : the joint that is farthest, at frame `frame`.
    on_fk : ids of solvers that were wanted on IK and are on FK, since IK cannot show what their joints do.
    morphs : names of morph targets that no channel shows as they were; their weights stay with the clip, sampled.
    """

    clip: Clip
    gaps: FloatArray
    worst: str
    frame: int
    on_fk: tuple[str, ...] = ()
    morphs: tuple[str, ...] = ()

    def __str__(self) -> str:
        """How near it comes, in words."""
        return f"the farthest joint is {1000.0 * float(self.gaps.max(initial=0.0)):.2f} mm off, {self.worst} at frame {self.frame}"


def onto_controls(
    clip: Clip, skeleton: Skeleton, rig: ControlRig, *, on_ik: Collection[str] | None = None,
    part_ids: Mapping[str, str] | None = None, progress: Progress = silent,
) -> Brought:  # fmt: skip
    """A clip of keys that shows what a sampled one does: FK controls turn as the joints do, and both sides of each limb agree.

    on_ik : ids of the solvers whose goals are to lead, the others on FK; None: as the rig rests.
    part_ids : ids of parts by the names that tracks of morph targets have.
    Springs whose joints have motion are off, since what they did is in it. Raises ShapeError for a clip that is not sampled,
    Cancelled from `progress`.
    """
    if not clip.tracks:
        raise ShapeError(f"{clip.name} holds no sampled motion")
    times = np.arange(int(np.floor(clip.length * clip.rate + 1e-6)) + 1) / clip.rate
    slots = rig.slots
    wanted = {s.id for s in rig.solvers if (slots.rest[slots.index[s.amount]] > 0.5 if on_ik is None else s.id in on_ik)}
    off = [slots.index[s.amount] for s in rig.springs if set(s.joints) & set(clip.tracks)]
    size = max(float(np.linalg.norm(np.ptp(skeleton.positions, axis=0))), 1e-9)
    values = np.empty((len(times), len(slots.rest)))
    progress(0.0, "reading the joints")
    joints = posed_at(clip, skeleton, times)
    for first in range(0, len(times), AT_ONCE):
        progress(0.3 + 0.3 * first / len(times), "turning the controls")
        some = slice(first, first + AT_ONCE)
        values[some] = values_of_joints(skeleton, rig, joints[some])
    values[:, off] = 0.0
    left: list[str] = []
    for solver in rig.solvers:
        amount = slots.index[solver.amount]
        values[:, amount] = 0.0
    for done, solver in enumerate(s for s in rig.solvers if s.id in wanted):
        progress(0.6 + 0.35 * done / len(wanted), f"leading {solver.name or solver.id} by its goal")
        amount = slots.index[solver.amount]
        led = np.concatenate([ik_values(skeleton, rig, values[k : k + AT_ONCE], solver) for k in range(0, len(times), AT_ONCE)])
        led[:, amount] = 1.0
        mine = np.array([skeleton.index[j] for j in solver.joints])
        if _gaps(skeleton, rig, led, joints)[:, mine].max(initial=0.0) > HOLDS_OF_SIZE * size:
            left.append(solver.id)
        else:
            values = led
    gaps = _gaps(skeleton, rig, values, joints)
    frame, farthest = np.unravel_index(int(gaps.argmax()), gaps.shape)
    morphs, names = _put_morphs(clip, skeleton, rig, times, values, part_ids or {})
    leads = _leading(clip, rig)
    curves: dict[tuple[str, str], Curve] = {}
    for (ref, slot), channel in zip(slots.index.items(), slots.channels, strict=True):
        told = np.ascontiguousarray(values[:, slot])
        # What leads these joints has a key where it rests, too: else a pose in hand would show through.
        if not channel.locked and (np.abs(told - slots.rest[slot]).max() > SAME or (ref[0] in leads and ref[1] in LEADS)):
            kept = straight_keys(times, told, SAME) if np.ptp(told) > 0.5 * SAME else np.arange(len(times)) == 0
            curves[ref] = curve(times[kept], told[kept], Run.LINEAR)
    result = replace(clip, curves=MappingProxyType(curves), tracks=JointTracks(), morphs=morphs)
    return Brought(result, gaps.max(axis=1), skeleton.joints[int(farthest)].name, int(frame), tuple(left), names)


def _leading(clip: Clip, rig: ControlRig) -> frozenset[str]:
    """Ids of the controls that lead joints with motion, and of those of the solvers that do."""
    found = {d.node.id for d in rig.drives if d.node.kind is NodeKind.CONTROL and d.joint in clip.tracks}
    for solver in rig.solvers:
        if set(solver.joints) & set(clip.tracks):
            found |= {*solver.fk, *controls_of(solver)}
    return frozenset(found)


def _gaps(skeleton: Skeleton, rig: ControlRig, values: FloatArray, joints: FloatArray) -> FloatArray:
    """How far each joint (k, j) is from where it should be, metres."""
    found = np.empty(joints.shape[:2])
    for first in range(0, len(joints), AT_ONCE):
        some = slice(first, first + AT_ONCE)
        shown = joints_at(skeleton, rig, values[some])
        found[some] = np.linalg.norm(shown[..., :3, 3] - joints[some][..., :3, 3], axis=-1)
    return found


def _put_morphs(
    clip: Clip, skeleton: Skeleton, rig: ControlRig, times: FloatArray, values: FloatArray, part_ids: Mapping[str, str]
) -> tuple[tuple[MorphTrack, ...], tuple[str, ...]]:
    """Put weights of morph targets on the channels that lead to them, in values (k, v); tracks and names of those that no
    channel shows."""
    told: dict[int, FloatArray] = {}
    shown: list[tuple[int, int, int | None, FloatArray]] = []
    for i, track in enumerate(clip.morphs):
        weights = np.array([[w for _, _, w in track.at(float(t))] for t in times])
        for k, name in enumerate(track.names):
            drives = [d for d in rig.morphs if d.morph == name and d.part in ("", part_ids.get(track.part, track.part))]
            source = _source(rig, drives[0].channel) if len(drives) == 1 else None
            shown.append((i, k, rig.slots.index.get(drives[0].channel) if len(drives) == 1 else None, weights[:, k]))
            if source is not None:
                # Several targets may hang on one handle, each on its own way: what one does is nothing to the others.
                slot, gain = source
                told[slot] = told.get(slot, np.zeros(len(times))) + weights[:, k] / gain
    for slot, rows in told.items():
        values[:, slot] = np.clip(rows, rig.slots.low[slot], rig.slots.high[slot])
    plays = driven(skeleton, rig, values) if shown else values
    waits: dict[int, list[int]] = {}
    for i, k, at, wanted in shown:
        if at is None or np.abs(plays[:, at] - wanted).max(initial=0.0) > WEIGHT:
            waits.setdefault(i, []).append(k)
    left = tuple(
        replace(clip.morphs[i], names=tuple(clip.morphs[i].names[k] for k in some), weights=clip.morphs[i].weights[:, some])
        for i, some in waits.items()
    )
    return left, tuple(dict.fromkeys(name for track in left for name in track.names))


def _source(rig: ControlRig, channel: ChannelRef, depth: int = 8) -> tuple[int, float] | None:
    """The slot of the channel a hand moves to move another, and how much that moves; None where no one plain way leads there."""
    drivers = rig.drivers.get(channel, ())
    if channel not in rig.slots.index or not depth:
        return None
    if not drivers:
        return rig.slots.index[channel], 1.0
    if len(drivers) != 1 or len(drivers[0].readings) != 1:
        return None
    one, reading = drivers[0], drivers[0].readings[0]
    plain = one.combine is Combine.SET and one.formula == "x" and one.curve is None and one.offset == 0.0 and one.gain != 0.0
    if not plain or reading.channel is None:
        return None
    found = _source(rig, reading.channel, depth - 1)
    return None if found is None else (found[0], found[1] * one.gain)
