"""A clip of the shelf that two play: carried over to two characters that then stand as the two it was made on stood."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import quaternion_about
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.retarget import Source, stood
from pegloom.core.motion.retarget.chains import parts_of
from pegloom.core.motion.retarget.source import moments_of, worlds_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.shelf.card import ClipCard
from pegloom.core.motion.together import Stance, stance_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.baking import baked_clip
from pegloom.document.edits.borrow import Lent
from pegloom.document.edits.figures import figure_of, play_figure, stand_figure, take_character
from pegloom.document.edits.shelf import take_clip
from pegloom.document.model import Character, Document

TALL = 1.7
"""Metres of the body whose `beside` a card tells."""
CLOSE = 1.15
"""How many times the smallest distance of two hands still counts as touching."""
OTHER_SIDE = {"l": "r", "r": "l"}
REACH = 0.35
"""Share of the height within which hands of two are held against each other at all."""


def take_for_two(
    document: Document, cards: tuple[ClipCard, ClipCard], sources: tuple[Source, Source], who: tuple[str, str],
    *, controls: bool = False, on_ik: tuple[str, ...] | None = None, options: CarryOptions | None = None, progress: Progress = silent,
) -> tuple[Document, tuple[Lent, Lent]]:  # fmt: skip
    """Carry the two clips that belong together over to two characters, put the second where its partner stands beside the
    first, and let both play from one moment on.

    who : ids of the one that plays the first clip and the one that plays the second. The character in hand stays.
    Where hands meet in the clips the second is moved, on the ground, so that they meet again on bodies of other builds.

    Raises EditError where one clip does not belong to the other, or does not go with its body.
    """
    if who[0] == who[1]:
        raise EditError("two characters are needed; bring in another, or duplicate this one")
    if cards[0].partner != cards[1].id:
        raise EditError(f"{cards[0].title} and {cards[1].title} do not belong together")
    in_hand = document.require_character().id
    first, second = (figure_of(document, one) for one in who)
    for one in (first, second):
        if one.figure.stands[0].carrier:
            raise EditError(f"{one.name} is carried by another; set it down first")
    lent: list[Lent] = []
    for k, one in enumerate((first, second)):
        document = take_character(document, one.id)
        step = part_of(progress, 0.5 * k, 0.5 * (k + 1))
        document, done = take_clip(document, cards[k], sources[k], options=options, controls=controls, on_ik=on_ik if k == 0 else None, progress=step)
        lent.append(done)
        document = play_figure(document, one.id, done.clip, loops=cards[k].loops)
    first, second = (figure_of(document, one.id) for one in (first, second))
    beside, across = cards[0].beside, options is not None and options.mirror
    if across:
        beside = (-beside[0], beside[1], -beside[2])
    x, z, degrees = beside
    larger = second.figure.stands[0].stance.scale / first.figure.stands[0].stance.scale
    size = 0.5 * (first.height + larger * second.height) / TALL
    apart = (x * size, 0.0, z * size)
    between = Stance(apart, _about(degrees), larger)
    moved = _nearer((first, second), lent, [_hands_of_source(s, across) for s in sources], _tall(sources[0]), beside, between)
    between = replace(between, at=(apart[0] + float(moved[0]), 0.0, apart[2] + float(moved[2])))
    base = first.figure.stands[0].stance
    stance = stance_of(base.matrix @ between.matrix)
    document = stand_figure(document, second.id, stance)
    return take_character(document, in_hand), (lent[0], lent[1])


def _nearer(
    two: tuple[Character, Character], lent: list[Lent], theirs: list[dict[str, FloatArray]], tall: float, beside: tuple[float, float, float], between: Stance,
) -> FloatArray:
    """Metres (3,) along the ground by which the second is moved so that hands meet as they met in the sources; none where no
    hands come near. theirs : where hands are (k, 3) in both sources, by side. tall : how tall the sources' bodies are."""
    if any(not hands for hands in theirs):
        return np.zeros(3)
    x, z, degrees = beside
    turn = Stance((x * tall / TALL, 0.0, z * tall / TALL), _about(degrees)).matrix
    pairs: list[tuple[str, str, FloatArray, FloatArray]] = []
    for a, at in theirs[0].items():
        for b, other in theirs[1].items():
            count = min(len(at), len(other))
            moved = other[:count] @ turn[:3, :3].T + turn[:3, 3]
            gap = moved - at[:count]
            pairs.append((a, b, np.linalg.norm(gap, axis=1), gap))
    nearest = min(float(p[2].min()) for p in pairs)
    if nearest > REACH * tall:
        return np.zeros(3)
    own = [_hands_of(c, one) for c, one in zip(two, lent, strict=True)]
    shifts = []
    size = 0.5 * (two[0].height / tall + between.scale * two[1].height / tall)
    for a, b, far, gap in pairs:
        if a not in own[0] or b not in own[1]:
            continue
        count = min(len(far), len(own[0][a]), len(own[1][b]))
        met = np.flatnonzero(far[:count] <= CLOSE * nearest)
        for k in met.tolist():
            here = own[0][a][k]
            there = between.matrix[:3, :3] @ own[1][b][k] + between.matrix[:3, 3]
            shifts.append(here + size * gap[k] - there)
    if not shifts:
        return np.zeros(3)
    return np.asarray(np.mean(shifts, axis=0) * [1.0, 0.0, 1.0])


def _about(degrees: float) -> tuple[float, float, float, float]:
    a, b, c, d = (float(v) for v in quaternion_about([0.0, 1.0, 0.0], np.radians(degrees)))
    return a, b, c, d


def _hand_numbers(skeleton: Skeleton) -> dict[str, int]:
    parts = parts_of(skeleton)
    return {side: skeleton.index[parts[name][-1]] for side in ("l", "r") if (name := f"arm.{side}") in parts}


def _tall(source: Source) -> float:
    """Metres from the ground to over the head of the body a source was made on."""
    return float(np.ptp(stood(source).skeleton.positions[:, 1])) * 1.06


def _hands_of_source(source: Source, across: bool) -> dict[str, FloatArray]:
    """Where a source's hands are (k, 3) at its frames, upright, by side. across : with its sides exchanged."""
    read = stood(source)
    worlds = worlds_of(source, moments_of(source.clip))
    places = worlds[:, :, :3, 3] @ read.upright.T
    found = {side: places[:, k] for side, k in _hand_numbers(read.skeleton).items()}
    return {OTHER_SIDE[side]: at * [-1.0, 1.0, 1.0] for side, at in found.items()} if across else found


def _hands_of(character: Character, lent: Lent) -> dict[str, FloatArray]:
    """Where a character's hands are (k, 3) at the frames of a clip, by side."""
    skeleton, clip = character.require_skeleton(), character.clip(lent.clip)
    told = baked_clip(character, clip)
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    places = posed_at(told, skeleton, times)[:, :, :3, 3]
    return {side: places[:, k] for side, k in _hand_numbers(skeleton).items()}
