"""What makes feet and hands quick to pose: rolls of a foot over hidden pivots, curl and spread of fingers, all by couplings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from math import pi

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.couplings import Combine, Coupling, Reading
from pegloom.core.rig.recipe.builder import Builder
from pegloom.core.rig.recipe.choices import USUAL_KIT, KitRig
from pegloom.core.rig.refs import ChannelRef, control_node, joint_node
from pegloom.core.rig.solvers import LIMBS, Limb
from pegloom.core.skeleton.joints import Side, Vector
from pegloom.core.skeleton.kits import Kit

FEET = ("leg", "hind leg")
DEG = pi / 180
ROLL, HEEL, BALL, TIP, BALL_TO, BANK, HEEL_SWING, TIP_SWING = (
    "roll", "heel_roll", "ball_roll", "toe_roll", "ball_to", "bank", "heel_swing", "toe_swing",
)  # fmt: skip
CURL, SPREAD = "curl", "spread"


@dataclass(frozen=True, slots=True)
class Foot:
    """Where a foot turns: heel, ball and tip (3,); how it lies: side, up, ahead in columns (3, 3); its length. ball: None
    where the foot has no joint that bends."""

    heel: FloatArray
    ball: FloatArray | None
    tip: FloatArray
    axes: FloatArray
    length: float


def add_feet(b: Builder, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig], pegs: Mapping[str, Vector]) -> None:
    """Heel, ball and toe roll, bank and swings for each leg that IK bends."""
    for kit in kits:
        k = next((k for k, s in enumerate(b.solvers) if s.id == kit.id and isinstance(s, LIMBS)), None)
        if kit.kind not in FEET or k is None or not recipe.get(kit.id, USUAL_KIT).roll:
            continue
        solver = b.solvers[k]
        assert isinstance(solver, LIMBS)
        below = kit.joints[kit.joints.index(solver.joints[-1]) + 1 :] if solver.joints[-1] in kit.joints else ()
        toes = below[0] if below and below[0] in b.skeleton.index else ""
        foot = _foot(b, kit, solver.joints[-1], toes, pegs)
        if foot is not None:
            b.solvers[k] = _roll(b, kit, solver, toes, foot)


def _foot(b: Builder, kit: Kit, ankle: str, toes: str, pegs: Mapping[str, Vector]) -> Foot | None:
    """The foot's pivots from its joints, and from its heel's peg where there is one."""
    end = b.skeleton.joint(toes or ankle)
    if end.tail is None:
        return None
    up = b.front @ np.array([0.0, 1.0, 0.0])
    root, tip = b.place(ankle), np.array(end.tail)
    way = (tip - root) - up * float((tip - root) @ up)
    length = float(np.linalg.norm(way))
    if length < 1e-3 * b.height:
        return None
    ahead = way / length
    # The foot stands on its tip: that is as low as it is known to reach.
    ground = min(float(tip @ up), *(float(b.place(j) @ up) for j in (ankle, toes) if j))
    heel = root - ahead * 0.3 * length
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(kit.side, "") + "heel"
    if mark in pegs and kit.id.startswith("leg"):
        heel = root + ahead * float((np.array(pegs[mark]) - root) @ ahead)
    side = np.cross(up, ahead)

    def down(point: FloatArray) -> FloatArray:
        return np.asarray(point - up * (float(point @ up) - ground))

    ball = b.place(toes) if toes else None
    return Foot(down(heel), ball, down(tip), np.stack([side, up, ahead], axis=1), length)


def foot_channels(*, ball: bool) -> tuple[Channel, ...]:
    """What a foot's goal has for it. ball : whether the foot bends at its ball."""
    found = [
        Channel(ROLL, "roll", Quantity.ANGLE, 0.0, -90 * DEG, 120 * DEG), Channel(HEEL, "heel roll", Quantity.ANGLE),
        Channel(TIP, "toe roll", Quantity.ANGLE), Channel(BANK, "bank", Quantity.ANGLE, 0.0, -80 * DEG, 80 * DEG),
        Channel(HEEL_SWING, "heel swing", Quantity.ANGLE), Channel(TIP_SWING, "toe swing", Quantity.ANGLE),
    ]  # fmt: skip
    if ball:
        found[2:2] = [Channel(BALL, "ball roll", Quantity.ANGLE), Channel(BALL_TO, "ball until", Quantity.ANGLE, 40 * DEG, 0.0, 90 * DEG)]
    return tuple(found)


def _roll(b: Builder, kit: Kit, solver: Limb, toes: str, foot: Foot) -> Limb:
    goal = solver.goal.id
    k = next(k for k, c in enumerate(b.controls) if c.id == goal)
    b.controls[k] = replace(b.controls[k], channels=(*b.controls[k].channels, *foot_channels(ball=foot.ball is not None)))
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(kit.side, "")
    out = -1.0 if kit.side is Side.RIGHT else 1.0
    wide = 0.18 * foot.length
    edge = 0.5 * (foot.heel + foot.tip)
    rides = goal
    for name, place, turns in (
        ("heel", foot.heel, "xy"), ("tip", foot.tip, "xy"), ("outer", edge + foot.axes[:, 0] * wide * out, "z"),
        ("inner", edge - foot.axes[:, 0] * wide * out, "z"), ("ball", foot.ball, "x"),
    ):  # fmt: skip
        if place is None:
            continue
        rest = np.eye(4)
        rest[:3, :3], rest[:3, 3] = foot.axes, place
        own = f"{kit.id}.foot.{name}"
        channels = tuple(Channel(f"rotate_{a}", f"rotate {a}", Quantity.ANGLE, locked=True) for a in turns)
        b.helper(own, f"{mark}{kit.goal or kit.id}_{name}_pivot", kit.side, control_node(rides), rest, channels)
        rides = own
    _keep_toes(b, kit, solver, toes, foot, mark)
    wants = [
        ("heel", "x", (ROLL, HEEL), "min(roll, 0) - heel_roll"), ("heel", "y", (HEEL_SWING,), f"{out:g} * heel_swing"),
        ("tip", "y", (TIP_SWING,), f"{out:g} * toe_swing"), ("outer", "z", (BANK,), f"{-out:g} * max(bank, 0)"),
        ("inner", "z", (BANK,), f"{-out:g} * min(bank, 0)"),
    ]  # fmt: skip
    if foot.ball is not None:
        wants += [
            ("ball", "x", (ROLL, BALL, BALL_TO), "clamp(roll, 0, ball_to) + ball_roll"),
            ("tip", "x", (ROLL, TIP, BALL_TO), "max(roll - ball_to, 0) + toe_roll"),
        ]
    else:
        wants.append(("tip", "x", (ROLL, TIP), "max(roll, 0) + toe_roll"))
    for pivot, axis, keys, formula in wants:
        readings = tuple(Reading(key, ChannelRef(goal, key)) for key in keys)
        drives = ChannelRef(f"{kit.id}.foot.{pivot}", f"rotate_{axis}")
        word = {"x": "roll", "y": "swing", "z": "bank"}[axis]
        b.couplings.append(Coupling(f"{drives.owner}.{axis}", drives, readings, f"{mark}{pivot} {word}", formula, combine=Combine.SET))
    return replace(solver, under=control_node(rides))


def _keep_toes(b: Builder, kit: Kit, solver: Limb, toes: str, foot: Foot, mark: str) -> None:
    """Toes stay flat while the foot rolls over its ball: they ride on a pivot in the foot that turns back, as far as IK counts."""
    k = next((k for k, c in enumerate(b.controls) if c.id in (toes, f"{toes}.fk")), None)
    if k is None or toes in solver.joints or foot.ball is None:
        return
    rest = np.eye(4)
    rest[:3, :3], rest[:3, 3] = foot.axes, foot.ball
    own, goal = f"{kit.id}.foot.toes", solver.goal.id
    channels = (Channel("rotate_x", "rotate x", Quantity.ANGLE, locked=True),)
    b.helper(own, f"{mark}{kit.goal or kit.id}_toes_pivot", kit.side, joint_node(solver.joints[-1]), rest, channels)
    b.controls[k] = replace(b.controls[k], parent=control_node(own))
    readings = tuple(Reading(key, ChannelRef(goal, key)) for key in (ROLL, BALL, BALL_TO))
    formula = "-ik * (clamp(roll, 0, ball_to) + ball_roll)"
    b.couplings.append(
        Coupling(f"{own}.x", ChannelRef(own, "rotate_x"), (*readings, Reading("ik", solver.amount)), f"{mark}toes stay flat", formula, combine=Combine.SET)
    )


def add_hands(b: Builder, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig]) -> None:
    """Curl and spread of each hand's fingers, on a control of its own beside the hand."""
    hands = dict.fromkeys(b.skeleton.joint(f).parent for f in b.skeleton.index if _is_base(b, f))
    for hand in hands:
        if hand is None:
            continue
        bases = [c.id for c in b.skeleton.children(hand) if _is_base(b, c.id)]
        holder = next((kit.id for kit in kits if hand in (*kit.joints, *kit.ik)), "")
        if recipe.get(holder, USUAL_KIT).curl:
            _hand(b, hand, bases)


def _is_base(b: Builder, joint_id: str) -> bool:
    """Whether a finger begins here, one that a control turns."""
    joint = b.skeleton.joint(joint_id)
    above = b.skeleton.joint(joint.parent) if joint.parent else None
    turned = any(d.joint == joint_id for d in b.drives)
    return joint.role == "finger" and turned and above is not None and above.role != "finger" and not joint.aside


def _hand(b: Builder, hand: str, bases: list[str]) -> None:
    joint = b.skeleton.joint(hand)
    fingers = [_chain(b, base) for base in bases]
    called = [_finger_name(b, chain[0]) for chain in fingers]
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(joint.side, "")
    own = f"{hand}.fingers"
    channels = [Channel(CURL, "curl", Quantity.SHARE, 0.0, -0.3, 1.0), Channel(SPREAD, "spread", Quantity.SHARE, 0.0, -1.0, 1.0)]
    keys = []
    for k, name in enumerate(called):
        key = f"{CURL}_{name}" if called.count(name) == 1 else f"{CURL}_{name}_{k + 1}"
        keys.append(key)
        channels.append(Channel(key, f"curl {name}", Quantity.SHARE, 0.0, -0.3, 1.0))
    places = np.array([b.place(base) for base in bases])
    middle = places.mean(axis=0)
    reach = max(float(np.linalg.norm(middle - b.place(hand))), 0.01 * b.height)
    rest = np.eye(4)
    up = b.front @ np.array([0.0, 1.0, 0.0])
    rest[:3, 3] = middle + up * 1.6 * reach
    size = float(np.clip(0.4 * reach / b.height, 0.01, 0.04))
    b.add(own, f"{mark}fingers", joint.side, joint_node(hand), rest, Shape.ARROW, size, (), more=tuple(channels))
    line = _across(places)
    aside = (places - middle) @ line
    most = max(float(np.abs(aside).max()), 1e-9)
    for key, name, chain, off in zip(keys, called, fingers, aside.tolist(), strict=True):
        thumb = name == "thumb"
        angles = (25, 35, 45) if thumb else (75, 95, 65)
        for i, (turner, control_id) in enumerate(chain):
            gain = (angles[min(i, 2)] if len(chain) > 1 or thumb else 110) * DEG
            readings = (Reading("all", ChannelRef(own, CURL)), Reading("one", ChannelRef(own, key)))
            b.couplings.append(
                Coupling(f"{control_id}.curl", ChannelRef(control_id, "rotate_x"), readings, f"{turner} curl", "all + one", gain=gain)
            )
        turner, base = chain[0]
        tilt = _opens(b, bases[keys.index(key)], base, line)
        spread = (18 if not thumb else 25) * DEG * off / most * tilt
        if abs(spread) > 1e-6:
            b.couplings.append(
                Coupling(f"{base}.spread", ChannelRef(base, "rotate_z"), (Reading("x", ChannelRef(own, SPREAD)),), f"{turner} spread", gain=spread)
            )


def _chain(b: Builder, base: str) -> list[tuple[str, str]]:
    """Names of a finger's joints and the controls that turn them, base to tip."""
    found: list[tuple[str, str]] = []
    at = base
    while True:
        control = next((d.node.id for d in b.drives if d.joint == at), "")
        if not control:
            return found
        found.append((b.skeleton.joint(at).name, control))
        below = [c.id for c in b.skeleton.children(at) if not c.aside and c.role == "finger"]
        if not below:
            return found
        at = below[0]


def _finger_name(b: Builder, first: tuple[str, str]) -> str:
    """thumb, index ...: the word of the joint's name that says which finger it is."""
    words = [w for w in "".join(c if c.isalpha() else " " for c in first[0].lower()).split() if w not in ("l", "r", "left", "right", "finger", "fk")]
    known = next((w for w in words if w in ("thumb", "index", "middle", "ring", "little", "mitten")), "")
    return known or (words[0] if words else "finger")


def _across(places: FloatArray) -> FloatArray:
    """The line a hand's fingers begin along, unit."""
    if len(places) < 2:
        return np.array([1.0, 0.0, 0.0])
    gaps = places - places.mean(axis=0)
    return np.asarray(np.linalg.svd(gaps)[2][0])


def _opens(b: Builder, joint: str, control: str, line: FloatArray) -> float:
    """Which way about its z axis a finger turns toward `line`: 1 or -1."""
    matrix = next(c.matrix for c in b.controls if c.id == control)
    bone = normalised(np.array(_end_of(b, joint)) - b.place(joint))
    return 1.0 if float(np.cross(matrix[:3, 2], bone) @ line) > 0 else -1.0


def _end_of(b: Builder, joint_id: str) -> Vector:
    joint = b.skeleton.joint(joint_id)
    ends = [c.position for c in b.skeleton.children(joint_id) if not c.aside]
    x, y, z = joint.position
    return ends[0] if ends else joint.tail if joint.tail is not None else (x, y - 1e-3, z)
