"""Gaits made from numbers on the character in hand, and changed while they play."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import partial
from typing import Any

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.core.errors import EditError, PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.numbers import Gait, gait_of
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.gait.rates import proposed, rolls_of
from pegloom.core.motion.gait.steps import body_kind
from pegloom.core.motion.gait.told import GaitTold
from pegloom.core.motion.retarget.chains import parts_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document import edits
from pegloom.document.edits.gait import MadeGait
from pegloom.document.model import Document

BOTH = frozenset(f.name for f in fields(Gait) if f.type == "Both")
"""Numbers that have a left and a right value."""
BEGINS = 2.0
"""Metres ahead at which the first point of a way is put."""


@dataclass(frozen=True, slots=True)
class GaitSettings(Setting):
    """What a new gait begins with. way : whether points are put in the view. parted : numbers whose sides are shown apart, though
    they are alike. rolls : what frame rates cost the gait `rolls_of`, as text."""

    ID = "gait"
    PASSING = frozenset({"way", "parted"})

    preset: str = "walk"
    strides: float = 4.0
    start: bool = False
    stop: bool = False
    in_place: bool = False
    way: bool = False
    parted: str = ""


def settings(state: State) -> GaitSettings:
    return state.settings.of(GaitSettings)


def gait_in_hand(state: State) -> Clip | None:
    """The clip on the strip, where it was made from numbers."""
    return state.clip if state.clip is not None and state.clip.gait is not None else None


def told_in_hand(c: Context) -> GaitTold | None:
    """What the clip on the strip is told by: what was asked for last, though it may not be worked out yet."""
    clip = gait_in_hand(c.state)
    if clip is None:
        return None
    about = c.live.about
    if isinstance(about, tuple) and len(about) == 2 and about[0] == clip.id and isinstance(about[1], GaitTold):
        return about[1]
    return clip.gait


def kind_of_body(skeleton: Skeleton | None) -> str:
    return body_kind(parts_of(skeleton)) if skeleton is not None else "two"


def make(c: Context) -> None:
    """A clip of the preset, on the controls where there are some."""
    c.live.after(lambda: _make(c))


def _make(c: Context) -> None:
    own = settings(c.state)

    def edit(document: Document, progress: Progress) -> tuple[Document, MadeGait]:
        return edits.make_gait(document, {"preset": own.preset}, strides=own.strides, start=own.start, stop=own.stop, in_place=own.in_place, progress=progress)

    def then(result: MadeGait) -> None:
        c.player.play_source(result.clip)
        c.say(f"{c.character.clip(result.clip).name}: {result.made.speed:.2f} m/s, a stride in {result.made.period:.2f} s; its numbers stay with it")

    c.job(f"Make a gait: {own.preset}", edit, title=f"Making a {own.preset}", then=then)


def change(c: Context, name: str, numbers: dict[str, Any] | None = None, **options: Any) -> None:
    """Other numbers for the gait on the strip: seen at once, one step when they rest."""
    clip, told = gait_in_hand(c.state), told_in_hand(c)
    if clip is None or told is None:
        return
    if edits.changed_by_hand(clip) and not c.live.busy:
        c.say(f"{clip.name} was changed by hand and follows its numbers no more", error=True, offer="gait.anew")
        c.stale.emit()
        return
    try:
        if numbers is not None:
            told = replace(told, gait=gait_of(numbers, told.gait, kind_of_body(c.skeleton)))
        told = replace(told, **options)
    except PegLoomError as error:
        c.say(str(error), error=True)
        c.stale.emit()
        return
    _live(c, clip, told, name)


def _live(c: Context, clip: Clip, told: GaitTold, name: str) -> None:
    values = {f.name: getattr(told, f.name) for f in fields(told) if f.name != "mark"}

    def made(document: Document, *, sketch: bool = False) -> tuple[Document, MadeGait]:
        return edits.change_gait(document, clip.id, sketch=sketch, **values)

    c.live.put(f"{name} of {clip.name}", partial(made, sketch=True), made, (clip.id, told))


def begin_with(c: Context, preset: str) -> None:
    """All numbers of a preset for the gait on the strip, or for the next one made."""
    c.store.put_setting(GaitSettings, preset=preset)
    if gait_in_hand(c.state) is not None:
        change(c, f"Begin with {preset}", {"preset": preset}, preset=preset)


def across(c: Context) -> None:
    """Exchange the two sides."""
    told = told_in_hand(c)
    assert told is not None
    change(c, "Sides", gait=told.gait.across())


def anew(c: Context) -> None:
    """The gait on the strip by its numbers again; what was changed by hand goes."""
    c.live.after(lambda: _anew(c))


def _anew(c: Context) -> None:
    clip = gait_in_hand(c.state)
    assert clip is not None

    def edit(document: Document, progress: Progress) -> tuple[Document, MadeGait]:
        return edits.change_gait(document, clip.id, anew=True, progress=progress)

    c.job(f"Make {clip.name} anew", edit, title=f"Making {clip.name}", then=lambda _: c.say(f"{clip.name} follows its numbers again; its layers stayed"))


def take_rate(c: Context, rate: float) -> None:
    change(c, "Frame rate", rate=rate)


def rate_words(rolls: dict[float, float], rate: float, skeleton: Skeleton) -> tuple[str, float]:
    """What a frame rate costs a gait, in words, and the rate that is better; 0 where it is good."""
    better = proposed(rolls, skeleton)
    nearest = min(rolls, key=lambda r: abs(r - rate))
    said = f"At {nearest:g} frames a second planted feet roll {1000.0 * rolls[nearest]:.1f} mm between frames"
    if better <= rate:
        return f"{said}: nobody sees that.", 0.0
    return f"{said}, where a target joins them straight; at {better:g}, {1000.0 * rolls[better]:.1f} mm.", better


def rolls_here(c: Context, told: GaitTold) -> dict[float, float]:
    """See `rolls_of`; some tenths of a second."""
    return rolls_of(told.gait, c.skeleton, edits.soles_here(c.character))


# The way


def toggle_way(c: Context) -> None:
    """Points of the way are put, dragged and taken away in the view, or not."""
    on = not settings(c.state).way
    c.store.put_setting(GaitSettings, way=on)
    if on:
        c.say("Click the ground to lead the way there; drag a point; Alt and a click takes one away")


def put_points(c: Context, points: tuple[tuple[float, float], ...]) -> None:
    """Lead the gait through points on the ground; fewer than two is no way."""
    told = told_in_hand(c)
    if told is None:
        return
    points = points if len(points) >= 2 else ()
    try:
        way = replace(told.way, points=points, turn=0.0 if points else told.way.turn)
    except EditError as error:
        c.say(str(error), error=True)
        return
    change(c, "Way", way=way)


def clear_way(c: Context) -> None:
    put_points(c, ())


def set_turn(c: Context, degrees: float) -> None:
    told = told_in_hand(c)
    if told is not None:
        change(c, "Turn", way=replace(told.way, turn=float(np.radians(degrees)), points=()))


def set_slope(c: Context, percent: float) -> None:
    told = told_in_hand(c)
    if told is not None:
        change(c, "Slope", way=Way(told.way.turn, told.way.points, (percent / 100.0, 0.0)))


IN_HAND = Need("gait", "Make a gait first, or put one on the strip", lambda s: gait_in_hand(s) is not None, offer="gait.make")
WAY = Need("way", "The way is straight already", lambda s: s.clip is not None and s.clip.gait is not None and bool(s.clip.gait.way.points))

ACTIONS = (
    Action("gait.make", "Make a gait", "Motion", "A clip that goes by numbers; they stay with it", make, needs=WITH_JOINTS),
    Action("gait.across", "Exchange the gait's sides", "Motion", "A limp changes its leg, a canter its lead", across, needs=(*WITH_JOINTS, IN_HAND)),
    Action("gait.anew", "Make the gait anew", "Motion", "By its numbers; what was changed by hand in its keys goes, its layers stay", anew, needs=(*WITH_JOINTS, IN_HAND)),
    Action("gait.way", "Lead the gait through points", "Motion", "Put, dragged and taken away on the ground of the view", toggle_way, needs=(*WITH_JOINTS, IN_HAND), on=lambda s: settings(s).way),
    Action("gait.straight", "Straight way again", "Motion", "Take the points of the way out", clear_way, needs=(*WITH_JOINTS, IN_HAND, WAY)),
)  # fmt: skip
