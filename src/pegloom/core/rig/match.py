"""Back-solving: the channel values that show given places, for many moments at once.

Controls are gone through once, parents first: each one's base is known by then, and its channels are what lies between
base and wanted place. Of the two sets of angles that show a turn the one nearest to the moment before is taken.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.couplings import Combine
from pegloom.core.rig.evaluate import driven, nodes_at
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.refs import ChannelRef, NodeKind
from pegloom.core.rig.solvers import KINDS, LIMBS, Solver, own_start
from pegloom.core.skeleton.joints import Skeleton


def values_for(
    skeleton: Skeleton, rig: ControlRig, targets: Mapping[str, FloatArray], start: FloatArray,
    *, keep: Mapping[str, tuple[str, ...]] | None = None, joints: FloatArray | None = None,
) -> FloatArray:  # fmt: skip
    """Channel values (k, v) that bring controls to their targets; channels that are locked stay as they start,
    limits are kept to.

    targets : control id -> character_from_control (k, 4, 4).
    start (k, v) : values of all else.
    keep : channels of a control that stay though they are free.
    joints (k, j, 4, 4) : where the joints will turn to, where that is known; controls that only turn and ride on one
        need not wait for the others to be evaluated then.
    """
    plan, values = make_plan(skeleton, rig), start.copy()
    count = len(rig.controls)
    bases = count + len(skeleton.joints)
    worlds: dict[str, FloatArray] = {}
    nodes: FloatArray | None = None
    needed = set(targets)
    led = _Led(skeleton, rig, needed)
    for i in reversed(plan.order):
        control = rig.controls[i]
        if control.id in needed and control.parent.kind is NodeKind.CONTROL:
            needed.add(control.parent.id)
    for i in plan.order:
        control = rig.controls[i]
        if control.id not in needed:
            continue
        parent, local = control.parent, plan.local[bases + i]
        if control.id in plan.held:
            # What it is held to may have been placed just now.
            if nodes is None:
                nodes = nodes_at(skeleton, rig, values, bases=True)
            base = nodes[:, bases + i]
        elif parent.kind is NodeKind.WORLD:
            base = np.broadcast_to(control.matrix, (len(values), 4, 4))
        elif parent.kind is NodeKind.CONTROL:
            base = worlds[parent.id] @ local
        elif parent.kind is NodeKind.JOINT and joints is not None and not set(MOVE) & set(control.free):
            base = joints[:, skeleton.index[parent.id]] @ local
        else:
            if nodes is None:
                nodes = nodes_at(skeleton, rig, values, bases=True)
            base = nodes[:, plan.nodes.number(parent)] @ local
        rows = plan.slots.rows[i]
        if control.id in targets:
            kept = (keep or {}).get(control.id, ())
            adds = led.adds(control, values)
            _put(values, rows, control, base, targets[control.id], (*kept, *(key for key, more in adds.items() if more is None)))
            for key, more in adds.items():
                if more is not None and key not in kept:
                    values[:, plan.slots.index[control.id, key]] -= more
            nodes = None
        turned = np.empty((len(values), 4, 4))
        walk.channel_places(rows, led.shown(control, values), turned)
        worlds[control.id] = base @ turned
    return values


class _Led:
    """What couplings make of transform channels while controls are placed one after the other."""

    def __init__(self, skeleton: Skeleton, rig: ControlRig, placed: set[str]) -> None:
        self.skeleton, self.rig, self.placed = skeleton, rig, placed
        self.known: tuple[FloatArray, FloatArray] | None = None

    def keys(self, control: Control) -> tuple[str, ...]:
        return tuple(key for key in (*MOVE, *ROTATE) if (control.id, key) in self.rig.drivers)

    def _around(self, control: Control, values: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Values before and after couplings: once worked out they hold, unless what is placed here drives this control."""
        some = [d for key in self.keys(control) for d in self.rig.drivers[ChannelRef(control.id, key)]]
        moving = any(r.channel is None or r.channel.owner in self.placed for d in some for r in d.readings)
        if self.known is None or moving:
            self.known = values.copy(), driven(self.skeleton, self.rig, values)
        return self.known

    def adds(self, control: Control, values: FloatArray) -> dict[str, FloatArray | None]:
        """What couplings add (k,), by key; None where they leave nothing to a hand."""
        found: dict[str, FloatArray | None] = {}
        for key in self.keys(control):
            before, after = self._around(control, values)
            slot, some = self.rig.slots.index[control.id, key], self.rig.drivers[ChannelRef(control.id, key)]
            found[key] = after[:, slot] - before[:, slot] if all(d.combine is Combine.ADD for d in some) else None
        return found

    def shown(self, control: Control, values: FloatArray) -> FloatArray:
        """The values (k, v) as this control's channels are after couplings."""
        adds = self.adds(control, values)
        if not adds:
            return values
        result = values.copy()
        for key, more in adds.items():
            slot = self.rig.slots.index[control.id, key]
            result[:, slot] = self._around(control, values)[1][:, slot] if more is None else values[:, slot] + more
        return result


def values_of_joints(skeleton: Skeleton, rig: ControlRig, joints: FloatArray) -> FloatArray:
    """Channel values (k, v) that show joints (k, j, 4, 4): each control that drives one, then the solvers' other side."""
    slots = rig.slots
    driven = {d.node.id: d.joint for d in rig.drives if d.node.kind is NodeKind.CONTROL}
    for solver in rig.solvers:
        driven |= dict(zip(solver.fk, solver.joints, strict=True))
    start = np.repeat(slots.rest[None], len(joints), axis=0)
    amounts = [slots.index[solver.amount] for solver in rig.solvers]
    blends = start[:, amounts].copy()
    # What rides on a limb's joints stands where the FK side puts them.
    start[:, amounts] = 0.0
    targets = {}
    for control_id, joint in driven.items():
        i = skeleton.index[joint]
        targets[control_id] = joints[:, i] @ (skeleton.inverse_world[i] @ rig.control(control_id).matrix)
    values = values_for(skeleton, rig, targets, start, joints=joints)
    for solver, amount in zip(rig.solvers, amounts, strict=True):
        if slots.rest[amount] > 0:
            values = ik_values(skeleton, rig, values, solver)
    values[:, amounts] = blends
    return values


def ik_values(skeleton: Skeleton, rig: ControlRig, values: FloatArray, solver: Solver) -> FloatArray:
    """A solver's own controls where its joints stand (k, v), so that switching to IK moves no joint."""
    plan, nodes = make_plan(skeleton, rig), nodes_at(skeleton, rig, values)
    joints = [nodes[:, len(rig.controls) + skeleton.index[j]] for j in solver.joints]
    back = KINDS[type(solver)].back(solver, plan.solvers[solver.id], plan.rests, joints)
    values = values.copy()
    for channel, told in back.values.items():
        slot = plan.slots.index[channel]
        values[:, slot] = np.clip(told, plan.slots.low[slot], plan.slots.high[slot])
    return values_for(skeleton, rig, _over_pivots(rig, nodes, solver, back.places), values)


def _over_pivots(rig: ControlRig, nodes: FloatArray, solver: Solver, wanted: Mapping[str, FloatArray]) -> dict[str, FloatArray]:
    """Where goals go that carry an end over pivots: those stand in the goal as they are posed."""
    places = dict(wanted)
    if isinstance(solver, LIMBS) and solver.under is not None:
        at_rest = np.linalg.inv(rig.control(solver.goal.id).matrix) @ rig.control(solver.under.id).matrix
        places[solver.under.id] = places[solver.goal.id] @ at_rest
    for pivot, goal in rig.goal_over.items():
        if pivot in places:
            places[goal] = places.pop(pivot) @ np.linalg.inv(nodes[:, rig.index[pivot]]) @ nodes[:, rig.index[goal]]
    return places


def fk_values(skeleton: Skeleton, rig: ControlRig, values: FloatArray, solver: Solver) -> FloatArray:
    """FK controls of a solver where its joints stand (k, v), so that switching to FK moves nothing."""
    nodes = nodes_at(skeleton, rig, values)
    targets = {}
    for joint, control_id in zip(solver.joints, solver.fk, strict=True):
        i = skeleton.index[joint]
        joint_nodes = nodes[:, len(rig.controls) + i]
        targets[control_id] = joint_nodes @ (skeleton.inverse_world[i] @ rig.control(control_id).matrix)
    return values_for(skeleton, rig, targets, values, keep={} if own_start(solver) else dict.fromkeys(solver.fk, MOVE))


def _put(
    values: FloatArray, rows: IntArray, control: Control, base: FloatArray, target: FloatArray, keep: tuple[str, ...]
) -> None:
    """Free channels of a control, at its slots rows (7,), from its base to its target; values (k, v) in place."""
    inside = np.linalg.inv(base) @ target
    linear = inside[:, :3, :3]
    scale = np.linalg.norm(linear, axis=1)
    scale[np.linalg.det(linear) < 0, 0] *= -1.0
    found = np.empty((len(values), 6))
    found[:, :3] = inside[:, :3, 3]
    found[:, 3:] = _angles(np.ascontiguousarray(linear / np.where(np.abs(scale) < 1e-12, 1.0, scale)[:, None, :]))
    for k, key in enumerate((*MOVE, *ROTATE)):
        channel = control.channel(key)
        if channel is not None and not channel.locked and key not in keep:
            values[:, rows[k]] = np.clip(found[:, k], channel.low, channel.high)


@njit(cache=True, nogil=True)
def _angles(turns):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Turns about fixed x, y, z (k, 3) of rotations (k, 3, 3), each nearest to the one before."""
    result = np.empty((len(turns), 3))
    for k in range(len(turns)):
        m = turns[k]
        sine = min(max(-m[2, 0], -1.0), 1.0)
        result[k, 1] = np.arcsin(sine)
        if abs(sine) > 1.0 - 1e-10:
            result[k, 0], result[k, 2] = 0.0, np.arctan2(-m[0, 1], m[1, 1])
        else:
            result[k, 0], result[k, 2] = np.arctan2(m[2, 1], m[2, 2]), np.arctan2(m[1, 0], m[0, 0])
        if k == 0:
            continue
        best, chosen = np.inf, 0
        for other in range(2):
            gap = 0.0
            for a in range(3):
                value = result[k, a] if other == 0 else (np.pi - result[k, 1] if a == 1 else result[k, a] + np.pi)
                step = value - result[k - 1, a]
                gap += abs(step - 2.0 * np.pi * np.round(step / (2.0 * np.pi)))
            if gap < best - 1e-9:
                best, chosen = gap, other
        if chosen == 1:
            result[k, 0], result[k, 1], result[k, 2] = result[k, 0] + np.pi, np.pi - result[k, 1], result[k, 2] + np.pi
        for a in range(3):
            result[k, a] -= 2.0 * np.pi * np.round((result[k, a] - result[k - 1, a]) / (2.0 * np.pi))
    return result
