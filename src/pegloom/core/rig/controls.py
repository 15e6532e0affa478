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
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.couplings import Coupling
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.outputs import MorphDrive, ShowDrive, WidthDrive
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import WORLD, ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.slots import SlotTable, slots_of
from pegloom.core.rig.solvers import LIMBS, Limb, Solver, belongs
from pegloom.core.rig.springs import Spring, SpringGroup
from pegloom.core.rig.twists import TwistSpread
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
    ARC = "arc"
    PLATE = "plate"
    HEXAGON = "hexagon"
    STAR = "star"
    SHUTTLE = "shuttle"
    SOLE = "sole"
    PADDLE = "paddle"
    FLAG = "flag"
    TWO_WAYS = "two ways"
    FOUR_WAYS = "four ways"
    BEND = "bend"
    TURN = "turn"
    BOBBIN = "bobbin"
    EYELET = "eyelet"
    BAR = "bar"


Lines = tuple[tuple[Vector, ...], ...]
"""Polylines of a shape drawn by hand, in its own space before size, stretch, tilt and offset."""


@dataclass(frozen=True, slots=True)
class Control:
    """What an animator holds.

    parent : node it rides on.
    rest : 16 numbers, row after row, character_from_control.
    channels : its numbers; a move, rotate or scale it lacks rests.
    size : metres, of the shape. offset and tilt place the shape in the control (metres; x y z radians).
    helper : a frame that only others drive: neither drawn nor picked.
    stretch : factors of the size along the shape's own axes.
    thickness : of its lines, a factor.
    colour : #RRGGBB, "" for that of its side.
    lines : drawn by hand, in the place of the shape's; () for none.
    hidden : kept from animators.
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
    helper: bool = False
    stretch: Vector = (1.0, 1.0, 1.0)
    thickness: float = 1.0
    colour: str = ""
    lines: Lines = ()
    hidden: bool = False

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


RECIPE = 4
"""Version of the code that builds rigs, counted up whenever it places, parents or solves anything otherwise."""


@dataclass(frozen=True, eq=False)
class ControlRig:
    """Controls, what drives which joint, solvers and constraints; the order of controls and drives tells nothing.

    solvers : of several on one joint, each starts from the one before it.
    board : channels of the rig as a whole.
    morphs, shows, widths : what channels move beside nodes.
    built_by : version of the code that built it.
    """

    controls: tuple[Control, ...]
    drives: tuple[Drive, ...] = ()
    solvers: tuple[Solver, ...] = ()
    built_by: int = RECIPE
    constraints: tuple[Constraint, ...] = ()
    limits: tuple[JointLimit, ...] = ()
    board: tuple[Channel, ...] = ()
    couplings: tuple[Coupling, ...] = ()
    twists: tuple[TwistSpread, ...] = ()
    springs: tuple[Spring, ...] = ()
    spring_groups: tuple[SpringGroup, ...] = ()
    morphs: tuple[MorphDrive, ...] = ()
    shows: tuple[ShowDrive, ...] = ()
    widths: tuple[WidthDrive, ...] = ()

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {control.id: i for i, control in enumerate(self.controls)}

    @cached_property
    def slots(self) -> SlotTable:
        return slots_of(((control.id, control.channels) for control in self.controls), self.board)

    @property
    def limbs(self) -> tuple[Limb, ...]:
        """Limbs of two and of three bones."""
        return tuple(s for s in self.solvers if isinstance(s, LIMBS))

    @property
    def handles(self) -> tuple[Control, ...]:
        """Controls a person holds: all but helpers."""
        return tuple(c for c in self.controls if not c.helper)

    def riders_of(self, solver: Solver) -> tuple[Control, ...]:
        """Controls that ride on a pivot which the amount of a solver turns."""
        pivots = {c.drives.owner for c in self.couplings if any(r.channel == solver.amount for r in c.readings)}
        return tuple(c for c in self.controls if c.parent.kind is NodeKind.CONTROL and c.parent.id in pivots and not c.helper)

    def handle_above(self, control_id: str) -> str | None:
        """The control a person holds that carries a control, by itself or by the joint it turns; None where none does."""
        node = self.control(control_id).parent
        while True:
            above = self.turned_by.get(node.id, node.id) if node.kind is NodeKind.JOINT else node.id
            if above not in self.index or above == control_id:
                return None
            if not self.control(above).helper:
                return above
            node = self.control(above).parent

    @cached_property
    def turned_by(self) -> Mapping[str, str]:
        """The control that turns each joint by hand, by the joint's id."""
        found = {d.joint: d.node.id for d in self.drives if d.node.kind is NodeKind.CONTROL}
        for solver in self.solvers:
            for joint, fk in zip(solver.joints, solver.fk, strict=True):
                found.setdefault(joint, fk)
        return found

    @cached_property
    def goal_over(self) -> Mapping[str, str]:
        """The goal that carries each pivot which a limb's end follows, by the pivot's id."""
        return {limb.under.id: limb.goal.id for limb in self.limbs if limb.under is not None}

    @cached_property
    def limit_of(self) -> Mapping[str, JointLimit]:
        return {limit.joint: limit for limit in self.limits}

    def solver(self, solver_id: str) -> Solver:
        """The solver of that id. Raises ShapeError for an unknown one."""
        for solver in self.solvers:
            if solver.id == solver_id:
                return solver
        raise ShapeError(f"there is no solver {solver_id}")

    def constraint(self, constraint_id: str) -> Constraint:
        """The constraint of that id. Raises ShapeError for an unknown one."""
        for constraint in self.constraints:
            if constraint.id == constraint_id:
                return constraint
        raise ShapeError(f"there is no constraint {constraint_id}")

    @cached_property
    def drivers(self) -> Mapping[ChannelRef, tuple[Coupling, ...]]:
        """Couplings by the channel they drive, in the order they work."""
        found: dict[ChannelRef, list[Coupling]] = {}
        for one in sorted(self.couplings, key=lambda c: (c.order, c.id)):
            found.setdefault(one.drives, []).append(one)
        return {ref: tuple(some) for ref, some in found.items()}

    def coupling(self, coupling_id: str) -> Coupling:
        """The coupling of that id. Raises ShapeError for an unknown one."""
        for one in self.couplings:
            if one.id == coupling_id:
                return one
        raise ShapeError(f"there is no coupling {coupling_id}")

    def holds_on(self, control_id: str) -> tuple[Constraint, ...]:
        """Constraints that hold a control."""
        return tuple(c for c in self.constraints if c.held.id == control_id and c.held.kind is NodeKind.BASE)

    def control(self, control_id: str) -> Control:
        """The control of that id. Raises ShapeError for an unknown one."""
        if control_id not in self.index:
            raise ShapeError(f"there is no control {control_id}")
        return self.controls[self.index[control_id]]

    def limb_of(self, control_id: str) -> Limb | None:
        """The IK limb a control belongs to."""
        for limb in self.limbs:
            if control_id in (*limb.fk, limb.goal.id, limb.pole.id):
                return limb
        return None

    def solvers_of(self, control_id: str) -> tuple[Solver, ...]:
        """Solvers a control belongs to."""
        return tuple(s for s in self.solvers if control_id in belongs(s))

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
    "RECIPE", "WORLD", "Control", "ControlRig", "Drive", "Lines", "Shape", "with_values",
]  # fmt: skip
