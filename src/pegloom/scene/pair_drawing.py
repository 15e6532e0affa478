"""A source of motion drawn beside the character or over it, and the threads between parts that are paired."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.retarget import ChainPair
from pegloom.core.motion.retarget.chains import kind_of
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.scene.drawing import LINEN, side_colour
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import rgb

DOUBT = rgb("#E4574F")
SAG = 0.06
"""How far a thread hangs through, as a share of its length."""


def draw_source(draw: DrawList, skeleton: Skeleton, at: FloatArray, pairs: Sequence[ChainPair], picked: str, hovered: str = "", *, alpha: float = 0.9) -> None:
    """Cords of a source's joints at (j, 3): those paired in the colour of their side, the others faint and hollow."""
    part_of = {joint: pair for pair in pairs for joint in pair.source}
    for j, joint in enumerate(skeleton.joints):
        pair = part_of.get(joint.id)
        colour = _colour(pair) if pair is not None else LINEN
        held = pair is not None and pair.part == picked
        parent = int(skeleton.parents[j])
        if parent >= 0:
            draw.through.add(np.array([at[parent], at[j]]), colour, 4.2 if held else 2.4, alpha if pair is not None else 0.35 * alpha)
        sure = pair is not None and pair.sure
        draw.dots.add(at[j], LINEN if joint.id == hovered else colour, 5.5 if held else 3.6, hollow=0.0 if sure else 1.0, alpha=alpha)


def draw_overlay(draw: DrawList, skeleton: Skeleton, at: FloatArray) -> None:
    """A source over the result: thin, one colour, so that it is told from the character's own joints."""
    for j, parent in enumerate(skeleton.parents.tolist()):
        if parent >= 0:
            draw.over.add(np.array([at[parent], at[j]]), LINEN, 1.7, 0.75)
        draw.dots.add(at[j], LINEN, 2.2, alpha=0.8)


def draw_threads(draw: DrawList, pairs: Sequence[ChainPair], there: dict[str, FloatArray], here: dict[str, FloatArray], picked: str) -> None:
    """A thread from the middle of each paired chain to the middle of its own; doubtful ones dotted, hollow at both ends.

    there, here : places by joint id.
    """
    for pair in pairs:
        ours = [here[j] for j in pair.target if j in here]
        if not ours:
            continue
        held = pair.part == picked
        colour = _colour(pair)
        end = _middle(ours)
        theirs = [there[j] for j in pair.source if j in there]
        if not theirs:
            small = kind_of(pair.part) == "finger" and not held
            draw.dots.add(end, DOUBT if held else LINEN, 3.0 if small else 6.0, hollow=1.0, alpha=0.9 if held else 0.6)
            continue
        start = _middle(theirs)
        u = np.linspace(0.0, 1.0, 25)[:, None]
        line = start + u * (end - start)
        line[:, 1] -= SAG * float(np.linalg.norm(end - start)) * (4.0 * u * (1.0 - u)).ravel()
        alpha = 0.95 if held else 0.4
        if pair.sure:
            draw.over.add(line, colour, 2.6 if held else 1.3, alpha)
        else:
            for k in range(0, 24, 2):
                draw.over.add(line[k : k + 2], DOUBT if held else colour, 2.6 if held else 1.5, min(alpha + 0.25, 1.0))
        for place in (start, end):
            draw.dots.add(place, colour if pair.sure else DOUBT, 5.5 if held else 4.0, hollow=0.0 if pair.sure else 1.0, alpha=0.95)
        if held:
            for places in (ours, theirs):
                draw.over.add(np.array(places) if len(places) > 1 else np.array([places[0], places[0]]), colour, 5.0, 0.9)


def _middle(places: list[FloatArray]) -> FloatArray:
    return places[len(places) // 2] if len(places) % 2 else 0.5 * (places[len(places) // 2 - 1] + places[len(places) // 2])


def _colour(pair: ChainPair) -> FloatArray:
    side = {"l": Side.LEFT, "r": Side.RIGHT}.get(pair.part.rpartition(".")[2], Side.CENTRE)
    return side_colour(side)
