"""FK and IK of a limb of two bones."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.channels import BLEND, MOVE, ROTATE
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.recipe.builder import HUMAN_SIZES, Builder, level
from pegloom.core.rig.refs import ChannelRef, control_node, joint_node
from pegloom.core.rig.solvers import LimbIk
from pegloom.core.skeleton.build import BULGES
from pegloom.core.skeleton.joints import Origin, Side
from pegloom.core.skeleton.kits import Kit
from pegloom.core.tolerances import PREBEND


def add_limb(b: Builder, kit: Kit, *, ik_at_rest: bool) -> None:
    """FK and IK of one limb."""
    joints = (kit.ik[0], kit.ik[1], kit.ik[2])
    upper = b.skeleton.joint(joints[0])
    rides = joint_node(upper.parent) if upper.parent else control_node("inner")
    kind = kit.part or kit.kind
    for joint in joints:
        size = HUMAN_SIZES.get(f"{joint.rsplit('.', 1)[-1]}.{kind}")
        if kit.kind not in ("arm", "leg") or b.skeleton.joint(joint).origin is not Origin.KIT:
            size = None
        b.turner(f"{joint}.fk", joint, rides, size, clean=False)
        rides = control_node(f"{joint}.fk")
    # Limb joints are worked out by the limb, not by a single control.
    b.drives = [d for d in b.drives if d.joint not in joints]
    start, middle, end = (b.place(j) for j in joints)
    goal, pole = f"{kit.id}.goal", f"{kit.id}.pole"
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(kit.side, "")
    sign = -1.0 if kit.side is Side.RIGHT else 1.0
    bulge = b.front @ (np.array(BULGES.get(kit.bend, BULGES["front"])) * [sign, 1.0, 1.0])
    reach = 0.75 * float(np.linalg.norm(end - start))
    cube = float(np.clip(0.2 * reach / b.height, 0.008, 0.042))
    b.add(goal, f"{mark}{kit.goal or kit.id}_goal", kit.side, control_node("root"), level(end), Shape.CUBE, cube,
          (*MOVE, *ROTATE, BLEND), blend=1.0 if ik_at_rest else 0.0)  # fmt: skip
    # A foreign joint's x axis may point anywhere; the recipe's is the bend axis.
    bend = np.zeros(3) if b.skeleton.joint(joints[1]).origin is Origin.FILE else b.skeleton.joint(joints[1]).matrix[:3, 0]
    out = pole_direction(start, middle, end, bend, bulge)
    b.add(pole, f"{mark}{kit.pole or kit.id}_pole", kit.side, control_node("root"), level(middle + out * reach),
          Shape.DIAMOND, cube / 1.9, MOVE)  # fmt: skip
    fk = (f"{joints[0]}.fk", f"{joints[1]}.fk", f"{joints[2]}.fk")
    b.solvers.append(LimbIk(kit.id, joints, fk, control_node(goal), control_node(pole), ChannelRef(goal, BLEND)))


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
