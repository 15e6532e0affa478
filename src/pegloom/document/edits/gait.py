"""Gaits made on a character from numbers, and made anew when the numbers change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.course import RAMP, SETTLE
from pegloom.core.motion.gait.making import Made, Walker
from pegloom.core.motion.gait.numbers import gait_of
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.gait.rates import rolls_of
from pegloom.core.motion.gait.steps import body_kind
from pegloom.core.motion.gait.told import STRIDES, GaitTold
from pegloom.core.motion.onto_controls import Brought, onto_controls
from pegloom.core.motion.retarget.chains import parts_of
from pegloom.document.edits.borrow import soles_here
from pegloom.document.edits.ids import free_name, fresh_ids
from pegloom.document.edits.made import changed_by_hand, mark_of
from pegloom.document.edits.motion import with_clip
from pegloom.document.model import Character, Document


@dataclass(frozen=True, eq=False)
class MadeGait:
    """What came of some numbers: the clip's id, the gait, and how near the controls come, where it stands on them."""

    clip: str
    made: Made
    brought: Brought | None = None


def make_gait(
    document: Document, numbers: Mapping[str, Any], *, name: str = "", strides: float = 2.0, rate: float = 30.0, turn: float = 0.0, slope: float = 0.0,
    points: tuple[tuple[float, float], ...] = (), start: bool = False, stop: bool = False, in_place: bool = False, controls: bool = True,
    progress: Progress = silent,
) -> tuple[Document, MadeGait]:  # fmt: skip
    """A clip of a gait, on controls where there are some (legs on IK), else on joints.

    numbers : `preset` and the numbers of `core/motion/gait/numbers.py`. turn : degrees a metre. slope : metres up a metre ahead.
    points : places (x, z), metres, that the way goes through; it is then gone to its end. start, stop : from standing, to a stand.
    Raises EditError for numbers that make no sense, a body without two legs, or strides and rates out of bounds.
    """
    character = document.require_character()
    kind = kind_here(character)
    way = Way(float(np.radians(turn)), points, (slope, 0.0))
    told = GaitTold(gait_of(numbers, body=kind), str(numbers.get("preset", "walk")), strides, rate, way, start, stop, in_place, controls=controls and character.rig is not None)
    title = free_name(name or told.preset, (clip.name for clip in character.clips))
    character, (clip_id,) = fresh_ids(character, "clip", (c.id for c in character.clips), first=0)
    document = document.with_character(replace(character, clips=(*character.clips, Clip(clip_id, title, rate))))
    return _told(document, clip_id, told, progress)


def change_gait(
    document: Document, clip_id: str, numbers: Mapping[str, Any] | None = None, *, anew: bool = False, sketch: bool = False, progress: Progress = silent, **options: Any
) -> tuple[Document, MadeGait]:
    """A gait's clip made anew with other numbers (see `make_gait`), its layers kept. options : fields of GaitTold.

    anew : also where its keys were changed by hand, which are lost. sketch : on joints only, to be looked at meanwhile. Raises EditError for a clip that was not made from numbers,
    that was changed by hand, or for numbers that make no sense.
    """
    clip = gait_clip(document.require_character(), clip_id)
    if changed_by_hand(clip) and not anew:
        raise EditError(f"{clip.name} was changed by hand and follows its numbers no more; make it anew, or make another")
    told = clip.gait
    assert told is not None
    if numbers is not None:
        gait = gait_of(numbers, told.gait, kind_here(document.require_character()))
        told = replace(told, gait=gait, preset=str(numbers.get("preset", told.preset)))
    return _told(document, clip_id, replace(told, **options), progress, sketch=sketch)


def gait_across(document: Document, clip_id: str, *, progress: Progress = silent) -> tuple[Document, MadeGait]:
    """A gait's two sides exchanged: a limp changes its leg, a canter its lead."""
    told = gait_clip(document.require_character(), clip_id).gait
    assert told is not None
    return change_gait(document, clip_id, gait=told.gait.across(), progress=progress)


def gait_rolls(document: Document, clip_id: str) -> Mapping[float, float]:
    """Metres that planted feet roll between two frames, by frame rate, see `core/motion/gait/rates.py`."""
    character = document.require_character()
    told = gait_clip(character, clip_id).gait
    assert told is not None
    return MappingProxyType(rolls_of(told.gait, character.require_skeleton(), soles_here(character)))


def gait_clip(character: Character, clip_id: str) -> Clip:
    """The clip of that id. Raises EditError for one that was not made from numbers."""
    clip = character.clip(clip_id)
    if clip.gait is None:
        raise EditError(f"{clip.name} was not made from numbers")
    return clip


def kind_here(character: Character) -> str:
    """Which gaits suit the character: two, bird, four, many."""
    return body_kind(parts_of(character.require_skeleton()))


def _told(document: Document, clip_id: str, told: GaitTold, progress: Progress, *, sketch: bool = False) -> tuple[Document, MadeGait]:
    character = document.require_character()
    clip, skeleton, rig = character.clip(clip_id), character.require_skeleton(), character.rig
    progress(0.05, "the feet first")
    soles = soles_here(character)

    def walker(strides: float) -> Walker:
        return Walker(told.gait, skeleton, strides=strides, way=told.way, in_place=told.in_place, start=told.start, stop=told.stop, soles=soles)

    one = walker(told.strides)
    if told.to_the_end and told.way.length > 0.0 and one.length > 0.0:
        strides = told.way.length / one.length + (0.5 * RAMP if told.start else 0.0) + (0.5 * RAMP - SETTLE if told.stop else 0.0)
        told = replace(told, strides=float(np.clip(strides, 1.0, STRIDES[1])))
        one = walker(told.strides)
    on_controls = told.controls and rig is not None and not sketch
    made = one.make(told.rate, clip.name, free=not told.controls and not sketch)
    result, brought = replace(made.clip, id=clip.id, name=clip.name), None
    if on_controls:
        assert rig is not None
        legs = tuple(s.id for s in rig.limbs if not s.id.startswith(("arm", "wing")))
        brought = onto_controls(result, skeleton, rig, on_ik=legs, part_ids={}, progress=part_of(progress, 0.3, 1.0))
        result = brought.clip
    result = replace(result, layers=clip.layers, gait=replace(told, mark=""))
    document = with_clip(document, replace(result, gait=replace(told, mark=mark_of(result))))
    return document, MadeGait(clip_id, made, brought)
