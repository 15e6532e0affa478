"""Posing by the skin: a point of the surface is led somewhere, the body follows, and what comes of it is put on the controls.

The joints between the point, what is pinned and the root are solved as one tree with limits and stiffness
(`kernels/tree.py`), always from the pose at the press. It needs no set-up: limits are the rig's, or what joints have by
what they are; axes whose channels are locked do not give way.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kernels.tree import solved_tree
from pegloom.core.rig.kinds_of_joint import usual_limit
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.match import ik_values, values_for
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.solvers import BodyIk
from pegloom.core.skeleton.joints import Skeleton

TOUCH = 0.002
"""Shares of the height that the led surface stays off what it touches."""
NEAR_END = 0.6
"""Share of a limb's last bone from which on a point on it means the hand or foot at its end."""
LED = 0.2
"""How much the point counts beside what is pinned, where not both can be had."""
PROBES = 60
"""Points of what is led that are looked at for contact."""
ROUNDS = 3
"""Times the point is led back out of what it ran into."""
DEEP = 0.12
"""Shares of the height: what is farther inside than this is on its other side."""
BEHIND = 0.6
"""Share of the way to the nearest point of a surface that must lead straight back out of it, for a place to be inside."""


def turners(rig: ControlRig) -> Mapping[str, Control]:
    """The control that turns each joint by hand, by the joint's id."""
    return {joint: rig.control(control) for joint, control in rig.turned_by.items() if control in rig.index}


def limb_end(skeleton: Skeleton, rig: ControlRig, joint: str) -> str:
    """The hand or foot a joint belongs to, where it is at or below one; else itself, or the next one above that is turned."""
    ends = {s.joints[-1] for s in rig.limbs}
    above: str | None = joint
    while above is not None:
        if above in ends:
            return above
        above = skeleton.joint(above).parent
    known = turners(rig)
    while joint not in known and skeleton.joint(joint).parent is not None:
        joint = skeleton.joint(joint).parent or joint
    return joint


def standing_ends(rig: ControlRig, pose: Pose) -> frozenset[str]:
    """Joints at the ends of limbs on IK: their goals hold them, and they stay where nothing else is said."""
    return frozenset(s.joints[-1] for s in rig.limbs if rig.value(pose, s.amount) >= 0.5)


@dataclass(frozen=True, slots=True, eq=False)
class Obstacle:
    """What is run into: points (n, 3) of a surface and which way out is (n, 3), in the pose as it is. floor : its height."""

    points: FloatArray
    normals: FloatArray
    tree: cKDTree
    floor: float

    def pushed_out(self, probes: FloatArray, gap: float) -> FloatArray:
        """The least move (3,) that brings the deepest of some points (k, 3) out of the floor and of the surface."""
        push = np.zeros(3)
        low = float(probes[:, 1].min())
        if low < self.floor + gap:
            push[1] = self.floor + gap - low
        if len(self.points):
            away, nearest = self.tree.query(probes)
            at = np.asarray(nearest, dtype=np.int64)
            out = ((probes - self.points[at]) * self.normals[at]).sum(axis=1)
            # Beside a surface is not in it: what lies inside lies behind its nearest point, and not far behind.
            inside = (out < 0.0) & (-out > BEHIND * away) & (away < DEEP * gap / TOUCH)
            touching = (out >= 0.0) & (out < gap) & (away < 2.0 * gap)
            met = np.flatnonzero(inside | touching)
            if len(met):
                worst = int(met[np.argmin(out[met])])
                push = push + self.normals[at[worst]] * (gap - out[worst])
        return push


def obstacle(points: FloatArray, normals: FloatArray, floor: float) -> Obstacle:
    """An obstacle of a surface's points and normals (n, 3) and a floor."""
    return Obstacle(points, normals, cKDTree(points if len(points) else np.zeros((1, 3))), floor)


class Grab:
    """A point of the skin, taken hold of.

    joint : what the point follows. place (3,) : of the point, in the pose. pinned : joints that keep place and turn.
    """

    def __init__(
        self, skeleton: Skeleton, rig: ControlRig, pose: Pose, joint: str, place: FloatArray, pinned: Collection[str] = (),
        *, probes: FloatArray | None = None,
    ) -> None:  # fmt: skip
        """probes (k, 3) : points of the surface that move with the joint, looked at for contact."""
        self.skeleton, self.rig, self.pose = skeleton, rig, pose
        self.known = turners(rig)
        while joint not in self.known and skeleton.joint(joint).parent is not None:
            joint = skeleton.joint(joint).parent or joint
        self.joint, self.place = joint, np.asarray(place, dtype=np.float64)
        self.start = evaluate_rig(skeleton, rig, pose).joints
        # The hand or foot that is led itself is not held; nor the one that is meant by an ankle or a wrist.
        own = limb_end(skeleton, rig, self._meant(joint))
        self.pinned = tuple(p for p in dict.fromkeys(pinned) if p in skeleton.index and p not in (joint, own))
        self.order = self._tree()
        self.size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-6)
        self.probes = np.zeros((0, 3)) if probes is None else probes
        self.gap = TOUCH * self.size
        self._pack()

    def _meant(self, joint: str) -> str:
        """The joint at a limb's end where the point lies near it on the bone before, else the joint itself."""
        for limb in self.rig.limbs:
            before, end = limb.joints[-2], limb.joints[-1]
            if self._below(joint, before) and not self._below(joint, end):
                a, b = (self.start[self.skeleton.index[j], :3, 3] for j in (before, end))
                share = float((self.place - a) @ (b - a) / max(float((b - a) @ (b - a)), 1e-12))
                return end if share > NEAR_END else joint
        return joint

    def _below(self, joint: str, above: str) -> bool:
        here: str | None = joint
        while here is not None:
            if here == above:
                return True
            here = self.skeleton.joint(here).parent
        return False

    def _tree(self) -> list[str]:
        """Joints that may turn: those between the root, the point and the pins, each after the one it hangs on."""
        wanted: set[str] = set()
        for end in (self.joint, *self.pinned):
            above: str | None = end
            while above is not None:
                wanted.add(above)
                above = self.skeleton.joint(above).parent
        some = [j.id for j in self.skeleton.joints if j.id in wanted and j.id in self.known and not j.aside]
        # What carries the body from outside stays: the tree begins at the lowest joint that may move and carries all ends.
        ends = [self.joint, *self.pinned]
        movable = [j for j in some if set(MOVE) & set(self.known[j].free) and all(self._below(e, j) for e in ends)]
        inner = [j for j in movable if self.known[j].id != "root"] or movable
        top = inner[-1] if inner else next((j for j in reversed(some) if all(self._below(e, j) for e in ends)), some[0])
        if not inner:
            # Nothing may move: the topmost joint that turns begins, held in its place.
            top = some[0]
        return [j for j in some if self._below(j, top)]

    def _pack(self) -> None:
        n = len(self.order)
        number = {j: k for k, j in enumerate(self.order)}
        index = self.skeleton.index
        middles = {s.joints[1]: (s.joints[0], s.joints[1], s.joints[2]) for s in self.rig.limbs}
        # One more, the point itself: rigid on its joint.
        self.begin = np.empty((n + 1, 4, 4))
        self.parents: IntArray = np.empty(n + 1, dtype=np.int64)
        resting, low, high, give = np.empty((n + 1, 3, 3)), np.empty((n + 1, 3)), np.empty((n + 1, 3)), np.empty((n + 1, 3))
        for k, joint in enumerate(self.order):
            self.begin[k] = self.start[index[joint]]
            above = self.skeleton.joint(joint).parent
            while above is not None and above not in number:
                above = self.skeleton.joint(above).parent
            self.parents[k] = -1 if above is None or k == 0 else number[above]
            rest = self.skeleton.world[index[joint]][:3, :3]
            resting[k] = rest if self.parents[k] < 0 else self.skeleton.world[index[self.order[self.parents[k]]]][:3, :3].T @ rest
            limit = self.rig.limit_of.get(joint) or usual_limit(self.skeleton, joint, middles.get(joint))
            low[k], high[k] = limit.low, limit.high
            give[k] = self._give(joint, limit)
        self.begin[n] = self.start[index[self.joint]]
        self.begin[n, :3, 3] = self.place
        self.parents[n], resting[n] = number.get(self.joint, 0), np.eye(3)
        low[n], high[n], give[n] = -7.0, 7.0, 0.0
        root = self.known[self.order[0]]
        moves = bool(set(MOVE) & set(root.free)) and root.id != "root"
        self.root_give = 1.0 if moves and (self.pinned or self.joint == self.order[0]) else 0.0
        if self.joint == self.order[0] and not self.pinned and moves:
            # The body itself, held by nothing: it is carried, not turned.
            give[0] = 0.0
        self.resting, self.low, self.high, self.give = resting, low, high, give
        pins = [p for p in self.pinned if p in number]
        self.goals: IntArray = np.array([n, *(number[p] for p in pins)], dtype=np.int64)
        self.wanted = np.array([self.begin[n], *(self.start[index[p]] for p in pins)])
        self.shares = np.array([(LED, 0.0), *((1.0, 1.0) for _ in pins)])

    def _give(self, joint: str, limit: JointLimit) -> FloatArray:
        """How much each of a joint's axes gives way: not where the control's channel along it is locked."""
        control = self.known[joint]
        axes = np.abs(control.matrix[:3, :3].T @ self.skeleton.joint(joint).matrix[:3, :3])
        free = np.array([key in control.free and (control.id, key) not in self.rig.drivers for key in ROTATE], dtype=np.float64)
        return np.array([(1.0 - limit.stiffness[k]) ** 2 * free[int(np.argmax(axes[:, k]))] for k in range(3)])

    def joints_at(self, target: FloatArray) -> FloatArray:
        """Where all joints stand (j, 4, 4) with the point led to a target (3,), as near as the body lets it."""
        turns, places = self._solved(target)
        number = {j: k for k, j in enumerate(self.order)}
        result = self.start.copy()
        for i, joint in enumerate(self.skeleton.joints):
            k = number.get(joint.id)
            if k is not None:
                scale = np.linalg.norm(self.start[i, :3, 0])
                result[i, :3, :3], result[i, :3, 3] = turns[k] * scale, places[k]
            elif joint.parent is not None:
                above = self.skeleton.index[joint.parent]
                result[i] = result[above] @ np.linalg.inv(self.start[above]) @ self.start[i]
        return np.asarray(result)

    def _solved(self, target: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Turns (n + 1, 3, 3) and places (n + 1, 3) of the tree, the point last."""
        n = len(self.order)
        wanted = self.wanted.copy()
        wanted[0, :3, 3] = target
        turns, places = np.empty((n + 1, 3, 3)), np.empty((n + 1, 3))
        solved_tree(
            self.begin, self.parents, self.resting, self.low, self.high, self.give, self.root_give, self.goals, wanted, self.shares,
            self.size, turns, places,
        )  # fmt: skip
        return turns, places

    def led_to(self, target: FloatArray, against: Obstacle | None = None) -> Pose:
        """The pose with the point led to a target (3,). against : what it stops at."""
        joints = self.joints_at(target)
        if against is not None and len(self.probes):
            i = self.skeleton.index[self.joint]
            local = (self.probes - self.start[i, :3, 3]) @ np.linalg.inv(self.start[i, :3, :3]).T
            push = against.pushed_out(local @ joints[i, :3, :3].T + joints[i, :3, 3], self.gap)
            for _ in range(ROUNDS):
                if not push.any():
                    break
                tried = self.joints_at(target + push)
                left = against.pushed_out(local @ tried[i, :3, :3].T + tried[i, :3, 3], self.gap)
                if float(np.linalg.norm(left)) > float(np.linalg.norm(push)):
                    # It cannot get out of there: it is not thrown about.
                    break
                target, joints, push = target + push, tried, left
        return self.pose_of(joints)

    def pose_of(self, joints: FloatArray) -> Pose:
        """The pose of the controls that shows joints (j, 4, 4): FK of what turned, then the goals of limbs on IK."""
        slots, rig, skeleton = self.rig.slots, self.rig, self.skeleton
        values = slots.vector(self.pose)[None].copy()
        amounts = [slots.index[s.amount] for s in rig.solvers]
        blends = values[:, amounts].copy()
        values[:, amounts] = 0.0
        targets, keep = {}, {}
        for joint in self.order:
            control, i = self.known[joint], skeleton.index[joint]
            targets[control.id] = (joints[i] @ (skeleton.inverse_world[i] @ control.matrix))[None]
            if joint != self.order[0] or not self.root_give:
                keep[control.id] = MOVE
        values = values_for(skeleton, rig, targets, values, keep=keep, joints=joints[None])
        turned = set(self.order)
        for solver, slot, blend in zip(rig.solvers, amounts, blends[0], strict=True):
            if blend > 0.0 and turned & set(solver.joints) and not isinstance(solver, BodyIk):
                values[0, slot] = 0.0
                values = ik_values(skeleton, rig, values, solver)
        values[:, amounts] = blends
        return slots.pose(values[0])
