"""Rigs of a few joints and one solver, made by hand: what laws of solvers are tried on."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.geometry.transforms import matrix_quaternion
from pegloom.core.rig.channels import MOVE, ROTATE, SCALE, Channel, Quantity, channels_of
from pegloom.core.rig.controls import Control, ControlRig, Shape
from pegloom.core.rig.refs import WORLD, ChannelRef, control_node
from pegloom.core.rig.solvers import BendIk, BodyGoal, BodyIk, ChainIk, LimbIk, SplineIk
from pegloom.core.skeleton.joints import Joint, Side, Skeleton

SHARE = Channel("", "", Quantity.SHARE, 0.0, 0.0, 1.0)


def turned(rng):
    q, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    return q if np.linalg.det(q) > 0 else -q


def skeleton_of(points, parents=None, *, rng=None):
    """Joints j0, j1, ... at points; each turned anyhow where there is an rng."""
    joints = []
    for k, place in enumerate(points):
        parent = k - 1 if parents is None else parents[k]
        q = matrix_quaternion(np.eye(3) if rng is None else turned(rng))
        joints.append(
            Joint(f"j{k}", f"joint {k}", None if parent < 0 else f"j{parent}", Side.CENTRE, tuple(map(float, place)), tuple(map(float, q)))
        )
    return Skeleton(tuple(joints))


def control(name, rest, parent, keys, more=()):
    channels = channels_of(keys) + tuple(replace(SHARE, key=k, title=k, rest=r) for k, r in more)
    return Control(name, name, Side.CENTRE, parent, tuple(np.asarray(rest).ravel().tolist()), channels, Shape.CIRCLE, 0.1)


def at(place, turn=None):
    m = np.eye(4)
    m[:3, 3] = place
    if turn is not None:
        m[:3, :3] = turn
    return m


def angle(key):
    return Channel(key, key, Quantity.ANGLE)


def rig_of(skeleton, kind, *, pole=None, rng=None, goals=(), limits=()):
    """A root control, an FK control a joint, and one solver of `kind` with all its channels, FK at rest (blend 0)."""
    root = control("root", np.eye(4), WORLD, (*MOVE, *ROTATE, SCALE))
    fk = []
    for j in skeleton.joints:
        above = control_node(f"{j.parent}.fk") if j.parent else control_node("root")
        fk.append(control(f"{j.id}.fk", j.matrix, above, (*MOVE, *ROTATE) if j.parent is None else ROTATE))
    ids, names = tuple(j.id for j in skeleton.joints), tuple(f"{j.id}.fk" for j in skeleton.joints)
    tip = skeleton.joints[-1]
    spun = None if rng is None else turned(rng)
    rows = [("blend", 0.0), ("place", 1.0), ("turn", 1.0), ("pole_share", 1.0), ("stretch", 0.0), ("soft", 0.0), ("hock", 0.5), ("keep", 1.0)]
    goal = control("goal", at(tip.position, spun), control_node("root"), (*MOVE, *ROTATE), rows)
    goal = replace(goal, channels=(*goal.channels, angle("swivel"), angle("hock_bend"), angle("roll"), replace(SHARE, key="slide", low=-1.0)))
    others = [control("pole", at(np.zeros(3) if pole is None else pole), control_node("root"), MOVE)]

    def ref(key):
        return ChannelRef("goal", key)

    shared = {"goal_place": ref("place"), "goal_turn": ref("turn"), "pole_share": ref("pole_share"), "swivel": ref("swivel"),
              "stretch": ref("stretch"), "soft": ref("soft")}  # fmt: skip
    amount, g, p = ref("blend"), control_node("goal"), control_node("pole")
    if kind is LimbIk:
        solver = LimbIk("ik", ids, names, g, p, amount, **shared)
    elif kind is BendIk:
        solver = BendIk("ik", ids, names, g, p, amount, hock=ref("hock"), hock_bend=ref("hock_bend"), **shared)
    elif kind is ChainIk:
        solver = ChainIk("ik", ids, names, g, amount, pole=p if pole is not None else None, tip_turn=ref("turn"), stretch=ref("stretch"))
    elif kind is SplineIk:
        chosen = sorted({round(k) for k in np.linspace(0, len(ids) - 1, 4)})
        others += [control(f"through{k}", at(skeleton.joints[k].position), control_node("root"), (*MOVE, *ROTATE)) for k in chosen]
        points = tuple(control_node(f"through{k}") for k in chosen)
        solver = SplineIk("ik", ids, names, points, amount, keep_length=ref("keep"), slide=ref("slide"), roll=ref("roll"))
    else:
        others += [control(f"goal{k}", at(skeleton.joints[k].position), control_node("root"), (*MOVE, *ROTATE)) for k in goals]
        solver = BodyIk("ik", ids, names, tuple(BodyGoal(f"j{k}", control_node(f"goal{k}")) for k in goals), amount)
    return ControlRig((root, *fk, goal, *others), (), (solver,), limits=tuple(limits))
