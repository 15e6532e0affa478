"""Records of a control rig."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from functools import cached_property

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeRef
from pegloom.core.rig.slots import SlotTable, slots_of
from pegloom.core.rig.solvers import LimbIk, Solver
from pegloom.core.skeleton.joints import Side, Vector, other_side_name


class Shape(Enum):
    CIRCLE = "circle"
    SQUARE = "square"
    TRIANGLE = "triangle"
    DIAMOND = "diamond"
    ARROW = "arrow"
    CROSS = "cross"
    CUBE = "cube"
    SPHERE = "sphere"
    PIN = "pin"


@dataclass(frozen=True, slots=True)
class Control:
    """What an animator holds.

    parent : node it rides on.
    rest : 16 numbers, row after row, character_from_control.
    channels : its numbers; a move, rotate or scale it lacks rests.
    size : metres, of the shape. offset and tilt place the shape in the control (metres; x y z radians).
    """

    id: str
    name: str
    side: Side
    parent: NodeRef
    rest: tuple[float, ...]
    channels: tuple[Channel, ...]
    shape: Shape
    size: float
    offset: Vector = (0.0, 0.0, 0.0)
    tilt: Vector = (0.0, 0.0, 0.0)

    @property
    def matrix(self) -> FloatArray:
        return np.array(self.rest, dtype=np.float64).reshape(4, 4)

    def channel(self, key: str) -> Channel | None:
        """The channel of that key, or None."""
        return next((c for c in self.channels if c.key == key), None)

    @property
    def free(self) -> tuple[str, ...]:
        """Keys of the channels an animator may change."""
        return tuple(c.key for c in self.channels if not c.locked)


@dataclass(frozen=True, slots=True)
class Drive:
    """A joint that takes its place from a node. One without a drive, or a solver, rides on its parent."""

    joint: str
    node: NodeRef


RECIPE = 1
"""Version of the code that builds rigs, counted up whenever it places, parents or solves anything otherwise."""


@dataclass(frozen=True, eq=False)
class ControlRig:
    """Controls, what drives which joint, and the solvers; the order of each tells nothing.

    built_by : version of the code that built it.
    """

    controls: tuple[Control, ...]
    drives: tuple[Drive, ...] = ()
    solvers: tuple[Solver, ...] = ()
    built_by: int = RECIPE

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {control.id: i for i, control in enumerate(self.controls)}

    @cached_property
    def slots(self) -> SlotTable:
        return slots_of((control.id, control.channels) for control in self.controls)

    @property
    def limbs(self) -> tuple[LimbIk, ...]:
        return tuple(s for s in self.solvers if isinstance(s, LimbIk))

    def control(self, control_id: str) -> Control:
        """The control of that id. Raises ShapeError for an unknown one."""
        if control_id not in self.index:
            raise ShapeError(f"there is no control {control_id}")
        return self.controls[self.index[control_id]]

    def limb_of(self, control_id: str) -> LimbIk | None:
        """The IK limb a control belongs to."""
        for limb in self.limbs:
            if control_id in (*limb.fk, limb.goal.id, limb.pole.id):
                return limb
        return None

    def value(self, pose: Pose, ref: tuple[str, str]) -> float:
        """A channel's value in a pose; its rest where the pose does not tell it. 0 for a channel there is not."""
        slot = self.slots.index.get(ref)
        return pose.values.get(ref, 0.0 if slot is None else float(self.slots.rest[slot]))

    def other_side(self, control_id: str) -> str | None:
        """Id of the control across the middle; a centre control is its own."""
        control = self.control(control_id)
        if control.side is Side.CENTRE:
            return control_id
        pieces = control_id.split(".")
        swapped = ".".join({"l": "r", "r": "l"}.get(piece, piece) for piece in pieces)
        if swapped in self.index and swapped != control_id:
            return swapped
        return self._by_name.get(other_side_name(control.name) or "")

    @cached_property
    def _by_name(self) -> Mapping[str, str]:
        return {control.name: control.id for control in self.controls}


def with_values(rig: ControlRig, pose: Pose, control_id: str, **channels: float) -> Pose:
    """The pose with some channels of one control changed. Raises ShapeError for an unknown channel."""
    values, slots = dict(pose.values), rig.slots
    for key, value in channels.items():
        ref = ChannelRef(control_id, key)
        if ref not in slots.index:
            raise ShapeError(f"there is no {ref}")
        if value == slots.rest[slots.index[ref]]:
            values.pop(ref, None)
        else:
            values[ref] = float(value)
    return Pose(values)


__all__ = [
    "RECIPE", "WORLD", "Control", "ControlRig", "Drive", "Shape", "with_values",
]  # fmt: skip
