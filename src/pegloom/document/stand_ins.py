"""Controls that stand in for joints of another character: their motion, worked out anew where the other's has changed.

It is told as ordinary curves and values of the character that follows: all that reads its clips (playing, editing, baking,
export) then follows the other without knowing of it.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve, Run, curve
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.turns import straight
from pegloom.core.motion.together import StandIn
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.match import values_for
from pegloom.core.rig.pose import Pose
from pegloom.document.model import Character, Document
from pegloom.document.world import clip_of, common_time, joints_over, worlds_over

JUST = 1e-4
"""Seconds before a moment at which something is handed on that still show what was before."""
KEPT = 64
"""Clips whose curves are remembered."""
KEYS = (*MOVE, *ROTATE)
Curves = Mapping[tuple[str, str], Curve]
_known: OrderedDict[tuple[str, str], tuple[tuple[object, ...], Curves]] = OrderedDict()


def refreshed(document: Document, only: str | None = None) -> Document:
    """The document with all stand-ins where what they stand for is: in every clip of keys, and in the pose at the beginning.

    only : id of the one clip that is seen to, while something is dragged.

    While what they stand for is itself carried by who follows it, they stay where they were.
    """
    for character_id in _in_order(document):
        character = next(c for c in document.characters if c.id == character_id)
        some = living(document, character)
        if not some or character.rig is None or character.skeleton is None:
            continue
        clips = tuple(_with_curves(document, character, clip, some) if only in (None, clip.id) else clip for clip in character.clips)
        pose = _posed(document, character, some)
        if pose is not character.pose or any(a is not b for a, b in zip(clips, character.clips, strict=True)):
            changed = replace(character, clips=clips, pose=pose)
            document = replace(document, characters=tuple(changed if c is character else c for c in document.characters))
    return document


def living(document: Document, character: Character) -> tuple[StandIn, ...]:
    """Those whose control and whose other character there are; the rest wait."""
    others = {c.id for c in document.characters if c.id != character.id}
    known = character.rig.index if character.rig is not None else {}
    return tuple(s for s in character.stand_ins if s.character in others and s.control in known)


def follows_of(document: Document, character_id: str) -> set[str]:
    """All that a character follows by stand-ins, and what those follow."""
    by_id = {c.id: c for c in document.characters}
    found, ask = set[str](), [character_id]
    while ask:
        here = by_id.get(ask.pop())
        for one in here.stand_ins if here is not None else ():
            if one.character not in found:
                found.add(one.character)
                ask.append(one.character)
    return found


def _in_order(document: Document) -> Iterator[str]:
    """Ids of those with stand-ins, after whom they follow."""
    waiting = [c.id for c in document.characters if c.stand_ins]
    while waiting:
        ready = next((i for i in waiting if not follows_of(document, i) & (set(waiting) - {i})), waiting[0])
        waiting.remove(ready)
        yield ready


def _with_curves(document: Document, character: Character, clip: Clip, some: tuple[StandIn, ...]) -> Clip:
    if clip.tracks:
        return clip
    signature = (
        character.skeleton, character.rig, character.figure, character.stand_ins, clip.length, clip.rate,
        *(piece for c in document.characters if c.id != character.id for piece in (c.id, c.skeleton, c.rig, c.pose, clip_of(c), c.figure)),
    )  # fmt: skip
    known = _known.get((character.id, clip.id))
    if known is not None and len(known[0]) == len(signature) and all(a is b or (isinstance(a, (str, float)) and a == b) for a, b in zip(known[0], signature, strict=True)):
        curves = known[1]
    else:
        times = _moments(document, clip, character)
        values = _values(document, character, some, np.array([common_time(character, clip.id, t) for t in times.tolist()]))
        curves = MappingProxyType({
            (s.control, key): curve(times[:1], values[:1, k, i]) if np.ptp(values[:, k, i]) < 1e-12 else curve(times, values[:, k, i], Run.LINEAR)
            for k, s in enumerate(some) for i, key in enumerate(KEYS)
        })  # fmt: skip
        _known[character.id, clip.id] = (signature, curves)
        while len(_known) > KEPT:
            _known.popitem(last=False)
    if all(_same(clip.curves.get(ref), told) for ref, told in curves.items()):
        return clip
    return replace(clip, curves=MappingProxyType({**clip.curves, **curves}), worked_out=frozenset(s.control for s in some))


def _same(one: Curve | None, other: Curve) -> bool:
    return one is other or (one is not None and np.array_equal(one.times, other.times) and np.array_equal(one.values, other.values))


def _posed(document: Document, character: Character, some: tuple[StandIn, ...]) -> Pose:
    pose = character.pose
    if not isinstance(pose, Pose):
        return pose  # type: ignore[return-value]
    values = _values(document, character, some, np.zeros(1))[0]
    told = {(s.control, key): float(values[k, i]) for k, s in enumerate(some) for i, key in enumerate(KEYS)}
    if all(abs(pose.values.get(ref, 0.0) - v) < 1e-12 for ref, v in told.items()):
        return pose
    return Pose({**pose.values, **told})


def _moments(document: Document, clip: Clip, character: Character) -> FloatArray:
    """Frames of a clip (k,), and just before something is handed on."""
    frames = np.arange(int(np.floor(clip.length * clip.rate + 1e-6)) + 1) / clip.rate
    shift = common_time(character, clip.id, 0.0)
    handed = [s.start - shift for c in document.characters for s in c.figure.stands[1:]]
    inside = [t for h in handed for t in (h - JUST, h) if 0.0 < t < clip.length]
    return np.unique([*frames, *inside])


def _values(document: Document, character: Character, some: tuple[StandIn, ...], times: FloatArray) -> FloatArray:
    """Values (k, s, 6) of the stand-ins' channels at common times (k,)."""
    skeleton, rig = character.skeleton, character.rig
    assert skeleton is not None and rig is not None
    by_id = {c.id: c for c in document.characters}
    still = _still(document, character.id, {s.character for s in some})
    moments = times[:1] if still else times
    worlds = worlds_over(document, moments)
    back = np.linalg.inv(np.array([w[character.id] for w in worlds]))
    targets = {}
    for one in some:
        other = by_id[one.character]
        joints = joints_over(other, moments)
        held = np.tile(np.eye(4), (len(moments), 1, 1))
        if other.skeleton is not None and one.joint in other.skeleton.index:
            posed = joints[:, other.skeleton.index[one.joint]]
            held[:, :3, :3], held[:, :3, 3] = straight(posed[:, :3, :3]), posed[:, :3, 3]
        places = np.asarray(back @ np.array([w[other.id] for w in worlds]) @ held)
        # A thing keeps its size in a hand, and a hand does at a thing.
        places[:, :3, :3] /= np.cbrt(np.linalg.det(places[:, :3, :3]))[:, None, None]
        targets[one.control] = _held_still(document, character, other, moments, places)
    start = np.repeat(rig.slots.rest[None], len(moments), axis=0)
    values = values_for(skeleton, rig, targets, start)
    rows = np.array([[rig.slots.index[s.control, key] for key in KEYS] for s in some])
    return np.broadcast_to(values[:, rows], (len(times), *rows.shape))


def _still(document: Document, own: str, ids: set[str]) -> bool:
    """Whether nothing that tells where one character sees some others moves: those, and all that carry them or it."""
    by_id = {c.id: c for c in document.characters}
    seen, ask = set[str](), [*ids, *(s.carrier for s in by_id[own].figure.stands)]
    while ask:
        one = by_id.get(ask.pop())
        if one is None or one.id in seen:
            continue
        seen.add(one.id)
        if len(one.figure.stands) > 1 or clip_of(one) is not None:
            return False
        ask += [s.carrier for s in one.figure.stands if s.carrier]
    return len(by_id[own].figure.stands) == 1


def _held_still(document: Document, character: Character, other: Character, times: FloatArray, places: FloatArray) -> FloatArray:
    """Places (k, 4, 4) in which moments at which the one that follows carries what it follows show the moment before."""
    free = np.array([character.id not in _carried_by(document, other, t) for t in times.tolist()])
    if free.all():
        return places
    if not free.any():
        # It never was anywhere else: it stands where it is taken to rest.
        return np.broadcast_to(places[0], places.shape)
    before = np.maximum.accumulate(np.where(free, np.arange(len(times)), -1))
    return np.asarray(places[np.where(before < 0, int(np.argmax(free)), before)])


def _carried_by(document: Document, character: Character, time: float) -> set[str]:
    """Who carries a character at a common time, and who carries those."""
    by_id, found, here = {c.id: c for c in document.characters}, set[str](), character
    while True:
        carrier = here.figure.stands[here.figure.stand_at(time)].carrier
        if not carrier or carrier in found or carrier not in by_id:
            return found
        found.add(carrier)
        here = by_id[carrier]
