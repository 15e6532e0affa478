"""Layers over a clip's keys: what they add or set, by an amount that can be keyed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum
from types import MappingProxyType
from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.curves import Curve, curve
from pegloom.core.curves.curve import pack
from pegloom.core.curves.kernel import PackedCurves, sample_all
from pegloom.core.memo import by_identity
from pegloom.core.rig.channels import ROTATE
from pegloom.core.rig.controls import ControlRig

AXES = "xyz"
"""Turn channels are angles about fixed x, then y, then z."""


class LayerMode(Enum):
    """How a layer meets what is below it."""

    SET = "set"
    """Its values stand in the place of those below."""
    ADD = "add"
    """Its values are added, channel by channel."""
    TURN = "turn"
    """As ADD, but its turns follow those below as rotations about the control's own axes."""


def whole() -> Curve:
    """An amount of all, at every time."""
    return curve([0.0], [1.0])


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Layer:
    """Curves over a clip's own; the keys under them stay.

    curves : (control id, channel key) -> keys. SET: values; ADD and TURN: what is added to those below.
    amount : 0 none of it, 1 all.
    alone : while it plays, nothing else of the clip does but other layers shown alone.
    """

    id: str
    name: str
    curves: Mapping[tuple[str, str], Curve] = field(default_factory=lambda: MappingProxyType({}))
    on: bool = True
    mode: LayerMode = LayerMode.SET
    amount: Curve = field(default_factory=whole)
    alone: bool = False

    @property
    def key_times(self) -> tuple[float, ...]:
        """All times at which some channel has a key, rising."""
        return tuple(sorted({round(t, 6) for keys in self.curves.values() for t in keys.times.tolist()}))


def playing(layers: Sequence[Layer]) -> tuple[Layer, ...]:
    """Those of some layers that play, from the bottom up."""
    on = tuple(layer for layer in layers if layer.on)
    return tuple(layer for layer in on if layer.alone) or on


class _Packed(NamedTuple):
    """curves : the amount, then a layer's own. slots (c,) : where the own ones go, -1 for channels the rig lacks.
    turns (t, 3) : slots of the angles of every control the layer turns.
    """

    curves: PackedCurves
    slots: IntArray
    turns: IntArray


@by_identity
def _packed(layer: Layer, rig: ControlRig) -> _Packed:
    index = rig.slots.index
    slots = np.array([index.get(ref, -1) for ref in layer.curves], dtype=np.int64)
    turned = dict.fromkeys(control for control, key in layer.curves if key in ROTATE)
    every = [[index.get((control, key), -1) for key in ROTATE] for control in turned]
    turns = np.array([row for row in every if min(row) >= 0], dtype=np.int64).reshape(-1, 3)
    return _Packed(pack((layer.amount, *layer.curves.values())), slots, turns)


def lay_on(layer: Layer, rig: ControlRig, times: FloatArray, values: FloatArray) -> None:
    """Lay a layer over channel values (k, v) of a rig at times (k,) seconds, in place."""
    packed = _packed(layer, rig)
    told = np.zeros((len(times), len(packed.slots) + 1))
    sample_all(packed.curves, np.arange(len(packed.slots) + 1), times, told)
    amount, there = told[:, :1], packed.slots >= 0
    slots, own = packed.slots[there], told[:, 1:][:, there]
    if layer.mode is LayerMode.SET:
        values[:, slots] += amount * (own - values[:, slots])
        return
    if layer.mode is LayerMode.ADD:
        values[:, slots] += amount * own
        return
    more = np.zeros_like(values)
    more[:, slots] = amount * own
    turns = packed.turns
    below = values[:, turns]
    # By an amount a rotation goes part of its own way, not part of each angle.
    raw = np.zeros_like(values)
    raw[:, slots] = own
    step = Rotation.from_euler(AXES, raw[:, turns].reshape(-1, 3)).as_rotvec().reshape(*below.shape) * amount[:, :, None]
    values += more
    values[:, turns] = followed(below, step)


def followed(below: FloatArray, step: FloatArray) -> FloatArray:
    """Angles (..., 3) of turns `below` followed by rotation vectors `step` (..., 3) about the axes they turned, nearest to below."""
    before = below.reshape(-1, 3)
    after = Rotation.from_euler(AXES, before) * Rotation.from_rotvec(step.reshape(-1, 3))
    return nearest_angles(after, before).reshape(below.shape)


def added_turn(below: FloatArray, above: FloatArray) -> FloatArray:
    """Angles (n, 3) of the rotation that leads from turns `below` (n, 3) to `above` (n, 3), about the axes of below."""
    step = Rotation.from_euler(AXES, below).inv() * Rotation.from_euler(AXES, above)
    return nearest_angles(step, np.zeros_like(below))


def nearest_angles(turns: Rotation, near: FloatArray) -> FloatArray:
    """Angles (n, 3) about fixed x, y, z of rotations; of the two sets that show each, and whole turns, those nearest to `near` (n, 3)."""
    x, y, z = np.moveaxis(_matrix_angles(turns.as_matrix()), -1, 0)
    both = np.stack([np.stack([x, y, z], axis=-1), np.stack([x + np.pi, np.pi - y, z + np.pi], axis=-1)])
    both -= np.round((both - near) / (2 * np.pi)) * (2 * np.pi)
    best = np.abs(both - near).sum(axis=-1).argmin(axis=0)
    return np.asarray(both[best, np.arange(len(near))])


def _matrix_angles(m: FloatArray) -> FloatArray:
    """Angles (n, 3) of rotations (n, 3, 3); straight up or down, where x and z turn the same way, z alone keeps the turn."""
    sine = np.clip(-m[:, 2, 0], -1.0, 1.0)
    locked = np.abs(sine) > 1.0 - 1e-10
    x = np.where(locked, 0.0, np.arctan2(m[:, 2, 1], m[:, 2, 2]))
    z = np.where(locked, np.arctan2(-m[:, 0, 1], m[:, 1, 1]), np.arctan2(m[:, 1, 0], m[:, 0, 0]))
    return np.stack([x, np.arcsin(sine), z], axis=-1)


def longer(angles: FloatArray, factor: FloatArray | float) -> FloatArray:
    """Angles (n, 3) of rotations taken so many times, (n, 1) or a number, their way."""
    return nearest_angles(Rotation.from_rotvec(Rotation.from_euler(AXES, angles).as_rotvec() * factor), angles)
