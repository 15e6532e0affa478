"""IK made by hand: on a chain of joints, along a curve, on the whole body; limits and stiffness of joints."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.changes import OwnControl
from pegloom.core.rig.channels import BLEND, MOVE, ROTATE, Channel, Quantity, channels_of
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import Control, ControlRig, Shape, with_values
from pegloom.core.rig.kinds_of_joint import usual_limit
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.recipe.limb import limb_channels, limb_settings, pole_direction
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind, NodeRef, control_node, joint_node
from pegloom.core.rig.solvers import BendIk, BodyGoal, BodyIk, ChainIk, LimbIk, Solver, SplineIk
from pegloom.core.skeleton.joints import Side, Skeleton, Vector
from pegloom.document.edits.controls import posed, set_pose
from pegloom.document.edits.rig.changing import (
    MADE,
    control_id,
    fewer_channels,
    fresh,
    joint_id,
    more_channels,
    rigged,
    with_changes,
)
from pegloom.document.model import Document

KINDS = ("limb", "hock", "chain", "curve")
"""What IK on a chain of joints may be: of two bones, of three, of any number, along a smooth curve."""
WHOLE = "whole_body"
WHOLE_CHANNEL = Channel(WHOLE, "whole body", Quantity.SHARE, 0.0, 0.0, 1.0)
ROOT_HELD = "root_held"
HELD_CHANNEL = Channel(ROOT_HELD, "hold the root", Quantity.SHARE, 0.0, 0.0, 1.0)


def chain_between(skeleton: Skeleton, rig: ControlRig, first: str, last: str) -> tuple[str, ...]:
    """Joints from one to another below it that controls turn; twist joints and those between ride along.

    Raises EditError where the one does not lead to the other.
    """
    found = [last]
    while found[-1] != first:
        parent = skeleton.joint(found[-1]).parent
        if parent is None:
            raise EditError(
                f"{skeleton.joint(first).name} does not lead to {skeleton.joint(last).name}; pick the first joint of a chain, then its last"
            )
        found.append(parent)
    turners = turners_of(rig)
    return tuple(j for j in reversed(found) if j in turners and not skeleton.joint(j).aside)


def turners_of(rig: ControlRig) -> Mapping[str, str]:
    """The control that turns each joint by hand."""
    return rig.turned_by


def add_ik(document: Document, first: str, last: str, kind: str = "chain", *, points: int = 4, name: str = "") -> tuple[Document, str]:
    """IK on the joints from one to another, beside what turns them now; nothing moves. Gives the solver's id.

    kind : "limb" (two bones), "hock" (three), "chain" (any number), "curve" (through `points` controls).
    On joints that another solver works out it starts from what that one gives: two set-ups, either in use by its blend.
    """
    character, skeleton, rig = rigged(document)
    if kind not in KINDS:
        raise EditError(f"there is no kind of IK {kind}; choose of {', '.join(KINDS)}")
    joints = chain_between(skeleton, rig, joint_id(skeleton, first), joint_id(skeleton, last))
    needed = {"limb": (3, 3), "hock": (4, 4), "chain": (3, 999), "curve": (3, 999)}[kind]
    if not needed[0] <= len(joints) <= needed[1]:
        exactly = f"exactly {needed[0]}" if needed[0] == needed[1] else f"at least {needed[0]}"
        raise EditError(f"this kind of IK needs {exactly} joints with controls; from first to last there are {len(joints)}")
    turners = turners_of(rig)
    fk = tuple(turners[j] for j in joints)
    count = min(max(points, 3), len(joints)) if kind == "curve" else 2
    document, ids = fresh(document, MADE, count + 1)
    solver_id, control_ids = ids[0], ids[1:]
    tip, base = skeleton.joint(joints[-1]), skeleton.joint(joints[0])
    said = name or f"{base.name} to {tip.name}"
    places = [skeleton.joint(j).matrix for j in joints]
    size = max(0.12 * float(np.linalg.norm(places[-1][:3, 3] - places[0][:3, 3])), 0.01 * character.height)
    controls: list[OwnControl] = []
    if kind == "curve":
        last_joint = len(joints) - 1
        for k, cid in enumerate(control_ids):
            joint = joints[round(k * last_joint / (count - 1))]
            here = skeleton.joint(joint)
            one = _control(cid, f"{here.name}_curve", here.side, here.matrix, Shape.SPHERE, 0.6 * size, (*MOVE, *ROTATE) if k in (0, count - 1) else MOVE)
            if base.parent is not None:
                one = replace(one, parent=joint_node(base.parent))
            controls.append(OwnControl(_local(one, here.matrix), joint))
        lead = control_ids[0]
        channels: tuple[Channel, ...] = (
            replace(channels_of((BLEND,))[0], title="blend"), Channel("keep_length", "keep length", Quantity.SHARE, 1.0, 0.0, 1.0),
            Channel("slide", "slide", Quantity.NUMBER), Channel("roll", "roll", Quantity.ANGLE, opposed=True),
        )  # fmt: skip
        nodes = tuple(control_node(c) for c in control_ids)
        solver: Solver = SplineIk(
            solver_id, joints, fk, nodes, ChannelRef(lead, BLEND), said, ChannelRef(lead, "keep_length"),
            ChannelRef(lead, "slide"), ChannelRef(lead, "roll"),
        )  # fmt: skip
    else:
        lead, pole = control_ids
        one = _control(lead, f"{tip.name}_goal", tip.side, _level(places[-1]), Shape.CUBE, size, (*MOVE, *ROTATE))
        controls.append(OwnControl(_local(one, tip.matrix), tip.id))
        goal, amount = control_node(lead), ChannelRef(lead, BLEND)
        if kind == "chain":
            channels = (
                *channels_of((BLEND,)), Channel("tip_turn", "tip turns with goal", Quantity.SHARE, 1.0, 0.0, 1.0),
                Channel("stretch", "stretch", Quantity.SHARE, 0.0, 0.0, 1.0),
            )  # fmt: skip
            solver = ChainIk(
                solver_id, joints, fk, goal, amount, said, tip_turn=ChannelRef(lead, "tip_turn"), stretch=ChannelRef(lead, "stretch")
            )
        else:
            middle = places[1]
            out = pole_direction(places[0][:3, 3], middle[:3, 3], places[-1][:3, 3], middle[:3, 0], np.array([0.0, 0.0, 1.0]))
            stands = np.eye(4)
            stands[:3, 3] = middle[:3, 3] + out * 0.75 * float(np.linalg.norm(places[-1][:3, 3] - places[0][:3, 3]))
            here = skeleton.joint(joints[1])
            one = _control(pole, f"{here.name}_pole", here.side, stands, Shape.DIAMOND, 0.5 * size, MOVE)
            one = replace(one, channels=(*one.channels, Channel("swivel", "swivel", Quantity.ANGLE, opposed=True)))
            controls.append(OwnControl(_local(one, here.matrix), here.id))
            channels = (*channels_of((BLEND,)), *limb_channels(hock=kind == "hock"))
            settings = limb_settings(lead, pole)
            four = joints if len(joints) == 4 else None
            if four is not None:
                solver = BendIk(
                    solver_id, (four[0], four[1], four[2], four[3]), (fk[0], fk[1], fk[2], fk[3]), goal, control_node(pole), amount,
                    said, ChannelRef(lead, "hock"), ChannelRef(lead, "hock_bend"), **settings,
                )  # fmt: skip
            else:
                solver = LimbIk(
                    solver_id, (joints[0], joints[1], joints[2]), (fk[0], fk[1], fk[2]), goal, control_node(pole), amount, said,
                    **settings,
                )  # fmt: skip
    controls[0] = replace(controls[0], control=replace(controls[0].control, channels=(*controls[0].control.channels, *channels)))
    changes = document.require_character().rig_changes
    document = with_changes(
        document, own_controls=(*changes.own_controls, *controls), own_solvers=(*changes.own_solvers, solver)
    )
    return document, solver_id


def _level(joint: FloatArray) -> FloatArray:
    result = np.eye(4)
    result[:3, 3] = joint[:3, 3]
    return result


def _local(control: Control, joint: FloatArray) -> Control:
    return replace(control, rest=tuple((np.linalg.inv(joint) @ control.matrix).ravel().tolist()))


def _control(
    made: str, name: str, side: Side, rest: FloatArray, shape: Shape, size: float, keys: Sequence[str]
) -> Control:
    flat = tuple(float(v) for v in rest.ravel())
    return Control(made, name, side, control_node("root"), flat, channels_of(keys), shape, size)


def add_body(document: Document, *, name: str = "whole body") -> tuple[Document, str]:
    """IK of the whole body on the goals its limbs have, beside what there is; nothing moves. Gives the solver's id.

    Its root is the joint the body control drives. It says what it lacks: a root, or goals.
    """
    _, _skeleton, rig = rigged(document)
    if any(isinstance(s, BodyIk) for s in rig.solvers):
        raise EditError("there is a whole body already; change that one, or drop it first")
    if not rig.limbs:
        raise EditError("a whole body needs goals; give a limb IK first")
    document, (made,) = fresh(document, MADE)
    return put_body(document, made, name), made


def put_body(document: Document, made: str, name: str) -> Document:
    """A whole body of that id on the limbs there are; without any there is none."""
    _, skeleton, rig = rigged(document)
    limbs = rig.limbs
    if not limbs:
        return document
    turners = turners_of(rig)
    wanted = {j for limb in limbs for j in limb.joints}
    for joint in list(wanted):
        above = skeleton.joint(joint).parent
        while above is not None:
            wanted.add(above)
            above = skeleton.joint(above).parent
    order = [j.id for j in skeleton.joints if j.id in wanted and j.id in turners and not skeleton.joint(j.id).aside]
    root = turners.get(order[0]) if order else None
    if root is not None and not set(MOVE) & set(rig.control(root).free):
        raise EditError("a whole body needs a root that may move; the body control drives none")
    # What carries the body from outside stays outside: the root control's own joint.
    if root in ("root",):
        order = order[1:]
    order = [order[0], *(j for j in order[1:] if _hangs_on(skeleton, j, set(order)))]
    fk = tuple(turners[j] for j in order)
    goals = tuple(
        # A limb on FK holds nothing.
        BodyGoal(limb.joints[-1], limb.end_goal, limb.amount) for limb in limbs if limb.joints[-1] in order
    )  # fmt: skip
    held = _without_loops(rig, skeleton, {limb.goal.id for limb in limbs} | {limb.pole.id for limb in limbs}, set(order))
    changes = document.require_character().rig_changes
    limits = dict(changes.limits)
    middles = {limb.joints[1]: (limb.joints[0], limb.joints[1], limb.joints[2]) for limb in limbs}
    for joint in order:
        usual = usual_limit(skeleton, joint, middles.get(joint))
        if joint not in limits and not usual.free:
            limits[joint] = usual
    solver = BodyIk(made, tuple(order), fk, goals, ChannelRef(BOARD, WHOLE), name, ChannelRef(BOARD, HELD_CHANNEL.key))
    return with_changes(
        document, own_solvers=(solver, *changes.own_solvers), limits=MappingProxyType(limits),
        own_constraints=(*(c for c in changes.own_constraints if c.id not in {h.id for h in held}), *held),
        own_channels=more_channels(changes.own_channels, BOARD, [WHOLE_CHANNEL, HELD_CHANNEL]),
    )  # fmt: skip


def _without_loops(rig: ControlRig, skeleton: Skeleton, controls: set[str], joints: set[str]) -> list[Constraint]:
    """Spaces and constraints of a body's goals without what the body itself carries: that would close a loop."""
    found = []
    for constraint in rig.constraints:
        if constraint.held.kind is not NodeKind.BASE or constraint.held.id not in controls:
            continue
        left = tuple(t for t in constraint.targets if not _carried(rig, skeleton, t.node, joints))
        if len(left) < len(constraint.targets):
            if not left:
                # Nothing is left to follow: the world stands in, at no weight.
                left = (replace(constraint.targets[0], node=NodeRef(), name="world"),)
            found.append(replace(constraint, targets=left))
    return found


def _carried(rig: ControlRig, skeleton: Skeleton, ref: NodeRef, joints: set[str]) -> bool:
    while ref.kind in (NodeKind.CONTROL, NodeKind.BASE):
        ref = rig.control(ref.id).parent
    return ref.kind is NodeKind.JOINT and (ref.id in joints or _hangs_on(skeleton, ref.id, joints))


def _hangs_on(skeleton: Skeleton, joint: str, some: set[str]) -> bool:
    above = skeleton.joint(joint).parent
    while above is not None:
        if above in some:
            return True
        above = skeleton.joint(above).parent
    return False


def drop_solver(document: Document, solver_id: str) -> Document:
    """Take IK out; FK turns its joints. Its own controls go; what is built stays out when controls are built again."""
    character, _, rig = rigged(document)
    solver = solver_of(rig, solver_id)
    changes = character.rig_changes
    own = any(s.id == solver.id for s in changes.own_solvers)
    mine = {o.control.id for o in changes.own_controls} & _own_nodes(solver)
    others = {n for s in rig.solvers if s.id != solver.id for n in _own_nodes(s)}
    gone = mine - others
    keys = [r.key for r in (getattr(solver, "root_held", None), solver.amount) if r is not None and r.owner == BOARD]
    return with_changes(
        document, own_solvers=tuple(s for s in changes.own_solvers if s.id != solver.id),
        own_controls=tuple(o for o in changes.own_controls if o.control.id not in gone),
        own_channels=fewer_channels(changes.own_channels, BOARD, keys),
        dropped=changes.dropped if own and solver.id.startswith(MADE) else changes.dropped | {solver.id},
    )  # fmt: skip


def _own_nodes(solver: Solver) -> set[str]:
    from pegloom.core.rig.changes import references

    return {r.id for r in references(solver) if isinstance(r, NodeRef) and r.kind is NodeKind.CONTROL} - set(solver.fk)


def solver_of(rig: ControlRig, told: str) -> Solver:
    """A solver by id or name. Raises EditError for one there is not."""
    for solver in rig.solvers:
        if told in (solver.id, solver.name):
            return solver
    raise EditError(f"there is no IK {told}")


def set_limit(
    document: Document, joint: str, *, low: Vector | None = None, high: Vector | None = None, stiffness: Vector | None = None
) -> Document:
    """Limits (radians about the joint's own axes, from rest) and stiffness (0 to 1) of a joint, where IK of chains and bodies
    asks; kept through rebuilds."""
    character, skeleton, rig = rigged(document)
    found = joint_id(skeleton, joint)
    now = rig.limit_of.get(found) or JointLimit(found)
    new = replace(now, low=low or now.low, high=high or now.high, stiffness=stiffness or now.stiffness)
    if any(a > b for a, b in zip(new.low, new.high, strict=True)):
        raise EditError("the lower limit must not be above the upper one")
    if any(a > 0 or b < 0 for a, b in zip(new.low, new.high, strict=True)):
        raise EditError("the limits must leave the rest, 0, within them")
    if any(not 0 <= s <= 1 for s in new.stiffness):
        raise EditError("stiffness is 0 to 1")
    return with_changes(document, limits=MappingProxyType({**character.rig_changes.limits, found: new}))


def forget_limit(document: Document, joint: str) -> Document:
    """A joint without limits made by hand."""
    character, skeleton, _ = rigged(document)
    found = joint_id(skeleton, joint)
    left = {j: v for j, v in character.rig_changes.limits.items() if j != found}
    return with_changes(document, limits=MappingProxyType(left))


def use_whole_body(document: Document, amount: float) -> Document:
    """How much the whole body answers to its goals, in the pose in hand; goals go where their joints stand first."""
    character, _, rig = rigged(document)
    body = next((s for s in rig.solvers if isinstance(s, BodyIk)), None)
    if body is None:
        raise EditError("there is no whole body yet; add one first")
    return set_pose(document, with_values(rig, posed(character), body.amount.owner, **{body.amount.key: amount}))


def set_pose_channel(document: Document, control: str, key: str, value: float) -> Document:
    """One channel of the pose in hand, of a control or, by "rig", of the rig as a whole."""
    character, _, rig = rigged(document)
    owner = BOARD if control == BOARD else control_id(rig, control)
    return set_pose(document, with_values(rig, posed(character), owner, **{key: value}))
