"""Channels made by hand, what may be changed of channels, and what they show: morph targets, parts, controls."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.rig.changes import OWN, ChannelChange, references
from pegloom.core.rig.channels import BLEND, TRANSFORM, Channel, Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.outputs import CONTROL, FIGURE, PART, MorphDrive, ShowDrive, WidthDrive
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.document.edits.rig.changing import (
    control_id,
    fewer_channels,
    free_key,
    fresh,
    joint_id,
    more_channels,
    near,
    rigged,
    with_changes,
    without_values,
)
from pegloom.document.edits.rig.solvers import turners_of
from pegloom.document.model import Character, Document

MORPH, SHOW, WIDTH = "morph.", "show.", "width."
GOES_ALONG = frozenset({"couplings", "morphs", "shows"})
"""What is taken out with a channel it uses; anything else made by hand has its channels as long as it is there."""


def owner_id(rig: ControlRig, told: str) -> str:
    """A control told by id or name, or the rig as a whole ("rig")."""
    return BOARD if told == BOARD else control_id(rig, told)


def channel_ref(rig: ControlRig, control: str, channel: str) -> ChannelRef:
    """A channel told by its control and its key or title. Raises EditError naming those near."""
    owner = owner_id(rig, control)
    some = rig.board if owner == BOARD else rig.control(owner).channels
    for one in some:
        if channel == one.key:
            return ChannelRef(owner, one.key)
    for one in some:
        if channel == one.title:
            return ChannelRef(owner, one.key)
    raise EditError(f"{said_owner(rig, owner)} has no channel {channel}{near(channel, [c.key for c in some])}")


def channel_of(rig: ControlRig, ref: tuple[str, str]) -> Channel:
    """The channel of a reference that is known to be there."""
    return rig.slots.channels[rig.slots.index[ref]]


def said_owner(rig: ControlRig, owner: str) -> str:
    """What a person reads for an owner of channels."""
    return "the rig" if owner == BOARD else rig.control(owner).name


def said_channel(rig: ControlRig, ref: tuple[str, str]) -> str:
    """What a person reads for a channel: l_hand_goal curl."""
    return f"{said_owner(rig, ref[0])} {channel_of(rig, ref).title}"


def add_channel(
    document: Document, control: str, title: str, *, quantity: Quantity = Quantity.NUMBER, rest: float | None = None,
    low: float | None = None, high: float | None = None, soft: float = 0.0, options: Sequence[str] = (), key: str = "",
) -> tuple[Document, str]:  # fmt: skip
    """One more channel of a control, or of the rig as a whole (control "rig"). Gives its key.

    rest, low, high, soft : in metres, radians or shares; a share goes from 0 to 1 and a factor rests at 1 where nothing
        else is told, a switch is 0 or 1, a choice the number of one of its `options`.
    Raises EditError for a title without a letter, limits the wrong way round, or a rest outside them.
    """
    _, _, rig = rigged(document)
    owner = owner_id(rig, control)
    taken = {k for o, k in rig.slots.index if o == owner}
    stem = key or "".join(c if c.isascii() and c.isalnum() else "_" for c in title.strip().lower()).strip("_")
    if not title.strip() or not stem or not stem.replace("_", "").isalnum():
        raise EditError("a channel needs a title with a letter or a digit")
    if key and key in taken:
        raise EditError(f"{said_owner(rig, owner)} has a channel {key} already")
    made = free_key(stem, taken)
    if quantity is Quantity.SHARE:
        low, high = 0.0 if low is None else low, 1.0 if high is None else high
    elif quantity is Quantity.SWITCH:
        low, high = 0.0, 1.0
    elif quantity is Quantity.CHOICE:
        if len(options) < 2 or any(not o.strip() for o in options) or len(set(options)) != len(options):
            raise EditError("a choice needs two options or more, each with a name of its own")
        low, high = 0.0, float(len(options) - 1)
    usual = 1.0 if quantity is Quantity.FACTOR else 0.0
    at = min(max(usual, usual if low is None else low), usual if high is None else high) if rest is None else rest
    if low is not None and high is not None and low > high:
        raise EditError("the lower limit must not be above the upper one")
    if (low is not None and at < low) or (high is not None and at > high):
        raise EditError(f"the rest, {at:g}, must lie within the limits")
    if soft < 0:
        raise EditError("a limit eases in over 0 or more")
    channel = Channel(made, title.strip(), quantity, at, low, high, soft, options=tuple(o.strip() for o in options))
    changes = document.require_character().rig_changes
    return with_changes(document, own_channels=more_channels(changes.own_channels, owner, [channel])), made


def drop_channel(document: Document, control: str, channel: str) -> Document:
    """Take out a channel made by hand, with what drives it or reads it.

    Raises EditError for one that was built, or that belongs to something made by hand.
    """
    character, _, rig = rigged(document)
    ref = channel_ref(rig, control, channel)
    changes = character.rig_changes
    if ref.key not in {c.key for c in changes.own_channels.get(ref.owner, ())}:
        raise EditError(f"{said_channel(rig, ref)} belongs to the control as it is built; hide or lock it instead")
    kept: dict[str, tuple[object, ...]] = {}
    for kind in OWN:
        some = getattr(changes, f"own_{kind}")
        kept[f"own_{kind}"] = left = tuple(x for x in some if ref not in references(x))
        if len(left) < len(some) and kind not in GOES_ALONG:
            raise EditError(f"{said_channel(rig, ref)} belongs to something made by hand; take that out, and its channels go with it")
    return with_changes(
        without_values(document, ref.owner, [ref.key]), own_channels=fewer_channels(changes.own_channels, ref.owner, [ref.key]),
        channels=MappingProxyType({r: c for r, c in changes.channels.items() if tuple(r) != tuple(ref)}), **kept,
    )  # fmt: skip


def switch_channels(
    document: Document, controls: Sequence[str], channels: Sequence[str] = (), *, locked: bool | None = None, shown: bool | None = None,
) -> Document:  # fmt: skip
    """Lock or free, show or hide channels of some controls at once; without channels named all that they have.

    Raises EditError where no control of them has one of these channels.
    """
    character, _, rig = rigged(document)
    found: dict[tuple[str, str], ChannelChange] = dict(character.rig_changes.channels)
    count = 0
    for told in controls:
        owner = owner_id(rig, told)
        some = rig.board if owner == BOARD else rig.control(owner).channels
        for channel in some:
            if channels and channel.key not in channels and channel.title not in channels:
                continue
            count += 1
            old = found.get((owner, channel.key), ChannelChange())
            found[ChannelRef(owner, channel.key)] = replace(
                old, locked=old.locked if locked is None else locked, shown=old.shown if shown is None else shown
            )
    if not count:
        raise EditError(f"none of these controls has a channel {', '.join(channels)}" if channels else "no control is named")
    return with_changes(document, channels=MappingProxyType(found))


def rest_channel(document: Document, control: str, channel: str, value: float) -> Document:
    """Where a channel rests: its value where nothing is posed; kept through rebuilds.

    control : "rig" for the rig as a whole. Channels that move or turn a control rest where it was built, and blends as their limb
    was built. Raises EditError for those, beyond the limits, and where the joints' rest would move.
    """
    character, skeleton, rig = rigged(document)
    ref = channel_ref(rig, control, channel)
    one = channel_of(rig, ref)
    if ref.key in (*TRANSFORM, BLEND):
        raise EditError(f"{said_channel(rig, ref)} rests where its control was built; move the control's own place instead")
    if not math.isfinite(value) or (one.low is not None and value < one.low) or (one.high is not None and value > one.high):
        low, high = ("any number" if v is None else f"{v:g}" for v in (one.low, one.high))
        raise EditError(f"{said_channel(rig, ref)} goes from {low} to {high}")
    changes = character.rig_changes.channels
    changed = replace(changes.get(ref, ChannelChange()), rest=float(value))
    result = with_changes(document, channels=MappingProxyType({**changes, ref: changed}))
    character, _, new = rigged(result)
    # A constraint may well carry what it holds off, also at rest.
    held = any(ref in (c.amount, *(t.weight for t in c.targets)) for c in rig.constraints)
    gap = np.abs(evaluate_rig(skeleton, new, Pose()).joints - evaluate_rig(skeleton, rig, Pose()).joints).max()
    if not held and gap > 1e-7 * max(character.height, 1.0):
        raise EditError(f"with {said_channel(rig, ref)} at {value:g} the joints would not rest where they are")
    return result


def drive_morph(document: Document, morph: str, control: str, channel: str, *, part: str = "") -> tuple[Document, str]:
    """Let a channel be the weight of a morph target, of one part or of every part that has it. Gives the drive's id."""
    character, _, rig = rigged(document)
    ref, part_id = channel_ref(rig, control, channel), _part(character, part) if part else ""
    names = [m.name for p in character.parts if not part_id or p.id == part_id for m in p.morphs]
    if morph not in names:
        raise EditError(f"there is no morph target {morph}{near(morph, names)}")
    same = next((m for m in rig.morphs if m.morph == morph and m.channel == ref and m.part == part_id), None)
    if same is not None:
        raise EditError(f"{said_channel(rig, ref)} moves {morph} already")
    document, (made,) = fresh(document, MORPH)
    changes = document.require_character().rig_changes
    return with_changes(document, own_morphs=(*changes.own_morphs, MorphDrive(made, morph, ref, part_id))), made


def show_by(document: Document, thing: str, control: str, channel: str, *, when: int = 1) -> tuple[Document, str]:
    """Let a channel say whether a part, a control or another character is seen: where it is `when`, as a whole number. Gives
    the drive's id.

    thing : id or name; `figure:` before that of a character.
    """
    character, _, rig = rigged(document)
    ref = channel_ref(rig, control, channel)
    if thing.startswith(FIGURE):
        document, (made,) = fresh(document, SHOW)
        changes = document.require_character().rig_changes
        return with_changes(document, own_shows=(*changes.own_shows, ShowDrive(made, FIGURE + _other(document, thing.removeprefix(FIGURE)), ref, when))), made
    found = next((CONTROL + c.id for c in rig.controls if thing in (c.id, c.name, CONTROL + c.id)), "")
    if not found or thing.startswith(PART):
        found = PART + _part(character, thing.removeprefix(PART))
    document, (made,) = fresh(document, SHOW)
    changes = document.require_character().rig_changes
    return with_changes(document, own_shows=(*changes.own_shows, ShowDrive(made, found, ref, when))), made


def _other(document: Document, told: str) -> str:
    active = document.require_character()
    found = next((c.id for c in document.characters if c is not active and told in (c.id, c.name)), "")
    if not found:
        raise EditError(f"there is no other character {told}{near(told, [c.name for c in document.characters if c is not active])}")
    return found


def add_width(document: Document, joint: str) -> tuple[Document, str]:
    """Channels that make a joint's skin thicker and thinner across its bone, on the control that turns it, or on the rig.

    What hangs on the joint keeps its own width. Gives the drive's id.
    """
    _, skeleton, rig = rigged(document)
    told = joint_id(skeleton, joint)
    if any(w.joint == told for w in rig.widths):
        raise EditError(f"{skeleton.joint(told).name} has widths already")
    owner = turners_of(rig).get(told, BOARD)
    document, (made,) = fresh(document, WIDTH)
    stem = made.replace(".", "")
    word = f"{skeleton.joint(told).name} " if owner == BOARD else ""
    channels = [
        Channel(f"{stem}_{key}", f"{word}{title}", Quantity.FACTOR, 1.0, 0.01, 100.0)
        for key, title in (("x", "width"), ("z", "thickness"))
    ]
    refs = [ChannelRef(owner, c.key) for c in channels]
    changes = document.require_character().rig_changes
    return with_changes(
        document, own_widths=(*changes.own_widths, WidthDrive(made, told, refs[0], refs[1])),
        own_channels=more_channels(changes.own_channels, owner, channels),
    ), made  # fmt: skip


def drop_output(document: Document, output: str) -> Document:
    """Take out what a channel moves, shows or widens, by its id; a built one stays out when controls are built again.

    Widths take their channels with them.
    """
    _, _, rig = rigged(document)
    if output not in {x.id for some in (rig.morphs, rig.shows, rig.widths) for x in some}:
        raise EditError(f"no channel moves or shows anything under {output}")
    changes = document.require_character().rig_changes
    own = {x.id for x in changes.own}
    channels = changes.own_channels
    for wide in changes.own_widths:
        if wide.id == output:
            keys = [wide.across.key, wide.through.key]
            document, channels = without_values(document, wide.across.owner, keys), fewer_channels(channels, wide.across.owner, keys)
    return with_changes(
        document, own_channels=channels, own_morphs=tuple(m for m in changes.own_morphs if m.id != output),
        own_shows=tuple(s for s in changes.own_shows if s.id != output),
        own_widths=tuple(w for w in changes.own_widths if w.id != output),
        dropped=changes.dropped if output in own else changes.dropped | {output},
    )  # fmt: skip


def _part(character: Character, told: str) -> str:
    for part in character.parts:
        if told in (part.id, part.name):
            return part.id
    raise EditError(f"there is no part {told}{near(told, [p.name for p in character.parts])}")
