"""Couplings: a channel that is driven by others, or by where nodes stand, through a formula, a curve, a gain and an offset."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve
from pegloom.core.curves.curve import BEYOND
from pegloom.core.errors import EditError
from pegloom.core.rig.formulas import CALLS, FOLDED, NUMBERS, compiled
from pegloom.core.rig.kernels import formula as kernel
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.solvers.packing import Packed, Rests
from pegloom.core.skeleton.joints import Vector

MOST_READINGS = 16


class What(Enum):
    """What is measured of a node."""

    DISTANCE = "distance"
    """From the other node, in its size; metres where that is the world."""
    ALONG = "along"
    """How far out along an axis of the other node; metres in its size."""
    TURN = "turn"
    """The part of its turn from rest in the other that goes about an axis of its own; radians, up to half a turn."""
    SWING = "swing"
    """How far that axis has swung from where it rests in the other; radians."""

    @property
    def code(self) -> int:
        return {What.DISTANCE: kernel.DISTANCE, What.ALONG: kernel.ALONG, What.TURN: kernel.TURN, What.SWING: kernel.SWING}[self]


class Combine(Enum):
    """What becomes of the value that stands there: what somebody posed, or the couplings before made."""

    SET = "set"
    ADD = "add"
    TIMES = "times"

    @property
    def code(self) -> int:
        return {Combine.SET: kernel.SET, Combine.ADD: kernel.PLUS, Combine.TIMES: kernel.TIMES}[self]


@dataclass(frozen=True, slots=True)
class Measure:
    """axis : of the other node for ALONG, of the node itself for TURN and SWING."""

    what: What
    node: NodeRef
    other: NodeRef = WORLD
    axis: Vector = (0.0, 1.0, 0.0)


@dataclass(frozen=True, slots=True)
class Reading:
    """What a name in the formula stands for: a channel, or a measure; one of the two."""

    name: str
    channel: ChannelRef | None = None
    measure: Measure | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Coupling:
    """drives : the channel it works on.
    formula : over the readings' names; see `formulas`. Metres, radians and shares, as channels have them inside.
    curve : of the formula's value, where there is one; its times are those values.
    gain, offset : what is driven gets gain times that, plus offset.
    amount : channel of how much it counts; None: wholly.
    order : of several that drive one channel, lower first.
    """

    id: str
    drives: ChannelRef
    readings: tuple[Reading, ...]
    name: str = ""
    formula: str = "x"
    curve: Curve | None = None
    gain: float = 1.0
    offset: float = 0.0
    combine: Combine = Combine.ADD
    amount: ChannelRef | None = None
    order: int = 0


def reads(coupling: Coupling) -> tuple[NodeRef | ChannelRef, ...]:
    """Nodes and channels that must be known first."""
    found: list[NodeRef | ChannelRef] = []
    for one in coupling.readings:
        if one.channel is not None:
            found.append(one.channel)
        if one.measure is not None:
            found += [one.measure.node, one.measure.other]
    return (*found, *(() if coupling.amount is None else (coupling.amount,)))


def checked(coupling: Coupling) -> None:
    """Raises EditError for a coupling that cannot be; FormulaError where it is the formula."""
    said = coupling.name or coupling.id
    names = [r.name for r in coupling.readings]
    if len(names) > MOST_READINGS:
        raise EditError(f"{said} has more than {MOST_READINGS} readings")
    taken = {*NUMBERS, *CALLS, *FOLDED}
    for one in coupling.readings:
        if not one.name.isidentifier() or not one.name.isascii() or one.name in taken or names.count(one.name) > 1:
            raise EditError(f"{said}: {one.name[:40]!r} cannot be the name of a reading; take a word of its own, like x or lift")
        if (one.channel is None) == (one.measure is None):
            raise EditError(f"{said}: the reading {one.name} is of a channel, or of a node; name one of the two")
        if one.measure is not None and one.measure.node.kind is NodeKind.WORLD:
            raise EditError(f"{said}: the reading {one.name} measures the world itself; name a control or joint")
        if one.measure is not None and float(np.linalg.norm(one.measure.axis)) < 1e-9:
            raise EditError(f"{said}: the reading {one.name} is along no axis")
    if not np.isfinite([coupling.gain, coupling.offset]).all():
        raise EditError(f"{said}: gain and offset are plain numbers")
    compiled(coupling.formula, tuple(names))


def pack(coupling: Coupling, rests: Rests) -> Packed:
    """Its numbers in the plan's pools."""
    program = compiled(coupling.formula, tuple(r.name for r in coupling.readings))
    keys = 0 if coupling.curve is None else len(coupling.curve.times)
    amount = -1 if coupling.amount is None else rests.slot(coupling.amount)
    ints = [coupling.combine.code, amount, len(coupling.readings), len(program.steps), len(program.constants), keys]
    floats: list[FloatArray] = [np.array([coupling.gain, coupling.offset])]
    for one in coupling.readings:
        some, numbers = _reading(one, rests)
        ints += some
        floats.append(numbers)
    ints += [n for step in program.steps for n in step]
    floats.append(np.array(program.constants, dtype=np.float64))
    curve = coupling.curve
    if curve is not None:
        ints += [BEYOND.index(curve.first), BEYOND.index(curve.last), *curve.runs.tolist()]
        floats += [curve.times, curve.values, curve.before, curve.after]
    return Packed(walk.COUPLE, tuple(ints), np.concatenate(floats))


def _reading(one: Reading, rests: Rests) -> tuple[list[int], FloatArray]:
    numbers = np.zeros(12)
    if one.channel is not None:
        return [kernel.CHANNEL, rests.slot(one.channel), -1], numbers
    measure = one.measure
    assert measure is not None
    other = -1 if measure.other.kind is NodeKind.WORLD else rests.node(measure.other)
    numbers[:3] = np.array(measure.axis) / np.linalg.norm(measure.axis)
    turn = rests.place(measure.node)[:3, :3]
    numbers[3:] = (rests.place(measure.other)[:3, :3].T @ turn).ravel()
    return [measure.what.code, rests.node(measure.node), other], numbers


def value_of(coupling: Coupling, readings: Sequence[float]) -> float:
    """What a coupling gives for its readings: formula, curve, gain and offset, without the value that stands there."""
    program = compiled(coupling.formula, tuple(r.name for r in coupling.readings))
    steps = np.array(program.steps, dtype=np.int64).ravel()
    value = float(kernel.formula(steps, np.array(program.constants, dtype=np.float64), np.array(readings, dtype=np.float64)))
    if coupling.curve is not None:
        value = coupling.curve.at(value)
    return coupling.gain * value + coupling.offset
