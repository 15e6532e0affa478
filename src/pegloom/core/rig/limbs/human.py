"""Controls of a human: root, body, trunk, head, clavicles, FK and IK arms and legs, fingers."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.controls import MOVE, TURN, Control, ControlRig, IkLimb, Shape
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.core.tolerances import PREBEND

SIDES = {"l": Side.LEFT, "r": Side.RIGHT}


class _Builder:
    def __init__(self, skeleton: Skeleton, height: float) -> None:
        self.skeleton, self.height = skeleton, height
        self.controls: list[Control] = []
        self.drivers: list[tuple[str, str]] = []
        self.limbs: list[IkLimb] = []

    def has(self, joint_id: str) -> bool:
        return joint_id in self.skeleton.index

    def place(self, joint_id: str) -> FloatArray:
        return np.array(self.skeleton.joint(joint_id).position)

    def add(
        self, control_id: str, name: str, parent: str, rest: FloatArray, shape: Shape, size: float,
        free: tuple[str, ...], *, drives: str | None = None, offset: tuple[float, float, float] = (0.0, 0.0, 0.0),
        tilt: tuple[float, float, float] = (0.0, 0.0, 0.0), blend: float = 0.0,
    ) -> None:  # fmt: skip
        side = next((SIDES[p] for p in control_id.split(".") if p in SIDES), Side.CENTRE)
        flat = tuple(float(v) for v in rest.ravel())
        size = size * self.height
        self.controls.append(Control(control_id, name, side, parent, flat, shape, size, free, offset, tilt, blend))
        if drives:
            self.drivers.append((drives, control_id))

    def turner(self, control_id: str, joint_id: str, parent: str, size: float, shape: Shape = Shape.CIRCLE) -> None:
        """An FK control on a joint, in the joint's own axes, a ring half way down its bone."""
        joint = self.skeleton.joint(joint_id)
        ends = [np.array(child.position) for child in self.skeleton.children(joint_id)]
        end = ends[0] if ends else np.array(joint.tail if joint.tail else joint.position)
        along = float(np.linalg.norm(end - np.array(joint.position)))
        self.add(control_id, joint.name, parent, joint.matrix, shape, size, TURN, drives=joint_id,
                 offset=(0.0, 0.42 * along, 0.0))  # fmt: skip


def _level(position: FloatArray) -> FloatArray:
    matrix = np.eye(4)
    matrix[:3, 3] = position
    return matrix


def build_human_rig(skeleton: Skeleton, height: float) -> ControlRig:
    """Controls for a skeleton of the human pattern. height: metres, sizes the shapes.

    Every control reads zero at rest and no joint moves. Raises EditError where the joints are not the pattern's.
    """
    b = _Builder(skeleton, height)
    if not b.has("root") or not b.has("spine.hips"):
        raise EditError("the human controls need the human pattern's joints; build joints from pegs first")
    both = MOVE + TURN
    b.add("root", "root", "", _level(np.zeros(3)), Shape.CIRCLE, 0.26, (*both, "grow"), drives="root")
    b.add("inner", "inner root", "control:root", _level(np.zeros(3)), Shape.ARROW, 0.17, both)
    b.add("body", "body", "control:inner", _level(b.place("spine.hips")), Shape.SQUARE, 0.15, both, drives="spine.hips")
    parent = "joint:spine.hips"
    for kit, size in (("spine", 0.115), ("chest", 0.125), ("neck", 0.06), ("head", 0.1)):
        if b.has(f"spine.{kit}"):
            b.turner(f"spine.{kit}", f"spine.{kit}", parent, size)
            parent = f"joint:spine.{kit}"
    for s in ("l", "r"):
        if b.has(f"arm.{s}.upper"):
            if b.has(f"arm.{s}.clavicle"):
                b.turner(f"arm.{s}.clavicle", f"arm.{s}.clavicle", "joint:spine.chest", 0.045, Shape.TRIANGLE)
            _limb(b, f"arm.{s}", "hand", blend=0.0, bulge=np.array([0.0, 0.0, -1.0]), sizes=(0.055, 0.045, 0.04))
            for joint in skeleton.joints:
                if joint.id.startswith(f"hand.{s}."):
                    b.turner(joint.id, joint.id, f"joint:{joint.parent}", 0.014)
        if b.has(f"leg.{s}.upper"):
            _limb(b, f"leg.{s}", "foot", blend=1.0, bulge=np.array([0.0, 0.0, 1.0]), sizes=(0.075, 0.06, 0.05))
            if b.has(f"leg.{s}.toes"):
                b.turner(f"leg.{s}.toes", f"leg.{s}.toes", f"joint:leg.{s}.end", 0.04)
    return ControlRig(tuple(b.controls), tuple(b.drivers), tuple(b.limbs))


def _limb(
    b: _Builder, kit: str, end_name: str, *, blend: float, bulge: FloatArray, sizes: tuple[float, float, float]
) -> None:
    """FK and IK of one arm or leg. blend: where its slider rests. bulge: the way its middle joint points."""
    joints = (f"{kit}.upper", f"{kit}.lower", f"{kit}.end")
    parent = b.skeleton.joint(joints[0]).parent
    rides = f"joint:{parent}"
    for joint, size in zip(joints, sizes, strict=True):
        b.turner(f"{joint}.fk", joint, rides, size)
        rides = f"control:{joint}.fk"
    # Limb joints are worked out by the limb, not by a single control.
    b.drivers = [(j, c) for j, c in b.drivers if j not in joints]
    start, middle, end = (b.place(j) for j in joints)
    goal, pole = f"{kit}.goal", f"{kit}.pole"
    s = kit[-1]
    b.add(
        goal,
        f"{s}_{end_name}_goal",
        "control:root",
        _level(end),
        Shape.CUBE,
        0.042,
        (*MOVE, *TURN, "blend"),
        blend=blend,
    )
    out = pole_direction(start, middle, end, b.skeleton.joint(joints[1]).matrix[:3, 0], bulge)
    reach = 0.75 * float(np.linalg.norm(end - start))
    elbow = "elbow" if end_name == "hand" else "knee"
    b.add(pole, f"{s}_{elbow}_pole", "control:root", _level(middle + out * reach), Shape.DIAMOND, 0.022, MOVE)
    b.limbs.append(IkLimb(kit, joints, (f"{joints[0]}.fk", f"{joints[1]}.fk", f"{joints[2]}.fk"), goal, pole))


def pole_direction(
    start: FloatArray, middle: FloatArray, end: FloatArray, bend_axis: FloatArray, bulge: FloatArray
) -> FloatArray:
    """The unit direction a pole stands in, from the limb's own plane.

    A bent limb says it itself (its middle joint's way off the line); a straight one by its bend axis; one without
    either by `bulge`. Building IK therefore never turns a limb.
    """
    line = normalised(end - start)
    off = (middle - start) - line * float((middle - start) @ line)
    length = float(np.linalg.norm(end - start))
    if np.linalg.norm(off) > 0.25 * np.sin(PREBEND) * length:
        return normalised(off)
    out = np.cross(line, bend_axis)
    if np.linalg.norm(out) < 0.3:
        out = bulge - line * float(bulge @ line)
    return normalised(out)
