"""Back-solving: the channel values that show given places, for many moments at once.

Controls are gone through once, parents first: each one's base is known by then, and its channels are what lies between
base and wanted place. Of the two sets of angles that show a turn the one nearest to the moment before is taken.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import CHANNELS, MOVE, TURN, Control, ControlRig, IkLimb
from pegloom.core.rig.evaluate import nodes_at
from pegloom.core.rig.plan import CONTROL, make_plan
from pegloom.core.rig.solve import solve_plan
from pegloom.core.skeleton.joints import Skeleton

BLEND = CHANNELS.index("blend")


def values_for(
    skeleton: Skeleton, rig: ControlRig, targets: Mapping[str, FloatArray], start: FloatArray,
    *, keep: Mapping[str, tuple[str, ...]] | None = None, joints: FloatArray | None = None,
) -> FloatArray:  # fmt: skip
    """Channel values (k, c, 8) that bring controls to their targets; channels that are not free stay as they start.

    targets : control id -> character_from_control (k, 4, 4). start (k, c, 8): values of all else. keep : channels of a
    control that stay though they are free. joints (k, j, 4, 4): where the joints will turn to, where that is known;
    controls that only turn and ride on one need not wait for the others to be evaluated then.
    """
    plan, values = make_plan(skeleton, rig), start.copy()
    worlds: dict[str, FloatArray] = {}
    nodes: FloatArray | None = None
    needed = set(targets)
    for kind_of_step, i, _, _ in reversed(plan.steps.tolist()):
        control = rig.controls[i] if kind_of_step == CONTROL else None
        if control is not None and control.id in needed and control.parent.startswith("control:"):
            needed.add(control.parent.partition(":")[2])
    for kind_of_step, i, _, _ in plan.steps.tolist():
        if kind_of_step != CONTROL or rig.controls[i].id not in needed:
            continue
        control = rig.controls[i]
        kind, _, name = control.parent.partition(":")
        if kind == "control":
            base = worlds[name] @ plan.local[i]
        elif kind == "joint" and joints is not None and not set(MOVE) & set(control.free):
            base = joints[:, skeleton.index[name]] @ plan.local[i]
        elif kind == "joint":
            if nodes is None:
                nodes = nodes_at(skeleton, rig, values)
            base = nodes[:, len(rig.controls) + skeleton.index[name]] @ plan.local[i]
        else:
            base = np.broadcast_to(control.matrix, (len(values), 4, 4))
        if control.id in targets:
            _put(values[:, i], control, base, targets[control.id], (keep or {}).get(control.id, ()))
            nodes = None
        worlds[control.id] = base @ _channel_matrices(values[:, i])
    return values


def values_of_joints(skeleton: Skeleton, rig: ControlRig, joints: FloatArray) -> FloatArray:
    """Channel values (k, c, 8) that show joints (k, j, 4, 4): each control that drives one, then the limbs' other side."""
    driven = {control: joint for joint, control in rig.drivers}
    for limb in rig.limbs:
        driven |= dict(zip(limb.fk, limb.joints, strict=True))
    start = np.repeat(np.array([c.zero for c in rig.controls], dtype=np.float64)[None], len(joints), axis=0)
    goals = [rig.index[limb.goal] for limb in rig.limbs]
    blends = start[:, goals, BLEND].copy()
    # What rides on a limb's joints stands where the FK side puts them.
    start[:, goals, BLEND] = 0.0
    targets = {}
    for control_id, joint in driven.items():
        i = skeleton.index[joint]
        targets[control_id] = joints[:, i] @ (skeleton.inverse_world[i] @ rig.control(control_id).matrix)
    values = values_for(skeleton, rig, targets, start, joints=joints)
    for limb in rig.limbs:
        if rig.control(limb.goal).blend_at_rest > 0:
            values = ik_values(skeleton, rig, values, limb)
    values[:, goals, BLEND] = blends
    return values


def ik_values(skeleton: Skeleton, rig: ControlRig, values: FloatArray, limb: IkLimb) -> FloatArray:
    """Goal and pole of a limb where its joints stand (k, c, 8), so that switching to IK moves no joint."""
    count = len(rig.controls)
    nodes = nodes_at(skeleton, rig, values)
    upper, middle, end = (nodes[:, count + skeleton.index[j]] for j in limb.joints)
    goal, pole = rig.control(limb.goal), rig.control(limb.pole)
    lower_rest, end_rest = (skeleton.index[j] for j in limb.joints[1:])
    plan, row = make_plan(skeleton, rig), [known.id for known in rig.limbs].index(limb.id)
    places = _pole_places(
        np.ascontiguousarray(upper), np.ascontiguousarray(middle), np.ascontiguousarray(end), plan.frames[row],
        plan.bends[row], float(np.linalg.norm(pole.matrix[:3, 3] - skeleton.positions[lower_rest])),
    )  # fmt: skip
    stands = np.repeat(pole.matrix[None], len(values), axis=0)
    stands[:, :3, 3] = places
    targets = {goal.id: end @ (skeleton.inverse_world[end_rest] @ goal.matrix), pole.id: stands}
    return values_for(skeleton, rig, targets, values, keep={pole.id: TURN})


def fk_values(skeleton: Skeleton, rig: ControlRig, values: FloatArray, limb: IkLimb) -> FloatArray:
    """FK controls of a limb where its joints stand (k, c, 8), so that switching to FK moves nothing."""
    nodes = nodes_at(skeleton, rig, values)
    targets = {}
    for joint, control_id in zip(limb.joints, limb.fk, strict=True):
        i = skeleton.index[joint]
        there = nodes[:, len(rig.controls) + i]
        targets[control_id] = there @ (skeleton.inverse_world[i] @ rig.control(control_id).matrix)
    return values_for(skeleton, rig, targets, values, keep=dict.fromkeys(limb.fk, MOVE))


def _put(row: FloatArray, control: Control, base: FloatArray, target: FloatArray, keep: tuple[str, ...]) -> None:
    """Free channels (k, 8) of a control from its base to its target, in place."""
    inside = np.linalg.inv(base) @ target
    linear = inside[:, :3, :3]
    scale = np.linalg.norm(linear, axis=1)
    scale[np.linalg.det(linear) < 0, 0] *= -1.0
    found = np.empty((len(row), 6))
    found[:, :3] = inside[:, :3, 3]
    found[:, 3:] = _angles(np.ascontiguousarray(linear / np.where(np.abs(scale) < 1e-12, 1.0, scale)[:, None, :]))
    for k, channel in enumerate((*MOVE, *TURN)):
        if channel in control.free and channel not in keep:
            row[:, CHANNELS.index(channel)] = found[:, k]


@njit(cache=True, nogil=True)
def _angles(turns):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Turns about fixed x, y, z (k, 3) of rotations (k, 3, 3), each nearest to the one before."""
    made = np.empty((len(turns), 3))
    for k in range(len(turns)):
        m = turns[k]
        sine = min(max(-m[2, 0], -1.0), 1.0)
        made[k, 1] = np.arcsin(sine)
        if abs(sine) > 1.0 - 1e-10:
            made[k, 0], made[k, 2] = 0.0, np.arctan2(-m[0, 1], m[1, 1])
        else:
            made[k, 0], made[k, 2] = np.arctan2(m[2, 1], m[2, 2]), np.arctan2(m[1, 0], m[0, 0])
        if k == 0:
            continue
        best, chosen = np.inf, 0
        for other in range(2):
            gap = 0.0
            for a in range(3):
                value = made[k, a] if other == 0 else (np.pi - made[k, 1] if a == 1 else made[k, a] + np.pi)
                step = value - made[k - 1, a]
                gap += abs(step - 2.0 * np.pi * np.round(step / (2.0 * np.pi)))
            if gap < best - 1e-9:
                best, chosen = gap, other
        if chosen == 1:
            made[k, 0], made[k, 1], made[k, 2] = made[k, 0] + np.pi, np.pi - made[k, 1], made[k, 2] + np.pi
        for a in range(3):
            made[k, a] -= 2.0 * np.pi * np.round((made[k, a] - made[k - 1, a]) / (2.0 * np.pi))
    return made


@njit(cache=True, nogil=True)
def _channel_matrices(rows):  # type: ignore[no-untyped-def]  # pragma: no cover
    made = np.empty((len(rows), 4, 4))
    for k in range(len(rows)):
        made[k] = solve_plan.channel_matrix(rows[k])
    return made


@njit(cache=True, nogil=True)
def _pole_places(upper, middle, end, frames, bends, reach):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Where a limb's pole stands (k, 3) for its joints (k, 4, 4): in its plane, from the line from end to end."""
    made = np.empty((len(upper), 3))
    for k in range(len(upper)):
        start = upper[k, :3, 3].copy()
        first, second = middle[k, :3, 3] - start, end[k, :3, 3] - middle[k, :3, 3]
        a, b = max(solve_plan.norm(first), 1e-12), max(solve_plan.norm(second), 1e-12)
        size = solve_plan.size_of(upper[k])
        normal = solve_plan.fk_normal(upper[k, :3, :3] / size, first / a, second / b, a, b, frames, bends)
        line = end[k, :3, 3] - start
        line = line / max(solve_plan.norm(line), 1e-12)
        made[k] = start + line * np.sum(first * line) + solve_plan.cross(normal, line) * (reach * size)
    return made
