"""Poses put together: part of one onto another, by an amount, and seen in a mirror."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from types import MappingProxyType

import numpy as np

from pegloom.core.geometry.transforms import (
    compose,
    decompose,
    euler_quaternion,
    quaternion_euler,
    slerp,
)
from pegloom.core.rig.channels import MOVE, ROTATE, Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef

Values = Mapping[tuple[str, str], float]
"""Channel values by control id and key."""
ZERO = 1e-12
"""What is nearer to rest than this is at rest: a mirror leaves a last digit."""
FLIP = np.diag([-1.0, 1.0, 1.0])


def values_of(rig: ControlRig, pose: Pose, controls: Collection[str] | None = None) -> Values:
    """All free channels of some controls, rest values too; None: of all, and of the rig as a whole."""
    owners = [c.id for c in rig.handles] if controls is None else [c for c in controls if c in rig.index]
    found: dict[tuple[str, str], float] = {
        ChannelRef(o, key): rig.value(pose, ChannelRef(o, key)) for o in owners for key in rig.control(o).free
    }  # fmt: skip
    if controls is None:
        found |= {ChannelRef(BOARD, c.key): rig.value(pose, ChannelRef(BOARD, c.key)) for c in rig.board if not c.locked}
    return MappingProxyType(found)


def toward(rig: ControlRig, pose: Pose, values: Values, amount: float = 1.0, controls: Collection[str] | None = None) -> Pose:
    """A pose brought toward some values by an amount, 0 to 1: turns by the shortest way, switches and choices from half on.

    controls : those it is done to; None for all of the values. Channels that there are not, or that are locked, are left out.
    """
    now = dict(pose.values)
    owners: dict[str, dict[str, float]] = {}
    for (owner, key), value in values.items():
        ref = ChannelRef(owner, key)
        if ref in rig.slots.index and (controls is None or owner in controls) and not rig.slots.channels[rig.slots.index[ref]].locked:
            owners.setdefault(owner, {})[key] = value
    for owner, told in owners.items():
        here = {key: rig.value(pose, ChannelRef(owner, key)) for key in (*told, *ROTATE)}
        result = {key: _between(rig, ChannelRef(owner, key), here[key], value, amount) for key, value in told.items()}
        if all(key in told for key in ROTATE) and 0.0 < amount < 1.0:
            a, b = (euler_quaternion([which[key] for key in ROTATE]) for which in (here, told))
            result |= dict(zip(ROTATE, quaternion_euler(slerp(a, b, amount)).tolist(), strict=True))
        for key, value in result.items():
            now[ChannelRef(owner, key)] = value
    return _bare(rig, now)


def _between(rig: ControlRig, ref: ChannelRef, here: float, there: float, amount: float) -> float:
    slot = rig.slots.index[ref]
    channel = rig.slots.channels[slot]
    if channel.quantity is Quantity.SWITCH or channel.options:
        return there if amount >= 0.5 else here
    value = there if amount == 1.0 else here + amount * (there - here)
    return float(min(max(value, rig.slots.low[slot]), rig.slots.high[slot]))


def _bare(rig: ControlRig, values: Mapping[tuple[str, str], float]) -> Pose:
    """A pose that tells only what does not rest."""
    index, rest = rig.slots.index, rig.slots.rest
    return Pose({ref: v for ref, v in values.items() if ref not in index or abs(v - rest[index[ref]]) > ZERO})


def across(rig: ControlRig, values: Values) -> Values:
    """Values seen in a mirror, on the controls across; a control without a partner keeps its own.

    A control's rest frame and its partner's mirrored rest frame differ by a fixed turn; values go through it, so
    that axes that run alike or opposed on the two sides both come out right.
    """
    by_control: dict[str, dict[str, float]] = {}
    for (owner, key), value in values.items():
        by_control.setdefault(owner, {})[key] = value
    result: dict[tuple[str, str], float] = {}
    for control_id, told in by_control.items():
        other_id = rig.other_side(control_id) if control_id in rig.index else None
        mirrored = told if other_id is None else _mirrored(rig, control_id, other_id, told)
        result |= {ChannelRef(other_id or control_id, key): value for key, value in mirrored.items()}
    return MappingProxyType(result)


def swapped(rig: ControlRig, pose: Pose, controls: Collection[str] | None = None) -> Pose:
    """A pose whose sides have traded places. controls : these and their partners alone; None: all.

    Of the controls of the middle, all are seen in the mirror where none are named.
    """
    if controls is None:
        return _bare(rig, across(rig, pose.values))
    known = [c for c in controls if c in rig.index]
    pairs = {c for one in known for c in (one, rig.other_side(one) or one)}
    return toward(rig, pose, across(rig, values_of(rig, pose, pairs)))


def copied_across(rig: ControlRig, pose: Pose, controls: Collection[str]) -> Pose:
    """A pose in which the partners of some controls do what these do, seen in a mirror; those of the middle stay."""
    sided = [c for c in controls if c in rig.index and rig.other_side(c) not in (None, c)]
    return toward(rig, pose, across(rig, values_of(rig, pose, sided)))


def _mirrored(rig: ControlRig, control_id: str, other_id: str, values: Mapping[str, float]) -> dict[str, float]:
    here, other_axes = rig.control(control_id).matrix[:3, :3], rig.control(other_id).matrix[:3, :3]
    to_other = other_axes.T @ FLIP @ here
    move, angles = (np.array([values.get(key, 0.0) for key in keys]) for keys in (MOVE, ROTATE))
    matrix = np.eye(4)
    matrix[:3, :3] = to_other @ compose(move, euler_quaternion(angles))[:3, :3] @ to_other.T
    mirrored = dict(zip(MOVE, (to_other @ move).tolist(), strict=True))
    mirrored |= dict(zip(ROTATE, quaternion_euler(decompose(matrix)[1]).tolist(), strict=True))
    opposed = {c.key for c in rig.control(control_id).channels if c.opposed}
    return mirrored | {k: -v if k in opposed else v for k, v in values.items() if k not in mirrored}


def branch(rig: ControlRig, controls: Collection[str]) -> tuple[str, ...]:
    """Some controls and all that a person would find below them."""
    found = {c for c in controls if c in rig.index}
    grown = True
    while grown:
        more = {c.id for c in rig.handles if c.id not in found and rig.handle_above(c.id) in found}
        found |= more
        grown = bool(more)
    return tuple(c.id for c in rig.controls if c.id in found)
