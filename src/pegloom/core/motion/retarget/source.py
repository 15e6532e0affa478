"""A source of motion: somebody else's skeleton with a clip, stood up and read as a body.

Files face any way, lie, count in any unit, and rest in any pose. What matters is where its parts are: the pose to read
them from is the file's rest where that is a body, else the frame of the motion that shows one best, or a chosen one.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.chains import LIMBS, kind_of, parts_of
from pegloom.core.motion.retarget.turns import straight, unit
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.tracks import rows_at
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.joints import Origin, Side, Skeleton, Vector, side_of_name
from pegloom.core.skeleton.uses import shared_words, words

UPS = (np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0]), np.array([0.0, 0.0, -1.0]), np.array([0.0, -1.0, 0.0]), np.array([1.0, 0.0, 0.0]), np.array([-1.0, 0.0, 0.0]))
TRIED = 25
"""Frames looked at for a body, where the rest is none."""
SURE = 7.0
"""A score that no other way of standing can better by much."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Source:
    """Motion of a body that is not the character's.

    skeleton : its joints at the file's rest, in the file's axes and unit. clip : sampled tracks of them.
    origin : the file's name.
    """

    id: str
    name: str
    skeleton: Skeleton
    clip: Clip
    origin: str = ""


@dataclass(frozen=True, eq=False, slots=True, weakref_slot=True)
class Stood:
    """A source stood up, in its own unit.

    skeleton : its joints at the pose they are read from, Y up, facing +Z, on the floor's height of the file.
    rests : (j, 3, 3) how its own axes stand in that pose. upright : (3, 3) what stands the file's axes up.
    frame : the moment that pose is of, seconds; None for the file's rest. score : how sure it is that this is a body.
    """

    skeleton: Skeleton
    rests: FloatArray
    upright: FloatArray
    frame: float | None
    score: float
    parts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def stance(self) -> str:
        """How it stands there, in a word."""
        return stance_of(self.skeleton)


def moments_of(clip: Clip) -> FloatArray:
    """The frames (k,) of a sampled clip, seconds, at its own rate."""
    first = min((float(t.times[0]) for rows in clip.tracks.values() for t in rows), default=0.0)
    last = max((float(t.times[-1]) for rows in clip.tracks.values() for t in rows), default=0.0)
    longest = max((t.times for rows in clip.tracks.values() for t in rows), key=len, default=np.zeros(1))
    if len(longest) > 1:
        steps = np.diff(longest)
        if steps.min() > 0.98 * steps.max():
            return np.asarray(longest)
    return first + np.arange(int(np.floor((last - first) * clip.rate + 1e-6)) + 1) / clip.rate


def worlds_of(source: Source, times: FloatArray) -> FloatArray:
    """Joints (k, j, 4, 4) of a source at its moments, in the file's axes."""
    return posed_at(source.clip, source.skeleton, times)


def places_at(source: Source, read: Stood, time: float) -> FloatArray:
    """Where a source's joints are (j, 3) at a moment of its clip, upright, in its own unit."""
    joints = evaluate_rig(source.skeleton, None, rows_at(source.clip.tracks, source.skeleton, time)).joints
    return np.asarray(joints[:, :3, 3] @ read.upright.T)


def stood(source: Source, frame: float | None = None) -> Stood:
    """A source read as a body: at a moment of its clip (seconds), or at what shows one best.

    Raises EditError for a source without joints that move.
    """
    return _stood(source, frame)


@by_identity
def _stood(source: Source, frame: float | None) -> Stood:
    if not source.skeleton.joints or not source.clip.tracks:
        raise EditError(f"{source.name} holds no motion of joints; choose a file with a clip")
    if frame is not None:
        world = worlds_of(source, np.array([max(frame, 0.0)]))[0]
        return _best(source.skeleton, world, frame)
    found = _best(source.skeleton, np.array(source.skeleton.world), None)
    if found.score >= SURE:
        return found
    times = moments_of(source.clip)
    picked = times[np.unique(np.linspace(0, len(times) - 1, TRIED).astype(int))]
    posed = worlds_of(source, picked)
    others = [_best(source.skeleton, posed[0], float(picked[0]))]
    for time, world in zip(picked[1:], posed[1:], strict=True):
        # What stands one frame up stands them all up.
        ups = (others[0].upright.T @ [0.0, 1.0, 0.0],) if others[0].score >= SURE else UPS
        others.append(_best(source.skeleton, world, float(time), ups))
    best = max(others, key=lambda s: s.score - _bent(s))
    return best if best.score > found.score + 0.5 else found


def _bent(found: Stood) -> float:
    """How far from standing straight a body is: radians its legs' bones are off the vertical, on average."""
    at, index = found.skeleton.positions, found.skeleton.index
    bones = [at[index[b]] - at[index[a]] for p, chain in found.parts.items() if kind_of(p) == "leg" for a, b in zip(chain[:2], chain[1:3], strict=False)]
    return float(np.mean([np.arccos(np.clip(-unit(v)[1], -1.0, 1.0)) for v in bones])) if bones else 0.0


def _best(skeleton: Skeleton, world: FloatArray, frame: float | None, ups: tuple[FloatArray, ...] = UPS) -> Stood:
    """The way of standing in which a pose is a body most."""
    places = world[:, :3, 3]
    turns = straight(world[:, :3, :3])
    tails = np.einsum("jab,jb->ja", world @ skeleton.inverse_world, np.pad(_tails(skeleton), ((0, 0), (0, 1)), constant_values=1.0))[:, :3]
    best: Stood | None = None
    for up in ups:
        for upright, ahead in _ways(skeleton, places, up):
            turn = ahead @ upright
            at = _placed(skeleton, places @ turn.T, tails @ turn.T)
            parts = parts_of(at)
            score = _score(at, parts)
            if best is None or score > best.score + 1e-9:
                best = Stood(at, np.asarray(frozen(turn @ turns)), np.asarray(frozen(upright)), frame, score, parts)
        if best is not None and best.score >= SURE:
            break
    assert best is not None
    return _squared(best)


def _placed(skeleton: Skeleton, places: FloatArray, tails: FloatArray) -> Skeleton:
    """The joints at these places, without axes of their own."""
    joints = []
    for joint, place, tail in zip(skeleton.joints, places, tails, strict=True):
        # Told as a file's: axes that a limb kit made are no longer there to be read.
        joints.append(replace(joint, position=_vector(place), rotation=(0.0, 0.0, 0.0, 1.0), tail=None if joint.tail is None else _vector(tail), origin=Origin.FILE))
    return Skeleton(tuple(joints))


def _tails(skeleton: Skeleton) -> FloatArray:
    return np.array([joint.position if joint.tail is None else joint.tail for joint in skeleton.joints])


def _vector(place: FloatArray) -> Vector:
    x, y, z = (float(v) for v in place)
    return x, y, z


def _ways(skeleton: Skeleton, places: FloatArray, up: FloatArray) -> list[tuple[FloatArray, FloatArray]]:
    """Turns that stand it up along `up`, each with one about the vertical that may have it face +Z, the likeliest first."""
    y = np.array([0.0, 1.0, 0.0])
    axis = np.cross(up, y)
    if np.linalg.norm(axis) > 0.5:
        upright = np.array(rotation_matrix([*(axis * np.sin(np.pi / 4)), np.cos(np.pi / 4)]))
    else:
        upright = np.eye(3) if up @ y > 0 else np.diag([1.0, -1.0, -1.0])
    stands = places @ upright.T
    yaws = [0.0]
    named = _named_side(skeleton, stands)
    flat = (stands - stands.mean(axis=0))[:, [0, 2]]
    if named is not None:
        yaws = [named]
    else:
        yaws += [np.pi, np.pi / 2, -np.pi / 2]
        if len(flat) > 2:
            _, _, rows = np.linalg.svd(flat, full_matrices=False)
            slope = float(np.arctan2(rows[0][1], rows[0][0]))
            if min(abs(np.sin(2 * slope)), 1.0) > 0.1:
                yaws += [slope + k * np.pi / 2 for k in range(4)]
    return [(upright, _yaw(a)) for a in yaws]


def _yaw(angle: float) -> FloatArray:
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, 0.0, s], [0.0, 1.0, 0.0], [-s, 0.0, c]])


def _named_side(skeleton: Skeleton, places: FloatArray) -> float | None:
    """The turn about the vertical that brings what is called left to +X; None where names do not say."""
    signs = {Side.LEFT: 1.0, Side.RIGHT: -1.0}
    lines = []
    for joint in skeleton.joints:
        twin = skeleton.other_side(joint.id) if signs.get(side_of_name(joint.name), 0.0) > 0 else None
        # Hips and shoulders: what goes on from them swings.
        if twin is not None and twin != joint.id and skeleton.joint(twin).parent == joint.parent:
            lines.append(places[skeleton.index[joint.id]] - places[skeleton.index[twin]])
    if not lines:
        sides = np.array([signs.get(side_of_name(j.name), 0.0) for j in skeleton.joints])
        left, right = places[sides > 0], places[sides < 0]
        if len(left) < 2 or len(right) < 2:
            return None
        lines = [left.mean(axis=0) - right.mean(axis=0)]
    x, _, z = np.sum(lines, axis=0)
    if np.hypot(x, z) < 0.02 * float(np.ptp(places, axis=0).max()):
        return None
    return float(np.arctan2(z, x))


def _score(skeleton: Skeleton, parts: Mapping[str, tuple[str, ...]]) -> float:
    """How much of a body it is, standing and facing ahead."""
    score = 0.0
    legs = [p for p in parts if kind_of(p) == "leg"]
    score += 3.0 if any(p.endswith(".l") for p in legs) and any(p.endswith(".r") for p in legs) else 0.0
    limbs = [p for p in parts if kind_of(p) in LIMBS and kind_of(p) != "leg"]
    score += 2.0 if any(p.endswith(".l") for p in limbs) and any(p.endswith(".r") for p in limbs) else 0.0
    score += 1.0 if "head" in parts else 0.0
    score += 0.5 if len(parts.get("trunk", ())) > 1 else 0.0
    at = skeleton.positions
    index = skeleton.index
    ahead = [at[index[parts[p][-1]]] - at[index[parts[p][-2]]] for p in legs if len(parts[p]) >= 4]
    if ahead:
        score += 1.0 if float(np.sum([unit(v)[2] for v in ahead])) > 0 else -1.0
    if "head" in parts and "trunk" in parts:
        # A trunk that lies points ahead; one that stands, up.
        line = unit(at[index[parts["head"][0]]] - at[index[parts["trunk"][0]]])
        score += float(line[1] + max(line[2], 0.0))
    agree = said = 0
    for part, chain in parts.items():
        for joint in chain:
            side = side_of_name(skeleton.joint(joint).name)
            if part.endswith((".l", ".r")) and side is not Side.CENTRE:
                said += 1
                agree += (side is Side.LEFT) == part.endswith(".l")
    if said:
        score += 2.0 * (2.0 * agree / said - 1.0)
    return score


def _squared(found: Stood) -> Stood:
    """The same, turned the last few degrees so that its hips lie square to +Z."""
    at, index = found.skeleton.positions, found.skeleton.index
    pairs = [(found.parts[f"{k}.l"][0], found.parts[f"{k}.r"][0]) for k in ("leg", "arm", "foreleg") if f"{k}.l" in found.parts and f"{k}.r" in found.parts]
    lines = [at[index[a]] - at[index[b]] for a, b in pairs]
    if not lines:
        return found
    x, _, z = np.sum(lines, axis=0)
    angle = float(np.arctan2(z, x))
    if not 1e-3 < abs(angle) < 1.2:
        return found
    turn = _yaw(angle)
    skeleton = _placed(found.skeleton, at @ turn.T, _tails(found.skeleton) @ turn.T)
    parts = parts_of(skeleton)
    if (score := _score(skeleton, parts)) < found.score - 0.5:
        return found
    return replace(found, skeleton=skeleton, rests=np.asarray(frozen(turn @ found.rests)), parts=parts, score=score)


def stance_of(skeleton: Skeleton) -> str:
    """How a body stands at rest: "four-legged", "T", "A", "relaxed", "arms ahead", "arms up", or "no limbs"."""
    parts, at, index = parts_of(skeleton), skeleton.positions, skeleton.index
    if any(kind_of(p) == "foreleg" for p in parts):
        return "four-legged"
    lines = [unit(at[index[parts[p][2]]] - at[index[parts[p][0]]]) for p in parts if kind_of(p) in ("arm", "wing") and len(parts[p]) >= 3]
    if not lines:
        return "no arms" if any(kind_of(p) == "leg" for p in parts) else "no limbs"
    down = float(np.mean([v[1] for v in lines]))
    ahead = float(np.mean([v[2] for v in lines]))
    if ahead > 0.6:
        return "arms ahead"
    if down > 0.5:
        return "arms up"
    return "T" if down > -0.26 else "A" if down > -0.87 else "relaxed"


def known_words(skeleton: Skeleton, joint: str) -> frozenset[str]:
    """The words of a joint's name that are its own."""
    return frozenset(words(skeleton.joint(joint).name) - shared_words(skeleton))
