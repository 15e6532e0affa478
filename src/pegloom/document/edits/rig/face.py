"""Faces: handles in the view for morph targets, expressions kept by name, taken out to a file and put onto others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.rig.changes import OwnControl
from pegloom.core.rig.channels import USUAL, Channel, Quantity
from pegloom.core.rig.controls import Control, ControlRig, Shape
from pegloom.core.rig.couplings import Combine, Coupling, Reading
from pegloom.core.rig.outputs import MorphDrive
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe.spaces import head_of
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind, joint_node
from pegloom.core.skeleton.joints import Skeleton, Vector, side_of_name
from pegloom.document.edits.controls import posed, set_pose
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.rig.by_name import kept_one, renamed, without
from pegloom.document.edits.rig.changing import MADE, control_id, fresh, joint_id, near, rigged, with_changes
from pegloom.document.edits.rig.channels import MORPH
from pegloom.document.edits.rig.couplings import COUPLE
from pegloom.document.edits.skeleton import below
from pegloom.document.model import Character, Document, Expression, Image

WAYS: Mapping[str, tuple[str, float]] = MappingProxyType({
    "up": ("move_y", 1.0), "down": ("move_y", -1.0), "left": ("move_x", 1.0), "right": ("move_x", -1.0),
})
"""Which way of a handle's frame each direction is; left is the figure's own."""


def add_handle(
    document: Document, name: str, *, place: Vector | None = None, on: str = "", reach: float = 0.0, up: str = "", down: str = "",
    left: str = "", right: str = "",
) -> tuple[Document, str]:  # fmt: skip
    """A handle in the view that moves morph targets: slid out by `reach`, the target of that direction is wholly on.

    place : character space, metres; before the face where it is not told. on : the joint it rides on, the head by itself.
    up, down, left, right : morph targets; a direction without one is closed.
    Gives the control's id. Raises EditError for a target there is not, or without any.
    """
    character, skeleton, rig = rigged(document)
    morphs = {way: m for way, m in (("up", up), ("down", down), ("left", left), ("right", right)) if m}
    known = [m.name for p in character.parts for m in p.morphs]
    lost = [m for m in morphs.values() if m not in known]
    if lost:
        raise EditError(f"there is no morph target {lost[0]}{near(lost[0], known)}")
    if not morphs:
        raise EditError("name a morph target for one direction at least: up, down, left or right")
    rides = joint_id(skeleton, on) if on else head_of(skeleton)
    if rides not in skeleton.index:
        raise EditError("there is no head to set the handle on; name the joint it rides on")
    far = reach if reach > 0 else 0.02 * character.height
    at = np.array(place) if place is not None else _before(character, skeleton, rides, sum(_is_handle(c.id, character) for c in rig.controls))
    document, (made,) = fresh(document, MADE)
    channels: list[Channel] = []
    for axis, (plus, minus) in (("move_y", ("up", "down")), ("move_x", ("left", "right"))):
        if plus in morphs or minus in morphs:
            channels.append(replace(USUAL[axis], low=-far if minus in morphs else 0.0, high=far if plus in morphs else 0.0))
    couplings, drives = [], []
    document, ids = fresh(document, COUPLE, len(morphs))
    document, outs = fresh(document, MORPH, len(morphs))
    for way, told, out in zip(morphs, ids, outs, strict=True):
        axis, sign = WAYS[way]
        key = f"to_{way}"
        channels.append(Channel(key, morphs[way], Quantity.SHARE, 0.0, 0.0, 1.0, locked=True))
        readings = (Reading("x", ChannelRef(made, axis)),)
        couplings.append(Coupling(told, ChannelRef(made, key), readings, f"{name} {way}", "x", gain=sign / far, combine=Combine.SET))
        drives.append(MorphDrive(out, morphs[way], ChannelRef(made, key)))
    side = side_of_name(name)
    rest = np.eye(4)
    rest[:3, 3] = at
    local = np.linalg.inv(skeleton.world[skeleton.index[rides]]) @ rest
    control = Control(
        made, name, side, joint_node(rides), tuple(local.ravel().tolist()), tuple(channels), Shape.DIAMOND, 0.3 * far
    )
    changes = document.require_character().rig_changes
    return with_changes(
        document, own_controls=(*changes.own_controls, OwnControl(control, rides)), own_couplings=(*changes.own_couplings, *couplings),
        own_morphs=(*changes.own_morphs, *drives),
    ), made  # fmt: skip


def place_handle(document: Document, control: str, place: Vector) -> Document:
    """Another place for a handle made by hand, in character space at rest, metres; nothing else moves."""
    character, skeleton, rig = rigged(document)
    told = control_id(rig, control)
    own = next((o for o in character.rig_changes.own_controls if o.control.id == told), None)
    if own is None:
        raise EditError(f"{rig.control(told).name} was not made by hand; it stands where its joint is")
    rest = own.control.matrix if not own.along else skeleton.world[skeleton.index[own.along]] @ own.control.matrix
    rest[:3, 3] = place
    local = rest if not own.along else np.linalg.inv(skeleton.world[skeleton.index[own.along]]) @ rest
    moved = replace(own, control=replace(own.control, rest=tuple(local.ravel().tolist())))
    every = tuple(moved if o is own else o for o in character.rig_changes.own_controls)
    return with_changes(document, own_controls=every)


def _is_handle(control: str, character: Character) -> bool:
    return any(m.channel.owner == control for m in character.rig_changes.own_morphs)


def _before(character: Character, skeleton: Skeleton, head: str, count: int) -> np.ndarray:
    """A place beside the head for the next handle: in a column of its own, none on another."""
    joint = skeleton.joint(head)
    h = character.height
    top = np.array(joint.tail if joint.tail is not None else joint.position)
    return np.array([0.16 * h + 0.06 * h * (count // 5), float(top[1]) - 0.055 * h * (count % 5), float(joint.position[2]) + 0.05 * h])


def face_channels(character: Character) -> tuple[ChannelRef, ...]:
    """Channels that make an expression: of controls that ride on the head, and what moves morph targets."""
    rig, skeleton = character.rig, character.skeleton
    if rig is None or skeleton is None:
        return ()
    head = head_of(skeleton)
    inside = {head, *(j.id for j in below(skeleton, head))} if head in skeleton.index else set()
    refs: dict[ChannelRef, None] = {}
    for control in rig.controls:
        carrier = control.parent
        while carrier.kind in (NodeKind.CONTROL, NodeKind.BASE):
            carrier = rig.control(carrier.id).parent
        if carrier.id in inside and not control.helper:
            refs |= {ChannelRef(control.id, c.key): None for c in control.channels if not c.locked}
    refs |= {m.channel: None for m in rig.morphs if m.channel in rig.slots.index and not _channel(rig, m.channel).locked}
    gone = {t.weight for s in rig.constraints if s.spaces for t in s.targets}
    return tuple(r for r in refs if r not in gone)


def _channel(rig: ControlRig, ref: ChannelRef) -> Channel:
    return rig.slots.channels[rig.slots.index[ref]]


def keep_expression(
    document: Document, name: str, *, controls: Sequence[str] = (), picture: Image | None = None
) -> tuple[Document, str]:
    """Keep what the face does in the pose in hand under a name; one of that name is replaced. Gives its id.

    controls : whose channels are kept; all of the face where none is named.
    """
    character, _, rig = rigged(document)
    if not name.strip():
        raise EditError("an expression needs a name")
    chosen = {control_id(rig, c) for c in controls}
    refs = [ChannelRef(*r) for r in rig.slots.index if r[0] in chosen] if chosen else list(face_channels(character))
    if not refs:
        raise EditError("there is no face here: no control rides on the head and no channel moves a morph target")
    pose = posed(character)
    values: dict[tuple[str, str], float] = {r: float(pose.values[r]) for r in refs if r in pose.values}
    if not values:
        raise EditError("the face is at rest; pose it first")
    there = next((e for e in character.expressions if e.name == name.strip()), None)
    if there is None:
        character, (made,) = fresh_ids(character, "face.", (e.id for e in character.expressions))
    else:
        made = there.id
    kept = Expression(made, name.strip(), MappingProxyType(values), picture)
    every = tuple(kept if e.id == made else e for e in character.expressions)
    every = every if there is not None else (*every, kept)
    return document.with_character(replace(character, expressions=every)), made


def apply_expression(document: Document, expression: str, amount: float = 1.0, *, mix: bool = True) -> Document:
    """Put an expression onto the pose in hand by an amount. mix : onto what the face does already; else in its place."""
    character, _, rig = rigged(document)
    one = expression_of(character, expression)
    return set_pose(document, expressed(rig, posed(character), face_channels(character), one, amount, mix=mix))


def expressed(
    rig: ControlRig, pose: Pose, face: Sequence[ChannelRef], one: Expression, amount: float, *, mix: bool = True
) -> Pose:
    """A pose with an expression put on it by an amount; see `apply_expression`."""
    values: dict[tuple[str, str], float] = {r: v for r, v in pose.values.items() if mix or ChannelRef(*r) not in face}
    for told, value in one.values.items():
        ref = ChannelRef(*told)
        slot = rig.slots.index.get(ref)
        if slot is None:
            continue
        rest = float(rig.slots.rest[slot])
        now = values.get(ref, rest) + amount * (value - rest)
        now = min(max(now, float(rig.slots.low[slot])), float(rig.slots.high[slot]))
        if now == rest:
            values.pop(ref, None)
        else:
            values[ref] = now
    return Pose(values)


def rename_expression(document: Document, expression: str, name: str) -> Document:
    """Another name for an expression. Raises EditError where one has it already."""
    character, _, _ = rigged(document)
    return document.with_character(replace(character, expressions=renamed(character.expressions, expression, name, "expression")))


def drop_expression(document: Document, expression: str) -> Document:
    """Forget an expression."""
    character, _, _ = rigged(document)
    return document.with_character(replace(character, expressions=without(character.expressions, expression, "expression")))


def expression_of(character: Character, told: str) -> Expression:
    """An expression told by id or name."""
    return kept_one(character.expressions, told, "expression")


Told = Sequence[tuple[str, Mapping[tuple[str, str], float]]]
"""Expressions by name, with values by control name and channel key, as a file has them."""


def told_expressions(character: Character) -> list[tuple[str, dict[tuple[str, str], float]]]:
    """The character's expressions by names of controls, for a file or another character."""
    rig = character.rig
    names = {} if rig is None else {c.id: c.name for c in rig.controls}
    return [(e.name, {(names.get(o, o), k): v for (o, k), v in e.values.items()}) for e in character.expressions]


def unmatched_controls(character: Character, told: Told) -> tuple[str, ...]:
    """Names of controls in some expressions that are not here, and that nobody has matched yet."""
    rig = character.rig
    here = set() if rig is None else {c.name for c in rig.controls} | {BOARD}
    wanted = dict.fromkeys(name for _, values in told for name, _ in values)
    return tuple(n for n in wanted if character.face_pairs.get(n, n) not in here)


def take_expressions(document: Document, told: Told, *, pairs: Mapping[str, str] | None = None) -> tuple[Document, str]:
    """Expressions of another character, by names of controls. Gives what was taken and what finds no partner, in words.

    pairs : names there -> names here, where they differ; they are remembered for the next time.
    """
    character, _, rig = rigged(document)
    known = {**character.face_pairs, **(pairs or {})}
    by_name = {c.name: c.id for c in rig.controls} | {BOARD: BOARD}
    wrong = [n for n in (pairs or {}).values() if n not in by_name]
    if wrong:
        raise EditError(f"there is no control {wrong[0]}{near(wrong[0], list(by_name))}")
    character = replace(character, face_pairs=MappingProxyType(known))
    every = {e.name: e for e in character.expressions}
    lost: dict[str, None] = {}
    taken = 0
    for name, values in told:
        found: dict[tuple[str, str], float] = {}
        for (control, key), value in values.items():
            ref = ChannelRef(by_name.get(known.get(control, control), ""), key)
            if ref in rig.slots.index:
                found[ref] = float(value)
            else:
                lost[f"{control} {key}"] = None
        if not found:
            continue
        taken += 1
        there = every.get(name)
        if there is None:
            character, (made,) = fresh_ids(character, "face.", (e.id for e in every.values()))
        else:
            made = there.id
        every[name] = Expression(made, name, MappingProxyType(found), None if there is None else there.picture)
    said = f"{taken} of {len(told)} expressions taken"
    if lost:
        said += f"; without a partner here: {', '.join(list(lost)[:6])}"
    return document.with_character(replace(character, expressions=tuple(every.values()))), said
