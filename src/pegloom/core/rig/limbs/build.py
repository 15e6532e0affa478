"""Controls from limb kits: root, body, a turner on each joint, FK and IK on limbs, whatever the body plan."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.controls import MOVE, TURN, Control, ControlRig, IkLimb, Shape
from pegloom.core.skeleton.axes import clean_matrix
from pegloom.core.skeleton.build import BULGES
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.kits import Kit
from pegloom.core.tolerances import PREBEND

HUMAN_SIZES = {
    "spine.spine": 0.115, "spine.chest": 0.125, "spine.neck": 0.06, "spine.head": 0.1,
    "upper.arm": 0.055, "lower.arm": 0.045, "end.arm": 0.04, "upper.leg": 0.075, "lower.leg": 0.06, "end.leg": 0.05,
}  # fmt: skip
"""Radii of rings in shares of the height, by joint or by bone and kind of limb; others follow their bone's length."""
LEAST_SIZE, MOST_SIZE = 0.012, 0.12


class _Builder:
    def __init__(self, skeleton: Skeleton, height: float) -> None:
        self.skeleton, self.height = skeleton, height
        self.controls: list[Control] = []
        self.drivers: list[tuple[str, str]] = []
        self.limbs: list[IkLimb] = []
        self.held: set[str] = set()

    def place(self, joint_id: str) -> FloatArray:
        return np.array(self.skeleton.joint(joint_id).position)

    def add(
        self, control_id: str, name: str, side: Side, parent: str, rest: FloatArray, shape: Shape, size: float,
        free: tuple[str, ...], *, drives: str | None = None, offset: tuple[float, float, float] = (0.0, 0.0, 0.0),
        blend: float = 0.0,
    ) -> None:  # fmt: skip
        flat = tuple(float(v) for v in rest.ravel())
        self.controls.append(
            Control(
                control_id, name, side, parent, flat, shape, size * self.height, free, offset, (0.0, 0.0, 0.0), blend
            )
        )
        if drives:
            self.drivers.append((drives, control_id))
            self.held.add(drives)

    def length(self, joint: Joint) -> float:
        ends = [np.array(c.position) for c in self.skeleton.children(joint.id) if ".twist" not in c.id]
        end = ends[0] if ends else np.array(joint.tail if joint.tail else joint.position)
        return float(np.linalg.norm(end - np.array(joint.position)))

    def turner(self, control_id: str, joint_id: str, parent: str, size: float | None = None, *,
               shape: Shape = Shape.CIRCLE, free: tuple[str, ...] = TURN, clean: bool = True) -> None:  # fmt: skip
        """An FK control on a joint, in the joint's clean axes, a ring part way down its bone."""
        joint = self.skeleton.joint(joint_id)
        rest = clean_matrix(self.skeleton, joint) if clean else joint.matrix
        along = self.length(joint)
        if size is None:
            size = float(np.clip(0.36 * along / self.height, LEAST_SIZE, MOST_SIZE))
        self.add(control_id, joint.name, joint.side, parent, rest, shape, size, free, drives=joint_id,
                 offset=(0.0, 0.42 * along, 0.0))  # fmt: skip


def _level(position: FloatArray) -> FloatArray:
    matrix = np.eye(4)
    matrix[:3, 3] = position
    return matrix


def build_rig(skeleton: Skeleton, height: float, kits: tuple[Kit, ...]) -> ControlRig:
    """Controls for a skeleton of any body plan. height: metres, sizes the shapes.

    Every control reads zero at rest and no joint moves. Joints no kit knows (added by hand, from a file) get a
    turner each. Raises EditError for a skeleton without joints.
    """
    if not skeleton.joints:
        raise EditError("there are no joints to build controls on; build joints first")
    b = _Builder(skeleton, height)
    both = MOVE + TURN
    roots = [j for j in skeleton.joints if j.parent is None]
    first = roots[0]
    low = abs(first.position[1]) < 0.08 * height and bool(skeleton.children(first.id))
    carries = first.id == "root" or low
    b.add("root", "root", Side.CENTRE, "", _level(np.zeros(3)), Shape.CIRCLE, 0.26, (*both, "grow"))
    b.add("inner", "inner root", Side.CENTRE, "control:root", _level(np.zeros(3)), Shape.ARROW, 0.17, both)
    if carries:
        # The root joint rides on the root control in its own axes, whatever they are.
        b.controls[0] = _with_rest(b.controls[0], skeleton.joint(first.id))
        b.drivers.append((first.id, "root"))
        b.held.add(first.id)
    base = [c for c in skeleton.joints if c.parent == first.id] if carries else [first]
    slides = {j for kit in kits if kit.slides for j in kit.joints}
    ik = {
        joint: kit for kit in kits if len(kit.ik) == 3 and all(j in skeleton.index for j in kit.ik) for joint in kit.ik
    }
    between = _between(skeleton, kits)
    if base:
        lead = base[0]
        b.add("body", "body", Side.CENTRE, "control:inner", _level(b.place(lead.id)), Shape.SQUARE, 0.15, both,
              drives=lead.id)  # fmt: skip
    for joint in skeleton.joints:
        if joint.id in b.held or joint.id in between:
            continue
        kit = ik.get(joint.id)
        if kit is not None:
            if joint.id == kit.ik[0]:
                _limb(b, kit)
            continue
        if joint.parent is None or (carries and joint.parent == first.id):
            # A second skeleton's root beside the first one's has the name of the control that carries all.
            own = f"{joint.id}.own" if any(c.id == joint.id for c in b.controls) else joint.id
            b.turner(own, joint.id, "control:inner", free=both, shape=Shape.SQUARE)
            continue
        free = (*TURN, "move_y") if joint.id in slides else TURN
        shape = Shape.TRIANGLE if joint.id.endswith((".clavicle", ".blade")) else Shape.CIRCLE
        size = HUMAN_SIZES.get(joint.id, 0.045 if shape is Shape.TRIANGLE else None)
        if joint.id.startswith("hand."):
            size = 0.014
        elif joint.id in ("leg.l.toes", "leg.r.toes"):
            size = 0.04
        b.turner(joint.id, joint.id, f"joint:{joint.parent}", size, shape=shape, free=free)
    return ControlRig(tuple(b.controls), tuple(b.drivers), tuple(b.limbs))


def _with_rest(control: Control, joint: Joint) -> Control:
    level = _level(np.array(joint.position))
    return replace(control, rest=tuple(float(v) for v in level.ravel()))


def _between(skeleton: Skeleton, kits: tuple[Kit, ...]) -> set[str]:
    """Joints inside IK limbs that ride along: twist joints, and joints put in between later."""
    found = {j.id for j in skeleton.joints if ".twist" in j.id}
    for kit in kits:
        if len(kit.ik) == 3 and all(j in skeleton.index for j in kit.ik):
            for low in kit.ik[1:]:
                above = skeleton.joint(low).parent
                while above is not None and above not in kit.ik:
                    found.add(above)
                    above = skeleton.joint(above).parent
    return found


def _limb(b: _Builder, kit: Kit) -> None:
    """FK and IK of one limb."""
    joints = (kit.ik[0], kit.ik[1], kit.ik[2])
    upper = b.skeleton.joint(joints[0])
    rides = f"joint:{upper.parent}" if upper.parent else "control:inner"
    kind = kit.part or kit.kind
    for joint in joints:
        size = HUMAN_SIZES.get(f"{joint.rsplit('.', 1)[-1]}.{kind}")
        if kit.kind not in ("arm", "leg") or not joint.startswith(("arm.", "leg.")):
            size = None
        b.turner(f"{joint}.fk", joint, rides, size, clean=False)
        rides = f"control:{joint}.fk"
    # Limb joints are worked out by the limb, not by a single control.
    b.drivers = [(j, c) for j, c in b.drivers if j not in joints]
    start, middle, end = (b.place(j) for j in joints)
    goal, pole = f"{kit.id}.goal", f"{kit.id}.pole"
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(kit.side, "")
    sign = -1.0 if kit.side is Side.RIGHT else 1.0
    bulge = np.array(BULGES.get(kit.bend, BULGES["front"])) * [sign, 1.0, 1.0]
    reach = 0.75 * float(np.linalg.norm(end - start))
    cube = float(np.clip(0.2 * reach / b.height, 0.008, 0.042))
    b.add(goal, f"{mark}{kit.goal or kit.id}_goal", kit.side, "control:root", _level(end), Shape.CUBE, cube,
          (*MOVE, *TURN, "blend"), blend=1.0 if kit.ik_at_rest else 0.0)  # fmt: skip
    # A foreign joint's x axis may point anywhere; the recipe's is the bend axis.
    bend = np.zeros(3) if joints[1].startswith("file.") else b.skeleton.joint(joints[1]).matrix[:3, 0]
    out = pole_direction(start, middle, end, bend, bulge)
    b.add(pole, f"{mark}{kit.pole or kit.id}_pole", kit.side, "control:root", _level(middle + out * reach),
          Shape.DIAMOND, cube / 1.9, MOVE)  # fmt: skip
    b.limbs.append(IkLimb(kit.id, joints, (f"{joints[0]}.fk", f"{joints[1]}.fk", f"{joints[2]}.fk"), goal, pole))


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
    if np.linalg.norm(out) < 1e-6:
        out = np.cross(line, np.array([1.0, 0.0, 0.0]))
    return normalised(out)
