"""Records of a control rig and of a pose."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import Enum
from functools import cached_property
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.skeleton.joints import Quaternion, Side, Vector, other_side_name

CHANNELS = ("move_x", "move_y", "move_z", "turn_x", "turn_y", "turn_z", "grow", "blend")
"""Channels of a control, in the order of a pose's rows. Metres, radians; grow: 0 is own size, 1 twice; blend: 0 FK, 1 IK."""

Values = tuple[float, float, float, float, float, float, float, float]
MOVE, TURN = CHANNELS[:3], CHANNELS[3:6]


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

    parent : node it rides on, `control:ID` or `joint:ID`, or "" for the world. rest : 16 numbers, row after row,
    character_from_control. free : the channels an animator may change. offset and tilt place the shape in the
    control (metres; x y z radians).
    """

    id: str
    name: str
    side: Side
    parent: str
    rest: tuple[float, ...]
    shape: Shape
    size: float
    free: tuple[str, ...]
    offset: Vector = (0.0, 0.0, 0.0)
    tilt: Vector = (0.0, 0.0, 0.0)
    blend_at_rest: float = 0.0

    @property
    def matrix(self) -> FloatArray:
        return np.array(self.rest, dtype=np.float64).reshape(4, 4)

    @property
    def zero(self) -> Values:
        """Its channel values at rest: all zero, save the FK/IK blend it starts with."""
        return (0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, self.blend_at_rest)


@dataclass(frozen=True, slots=True)
class IkLimb:
    """Two-joint IK beside an FK chain. joints and fk: upper, lower, end. goal carries the blend channel."""

    id: str
    joints: tuple[str, str, str]
    fk: tuple[str, str, str]
    goal: str
    pole: str


@dataclass(frozen=True, eq=False)
class ControlRig:
    """Controls (parents first), which control drives which joint, and the IK limbs."""

    controls: tuple[Control, ...]
    drivers: tuple[tuple[str, str], ...]
    limbs: tuple[IkLimb, ...]

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {control.id: i for i, control in enumerate(self.controls)}

    def control(self, control_id: str) -> Control:
        """The control of that id. Raises ShapeError for an unknown one."""
        if control_id not in self.index:
            raise ShapeError(f"there is no control {control_id}")
        return self.controls[self.index[control_id]]

    def limb_of(self, control_id: str) -> IkLimb | None:
        """The IK limb a control belongs to."""
        for limb in self.limbs:
            if control_id in (*limb.fk, limb.goal, limb.pole):
                return limb
        return None

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


class JointRows(Mapping[str, tuple[float, ...]]):
    """Local values of some joints as one array: joints, and rows (n, 10) of position, quaternion, scale.

    Reads as the mapping a pose's placements are; whoever poses joints takes the rows as they are.
    """

    __slots__ = ("joints", "rows")

    def __init__(self, joints: tuple[str, ...], rows: FloatArray) -> None:
        rows.setflags(write=False)
        self.joints, self.rows = joints, rows

    def __getitem__(self, joint: str) -> tuple[float, ...]:
        if joint not in self.joints:
            raise KeyError(joint)
        return tuple(self.rows[self.joints.index(joint)].tolist())

    def __iter__(self) -> Iterator[str]:
        return iter(self.joints)

    def __len__(self) -> int:
        return len(self.joints)


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Pose:
    """Where everything stands.

    controls : channel values by control id; a missing control is at rest.
    turns : for trial poses without controls: joint id -> turn x y z w in the joint's own rest axes.
    placements : from sampled motion: joint id -> parent_from_joint as position, quaternion, scale (10 numbers).
    A pose with turns or placements sets joints directly and passes the controls by.
    """

    controls: Mapping[str, Values] = field(default_factory=lambda: MappingProxyType({}))
    turns: Mapping[str, Quaternion] = field(default_factory=lambda: MappingProxyType({}))
    placements: Mapping[str, tuple[float, ...]] = field(default_factory=lambda: MappingProxyType({}))

    @property
    def direct(self) -> bool:
        return bool(self.turns or self.placements)


def channel_rows(rig: ControlRig, pose: Pose) -> FloatArray:
    """Channel values (c, 8) of every control."""
    return np.array([pose.controls.get(c.id, c.zero) for c in rig.controls], dtype=np.float64).reshape(-1, 8)


def pose_of(rig: ControlRig, rows: FloatArray) -> Pose:
    """The pose of channel values (c, 8) of every control; those at rest are not in it."""
    told = {c.id: tuple(float(v) for v in row) for c, row in zip(rig.controls, rows, strict=True)}
    zero = {c.id: c.zero for c in rig.controls}
    return Pose(MappingProxyType({k: v for k, v in told.items() if v != zero[k]}))  # type: ignore[misc]


def with_values(pose: Pose, control: Control, **channels: float) -> Pose:
    """The pose with some channels of one control changed. Raises ShapeError for an unknown channel."""
    values = list(pose.controls.get(control.id, control.zero))
    for name, value in channels.items():
        if name not in CHANNELS:
            raise ShapeError(f"there is no channel {name}")
        values[CHANNELS.index(name)] = float(value)
    new = tuple(values)
    controls = dict(pose.controls)
    if new == control.zero:
        controls.pop(control.id, None)
    else:
        controls[control.id] = new  # type: ignore[assignment]
    return Pose(MappingProxyType(controls))
