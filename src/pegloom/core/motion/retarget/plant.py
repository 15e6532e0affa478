"""Contacts found in the source, and the ends of limbs held to them.

A foot in contact goes the source's way, at this body's scale, from wherever the carried motion puts it on average; between
contacts the correction runs over from one to the next while the foot is quick, so that nothing slides and nothing jumps.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import binary_closing, gaussian_filter1d, maximum_filter1d

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.motion.retarget.carry import Performance
from pegloom.core.motion.retarget.chains import kind_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.pairing import ChainPair
from pegloom.core.motion.retarget.turns import about, across, framed, smooth, step_of, unit
from pegloom.core.skeleton.joints import Skeleton

SLOW, QUICK = 0.09, 0.2
"""Metres a second, told at a body of 1.7 m: below the first a point stands, above the second it is free."""
LOW = 0.09
"""Metres at such a body: what stands no higher over the source's floor stands on it; what stands higher, on a step."""
HAND_LOW = 0.12
HIP_HEIGHT = 0.9
"""Metres: how high the hips' joints of a body of 1.7 m are."""
ANKLE_HIGH = 0.2
"""Share of the hip's height: an end joint that stands higher at rest is a hock and touches nothing."""
SHORT_FOOT = 0.22
"""Of a leg's length: a foot's bone from ankle to ball is at most so long; a hock's is longer."""
STRETCH = 0.9985
"""How far a limb is stretched at most."""


@dataclass(frozen=True, eq=False)
class Contact:
    """A stretch of time in which a point of a limb stands. part : whose. point : joint id here. first, last : seconds.
    level : metres over the floor here. on : what is touched."""

    part: str
    point: str
    first: float
    last: float
    level: float
    on: str = "floor"


@dataclass(frozen=True, eq=False)
class Sole:
    """What of the skin, or of the bones, can touch the floor under one limb.

    points (n, 3) at rest; joints (n, i), weights (n, i) : what carries them.
    """

    points: FloatArray
    joints: IntArray
    weights: FloatArray

    def lowest(self, figure: Figure) -> FloatArray:
        """How high its lowest point is at each moment (k,), metres."""
        heights = np.zeros((figure.moments, len(self.points)))
        for i in range(self.joints.shape[1]):
            number, weight = self.joints[:, i], self.weights[:, i]
            used = np.flatnonzero(weight > 0)
            for j in np.unique(number[used]).tolist():
                mine = used[number[used] == j]
                offset = self.points[mine] - figure.rest[j]
                heights[:, mine] += weight[mine] * (figure.turned[:, j, 1] @ offset.T + figure.at[:, j, 1][:, None])
        return np.asarray(heights.min(axis=1, initial=np.inf))


def bare_soles(target: Skeleton, parts: Mapping[str, tuple[str, ...]]) -> dict[str, Sole]:
    """Without a skin: the ground under the ankles and the balls of the feet stands for soles."""
    floor = float(target.positions[:, 1].min()) if target.joints else 0.0
    found = {}
    for part, chain in parts.items():
        if kind_of(part) in ("leg", "foreleg") and len(chain) >= 3:
            joints = [target.index[j] for j in chain[2:]]
            points, owners = [], []
            for j in joints:
                points.append([target.positions[j, 0], floor, target.positions[j, 2]])
                owners.append(j)
                tail = target.joints[j].tail
                if tail is not None:
                    points.append([tail[0], floor, tail[2]])
                    owners.append(j)
            found[part] = Sole(np.array(points), np.array(owners)[:, None], np.ones((len(points), 1)))
    return found


@dataclass(eq=False)
class Limb:
    """One limb being planted. source: numbers of the source's joints and the rest places of its contact points."""

    chain: ChainPair
    joints: tuple[int, int, int]
    points: list[tuple[int, FloatArray]]
    """Joint number here and rest place, of each contact point."""
    there: list[FloatArray]
    """Where each of them is in the source (k, 3), scaled."""
    speeds: list[FloatArray]
    """How fast each goes in the source over each step (k - 1,), metres a second at 1.7 m."""
    heights: list[FloatArray]
    """How high each is over the source's floor, metres at 1.7 m."""
    sole: Sole
    hand: bool
    length: float
    """What a metre of a body of 1.7 m is here."""
    level: FloatArray | None = None
    """How high over the floor it stands (k,), where it stands."""


def unit_of(skeleton: Skeleton) -> float:
    """What a metre of a body of 1.7 m is on a skeleton that stands."""
    at, index = skeleton.positions, skeleton.index
    heights = [at[index[c[0]], 1] - min(at[index[j], 1] for j in c) for p, c in parts_of(skeleton).items() if kind_of(p) == "leg"]
    high = float(np.mean(heights)) / HIP_HEIGHT if heights else 0.0
    return high if high > 1e-9 else max(float(np.ptp(at, axis=0).max()), 1e-9) / 1.7


def _ground_points(skeleton: Skeleton, chain: tuple[str, ...], at: FloatArray, floor: float) -> list[tuple[str, FloatArray]]:
    """The joints of a leg that can stand on the ground: (joint, rest place)."""
    index = skeleton.index
    hip = at[index[chain[0]], 1] - floor
    found = []
    if len(chain) >= 3:
        end = chain[2]
        bones = np.linalg.norm(np.diff(at[[index[j] for j in chain]], axis=0), axis=1)
        # In a pose that is no rest a foot may be lifted: then the length of its bone says that it is one.
        low = at[index[end], 1] - floor < ANKLE_HIGH * hip or len(chain) == 3
        if low or bones[2] < SHORT_FOOT * bones[:2].sum():
            found.append((end, at[index[end]]))
        if len(chain) >= 4:
            found.append((chain[3], at[index[chain[3]]]))
        else:
            tail = skeleton.joint(end).tail
            if tail is not None and tail[1] <= at[index[end], 1] + 0.05 * hip:
                found.append((end, np.array(tail)))
    return found


def limbs_of(seen: Performance, figure: Figure, chains: list[ChainPair], scale: float, soles: dict[str, Sole]) -> list[Limb]:
    """The limbs whose ends may stand on something: legs, and hands that come down to the floor."""
    unit_length = 1.0 / unit_of(seen.skeleton)
    step = step_of(seen.times)
    source, target = seen.skeleton, figure.skeleton
    s_floor = min((source.positions[source.index[j], 1] for c in chains for j in c.source), default=0.0)
    t_floor = min((float(s.points[:, 1].min()) for s in soles.values()), default=0.0)
    found: list[Limb] = []
    for chain in chains:
        if len(chain.target) < 3 or len(chain.source) < 3 or kind_of(chain.part) not in ("leg", "foreleg", "arm"):
            continue
        hand = kind_of(chain.part) == "arm"
        if hand:
            theirs = [(chain.source[2], source.positions[source.index[chain.source[2]]])]
            ours = [(chain.target[2], target.positions[target.index[chain.target[2]]])]
        else:
            theirs = _ground_points(source, chain.source, source.positions, s_floor)
            ours = _ground_points(target, chain.target, target.positions, t_floor)
            theirs, ours = _matched(theirs, ours, chain, figure, soles.get(chain.part))
        there = [seen.point(j, place) for j, place in theirs]
        speeds = [np.linalg.norm(np.diff(p, axis=0), axis=1) / step * unit_length for p in there]
        heights = [p[:, 1] * unit_length for p in there]
        joints = tuple(target.index[j] for j in chain.target[:3])
        sole = soles.get(chain.part, Sole(np.zeros((0, 3)), np.zeros((0, 1), dtype=np.int64), np.zeros((0, 1))))
        found.append(
            Limb(chain, (joints[0], joints[1], joints[2]), [(target.index[j], place) for j, place in ours], [scale * p for p in there], speeds, heights, sole, hand, scale / unit_length)
        )
    _find_floor(found)
    return found


def _matched(
    theirs: list[tuple[str, FloatArray]], ours: list[tuple[str, FloatArray]], chain: ChainPair, figure: Figure, sole: Sole | None
) -> tuple[list[tuple[str, FloatArray]], list[tuple[str, FloatArray]]]:
    """Heel with heel and ball with ball; where one body has only one of the two, the one that is nearest the ground's front."""
    if len(theirs) == len(ours):
        return theirs, ours
    if len(theirs) == 2 and len(ours) == 1 and ours[0][0] == chain.target[2]:
        # No toes here: the sole's foremost point stands for the ball.
        if sole is not None and len(sole.points):
            front = sole.points[int(np.argmax(sole.points[:, 2]))]
            ankle = ours[0][1]
            return theirs, [ours[0], (chain.target[2], ankle + 0.7 * (front - ankle))]
        return theirs[:1], ours
    if len(theirs) == 1 and len(ours) == 2:
        return theirs, ours[-1:] if theirs[0][0] != chain.source[2] else ours[:1]
    return theirs[-1:], ours[-1:]


def _find_floor(limbs: list[Limb]) -> None:
    """Take the source's floor off the heights: where the ends of legs stand low, each point at its own height."""
    lows = []
    for limb in limbs:
        if limb.hand:
            continue
        for k, speed in enumerate(limb.speeds):
            stands = _per_frame(speed) < SLOW
            heights = limb.heights[k]
            base = float(np.percentile(heights[stands], 15)) if stands.sum() >= 3 else float(np.percentile(heights, 2))
            limb.heights[k] = heights - base
            lows.append((base, k))
    ground = min((b for b, _ in lows), default=0.0)
    for limb in limbs:
        if limb.hand:
            limb.heights = [h - ground for h in limb.heights]


def _per_frame(steps: FloatArray) -> FloatArray:
    """The slower of the steps before and after each frame (k,)."""
    if not len(steps):
        return np.zeros(1)
    return np.asarray(np.minimum(np.concatenate([steps[:1], steps]), np.concatenate([steps, steps[-1:]])))


def stands(limb: Limb) -> list[FloatArray]:
    """How much each contact point stands still over each step (k - 1,), 0 to 1."""
    result = []
    for k, speed in enumerate(limb.speeds):
        weight = smooth(speed, QUICK, SLOW)
        if limb.hand:
            high = np.maximum(limb.heights[k][1:], limb.heights[k][:-1])
            weight = weight * smooth(high, 1.6 * HAND_LOW, HAND_LOW)
        result.append(weight)
    return result


def flat_moments(limb: Limb) -> BoolArray:
    """Frames (k,) at which the whole sole stands."""
    if limb.hand or not limb.points:
        return np.zeros(0, dtype=bool)
    slow = [_per_frame(s) < SLOW for s in limb.speeds]
    low = [h < LOW for h in limb.heights]
    return np.asarray(np.logical_and.reduce([*slow, *low]))


def paths(limbs: list[Limb], figure: Figure, floor: float, times: FloatArray) -> list[tuple[FloatArray, FloatArray]]:
    """Where each limb's end joint is to be (k, 3), and how much it stands (k,)."""
    return [_path(limb, figure, floor, times) for limb in limbs]


def _path(limb: Limb, figure: Figure, floor: float, times: FloatArray) -> tuple[FloatArray, FloatArray]:
    end = limb.joints[2]
    free = figure.at[:, end]
    moments = len(free)
    weights = stands(limb)
    if moments < 3 or not limb.points or not limb.chain.planted:
        return free.copy(), np.zeros(moments)
    own = np.diff(free, axis=0)
    total = np.max(weights, axis=0)
    if not (total > 0).any():
        return free.copy(), np.zeros(moments)
    # Each step the end joint makes: as the points that stand tell it, else its own.
    told = np.zeros_like(own)
    share = np.zeros(len(own))
    for k, (joint, place) in enumerate(limb.points):
        step = np.diff(limb.there[k], axis=0)
        if joint != end or np.linalg.norm(place - figure.rest[end]) > 1e-9:
            arm = figure.point(joint, place) - free
            step = step - np.diff(arm, axis=0)
        told += weights[k][:, None] ** 2 * step
        share += weights[k] ** 2
    told /= np.maximum(share, 1e-9)[:, None]
    steps = told * total[:, None] + own * (1.0 - total)[:, None]
    drift = np.concatenate([np.zeros((1, 3)), np.cumsum(steps - own, axis=0)])
    # Where it stands, what it is off on average is taken back; what it is taken back by changes only while it is free.
    held = np.concatenate([total[:1], np.maximum(total[1:], total[:-1]), total[-1:]])
    runs = runs_of(total > 0.98)
    freedom = np.concatenate([[0.0], np.cumsum((1.0 - total) + 1e-9)])
    correction = np.zeros((moments, 3))
    if runs:
        knots = [(freedom[a], freedom[b], -drift[a : b + 1].mean(axis=0)) for a, b in runs]
        ways = np.concatenate([[k[0], k[1]] for k in knots])
        values = np.repeat(np.array([k[2] for k in knots]), 2, axis=0)
        correction = _eased(freedom, ways, values)
        # Before the first and after the last the end goes back to its own way, where it has the time.
        first, last = runs[0][0], runs[-1][1]
        lead = smooth(freedom[: first + 1] - freedom[first], -_long(times), 0.0) if first else np.ones(1)
        tail = smooth(freedom[last:] - freedom[last], _long(times), 0.0)
        gap = drift + correction
        gap[: first + 1] = gap[first] * lead[:, None]
        gap[last:] = gap[last] * tail[:, None]
        path = free + gap
    else:
        path = free + drift - drift.mean(axis=0)
    path[:, 1] = _height(limb, figure, floor, total, runs)
    return path, held


def _long(times: FloatArray) -> float:
    """Steps in a third of a second."""
    return max(0.35 / step_of(times), 2.0)


def _eased(x: FloatArray, knots: FloatArray, values: FloatArray) -> FloatArray:
    """Values (k, n) at x, held at the knots and beyond them, eased between."""
    if len(knots) == 1:
        return np.repeat(values, len(x), axis=0)
    i = np.clip(np.searchsorted(knots, x, side="right") - 1, 0, len(knots) - 2)
    u = np.clip((x - knots[i]) / np.maximum(knots[i + 1] - knots[i], 1e-12), 0.0, 1.0)
    u = (u * u * (3.0 - 2.0 * u))[:, None]
    return np.asarray(values[i] + u * (values[i + 1] - values[i]))


def runs_of(flags: BoolArray) -> list[tuple[int, int]]:
    """First and last frame of each run of steps (k - 1,) that are set."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], flags.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _height(limb: Limb, figure: Figure, floor: float, total: FloatArray, runs: list[tuple[int, int]]) -> FloatArray:
    """How high the end joint is: its sole on what it stands on, never below the floor."""
    end = limb.joints[2]
    own = figure.at[:, end, 1]
    under = limb.sole.lowest(figure) - own if len(limb.sole.points) else np.full(len(own), floor - figure.rest[end, 1])
    standing = np.zeros(len(own), dtype=bool)
    for a, b in runs:
        standing[a : b + 1] = True
    on = np.flatnonzero(standing)
    gap = np.zeros(len(own))
    limb.level = np.zeros(len(own))
    if len(on):
        high = np.min(limb.heights, axis=0)
        # What stands a hand's breadth up stands on a step, or is held in the air; less is the floor, and noise.
        limb.level = np.maximum(high, 0.0) * smooth(high, 0.5 * LOW, 1.4 * LOW) * limb.length
        wanted = floor + limb.level[on] - under[on] - own[on]
        freedom = np.concatenate([[0.0], np.cumsum((1.0 - total) + 1e-9)])
        gap = _eased(freedom, freedom[on], wanted[:, None])[:, 0]
    return np.asarray(np.maximum(own + gap, floor - under))


def bend_to(figure: Figure, joints: tuple[int, int, int], goal: FloatArray, axis: FloatArray) -> FloatArray:
    """Bend a limb so that its end is at a goal (k, 3), its end joint turned as it was; returns how far it misses (k,).

    axis : (3,) what it folds about, at rest, about the body's axes. The plane it bends in stays.
    """
    upper, lower, end = joints
    start = figure.at[:, upper]
    first, second = figure.at[:, lower] - start, figure.at[:, end] - figure.at[:, lower]
    a, b = (float(np.linalg.norm(v[0])) for v in (first, second))
    x = np.einsum("kab,b->ka", figure.turned[:, upper], axis)
    way = goal - start
    far = np.linalg.norm(way, axis=1)
    reach = np.clip(far, abs(a - b) + 0.02 * (a + b), STRETCH * (a + b))
    e = unit(way)
    old_first, old_second = framed(first, x), framed(second, x)
    # The hinge, squared to the new way; where the limb points along its hinge the old one is kept.
    square = framed(e, x)[..., 0]
    alpha = np.arccos(np.clip((a * a + reach * reach - b * b) / (2 * a * reach), -1.0, 1.0))
    beta = np.arccos(np.clip((b * b + reach * reach - a * a) / (2 * b * reach), -1.0, 1.0))
    new_first = framed(np.einsum("kab,kb->ka", about(square, -alpha), e), square)
    new_second = framed(np.einsum("kab,kb->ka", about(square, beta), e), square)
    keep = figure.turned[:, end].copy()
    figure.turns[upper] = new_first @ across(old_first) @ figure.turned[:, upper]
    figure.turns[lower] = new_second @ across(old_second) @ figure.turned[:, lower]
    figure.turns[end] = keep
    figure.stand(figure.below(upper))
    return np.asarray(np.linalg.norm(figure.at[:, end] - goal, axis=1))


def sunk(limbs: list[Limb], goals: list[tuple[FloatArray, FloatArray]], figure: Figure, times: FloatArray) -> FloatArray:
    """How far the whole figure has to come down (k,) for the limbs that stand to reach, smooth in time."""
    need = np.zeros(figure.moments)
    for limb, (goal, held) in zip(limbs, goals, strict=True):
        if limb.hand:
            continue
        upper, lower, end = limb.joints
        start = figure.at[:, upper]
        whole = STRETCH * float(np.linalg.norm(figure.rest[lower] - figure.rest[upper]) + np.linalg.norm(figure.rest[end] - figure.rest[lower]))
        flat = ((goal - start)[:, [0, 2]] ** 2).sum(axis=1)
        room = np.sqrt(np.maximum(whole**2 - flat, 0.0))
        need = np.maximum(need, held * np.maximum(start[:, 1] - goal[:, 1] - room, 0.0))
    if not need.any():
        return need
    width = max(round(0.1 / step_of(times)), 1)
    return np.asarray(gaussian_filter1d(maximum_filter1d(need, 2 * width + 1), width))


def contacts_of(limbs: list[Limb], times: FloatArray, figure: Figure) -> tuple[Contact, ...]:
    """The stretches in which the points of the limbs stand."""
    found = []
    for limb in limbs:
        if not limb.chain.planted:
            continue
        for k, weight in enumerate(stands(limb)):
            if k >= len(limb.points):
                continue
            slow = binary_closing(np.concatenate([[False], weight > 0.98, [False]]), iterations=1)[1:-1]
            for a, b in runs_of(np.asarray(slow)):
                level = 0.0 if limb.level is None else float(limb.level[a])
                found.append(Contact(limb.chain.part, figure.skeleton.joints[limb.points[k][0]].id, float(times[a]), float(times[b]), level))
    return tuple(sorted(found, key=lambda c: c.first))
