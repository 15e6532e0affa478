"""Gaits made on a character from numbers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.gait import Made, Way, gait_of
from pegloom.core.motion.gait import make_gait as made_of
from pegloom.core.motion.onto_controls import Brought, onto_controls
from pegloom.document.edits.borrow import soles_here
from pegloom.document.edits.ids import free_name, fresh_ids
from pegloom.document.model import Document


@dataclass(frozen=True, eq=False)
class MadeGait:
    """What came of some numbers: the clip's id, the gait, and how near the controls come, where it stands on them."""

    clip: str
    made: Made
    brought: Brought | None = None


def make_gait(
    document: Document, numbers: Mapping[str, float | str | tuple[float, float]], *, name: str = "", strides: float = 1.0, rate: float = 30.0,
    turn: float = 0.0, slope: float = 0.0, in_place: bool = False, controls: bool = True, progress: Progress = silent,
) -> tuple[Document, MadeGait]:  # fmt: skip
    """A clip of a gait, on controls where there are some (legs on IK) or on joints.

    numbers : `preset` and the numbers of `core/motion/gait/numbers.py`. turn : radians a metre. slope : metres up a metre ahead.
    Raises EditError for numbers that make no sense, a body without two legs, or strides and rates outside 0.5 to 60 and 10 to 240.
    """
    if not 0.5 <= strides <= 60.0 or not 10.0 <= rate <= 240.0:
        raise EditError("a gait goes on for 0.5 to 60 strides at 10 to 240 frames a second")
    gait = gait_of(numbers)
    character = document.require_character()
    skeleton, rig = character.require_skeleton(), character.rig
    title = free_name(name or str(numbers.get("preset", "gait")), (clip.name for clip in character.clips))
    made = made_of(
        gait, skeleton, strides=strides, rate=rate, way=Way(turn, (), (slope, 0.0)), in_place=in_place, soles=soles_here(character), name=title
    )
    character, (clip_id,) = fresh_ids(character, "clip", (c.id for c in character.clips), first=0)
    clip, brought = replace(made.clip, id=clip_id), None
    if controls and rig is not None:
        legs = tuple(s.id for s in rig.limbs if not s.id.startswith(("arm", "wing")))
        brought = onto_controls(clip, skeleton, rig, on_ik=legs, part_ids={}, progress=part_of(progress, 0.3, 1.0))
        clip = brought.clip
    document = document.with_character(replace(character, clips=(*character.clips, clip)))
    return document, MadeGait(clip_id, made, brought)
