"""A control that follows something of another character: a hand at another's prop, eyes on another's face."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.motion.together import StandIn, rigid
from pegloom.core.rig.changes import OwnControl
from pegloom.core.rig.channels import MOVE, ROTATE, USUAL
from pegloom.core.rig.controls import Control, Shape
from pegloom.core.rig.refs import WORLD
from pegloom.core.skeleton.joints import Side
from pegloom.document.edits.figures import figure_of
from pegloom.document.edits.rig.changing import MADE, fresh, rigged, with_changes
from pegloom.document.edits.rig.constraints import add_space, take_hold
from pegloom.document.model import Character, Document
from pegloom.document.stand_ins import follows_of, refreshed
from pegloom.document.world import held_by, joints_in, world_of


def stand_in(document: Document, figure: str, joint: str = "", *, time: float = 0.0) -> tuple[Document, str]:
    """A helper of the character in hand that is always where a joint of another is ("" for the other itself). Nothing moves.

    time : common time (seconds) whose place it takes for its rest. Gives the control's id, of the one there is already where
    there is one. Raises EditError for oneself, a joint there is not, and where the other follows this one.
    """
    character, _, rig = rigged(document)
    other = figure_of(document, figure)
    if other.id == character.id:
        raise EditError("it follows itself already; choose another character")
    if joint and (other.skeleton is None or joint not in other.skeleton.index):
        raise EditError(f"{other.name} has no joint {joint}")
    there = next((s for s in character.stand_ins if (s.character, s.joint) == (other.id, joint) and s.control in rig.index), None)
    if there is not None:
        return document, there.control
    if character.id in follows_of(document, other.id):
        raise EditError(f"{other.name} follows {character.name}; neither can follow the other then")
    worlds = world_of(document, time)
    place = rigid(np.linalg.inv(worlds[character.id]) @ worlds[other.id] @ held_by(other, joint, lambda one: joints_in(one, time)))
    document, (made,) = fresh(document, MADE)
    channels = tuple(USUAL[key] for key in (*MOVE, *ROTATE))
    control = Control(made, title_of(other, joint), Side.CENTRE, WORLD, tuple(place.ravel().tolist()), channels, Shape.CROSS, 0.05 * character.height, helper=True)
    changes = document.require_character().rig_changes
    document = with_changes(document, own_controls=(*changes.own_controls, OwnControl(control)))
    character = document.require_character()
    document = document.with_character(replace(character, stand_ins=(*character.stand_ins, StandIn(made, other.id, joint))))
    return refreshed(document), made


def title_of(other: Character, joint: str) -> str:
    """What a stand-in is called: the other, and which of its joints."""
    name = other.name.split(",")[0]
    return f"{name}: {other.skeleton.joint(joint).name}" if joint and other.skeleton is not None else name


def follow_figure(
    document: Document, control: str, figure: str, joint: str = "", *, clip: str = "", time: float = 0.0, layer: str = "", at_once: bool = True,
) -> Document:  # fmt: skip
    """Let a control of the character in hand follow a joint of another ("" for the other itself). It stays where it is.

    control : by id or name. clip, time, layer : as `take_hold` has them. at_once : it follows from then on; without, it is one
    more of what the control may follow. Raises EditError as `stand_in`, and as `take_hold`.
    """
    document, made = stand_in(document, figure, joint)
    rig = document.require_character().require_rig()
    if at_once:
        return take_hold(document, control, made, clip=clip, time=time, layer=layer)
    return add_space(document, control, rig.control(made).name, made)


def drop_stand_in(document: Document, control: str) -> Document:
    """Forget that a control stands in for something of another; it stays, with the motion it has."""
    character = document.require_character()
    kept = tuple(s for s in character.stand_ins if s.control != control)
    if len(kept) == len(character.stand_ins):
        raise EditError("that control stands in for nothing of another character")
    return document.with_character(replace(character, stand_ins=kept))
