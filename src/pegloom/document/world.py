"""Several characters in one world at one moment: what each plays, how it is posed, where it stands."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.memo import of_the_latest
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.follow_through import joints_of, state_at
from pegloom.core.motion.together import rigid
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kernels.walk import SETTLED
from pegloom.core.rig.outputs import FIGURE
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.evaluate import PosedFrame, evaluate
from pegloom.document.model import Character, Document

JointsOf = Callable[[Character], FloatArray]
"""Joints (j, 4, 4) of a character at the moment, in its own space."""


def clip_of(character: Character) -> Clip | None:
    """What a character plays beside the others."""
    return next((clip for clip in character.clips if clip.id == character.figure.clip), None)


def scene_length(document: Document) -> float:
    """Seconds until the last of the shown figures' clips has ended and the last of them was handed on; 2 where none plays."""
    shown = [c for c in document.characters if c.figure.shown]
    ends = [c.figure.start + clip.length for c in shown if (clip := clip_of(c)) is not None]
    ends += [c.figure.stands[-1].start for c in shown if len(c.figure.stands) > 1]
    return max(ends, default=0.0) or 2.0


def scene_rate(document: Document) -> float:
    """Frames a second of the fastest clip that plays; 30 where none does."""
    return max((clip.rate for c in document.characters if c.figure.shown and (clip := clip_of(c)) is not None), default=30.0)


def common_time(character: Character, clip: str, time: float) -> float:
    """The common time at a time (seconds) of a clip of a character: they differ where it is the one it plays beside the others."""
    return time + character.figure.start if clip and clip == character.figure.clip else time


def played(character: Character, clip: Clip | None, own: float) -> tuple[Shown, FloatArray]:
    """The pose of a character at a time (seconds) of a clip, and what follows through remembers then; its own pose without one."""
    if clip is None:
        return character.pose, SETTLED
    pose = sample(clip, own, character.skeleton, character.pose, character.rig)
    return pose, state_at(character.skeleton, character.rig, clip, character.pose, own) if isinstance(pose, Pose) else SETTLED


def played_in(character: Character, time: float) -> tuple[Shown, FloatArray]:
    """`played` of what it plays beside the others at a common time (seconds)."""
    clip = clip_of(character)
    return played(character, clip, character.figure.own_time(time, clip.length) if clip is not None else 0.0)


def frame_in(character: Character, time: float) -> PosedFrame:
    """A character at a common time, in its own space."""
    return evaluate(character, *played_in(character, time))


def joints_in(character: Character, time: float) -> FloatArray:
    """Joints (j, 4, 4) of a character at a common time, in its own space."""
    if character.skeleton is None:
        return np.zeros((0, 4, 4))
    return evaluate_rig(character.skeleton, character.rig, *played_in(character, time)).joints


def joints_over(character: Character, times: FloatArray) -> FloatArray:
    """Joints (k, j, 4, 4) of a character at common times (k,) seconds, in its own space."""
    skeleton, clip = character.skeleton, clip_of(character)
    if skeleton is None:
        return np.zeros((len(times), 0, 4, 4))
    if clip is None:
        return np.broadcast_to(joints_in(character, 0.0), (len(times), len(skeleton.joints), 4, 4))
    own = np.array([character.figure.own_time(t, clip.length) for t in times.tolist()])
    order, back = np.unique(own, return_inverse=True)
    if clip.tracks or character.rig is None:
        return np.stack([evaluate_rig(skeleton, character.rig, *played(character, clip, t)).joints for t in order.tolist()])[back]
    return _keyed(skeleton, character.rig, clip, character.pose, tuple(order.tolist()))[back]


@of_the_latest(8)
def _keyed(skeleton: Skeleton, rig: ControlRig, clip: Clip, base: Shown, times: tuple[float, ...]) -> FloatArray:
    """Joints (k, j, 4, 4) of a clip of keys at its times: asked for again while something else is moved about."""
    return np.asarray(frozen(joints_of(skeleton, rig, clip, np.array(times), base)))


def worlds_over(document: Document, times: FloatArray) -> list[dict[str, FloatArray]]:
    """`world_of` at common times (k,) seconds."""
    if all(len(c.figure.stands) == 1 and not c.figure.stands[0].carrier for c in document.characters):
        return [world_of(document, 0.0)] * len(times)
    carriers = {s.carrier for c in document.characters for s in c.figure.stands if s.carrier}
    joints = {c.id: joints_over(c, times) for c in document.characters if c.id in carriers}
    # One moment after the other: who carries whom changes.
    return [world_of(document, t, lambda c, k=k: joints[c.id][k]) for k, t in enumerate(times.tolist())]  # type: ignore[misc]


class Seen(NamedTuple):
    """A figure at a moment. frame : in its own space. world (4, 4) : world_from_character."""

    character: Character
    pose: Shown
    frame: PosedFrame
    world: FloatArray


def seen_in(document: Document, time: float, clip: str = "") -> list[Seen]:
    """The character in hand and all others that are shown, at a time (seconds) of a clip of the one in hand; of the common time
    without one."""
    active = document.require_character()
    common = common_time(active, clip, time)
    frames: dict[str, tuple[Shown, PosedFrame]] = {}
    shown = [c for c in document.characters if c.figure.shown or c is active]
    for character in shown:
        pose, swings = played(active, active.clip(clip), time) if clip and character is active else played_in(character, common)
        frames[character.id] = pose, evaluate(character, pose, swings)
    worlds = world_of(document, common, lambda c: frames[c.id][1].joints if c.id in frames else joints_in(c, common))
    away = swapped_out(frame for _, frame in frames.values())
    return [Seen(c, *frames[c.id], worlds[c.id]) for c in shown if c is active or c.id not in away]


def swapped_out(frames: Iterable[PosedFrame]) -> set[str]:
    """Ids of characters that a channel of another one hides, in frames of all that are shown."""
    return {thing.removeprefix(FIGURE) for frame in frames for thing in frame.unseen if thing.startswith(FIGURE)}


def world_of(document: Document, time: float, joints_of: JointsOf | None = None) -> dict[str, FloatArray]:
    """world_from_character (4, 4) of all characters by id at a common time.

    joints_of : where the joints of one that carries others are; of what it plays where none is given. What is carried by
    somebody who is gone, or in a circle, stands in the world.
    """
    by_id = {c.id: c for c in document.characters}
    found: dict[str, FloatArray] = {}
    ask = joints_of or (lambda character: joints_in(character, time))

    def place(character: Character, under: frozenset[str]) -> FloatArray:
        if character.id in found:
            return found[character.id]
        stand = character.figure.stands[character.figure.stand_at(time)]
        matrix = stand.stance.matrix
        carrier = by_id.get(stand.carrier)
        if carrier is not None and carrier.id not in under:
            matrix = place(carrier, under | {character.id}) @ held_by(carrier, stand.joint, ask) @ matrix
        found[character.id] = matrix
        return matrix

    for one in document.characters:
        place(one, frozenset({one.id}))
    return found


def held_by(carrier: Character, joint: str, joints_of: JointsOf) -> FloatArray:
    """carrier_from_joint (4, 4), place and rotation alone; the carrier itself for "" and for a joint that is gone."""
    if carrier.skeleton is None or joint not in carrier.skeleton.index:
        return np.eye(4)
    return rigid(joints_of(carrier)[carrier.skeleton.index[joint]])


def prefixes(document: Document) -> Mapping[str, str]:
    """What goes before each character's names where several are exported, by id: no two alike, and none the beginning of
    another, so that no two names can come to the same."""
    told: dict[str, str] = {}
    for character in document.characters:
        wanted = plain_prefix(character.prefix or character.name.split(",")[0])
        name, number = wanted, 2
        while any(name.startswith(other) or other.startswith(name) for other in told.values()):
            # Its first word is numbered: two names of which one begins the other differ there then.
            first, rest = wanted.split("_", 1)
            name, number = f"{first}{number}_{rest}", number + 1
        told[character.id] = name
    return told


def plain_prefix(text: str) -> str:
    """Letters, digits and lines of a text, ending in a line: `wick_`."""
    word = re.sub(r"[^\w]+", "_", text.strip(), flags=re.ASCII).strip("_").lower()
    return f"{word or 'figure'}_"
