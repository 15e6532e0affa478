"""Hands that touch: the own body, each other, something held in both, something that stands in the world.

A touch is told by where it is on what is touched (how far along its bone, on which side of it, how far off its surface), so
that a hand lies on the hip of a stout body as it lay on a slight one's.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, maximum_filter1d, minimum_filter1d, uniform_filter1d

from pegloom.core.arrays import BoolArray, FloatArray
from pegloom.core.motion.retarget.carry import Performance
from pegloom.core.motion.retarget.chains import kind_of, part_title, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.pairing import ChainPair, Pairing
from pegloom.core.motion.retarget.plant import Contact, bend_to, unit_of
from pegloom.core.motion.retarget.turns import smooth, step_of, unit
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights

NEAR, FAR = 0.025, 0.06
"""Metres off a surface, at a body of 1.7 m: a palm touches within the first, is free beyond the second."""
RESTS, SLIDES = 0.12, 0.3
"""Metres a second over what is touched, at 1.7 m: a hand that goes slower lies on it, one that goes faster passes by."""
HANGS = np.cos(np.radians(28.0))
"""An arm whose bones are nearer to straight down than that hangs, and touches no leg."""
MEET, PART = 0.13, 0.22
"""Metres between the middles of two palms: they touch within the first."""
THICK = {"leg": (0.085, 0.06), "trunk": (0.135, 0.14), "head": (0.105,), "arm": (0.05, 0.042), "foreleg": (0.06, 0.05)}
"""Metres from bone to skin, where no skin says: what a source is taken to be."""
HAND = 0.09
"""Metres from the wrist to the middle of the palm, where no finger tells."""
STEADY = 0.01
"""Metres two palms' distance may vary while both hold one thing."""
HELD = 0.35
"""Seconds a touch of a thing lasts at least."""
STAYS = 0.06
"""Metres a second below which a hand stays where it is in the world."""
MOVES = 0.12
"""Metres a second: what moves."""


@dataclass(frozen=True, eq=False)
class Flesh:
    """How far the skin is from a bone here: rest points (n, 3) told along the bone (0 to 1), by angle about it, and distance."""

    along: FloatArray
    around: FloatArray
    off: FloatArray

    def at(self, along: FloatArray, around: FloatArray, usual: float) -> FloatArray:
        """Distance (k,) of the skin at places along the bone and angles about it; `usual` where nothing is known."""
        if len(self.off) < 6:
            return np.full(len(along), usual)
        gap = np.abs(self.along[None] - along[:, None]) / 0.15
        turn = np.abs(np.angle(np.exp(1j * (self.around[None] - around[:, None])))) / np.radians(30.0)
        weight = np.exp(-0.5 * (gap**2 + turn**2)) + 1e-9
        return np.asarray((weight * self.off[None]).sum(axis=1) / weight.sum(axis=1))


@dataclass(frozen=True, eq=False)
class Bone:
    """One bone that may be touched, by the numbers of its joints there and here; `end` is a joint or, for a head, a place above."""

    part: str
    there: tuple[int, int | None]
    here: tuple[int, int | None]
    usual: float


def flesh_of(skeleton: Skeleton, skins: Iterable[tuple[FloatArray, Weights]]) -> dict[str, Flesh]:
    """The skin about each bone that may be touched, by its first joint's id. skins : points at rest and weights."""
    bones = _bones(skeleton)
    found: dict[str, list[FloatArray]] = {}
    for points, weights in skins:
        matrix = weights.matrix()
        columns = {j: k for k, j in enumerate(weights.joint_ids)}
        for start, _ in bones:
            joint = skeleton.joints[start].id
            if joint not in columns:
                continue
            rows = np.flatnonzero(np.asarray(matrix[:, columns[joint]].todense()).ravel() > 0.4)
            if len(rows):
                found.setdefault(joint, []).append(points[rows])
    result = {}
    for start, end in bones:
        joint = skeleton.joints[start].id
        if joint in found:
            some = np.concatenate(found[joint])
            if len(some) > 400:
                some = some[:: len(some) // 400 + 1]
            a, b = skeleton.positions[start], _tip(skeleton, start, end)
            result[joint] = Flesh(*_told(some, a[None], b[None], np.eye(3)[None]))
    return result


def _bones(skeleton: Skeleton) -> list[tuple[int, int | None]]:
    parts, index = parts_of(skeleton), skeleton.index
    found: list[tuple[int, int | None]] = []
    trunk = parts.get("trunk", ())
    if trunk:
        top = parts.get("neck", parts.get("head", ()))
        found.append((index[trunk[0]], index[trunk[-1]] if len(trunk) > 1 else (index[top[0]] if top else None)))
        if len(trunk) > 1 and top:
            found.append((index[trunk[-1]], index[top[0]]))
    if "head" in parts:
        found.append((index[parts["head"][0]], None))
    for part, chain in parts.items():
        if kind_of(part) in ("leg", "arm") and len(chain) >= 3:
            found += [(index[chain[0]], index[chain[1]]), (index[chain[1]], index[chain[2]])]
    return found


def _tip(skeleton: Skeleton, start: int, end: int | None) -> FloatArray:
    """Where a bone ends at rest; a head's is a head's height above it."""
    if end is not None:
        return np.asarray(skeleton.positions[end])
    size = unit_of(skeleton)
    return np.asarray(skeleton.positions[start] + [0.0, 0.16 * size, 0.03 * size])


def _told(points: FloatArray, start: FloatArray, end: FloatArray, axes: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Points (k, 3) told by bones (k or 1, 3): along 0 to 1, angle about the bone from ahead, distance from it.

    axes : (k or 1, 3, 3) how the bone has turned from rest, about the body's axes: ahead is what was +Z.
    """
    bone = end - start
    length = np.maximum(np.linalg.norm(bone, axis=1), 1e-9)
    y = bone / length[:, None]
    off = points - start
    along = (off * y).sum(axis=1) / length
    ahead = axes[:, :, 2] - y * (axes[:, :, 2] * y).sum(axis=1, keepdims=True)
    ahead = unit(ahead)
    side = np.cross(y, ahead)
    flat = off - (along * length)[:, None] * y
    # Beyond its ends a bone is round.
    over = np.where(along > 1.0, along - 1.0, np.minimum(along, 0.0)) * length
    around = np.arctan2((flat * side).sum(axis=1), (flat * ahead).sum(axis=1))
    return np.clip(along, 0.0, 1.0), around, np.asarray(np.hypot(np.linalg.norm(flat, axis=1), over))


def touched(
    seen: Performance, figure: Figure, pairing: Pairing, scale: float, unit_there: float, flesh: Mapping[str, Flesh], axes: Mapping[str, FloatArray]
) -> tuple[list[Contact], dict[str, FloatArray]]:
    """Bend arms so that what a hand touches in the source it touches here. The figure stands before and after.

    unit_there : what a length of the source is at 1.7 m. Returns the touches, and by part how much (k,) each moment is ruled.
    """
    arms = [c for c in pairing.chains if kind_of(c.part) == "arm" and len(c.source) >= 3 and len(c.target) >= 3 and c.planted]
    if not arms or len(seen.times) < 2:
        return [], {}
    here_unit = scale / unit_there
    step = step_of(seen.times)
    palms_there = {c.part: _palm(seen.skeleton, c.source) for c in arms}
    palms_here = {c.part: _palm(figure.skeleton, c.target) for c in arms}
    there = {c.part: seen.point(c.source[2], palms_there[c.part]) for c in arms}
    hands = {c.part: figure.skeleton.index[c.target[2]] for c in arms}
    here = {c.part: figure.point(hands[c.part], palms_here[c.part]) for c in arms}
    goals = {c.part: np.zeros((figure.moments, 3)) for c in arms}
    total = {c.part: np.zeros(figure.moments) for c in arms}
    rows: list[Contact] = []

    def put(part: str, weight: FloatArray, goal: FloatArray, on: str) -> None:
        weight = np.clip(gaussian_filter1d(weight, 0.04 / step), 0.0, 1.0)
        goals[part] += weight[:, None] * goal
        total[part] += weight
        rows.extend(_stretches(weight > 0.5, seen.times, part, figure.skeleton.joints[hands[part]].id, on))

    chest = seen.number(_chest(pairing, seen))
    turned, at = seen.turned[:, chest], seen.at[:, chest]
    pairs = [(a, b) for a in arms for b in arms if a.part < b.part]
    for a, b in pairs:
        apart = there[b.part] - there[a.part]
        far = np.linalg.norm(apart, axis=1) * unit_there
        # On the chest: arms that keep still are carried as they are.
        speed = np.minimum(*(_speed(np.einsum("kba,kb->ka", turned, there[c.part] - at), step) for c in (a, b))) * unit_there
        weight = np.maximum(smooth(far, PART, MEET), _steady(_grip(seen, a, b, apart) * unit_there, speed, step))
        middle = 0.5 * (here[a.part] + here[b.part])
        put(a.part, weight, middle - 0.5 * scale * apart, "other hand")
        put(b.part, weight, middle + 0.5 * scale * apart, "other hand")
    for arm in arms:
        free = 1.0 - np.clip(total[arm.part], 0.0, 1.0)
        best = np.zeros(figure.moments)
        hanging = _hanging(seen, arm)
        for bone in _touchable(seen, figure, pairing, arm):
            weight, goal = _on_bone(seen, figure, bone, there[arm.part], unit_there, here_unit, flesh)
            weight = weight * free * (1.0 - hanging if kind_of(bone.part) == "leg" else 1.0)
            if weight.max() > 0.05:
                # What is touched most counts.
                weight = np.where(weight > best, weight, 0.0)
                best = np.maximum(best, weight)
                put(arm.part, weight, goal, part_title(bone.part))
        wrist_there, wrist_here = seen.at[:, seen.number(arm.source[2])], figure.at[:, hands[arm.part]]
        still, shift = _in_the_world(
            (there[arm.part], wrist_there), (here[arm.part], wrist_here), _speed(at, step) * unit_there, scale, unit_there, step
        )
        goal = here[arm.part] + shift
        put(arm.part, still * free * (best < 0.05), goal, "something that stands")
    for arm in arms:
        part = arm.part
        weight = np.clip(total[part], 0.0, 1.0)
        if weight.max() < 0.02:
            continue
        goal = goals[part] / np.maximum(total[part], 1e-9)[:, None]
        shift = weight[:, None] * np.where(total[part][:, None] > 1e-6, goal - here[part], 0.0)
        joints = [figure.skeleton.index[j] for j in arm.target[:3]]
        wrist = figure.at[:, joints[2]] + shift
        bend_to(figure, (joints[0], joints[1], joints[2]), wrist, axes[arm.target[0]][:, 0])
    return rows, total


def _hanging(seen: Performance, arm: ChainPair) -> FloatArray:
    """How much an arm hangs straight down (k,)."""
    a, b, c = (seen.at[:, seen.number(j)] for j in arm.source[:3])
    down = np.minimum(-unit(b - a)[:, 1], -unit(c - b)[:, 1])
    return smooth(down, HANGS - 0.06, HANGS)


def _chest(pairing: Pairing, seen: Performance) -> str:
    trunk = pairing.of("trunk")
    return trunk.source[-1] if trunk is not None and trunk.source else seen.skeleton.joints[0].id


def _palm(skeleton: Skeleton, chain: tuple[str, ...]) -> FloatArray:
    """The middle of a palm at rest: half way to the middle fingers, else on along the forearm."""
    index, at = skeleton.index, skeleton.positions
    wrist, elbow = at[index[chain[2]]], at[index[chain[1]]]
    side = next((p.rpartition(".")[2] for p, c in parts_of(skeleton).items() if c[:3] == chain[:3]), "")
    roots = [at[index[parts_of(skeleton)[f"{f}.{side}"][0]]] for f in ("index", "middle", "ring", "little") if f"{f}.{side}" in parts_of(skeleton)]
    if roots:
        return np.asarray(wrist + 0.7 * (np.mean(roots, axis=0) - wrist))
    return np.asarray(wrist + unit(wrist - elbow) * HAND * unit_of(skeleton))


def _speed(points: FloatArray, step: float) -> FloatArray:
    """How fast a point goes at each moment (k,), smoothed over a tenth of a second."""
    steps = np.linalg.norm(np.gradient(points, axis=0), axis=1) / step
    return np.asarray(gaussian_filter1d(steps, 0.05 / step))


def _grip(seen: Performance, a: ChainPair, b: ChainPair, apart: FloatArray) -> FloatArray:
    """How two hands stand to one another (k, 12), in lengths: each palm seen from the other hand, and the other's turn."""
    one, other = (seen.turned[:, seen.number(c.source[2])] for c in (a, b))
    reach = np.linalg.norm(apart, axis=1).mean()
    turn = (np.swapaxes(one, -1, -2) @ other).reshape(-1, 9)
    return np.concatenate([np.einsum("kba,kb->ka", one, apart), np.einsum("kba,kb->ka", other, -apart), 0.2 * reach * turn], axis=1)


def _steady(grip: FloatArray, speed: FloatArray, step: float) -> FloatArray:
    """How surely two hands hold one thing: they stand to one another as if joined while both move."""
    window = max(round(HELD / step), 2)
    spread = (maximum_filter1d(grip, window, axis=0) - minimum_filter1d(grip, window, axis=0)).max(axis=1)
    # A pause in the middle of carrying is no letting go.
    moves = uniform_filter1d(maximum_filter1d((speed > MOVES).astype(float), 3 * window), window)
    near = smooth(np.linalg.norm(grip[:, :3], axis=1), 0.42, 0.34)
    return np.asarray(smooth(spread, 2.0 * STEADY, STEADY) * smooth(moves, 0.3, 0.7) * near)


def _touchable(seen: Performance, figure: Figure, pairing: Pairing, arm: ChainPair) -> list[Bone]:
    found = []
    index = figure.skeleton.index
    for c in pairing.chains:
        kind = kind_of(c.part)
        if c.part == arm.part or kind not in THICK or not c.source:
            continue
        if kind == "head":
            found.append(Bone(c.part, (seen.number(c.source[0]), None), (index[c.target[0]], None), THICK[kind][0]))
        elif kind == "trunk":
            top = pairing.of("neck") or pairing.of("head")
            ends = [(c.source[0], c.target[0]), (c.source[-1], c.target[-1])] if len(c.source) > 1 and len(c.target) > 1 else [(c.source[0], c.target[0])]
            if top is not None and top.source:
                ends.append((top.source[0], top.target[0]))
            for k, (a, b) in enumerate(zip(ends, ends[1:], strict=False)):
                found.append(Bone(c.part, (seen.number(a[0]), seen.number(b[0])), (index[a[1]], index[b[1]]), THICK[kind][min(k, 1)]))
        elif len(c.source) >= 3 and len(c.target) >= 3:
            for k in range(2):
                found.append(Bone(c.part, (seen.number(c.source[k]), seen.number(c.source[k + 1])), (index[c.target[k]], index[c.target[k + 1]]), THICK[kind][k]))
    return found


def _on_bone(
    seen: Performance, figure: Figure, bone: Bone, palm: FloatArray, unit_there: float, here_unit: float, flesh: Mapping[str, Flesh]
) -> tuple[FloatArray, FloatArray]:
    """How much a palm (k, 3) touches a bone there (k,), and where it is to be here (k, 3)."""
    near, far = bone.there
    start = seen.at[:, near]
    end = seen.at[:, far] if far is not None else seen.point(seen.skeleton.joints[near].id, _tip(seen.skeleton, near, None))
    along, around, off = _told(palm, start, end, seen.turned[:, near])
    gap = off * unit_there - bone.usual
    inside = np.einsum("kba,kb->ka", seen.turned[:, near], palm - start)
    step = step_of(seen.times)
    weight = smooth(gap, FAR, NEAR) * smooth(_speed(inside, step) * unit_there, SLIDES, RESTS)
    if weight.max() < 0.05:
        return weight, palm
    i, j = bone.here
    s = figure.at[:, i]
    e = figure.at[:, j] if j is not None else figure.point(i, _tip(figure.skeleton, i, None))
    own = flesh.get(figure.skeleton.joints[i].id)
    deep = own.at(along, around, bone.usual * here_unit) if own is not None else np.full(len(along), bone.usual * here_unit)
    line = e - s
    y = unit(line)
    ahead = unit(figure.turned[:, i, :, 2] - y * (figure.turned[:, i, :, 2] * y).sum(axis=1, keepdims=True))
    side = np.cross(y, ahead)
    out = np.cos(around)[:, None] * ahead + np.sin(around)[:, None] * side
    return weight, s + along[:, None] * line + (deep + np.maximum(gap, 0.0) * here_unit)[:, None] * out


def _in_the_world(
    there: tuple[FloatArray, FloatArray], here: tuple[FloatArray, FloatArray], body: FloatArray, scale: float, unit_there: float, step: float
) -> tuple[FloatArray, FloatArray]:
    """A hand that stays while the body moves holds on to something: it stays here as well. Palm and wrist of both, the one that
    is stiller tells. Returns how surely (k,), and how far the hand has to go (k, 3)."""
    speeds = [_speed(p, step) * unit_there for p in there]
    slow = np.asarray(np.minimum(*speeds) < STAYS)
    weight, shift = np.zeros(len(slow)), np.zeros((len(slow), 3))
    edges = np.flatnonzero(np.diff(np.concatenate([[0], slow.astype(np.int8), [0]])))
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        if (b - a) * step < HELD or np.median(body[a:b]) < MOVES:
            continue
        weight[a:b] = 1.0
        which = int(np.median(speeds[1][a:b]) < np.median(speeds[0][a:b]))
        theirs, ours = there[which][a:b], here[which][a:b]
        shift[a:b] = ours.mean(axis=0) + scale * (theirs - theirs.mean(axis=0)) - ours
    return weight, shift


def _stretches(on: BoolArray, times: FloatArray, part: str, joint: str, what: str) -> list[Contact]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], np.asarray(on).astype(np.int8), [0]])))
    return [Contact(part, joint, float(times[a]), float(times[b - 1]), 0.0, what) for a, b in zip(edges[::2], edges[1::2], strict=True)]
