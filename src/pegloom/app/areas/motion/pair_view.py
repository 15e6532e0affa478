"""The source in the view: beside the character with threads while it is paired, over it where one looks at what came of it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pegloom.app.areas.motion.borrowing import (
    WIGGLE_TICKS,
    BorrowSettings,
    borrowed_clip,
    pairing_in_hand,
    pairing_open,
    settings,
    source_in_hand,
)
from pegloom.app.context import Context
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.core.arrays import FloatArray
from pegloom.core.errors import PegLoomError
from pegloom.core.motion.retarget import Pairing, Source, Stood, moments_of, places_at, stood
from pegloom.core.skeleton.joints import Skeleton
from pegloom.scene.drawlist import DrawList
from pegloom.scene.pair_drawing import DOUBT, draw_overlay, draw_source, draw_threads

NEAR = 9.0
"""Pixels within which a joint of the source is taken hold of."""
SWING = np.radians(24.0)
GAP = 0.14
"""Share of the height between the two bodies."""


class Shown(NamedTuple):
    """A source as it is drawn beside the character: joints (j, 3)."""

    source: Source
    read: Stood
    pairing: Pairing
    at: FloatArray


def beside(c: Context) -> Shown | None:
    """The source beside the character, at the same moment where the clip on the strip is made from it, else at its rest."""
    source, pairing, frame = source_in_hand(c.state), pairing_in_hand(c.state), c.frames.frame()
    character = c.state.character
    if source is None or pairing is None or frame is None or character is None or character.skeleton is None or not pairing_open(c.state):
        return None
    try:
        read = stood(source, pairing.rest)
    except PegLoomError:
        return None
    rest = read.skeleton.positions
    scale = character.height / max(float(np.ptp(rest[:, 1])) * 1.06, 1e-9)
    clip = borrowed_clip(c.state)
    places = rest
    if clip is not None and clip.borrowed is not None:
        if clip.borrowed.measured is not None:
            scale = clip.borrowed.measured.scale
        places = places_at(source, read, _moment(source, clip.borrowed.options.first, c.state.clock.time))
    own = settings(c.state)
    if own.wiggled in read.skeleton.index and own.phase > 0:
        places = wiggled(read.skeleton, places, own.wiggled, SWING * np.sin(2 * np.pi * 3.0 * own.phase / WIGGLE_TICKS))
    base = pairing.of("trunk")
    root = read.skeleton.index[base.source[0]] if base is not None and base.source and base.source[0] in read.skeleton.index else 0
    here = frame.joints[character.skeleton.index[base.target[0]] if base is not None and base.target[0] in character.skeleton.index else 0, :3, 3]
    posed = [points[:, 0].max() - here[0] for points in frame.places]
    wide = min(float(max(posed, default=0.3)), 0.6 * character.height)
    aside = wide + scale * float((places[root] - places)[:, 0].max()) + GAP * character.height
    floor = float(rest[:, 1].min()) if clip is None else 0.0
    shift = np.array([here[0] + aside - scale * places[root, 0], -scale * floor, here[2] - scale * places[root, 2]])
    return Shown(source, read, pairing, scale * places + shift)


def places_beside(c: Context) -> FloatArray | None:
    """Where the source beside the character is (j, 3)."""
    shown = beside(c)
    return None if shown is None else shown.at


def _moment(source: Source, first: float | None, time: float) -> float:
    start = float(moments_of(source.clip)[0])
    return (start if first is None else max(first, start)) + time


def wiggled(skeleton: Skeleton, places: FloatArray, joint: str, angle: float) -> FloatArray:
    """Places (j, 3) with a joint and all below it swung about the way across the view."""
    j = skeleton.index[joint]
    below = {j}
    for k in range(j + 1, len(skeleton.joints)):
        if int(skeleton.parents[k]) in below:
            below.add(k)
    c, s = np.cos(angle), np.sin(angle)
    turn = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    result = places.copy()
    some = sorted(below)
    result[some] = places[j] + (places[some] - places[j]) @ turn.T
    return result


def pair_marks(view: StageView, draw: DrawList) -> None:
    """Both bodies side by side with threads, or the source over the result."""
    c = view.c
    shown, character, frame = beside(c), c.state.character, c.frames.frame()
    if shown is not None and character is not None and character.skeleton is not None and frame is not None:
        picked = settings(c.state).picked
        there = {j.id: shown.at[k] for k, j in enumerate(shown.read.skeleton.joints)}
        here = {j.id: frame.joints[k, :3, 3] for k, j in enumerate(character.skeleton.joints)}
        draw_source(draw, shown.read.skeleton, shown.at, shown.pairing.chains, picked, view.hovered.removeprefix("source:"))
        draw_threads(draw, shown.pairing.chains, there, here, picked)
    elif settings(c.state).over:
        _over(c, draw)


def _over(c: Context, draw: DrawList) -> None:
    clip, character, frame = c.state.clip, c.state.character, c.frames.frame()
    link = clip.borrowed if clip is not None else None
    if link is None or link.measured is None or character is None or character.skeleton is None or frame is None:
        return
    source = next((s for s in character.sources if s.id == link.source), None)
    pairing = next((p for p in character.pairings if p.id == link.pairing), None)
    if source is None or pairing is None:
        return
    try:
        read = stood(source, pairing.rest)
    except PegLoomError:
        return
    places = link.measured.scale * places_at(source, read, _moment(source, link.options.first, c.state.clock.time))
    base = pairing.of("trunk")
    if base is None or not base.source or base.source[0] not in read.skeleton.index or base.target[0] not in character.skeleton.index:
        return
    here = frame.joints[character.skeleton.index[base.target[0]], :3, 3]
    at = places + (here - places[read.skeleton.index[base.source[0]]])
    draw_overlay(draw, read.skeleton, at)
    # The part in hand, the worst one after going there, stands out on both.
    chain = pairing.of(settings(c.state).picked)
    if chain is not None:
        for skeleton, joints, where in ((read.skeleton, chain.source, at), (character.skeleton, chain.target, frame.joints[:, :3, 3])):
            numbers = [skeleton.index[j] for j in joints if j in skeleton.index]
            if len(numbers) > 1:
                draw.over.add(where[numbers], DOUBT, 4.0, 0.9)


class PairTool(StageTool):
    """A press on a joint of the source beside the character picks the part that holds it."""

    id = "pair"

    def _under(self, view: StageView, x: float, y: float) -> str:
        shown = beside(view.c)
        if shown is None:
            return ""
        wide, tall = view.size_in_points
        pixels = view.camera.project(shown.at, wide, tall)
        gaps = np.linalg.norm(pixels[:, :2] - [x, y], axis=1)
        best = int(np.argmin(gaps))
        return shown.read.skeleton.joints[best].id if gaps[best] < NEAR else ""

    def wants(self, view: StageView, at: Pointer) -> bool:
        return bool(pairing_open(view.c.state) and self._under(view, at.x, at.y))

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        joint, pairing = self._under(view, at.x, at.y), pairing_in_hand(view.c.state)
        part = next((p.part for p in pairing.chains if joint in p.source), "") if pairing is not None else ""
        view.c.store.put_setting(BorrowSettings, wiggled=joint, phase=0, **({"picked": part} if part else {}))
        return None

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        joint = self._under(view, x, y) if pairing_open(view.c.state) else ""
        shown = beside(view.c) if joint else None
        return (f"source:{joint}", f"the source's {shown.read.skeleton.joint(joint).name}") if shown is not None else ("", "")
