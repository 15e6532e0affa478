"""What is made by hand on a rig, in another size: lengths go along, turns and shares stay."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.rig.changes import ChannelChange, OwnControl, RigChanges
from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Combine, Coupling, What
from pegloom.core.rig.formulas import scaled
from pegloom.core.rig.refs import NodeKind

Place = Callable[[np.ndarray], tuple[float, ...]]


def resized(changes: RigChanges, rig: ControlRig | None, scale: float, place: Place) -> RigChanges:
    """Changes of a rig that is scaled. place : what becomes of a frame (4, 4) in the character, as 16 numbers."""
    if changes.empty:
        return changes
    lengths = set() if rig is None else {ref for ref, k in rig.slots.index.items() if rig.slots.channels[k].quantity is Quantity.LENGTH}

    def limits(ref: tuple[str, str], change: ChannelChange) -> ChannelChange:
        if ref not in lengths:
            return change
        soft, rest = (None if v is None else v * scale for v in (change.soft, change.rest))
        if change.limits is None:
            return replace(change, soft=soft, rest=rest)
        low, high = (None if v is None else v * scale for v in change.limits)
        return replace(change, soft=soft, rest=rest, limits=(low, high))

    return replace(
        changes, own_controls=tuple(_control(o, scale, place) for o in changes.own_controls),
        own_channels=MappingProxyType({o: tuple(_channel(c, scale) for c in some) for o, some in changes.own_channels.items()}),
        channels=MappingProxyType({ref: limits(ref, c) for ref, c in changes.channels.items()}),
        own_constraints=tuple(_constraint(c, scale, place) for c in changes.own_constraints),
        own_couplings=tuple(resized_coupling(c, lengths, scale) for c in changes.own_couplings),
    )  # fmt: skip


def _channel(channel: Channel, scale: float) -> Channel:
    if channel.quantity is not Quantity.LENGTH:
        return channel
    low, high = (None if v is None else v * scale for v in (channel.low, channel.high))
    return replace(channel, rest=channel.rest * scale, low=low, high=high, soft=channel.soft * scale)


def _control(own: OwnControl, scale: float, place: Place) -> OwnControl:
    control = own.control
    rest = control.matrix
    rest[:3, 3] *= scale
    x, y, z = control.offset
    return replace(
        own, control=replace(
            control, rest=tuple(rest.ravel().tolist()) if own.along else place(control.matrix), size=control.size * scale,
            offset=(x * scale, y * scale, z * scale), channels=tuple(_channel(c, scale) for c in control.channels),
        ),
    )  # fmt: skip


def _constraint(constraint: Constraint, scale: float, place: Place) -> Constraint:
    targets = []
    for target in constraint.targets:
        offset = target.offset
        if offset is not None:
            matrix = np.array(offset).reshape(4, 4)
            if target.node.kind is NodeKind.WORLD:
                offset = place(matrix)
            else:
                matrix[:3, 3] *= scale
                offset = tuple(matrix.ravel().tolist())
        targets.append(replace(target, offset=offset))
    return replace(constraint, targets=tuple(targets))


def resized_coupling(one: Coupling, lengths: set[tuple[str, str]] | Mapping[tuple[str, str], object], scale: float) -> Coupling:
    """A coupling that does in the other size what it did: what it reads in metres is told in the old ones."""
    factors = {}
    for r in one.readings:
        metres = r.channel in lengths if r.channel is not None else r.measure is not None and r.measure.what in (What.DISTANCE, What.ALONG)
        if metres:
            factors[r.name] = 1.0 / scale
    formula = scaled(one.formula, factors)
    if one.drives in lengths and one.combine is not Combine.TIMES:
        return replace(one, formula=formula, gain=one.gain * scale, offset=one.offset * scale)
    return replace(one, formula=formula)
