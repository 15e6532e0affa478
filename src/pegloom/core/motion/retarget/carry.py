"""How each part of one body turns, told on another: directions of limbs, turns from rest of all else."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.transforms import frame
from pegloom.core.motion.retarget.chains import LIMBS, frames_of, kind_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.pairing import ChainPair, Pairing
from pegloom.core.motion.retarget.source import Source, Stood, worlds_of
from pegloom.core.motion.retarget.turns import (
    about,
    across,
    between,
    framed,
    of_vector,
    scaled,
    smooth,
    straight,
    unit,
)
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skeleton.kits import FINGERS

ALIKE = np.radians(28.0)
"""Legs whose bones stand within this of one another at rest have their directions taken over; others their turns."""
BENT, STRAIGHT = np.radians(32.0), np.radians(9.0)
"""From where on a limb's own plane tells its hinge, and below which it says nothing."""


@dataclass(frozen=True, eq=False)
class Performance:
    """A source's motion, upright, in its own unit.

    times (k,) seconds. turned (k, j, 3, 3) : from the pose it is read from, about the body's axes. at (k, j, 3).
    """

    stood: Stood
    times: FloatArray
    turned: FloatArray
    at: FloatArray

    @property
    def skeleton(self) -> Skeleton:
        return self.stood.skeleton

    def number(self, joint: str) -> int:
        return self.stood.skeleton.index[joint]

    def point(self, joint: str, rest: FloatArray) -> FloatArray:
        """Where a point (3,) of the pose it is read from is (k, 3), carried by a joint."""
        j = self.number(joint)
        return np.asarray(self.at[:, j] + np.einsum("kab,b->ka", self.turned[:, j], rest - self.skeleton.positions[j]))


def performance(source: Source, stood: Stood, times: FloatArray) -> Performance:
    """What a source does at some moments."""
    worlds = worlds_of(source, times)
    turns = worlds[..., :3, :3]
    lengths = np.linalg.norm(turns, axis=-2)
    uneven = bool((np.abs(lengths - lengths[..., :1]) > 1e-4 * lengths).any())
    mirrored = bool((np.linalg.det(turns[0]) <= 0).any())
    plain = straight(turns) if uneven or mirrored else turns / lengths[..., None, :]
    turned = stood.upright @ plain @ across(stood.rests)
    return Performance(stood, times, turned, worlds[..., :3, 3] @ stood.upright.T)


def carried(seen: Performance, pairing: Pairing, target: Skeleton, base: int) -> Figure:
    """A figure that turns as the performance does, in place: where it stands and what it touches is for later."""
    figure = Figure(target, len(seen.times), base)
    chains = {c.part: c for c in pairing.chains if c.source}
    theirs, ours = told_frames(seen.skeleton, target, chains)
    # What hangs on what comes after it.
    for chain in sorted(chains.values(), key=lambda c: target.index[c.target[0]]):
        kind = kind_of(chain.part)
        if kind in LIMBS:
            turns = _limb(seen, chain, theirs, ours, target)
        elif kind == "finger" or chain.part.startswith("as."):
            turns = _on_base(seen, chain, chains, theirs, ours, target)
        else:
            turns = _run(seen, chain, target)
        for joint, turn in zip(chain.target, turns, strict=False):
            figure.turns[target.index[joint]] = turn
    return figure


def told_frames(source: Skeleton, target: Skeleton, chains: Mapping[str, ChainPair]) -> tuple[Mapping[str, FloatArray], Mapping[str, FloatArray]]:
    """`frames_of` both bodies, with hands whose fingers are paired told by their knuckles in both.

    A hand has no bone of its own that says where it points: what a body was built with, or what is read from a file's shape,
    may name the thumb, and the two would be off by that.
    """
    theirs, ours = dict(frames_of(source)), dict(frames_of(target))
    for chain in chains.values():
        if kind_of(chain.part) != "arm" or min(len(chain.source), len(chain.target)) < 3:
            continue
        side = chain.part.rpartition(".")[2]
        fingers = [chains[part] for finger in FINGERS[1:] if (part := f"{finger}.{side}") in chains]
        if not fingers:
            continue
        for skeleton, frames, arm, roots in (
            (source, theirs, chain.source, [f.source[0] for f in fingers]), (target, ours, chain.target, [f.target[0] for f in fingers]),
        ):  # fmt: skip
            at = skeleton.positions[[skeleton.index[j] for j in roots]]
            aim = at.mean(axis=0) - skeleton.positions[skeleton.index[arm[2]]]
            across_palm = at[-1] - at[0] if len(at) > 1 else frames[arm[1]][:, 0]
            if np.linalg.norm(np.cross(aim, across_palm)) > 1e-3 * float(aim @ aim):
                frames[arm[2]] = frame(aim, across_palm)
    return theirs, ours


def adjusted(figure: Figure, pairing: Pairing) -> None:
    """Put each chain's amount and turn on a figure that stands; it stands after it as well."""
    target = figure.skeleton
    ours = frames_of(target)
    for chain in sorted(pairing.chains, key=lambda c: target.index[c.target[0]]):
        numbers = [target.index[j] for j in chain.target if target.index[j] in figure.turns]
        if not numbers or (chain.amount == 1.0 and not any(chain.turn)):
            continue
        below = sorted(figure.below(numbers[0]) - {numbers[0]})
        parents = figure.parents
        relative = {j: across(figure.turned[:, parents[j]]) @ figure.turns[j] for j in [numbers[0], *below] if j in figure.turns and parents[j] >= 0}
        if chain.amount != 1.0:
            relative |= {j: scaled(relative[j], chain.amount) for j in numbers if j in relative}
        if any(chain.turn):
            axes = ours[chain.target[0]]
            turn = axes @ of_vector(np.radians(np.array(chain.turn))) @ axes.T
            j = numbers[0]
            relative[j] = relative.get(j, figure.turns[j]) @ turn
        for j in [numbers[0], *below]:
            if j in relative:
                figure.turns[j] = figure.turned[:, parents[j]] @ relative[j]
            elif j == numbers[0]:
                continue
            figure.stand(frozenset({j}))
        figure.stand()


def shares_of(skeleton: Skeleton, chain: tuple[str, ...]) -> FloatArray:
    """How far along a chain each joint is, 0 to 1."""
    if len(chain) == 1:
        return np.ones(1)
    at = skeleton.positions[[skeleton.index[j] for j in chain]]
    way = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(at, axis=0), axis=1))])
    return np.asarray(way / way[-1]) if way[-1] > 1e-12 else np.linspace(0.0, 1.0, len(chain))


def _along(turns: FloatArray, have: FloatArray, wanted: FloatArray) -> list[FloatArray]:
    """Turns (k, n, 3, 3) of joints at shares `have` of a chain, at other shares of it."""
    result = []
    for share in wanted:
        i = int(np.clip(np.searchsorted(have, share, side="right") - 1, 0, len(have) - 1))
        if i == len(have) - 1:
            result.append(turns[:, i])
            continue
        u = float((share - have[i]) / max(have[i + 1] - have[i], 1e-12))
        result.append(between(turns[:, i], turns[:, i + 1], u))
    return result


def _numbers(seen: Performance, joints: tuple[str, ...]) -> IntArray:
    return np.array([seen.number(j) for j in joints])


def _run(seen: Performance, chain: ChainPair, target: Skeleton) -> list[FloatArray]:
    """Trunk, neck, head, tail: turns from rest, spread along the chain."""
    turns = seen.turned[:, _numbers(seen, chain.source)]
    return _along(turns, shares_of(seen.skeleton, chain.source), shares_of(target, chain.target))


def _on_base(
    seen: Performance, chain: ChainPair, chains: Mapping[str, ChainPair], theirs: Mapping[str, FloatArray], ours: Mapping[str, FloatArray], target: Skeleton
) -> list[FloatArray]:
    """Fingers, jaws, ears: how they turn on what holds them, told in that one's axes."""
    source = seen.skeleton
    pairs = {c.target[min(k, len(c.target) - 1)]: c.source[min(k, len(c.source) - 1)] for c in chains.values() for k in range(len(c.target))}
    held = target.joint(chain.target[0]).parent
    while held is not None and held not in pairs:
        held = target.joint(held).parent
    if held is None:
        return _run(seen, chain, target)
    above = seen.number(pairs[held])
    a, b = theirs[source.joints[above].id], ours[held]
    carrier = _carrier(seen, above, a, b, held, chains)
    result = []
    for k in range(min(len(chain.target), len(chain.source))):
        turned = across(seen.turned[:, above]) @ seen.turned[:, seen.number(chain.source[k])]
        result.append(carrier @ (b @ (a.T @ turned @ a) @ b.T))
    return result


def _carrier(seen: Performance, above: int, a: FloatArray, b: FloatArray, held: str, chains: Mapping[str, ChainPair]) -> FloatArray:
    """How what holds them has turned here."""
    limb = next((c for c in chains.values() if kind_of(c.part) in LIMBS and held in c.target), None)
    return seen.turned[:, above] if limb is None else seen.turned[:, above] @ (a @ b.T)


def copies(chain: ChainPair, stood: Stood, target: Skeleton) -> bool:
    """Whether a limb's directions are taken over; of legs that stand otherwise at rest it is their turns."""
    if kind_of(chain.part) in ("arm", "wing"):
        return not any(kind_of(p) == "foreleg" and set(chain.source) <= set(j) for p, j in stood.parts.items())
    if any(kind_of(p) == "foreleg" for p in (*stood.parts, *parts_of(target))):
        return False
    if stood.frame is not None:
        # It is read from a frame, which may be of a step.
        return kind_of(chain.part) == "leg"
    theirs, ours = frames_of(stood.skeleton), frames_of(target)
    aims = [(theirs[a][:, 1], ours[b][:, 1]) for a, b in zip(chain.source[:2], chain.target[:2], strict=False)]
    return all(float(a @ b) > np.cos(ALIKE) for a, b in aims) and kind_of(chain.part) == "leg"


def _limb(
    seen: Performance, chain: ChainPair, theirs: Mapping[str, FloatArray], ours: Mapping[str, FloatArray], target: Skeleton
) -> list[FloatArray]:
    numbers = _numbers(seen, chain.source)
    turned = [seen.turned[:, n] for n in numbers]
    if not copies(chain, seen.stood, target):
        result = _from_hanging(seen.stood, chain, turned, theirs, ours)
    else:
        axes = [turned[k] @ theirs[chain.source[k]] for k in range(len(numbers))]
        if len(numbers) >= 3:
            axes[0], axes[1] = _hinged(axes[0], axes[1], keep_twist=kind_of(chain.part) != "leg")
        if kind_of(chain.part) == "leg":
            # A foot stands flat on both, wherever its ankle is over it.
            result = [axes[k] @ ours[chain.target[k]].T if k < 2 else turned[k] for k in range(min(len(axes), len(chain.target)))]
        else:
            result = [axes[k] @ ours[chain.target[k]].T for k in range(min(len(axes), len(chain.target)))]
    return result[: len(chain.target)]


def _from_hanging(
    stood: Stood, chain: ChainPair, turned: list[FloatArray], theirs: Mapping[str, FloatArray], ours: Mapping[str, FloatArray]
) -> list[FloatArray]:
    """Turns of a limb as they are; of an arm that stands for a front leg, or the other way round, from where it hangs down."""
    kind = next((kind_of(p) for p, joints in stood.parts.items() if set(chain.source) <= set(joints)), "")
    arms = ("arm", "wing")
    if kind in arms and kind_of(chain.part) == "foreleg":
        hang = [hanging(theirs[j]) for j in chain.source[:2]]
        return [turn @ hang[min(k, 1)].T for k, turn in enumerate(turned)]
    if kind == "foreleg" and kind_of(chain.part) in arms:
        hang = [hanging(ours[j]) for j in chain.target[:2]]
        return [turn @ hang[min(k, 1)] for k, turn in enumerate(turned)]
    return turned


def hanging(axes: FloatArray) -> FloatArray:
    """What turns a bone (3, 3) from its rest to hang straight down, folding ahead."""
    down = np.array([0.0, -1.0, 0.0])
    return np.asarray(frame(down, np.cross(down, [0.0, 0.0, 1.0])) @ axes.T)


def _hinged(upper: FloatArray, lower: FloatArray, *, keep_twist: bool) -> tuple[FloatArray, FloatArray]:
    """Axes (k, 3, 3) of a limb's two bones with the fold about x: its plane tells the axis where it is bent.

    The axis the joint says and the one the plane tells may differ by a constant, which is taken out, so that nothing
    jumps where a limb goes straight.
    """
    y, z = upper[..., 1], lower[..., 1]
    normal = np.cross(y, z)
    sine = np.linalg.norm(normal, axis=-1)
    bend = np.arctan2(sine, (y * z).sum(axis=-1))
    normal = unit(normal)
    x = upper[..., 0]
    off = np.arctan2((np.cross(x, normal) * y).sum(axis=-1), (x * normal).sum(axis=-1))
    clear = bend > BENT
    if clear.sum() >= 3:
        # The mean of angles on the circle.
        constant = float(np.arctan2(np.sin(off[clear]).mean(), np.cos(off[clear]).mean()))
        x = np.einsum("kab,kb->ka", about(y, np.full(len(y), constant)), x)
        off = off - constant
    off = np.arctan2(np.sin(off), np.cos(off))
    weight = smooth(bend, STRAIGHT, BENT) * smooth(np.abs(off), np.radians(100.0), np.radians(60.0))
    x = np.einsum("kab,kb->ka", about(y, weight * off), x)
    new_upper = framed(y, x)
    hinge = framed(z, new_upper[..., 0])
    return new_upper, framed(z, lower[..., 0]) if keep_twist else hinge


def flattened_feet(figure: Figure, chain: ChainPair, flat: BoolArray) -> None:
    """Have a foot's sole lie level where the source's foot stands: flat (k,) tells those moments.

    The source's rest may not have its feet flat; how they stand in the motion says what flat is.
    """
    if flat.sum() < 3 or len(chain.target) < 3:
        return
    j = figure.skeleton.index[chain.target[2]]
    turns = figure.turns.get(j)
    if turns is None:
        return
    ups = across(turns[flat])[..., 1]
    mean = unit(np.median(ups, axis=0))
    if mean[1] < np.cos(np.radians(50.0)):
        return
    axis = np.cross([0.0, 1.0, 0.0], mean)
    angle = float(np.arctan2(np.linalg.norm(axis), mean[1]))
    if angle < 1e-4:
        return
    level = of_vector(unit(axis) * angle)
    figure.turns[j] = turns @ level
    if len(chain.target) >= 4:
        toes = figure.skeleton.index[chain.target[3]]
        if toes in figure.turns:
            figure.turns[toes] = figure.turns[toes] @ level
