"""Couplings: make, change, order, copy, carry across, drop."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.curves import Curve, Run, curve
from pegloom.core.errors import EditError, ShapeError
from pegloom.core.rig.across import Across, mirrored
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Combine, Coupling, Measure, Reading, What, checked, pack, value_of
from pegloom.core.rig.kernels import formula as kernel
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.refs import WORLD, ChannelRef, joint_node
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.document.edits.rig.changing import fresh, node, rigged, with_changes
from pegloom.document.edits.rig.channels import channel_of, channel_ref, owner_id, said_channel
from pegloom.document.model import Document

COUPLE = "couple."


@dataclass(frozen=True, slots=True)
class Read:
    """A reading as it is told: a channel of a control, or a measure of a control or joint.

    name : what the formula calls it.
    control, channel : of the channel.
    what, node, other, axis : of the measure; `other` is what a joint hangs on, else the world, where it is not told.
    """

    name: str = "x"
    control: str = ""
    channel: str = ""
    what: What | None = None
    node: str = ""
    other: str = ""
    axis: Vector = (0.0, 1.0, 0.0)


def couple(
    document: Document, control: str, channel: str, readings: Sequence[Read], *, formula: str = "", gain: float = 1.0,
    offset: float | None = None, curve: Sequence[tuple[float, float]] = (), combine: Combine = Combine.ADD, name: str = "",
    amount: Read | None = None,
) -> tuple[Document, str]:  # fmt: skip
    """Let a channel be driven by others, or by where controls and joints stand. Gives the coupling's id.

    control, channel : what is driven.
    formula : over the readings' names; the first reading alone where it is not told.
    curve : points (formula's value, what it gives), where a curve is wanted.
    gain, offset : what is driven gets gain times that, plus offset. Without an offset nothing moves at rest.
    combine : whether it adds to what is posed, sets it, or is a factor of it.
    amount : a channel of how much it counts.
    Raises EditError where it closes a loop (named), FormulaError with the place in the formula.
    """
    _, skeleton, rig = rigged(document)
    drives = channel_ref(rig, control, channel)
    if not readings:
        raise EditError("choose what is read first: a channel, or a control or joint to measure")
    some = tuple(_reading(skeleton, rig, r) for r in readings)
    document, (made,) = fresh(document, COUPLE)
    drivers = rig.drivers.get(drives, ())
    said = name.strip() or f"{said_channel(rig, drives)} {len(drivers) + 1}"
    count = None if amount is None else channel_ref(rig, amount.control, amount.channel)
    one = Coupling(
        made, drives, some, said, formula.strip() or some[0].name, _curve(curve), gain, 0.0 if offset is None else offset, combine, count,
        max((d.order for d in drivers), default=-1) + 1,
    )  # fmt: skip
    checked(one)
    if offset is None:
        one = _still(skeleton, rig, one)
    return _put(document, one), made


def change_coupling(
    document: Document, coupling: str, *, formula: str | None = None, gain: float | None = None, offset: float | None = None,
    curve: Sequence[tuple[float, float]] | None = None, combine: Combine | None = None, name: str | None = None, order: int | None = None,
    readings: Sequence[Read] | None = None, still: bool = False,
) -> Document:  # fmt: skip
    """Other numbers of a coupling; what is not told stays. An empty curve: none. still : an offset so that nothing moves at rest."""
    _, skeleton, rig = rigged(document)
    one = coupling_of(rig, coupling)
    changed = replace(
        one, formula=one.formula if formula is None else formula, gain=one.gain if gain is None else gain,
        offset=one.offset if offset is None else offset, curve=one.curve if curve is None else _curve(curve),
        combine=combine or one.combine, name=one.name if name is None else name.strip() or one.name,
        order=one.order if order is None else order,
        readings=one.readings if readings is None else tuple(_reading(skeleton, rig, r) for r in readings),
    )  # fmt: skip
    checked(changed)
    return _put(document, _still(skeleton, rig, changed) if still else changed)


def add_reading(document: Document, coupling: str, reading: Read) -> Document:
    """One more thing a coupling reads; its formula stays until it is told to use it, so nothing moves.

    A name that is taken becomes the next free letter.
    """
    _, skeleton, rig = rigged(document)
    one = coupling_of(rig, coupling)
    taken = {r.name for r in one.readings}
    name = reading.name if reading.name not in taken else next(n for n in "xyzabcdefghijklm" if n not in taken)
    changed = replace(one, readings=(*one.readings, _reading(skeleton, rig, replace(reading, name=name))))
    checked(changed)
    return _put(document, changed)


def drop_reading(document: Document, coupling: str, name: str) -> Document:
    """Take out a reading. Raises FormulaError where the formula still uses it, EditError for the last one."""
    _, _, rig = rigged(document)
    one = coupling_of(rig, coupling)
    left = tuple(r for r in one.readings if r.name != name)
    if len(left) == len(one.readings):
        raise EditError(f"{one.name} reads nothing called {name}")
    if not left:
        raise EditError(f"{name} is all that {one.name} reads; drop the coupling instead")
    changed = replace(one, readings=left)
    checked(changed)
    return _put(document, changed)


def with_curve(document: Document, coupling: str, curve: Curve | None) -> Document:
    """Another curve of a coupling, slopes and all."""
    _, _, rig = rigged(document)
    return _put(document, replace(coupling_of(rig, coupling), curve=curve))


def copy_coupling(document: Document, coupling: str, control: str, channel: str) -> tuple[Document, str]:
    """The same coupling on another channel, too. Gives the copy's id."""
    _, skeleton, rig = rigged(document)
    one, drives = coupling_of(rig, coupling), channel_ref(rig, control, channel)
    document, (made,) = fresh(document, COUPLE)
    drivers = rig.drivers.get(drives, ())
    copy = replace(one, id=made, drives=drives, name=said_channel(rig, drives), order=max((d.order for d in drivers), default=-1) + 1)
    if _still(skeleton, rig, one).offset == one.offset:
        # What moved nothing at rest moves nothing there either.
        copy = _still(skeleton, rig, copy)
    return _put(document, copy), made


def couple_across(document: Document, coupling: str) -> tuple[Document, str]:
    """The same coupling on the other side: the other side's channels and nodes, signs and axes mirrored. Gives its id.

    One that was carried there before is replaced. Raises EditError where something has no partner.
    """
    character, skeleton, rig = rigged(document)
    one = coupling_of(rig, coupling)
    own = [c.id for c in character.rig_changes.own_couplings]
    found = mirrored(Across(skeleton, rig), one, "")
    if found is None:
        raise EditError(f"{one.name} reads or drives something that has no partner on the other side")
    if found.drives == one.drives:
        raise EditError(f"{one.name} drives a channel of the middle; it has no other side")
    twin = next((c.id for c in rig.drivers.get(found.drives, ()) if c.id in own and c.name == found.name), "")
    if not twin:
        document, (twin,) = fresh(document, COUPLE)
    return _put(document, replace(found, id=twin)), twin


def drop_coupling(document: Document, coupling: str) -> Document:
    """Take a coupling out; a built one stays out when controls are built again."""
    character, _, rig = rigged(document)
    one, changes = coupling_of(rig, coupling), character.rig_changes
    own = one.id.startswith(COUPLE)
    return with_changes(
        document, own_couplings=tuple(c for c in changes.own_couplings if c.id != one.id),
        dropped=changes.dropped if own else changes.dropped | {one.id},
    )  # fmt: skip


def coupling_of(rig: ControlRig, told: str) -> Coupling:
    """A coupling told by id or name."""
    for one in rig.couplings:
        if told == one.id:
            return one
    for one in rig.couplings:
        if told == one.name:
            return one
    raise EditError(f"there is no coupling {told}")


def readings_now(skeleton: Skeleton, rig: ControlRig, one: Coupling, values: np.ndarray | None = None, nodes: np.ndarray | None = None) -> tuple[float, ...]:
    """What a coupling reads: at rest, or at channel values (v,) as they were driven and nodes (n, 4, 4) as the plan has them."""
    plan = make_plan(skeleton, rig)
    packed = pack(one, plan.rests)
    world = plan.nodes.rests() if nodes is None else nodes
    slots = plan.slots.rest if values is None else values
    found, ints, floats = [], np.array(packed.ints, dtype=np.int64), packed.floats
    for k in range(len(one.readings)):
        found.append(float(kernel.reading(world, ints[6 + 3 * k : 9 + 3 * k], slots, floats[2 + 12 * k : 14 + 12 * k])))
    return tuple(found)


def _still(skeleton: Skeleton, rig: ControlRig, one: Coupling) -> Coupling:
    """With the offset that changes nothing at rest."""
    there = value_of(replace(one, offset=0.0), readings_now(skeleton, rig, one))
    rest = float(channel_of(rig, one.drives).rest)
    wanted = {Combine.ADD: 0.0, Combine.SET: rest, Combine.TIMES: 1.0}[one.combine]
    return replace(one, offset=wanted - there)


def _put(document: Document, one: Coupling) -> Document:
    changes = document.require_character().rig_changes
    kept = tuple(c for c in changes.own_couplings if c.id != one.id)
    return with_changes(document, own_couplings=(*kept, one), dropped=changes.dropped - {one.id})


def _curve(points: Sequence[tuple[float, float]]) -> Curve | None:
    if not points:
        return None
    try:
        return curve([x for x, _ in points], [y for _, y in points], Run.SMOOTH)
    except ShapeError:
        raise EditError("a curve's points go from left to right, each with a value") from None


def _reading(skeleton: Skeleton, rig: ControlRig, told: Read) -> Reading:
    if told.what is None:
        return Reading(told.name, channel=channel_ref(rig, told.control, told.channel))
    measured = node(skeleton, rig, told.node)
    other = WORLD
    if told.other:
        other = node(skeleton, rig, told.other)
    elif measured.id in skeleton.index and told.what in (What.TURN, What.SWING):
        parent = skeleton.joint(measured.id).parent
        other = WORLD if parent is None else joint_node(parent)
    return Reading(told.name, measure=Measure(told.what, measured, other, told.axis))


def drives_of(rig: ControlRig, control: str) -> tuple[Coupling, ...]:
    """Couplings that drive a channel of a control, or of the rig as a whole."""
    owner = owner_id(rig, control)
    return tuple(c for ref, some in rig.drivers.items() if ref.owner == owner for c in some)


def reads_of(rig: ControlRig, ref: ChannelRef) -> tuple[Coupling, ...]:
    """Couplings that read a channel."""
    return tuple(c for c in rig.couplings if any(r.channel == ref for r in c.readings))
