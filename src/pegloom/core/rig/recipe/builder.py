"""What the recipe gathers while it builds controls."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.channels import ROTATE, Channel, channels_of
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import Control, Drive, Shape
from pegloom.core.rig.couplings import Coupling
from pegloom.core.rig.refs import NodeRef, control_node
from pegloom.core.rig.solvers import Solver
from pegloom.core.rig.twists import TwistSpread
from pegloom.core.skeleton.axes import clean_matrix
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.names import with_ending

HUMAN_SIZES = {
    "spine.spine": 0.115, "spine.chest": 0.125, "spine.neck": 0.06, "spine.head": 0.1,
    "upper.arm": 0.055, "lower.arm": 0.045, "end.arm": 0.04, "upper.leg": 0.075, "lower.leg": 0.06, "end.leg": 0.05,
}  # fmt: skip
"""Radii of rings in shares of the height, by joint or by bone and kind of limb; others follow their bone's length."""
LEAST_SIZE, MOST_SIZE = 0.012, 0.12


class Builder:
    def __init__(self, skeleton: Skeleton, height: float, front: FloatArray) -> None:
        """front (3, 3): how the body's own up and ahead are turned."""
        self.skeleton, self.height, self.front = skeleton, height, front
        self.controls: list[Control] = []
        self.drives: list[Drive] = []
        self.solvers: list[Solver] = []
        self.constraints: list[Constraint] = []
        self.couplings: list[Coupling] = []
        self.twists: list[TwistSpread] = []
        self.taken_names: set[str] = set()

    def place(self, joint_id: str) -> FloatArray:
        return np.array(self.skeleton.joint(joint_id).position)

    def add(
        self, control_id: str, name: str, side: Side, parent: NodeRef, rest: FloatArray, shape: Shape, size: float,
        keys: tuple[str, ...], *, drives: str | None = None, offset: tuple[float, float, float] = (0.0, 0.0, 0.0),
        blend: float = 0.0, more: tuple[Channel, ...] = (),
    ) -> None:  # fmt: skip
        flat = tuple(float(v) for v in rest.ravel())
        channels = (*channels_of(keys, blend=blend), *more)
        self.controls.append(
            Control(control_id, name, side, parent, flat, channels, shape, size * self.height, offset)
        )
        if drives:
            self.drives.append(Drive(drives, control_node(control_id)))
            self.taken_names.add(drives)

    def helper(
        self, control_id: str, name: str, side: Side, parent: NodeRef, rest: FloatArray, channels: tuple[Channel, ...]
    ) -> None:
        """A frame nobody holds: driven, never drawn or picked."""
        flat = tuple(float(v) for v in rest.ravel())
        self.controls.append(
            Control(control_id, name, side, parent, flat, channels, Shape.CROSS, 0.01 * self.height, helper=True)
        )

    def length(self, joint: Joint) -> float:
        ends = [np.array(c.position) for c in self.skeleton.children(joint.id) if not c.aside]
        end = ends[0] if ends else np.array(joint.tail if joint.tail else joint.position)
        return float(np.linalg.norm(end - np.array(joint.position)))

    def turner(self, control_id: str, joint_id: str, parent: NodeRef, size: float | None = None, *,
               shape: Shape = Shape.CIRCLE, channels: tuple[str, ...] = ROTATE, clean: bool = True) -> None:  # fmt: skip
        """An FK control on a joint, in the joint's clean axes, a ring part way down its bone."""
        joint = self.skeleton.joint(joint_id)
        rest = clean_matrix(self.skeleton, joint) if clean else joint.matrix
        along = self.length(joint)
        if size is None:
            size = float(np.clip(0.36 * along / self.height, LEAST_SIZE, MOST_SIZE))
        self.add(control_id, with_ending(joint.name, "_fk"), joint.side, parent, rest, shape, size, channels, drives=joint_id,
                 offset=(0.0, 0.42 * along, 0.0))  # fmt: skip


def level(position: FloatArray) -> FloatArray:
    matrix = np.eye(4)
    matrix[:3, 3] = position
    return matrix
