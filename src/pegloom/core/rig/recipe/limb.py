"""FK and IK of limbs, chains and curves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.channels import BLEND, MOVE, ROTATE, Channel, Quantity
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.recipe.builder import HUMAN_SIZES, Builder, level
from pegloom.core.rig.refs import ChannelRef, control_node, joint_node
from pegloom.core.rig.solvers import BendIk, ChainIk, LimbIk, SplineIk
from pegloom.core.skeleton.build import BULGES
from pegloom.core.skeleton.joints import Origin, Side
from pegloom.core.skeleton.kits import Kit
from pegloom.core.tolerances import PREBEND

PLACE, TURN, POLE, SWIVEL, STRETCH, SOFT, HOCK, HOCK_BEND = (
    "goal_place", "goal_turn", "pole_share", "swivel", "stretch", "soft", "hock", "hock_bend",
)  # fmt: skip
SWIVELS = Channel(SWIVEL, "swivel", Quantity.ANGLE, opposed=True)


def limb_channels(*, hock: bool = False) -> tuple[Channel, ...]:
    """What a limb's goal has beside its transform and blend; off at rest. hock : for one of three bones."""
    found = (
        Channel(PLACE, "place of goal", Quantity.SHARE, 1.0, 0.0, 1.0), Channel(TURN, "turn of goal", Quantity.SHARE, 1.0, 0.0, 1.0),
        Channel(POLE, "pole", Quantity.SHARE, 1.0, 0.0, 1.0), Channel(STRETCH, "stretch", Quantity.SHARE, 0.0, 0.0, 1.0),
        Channel(SOFT, "soft", Quantity.SHARE, 0.0, 0.0, 0.5),
    )  # fmt: skip
    more = (
        Channel(HOCK, "hock takes", Quantity.SHARE, 0.5, 0.0, 1.0), Channel(HOCK_BEND, "hock bend", Quantity.ANGLE),
    )  # fmt: skip
    return (*found, *more) if hock else found


def limb_settings(goal: str, pole: str) -> dict[str, Any]:
    """Channels of a limb's settings, by field of its record."""
    return {
        "goal_place": ChannelRef(goal, PLACE), "goal_turn": ChannelRef(goal, TURN), "pole_share": ChannelRef(goal, POLE),
        "swivel": ChannelRef(pole, SWIVEL), "stretch": ChannelRef(goal, STRETCH), "soft": ChannelRef(goal, SOFT),
    }  # fmt: skip


def add_limb(b: Builder, kit: Kit, joints: tuple[str, ...], *, ik_at_rest: bool) -> None:
    """FK and IK of one limb, of two bones or, with four joints, of three."""
    kind = kit.part or kit.kind
    hock = len(joints) == 4
    usual = [HUMAN_SIZES.get(f"{j.rsplit('.', 1)[-1]}.{kind}") for j in joints]
    if kit.kind not in ("arm", "leg"):
        usual = [None] * len(joints)
    fk = add_turners(b, kit, joints, usual)
    start, middle, end = (b.place(j) for j in (joints[0], joints[1], joints[-1]))
    goal, pole = f"{kit.id}.goal", f"{kit.id}.pole"
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(kit.side, "")
    sign = -1.0 if kit.side is Side.RIGHT else 1.0
    bulge = b.front @ (np.array(BULGES.get(kit.bend, BULGES["front"])) * [sign, 1.0, 1.0])
    reach = 0.75 * float(np.linalg.norm(end - start))
    cube = float(np.clip(0.2 * reach / b.height, 0.008, 0.042))
    called = f"{kit.kind.replace(' ', '_')}_tip" if hock and kit.goal in ("", "hock") else kit.goal or kit.id
    b.add(goal, f"{mark}{called}_goal", kit.side, control_node("root"), level(end), Shape.CUBE, cube,
          (*MOVE, *ROTATE, BLEND), blend=1.0 if ik_at_rest else 0.0, more=limb_channels(hock=hock))  # fmt: skip
    # A foreign joint's x axis may point anywhere; the recipe's is the bend axis.
    bend = np.zeros(3) if b.skeleton.joint(joints[1]).origin is Origin.FILE else b.skeleton.joint(joints[1]).matrix[:3, 0]
    out = pole_direction(start, middle, end, bend, bulge)
    b.add(pole, f"{mark}{kit.pole or kit.id}_pole", kit.side, control_node("root"), level(middle + out * reach),
          Shape.DIAMOND, cube / 1.9, MOVE, more=(SWIVELS,))  # fmt: skip
    settings = limb_settings(goal, pole)
    at_goal, at_pole, amount = control_node(goal), control_node(pole), ChannelRef(goal, BLEND)
    if hock:
        four, turners = (joints[0], joints[1], joints[2], joints[3]), (fk[0], fk[1], fk[2], fk[3])
        b.solvers.append(
            BendIk(
                kit.id, four, turners, at_goal, at_pole, amount, "", ChannelRef(goal, HOCK), ChannelRef(goal, HOCK_BEND), **settings
            )
        )
    else:
        b.solvers.append(LimbIk(kit.id, (joints[0], joints[1], joints[2]), (fk[0], fk[1], fk[2]), at_goal, at_pole, amount, "", **settings))


def add_turners(b: Builder, kit: Kit, joints: Sequence[str], sizes: Sequence[float | None]) -> tuple[str, ...]:
    """FK controls of a solver's joints, each on the one before; their ids, the same whatever bends the kit."""
    first = b.skeleton.joint(joints[0])
    rides = joint_node(first.parent) if first.parent else control_node("inner")
    made = []
    for joint, size in zip(joints, sizes, strict=True):
        if joint in b.taken_names:
            # The lead joint has its control already: the body's.
            own = next(d.node.id for d in b.drives if d.joint == joint)
        else:
            own = turner_id(kit, joint)
            wanted = size if b.skeleton.joint(joint).origin is Origin.KIT else None
            b.turner(own, joint, rides, wanted, clean=joint not in kit.ik)
        made.append(own)
        rides = control_node(own)
    # Such joints are worked out by the solver, not by a single control.
    b.drives = [d for d in b.drives if d.joint not in joints]
    return tuple(made)


def turner_id(kit: Kit, joint: str) -> str:
    """What the control that turns a kit's joint by hand is called: keys on it stay whatever bends the kit."""
    return f"{joint}.fk" if joint in kit.ik else joint


def add_chain(b: Builder, kit: Kit) -> None:
    """FK on each joint of a kit, and IK of all of them toward one goal; FK at rest."""
    fk = add_turners(b, kit, kit.joints, [None] * len(kit.joints))
    tip = b.skeleton.joint(kit.joints[-1])
    length = float(np.linalg.norm(b.place(kit.joints[-1]) - b.place(kit.joints[0])))
    goal = f"{kit.id}.goal"
    more = (
        Channel("tip_turn", "tip turns with goal", Quantity.SHARE, 1.0, 0.0, 1.0),
        Channel(STRETCH, "stretch", Quantity.SHARE, 0.0, 0.0, 1.0),
    )
    cube = float(np.clip(0.12 * length / b.height, 0.008, 0.042))
    b.add(goal, f"{tip.name}_goal", kit.side, control_node("root"), level(b.place(tip.id)), Shape.CUBE, cube,
          (*MOVE, *ROTATE, BLEND), more=more)  # fmt: skip
    b.solvers.append(
        ChainIk(kit.id, kit.joints, fk, control_node(goal), ChannelRef(goal, BLEND), tip_turn=ChannelRef(goal, "tip_turn"),
                stretch=ChannelRef(goal, STRETCH))
    )  # fmt: skip


def add_curve(b: Builder, kit: Kit) -> None:
    """FK on each joint of a kit, and a smooth curve all of them are laid along; FK at rest."""
    lead_driven = kit.joints[0] in b.taken_names
    fk = add_turners(b, kit, kit.joints, [None] * len(kit.joints))
    first = b.skeleton.joint(kit.joints[0])
    rides = control_node(fk[0]) if lead_driven else joint_node(first.parent) if first.parent else control_node("inner")
    count, last = min(4, len(kit.joints)), len(kit.joints) - 1
    length = float(np.linalg.norm(b.place(kit.joints[-1]) - b.place(kit.joints[0])))
    ball = float(np.clip(0.08 * length / b.height, 0.008, 0.03))
    points = []
    for k in range(count):
        joint = b.skeleton.joint(kit.joints[round(k * last / (count - 1))])
        more = () if k else (
            Channel("keep_length", "keep length", Quantity.SHARE, 1.0, 0.0, 1.0), Channel("slide", "slide", Quantity.NUMBER),
            Channel("roll", "roll", Quantity.ANGLE, opposed=True),
        )  # fmt: skip
        # The ends also say the twist.
        keys = (*MOVE, *ROTATE, BLEND) if not k else (*MOVE, *ROTATE) if k == count - 1 else MOVE
        own = f"{kit.id}.curve.{k + 1}"
        b.add(own, f"{joint.name}_curve", joint.side, rides, joint.matrix, Shape.SPHERE, ball, keys, more=more)
        points.append(own)
    lead = points[0]
    b.solvers.append(
        SplineIk(kit.id, kit.joints, fk, tuple(control_node(p) for p in points), ChannelRef(lead, BLEND),
                 keep_length=ChannelRef(lead, "keep_length"), slide=ChannelRef(lead, "slide"), roll=ChannelRef(lead, "roll"))
    )  # fmt: skip


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
