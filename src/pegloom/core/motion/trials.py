"""Trial poses in body axes: what a limb is asked to do while its weights are judged."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import NamedTuple

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.transforms import (
    decompose,
    normalised,
    quaternion_about,
    quaternion_between,
    quaternion_inverse,
    quaternion_product,
    rotation_matrix,
)
from pegloom.core.memo import by_identity
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.body import Body, body_of, palm_of
from pegloom.core.skeleton.joints import Quaternion, Skeleton

NONE: Mapping[str, FloatArray] = MappingProxyType({})
UP, FORWARD, OUT = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0])


@dataclass(frozen=True, slots=True)
class Trial:
    id: str
    label: str
    tests: str


TRIALS = (
    Trial("arm_up", "Arm up", "shoulder and armpit, the clavicle following"),
    Trial("arm_down", "Arm down", "the top of the shoulder"),
    Trial("arm_forward", "Arm forward", "the shoulder blade and the chest's edge"),
    Trial("elbow", "Elbow", "the crook of the arm"),
    Trial("hand_twist", "Hand twisted", "the forearm and wrist, that must not collapse"),
    Trial("wrist", "Wrist", "the back of the hand"),
    Trial("fist", "Fist", "the knuckles"),
    Trial("knee", "Knee", "the hollow of the knee"),
    Trial("crouch", "Crouch", "hips, groin and seat"),
    Trial("leg_back", "Leg back", "the seat's fold and the groin"),
    Trial("leg_out", "Leg out", "the inner thigh and the hip's side"),
    Trial("foot", "Foot stretched", "instep and heel"),
)
"""A human's range: the shoulder first, then down the limbs."""


MORE = (
    Trial("head_turn", "Head turned", "the neck and throat"),
    Trial("bend", "Bend", "spine, belly and back"),
    Trial("nod", "Nod", "throat and nape"),
    Trial("side_bend", "Side bend", "the flanks"),
    Trial("twist", "Twist", "waist and chest"),
    Trial("neck_down", "Neck down", "withers and throat"),
    Trial("foreleg_forward", "Foreleg forward", "point of the shoulder and elbow"),
    Trial("foreleg_back", "Foreleg back", "the blade and the chest's edge"),
    Trial("hind_forward", "Hind leg forward", "flank and croup"),
    Trial("hind_back", "Hind leg back", "thigh and hock"),
    Trial("wing_up", "Wing up", "the wing's root"),
    Trial("wing_fold", "Wing folded", "elbow and wrist of the wing"),
    Trial("legs_up", "Legs lifted", "the roots of the legs"),
    Trial("curl", "Curl", "tail, trunk or rope, joint by joint"),
)
"""Trials of other bodies; a body is shown those that move it."""


EVERY = Trial("every", "Every joint", "each joint a little, about its bend axis")
"""For a skeleton in which no limb is known."""


@by_identity
def trials_of(skeleton: Skeleton) -> tuple[Trial, ...]:
    """The trials that turn some joint of a skeleton, built here or brought by a file."""
    body = body_of(skeleton).skeleton
    human = "arm.l.upper" in body.index and "leg.l.upper" in body.index
    options = TRIALS if human else MORE
    found = tuple(trial for trial in (*options, *(MORE[:5] if human else ())) if turns_of(skeleton, trial.id).turns)
    return found or ((EVERY,) if len(skeleton.joints) > 1 else (Trial("rest", "Rest", "nothing moves yet"),))


class Turns(NamedTuple):
    """turns : joint id -> turn x y z w in the joint's own rest axes.
    places : joint id -> place in its parent, metres.
    """

    turns: Mapping[str, Quaternion]
    places: Mapping[str, FloatArray] = NONE


def turned_pose(skeleton: Skeleton, turns: Mapping[str, Quaternion], places: Mapping[str, FloatArray] = NONE) -> JointPose:
    """The pose in which joints are turned from rest in their own axes, and some stand elsewhere in their parents."""
    joints = tuple(j for j in dict.fromkeys((*turns, *places)) if j in skeleton.index)
    rows = rest_rows(skeleton)[[skeleton.index[j] for j in joints]]
    for row, joint in zip(rows, joints, strict=True):
        if joint in turns:
            row[3:7] = quaternion_product(row[3:7], np.array(turns[joint]))
        if joint in places:
            row[:3] = places[joint]
    return JointPose(joints, rows)


@by_identity
def rest_rows(skeleton: Skeleton) -> FloatArray:
    """Local values (j, 10) of a skeleton at rest: position, quaternion, scale."""
    result = [np.concatenate(decompose(local)) for local in skeleton.local]
    return np.asarray(frozen(np.array(result).reshape(-1, 10)))


@by_identity
def trial_pose(skeleton: Skeleton, trial_id: str) -> JointPose:
    """The pose of one trial, both sides, from whatever rest the skeleton has. Unknown joints are passed by."""
    return turned_pose(skeleton, *turns_of(skeleton, trial_id))


@by_identity
def turns_of(skeleton: Skeleton, trial_id: str) -> Turns:
    """What one trial turns."""
    body = body_of(skeleton)
    turns = _posed(body.skeleton, trial_id).turns(skeleton, body.joint_of)
    places = _on_its_feet(skeleton, body, turns) if trial_id == "crouch" and turns else {}
    return Turns(turns, places)


def _on_its_feet(skeleton: Skeleton, body: Body, turns: Mapping[str, Quaternion]) -> dict[str, FloatArray]:
    """Where the hips are let down to (or wherever) so that the feet stay where they stand."""
    feet = [skeleton.index[body.joint_of[f]] for s in "lr" if (f := f"leg.{s}.end") in body.joint_of]
    hips = body.joint_of.get("spine.hips") or body.joint_of.get("spine.body")
    if not feet or hips is None:
        return {}
    posed = evaluate_rig(skeleton, None, turned_pose(skeleton, turns)).joints
    sink = (skeleton.world[feet, :3, 3] - posed[feet, :3, 3]).mean(axis=0)
    i = skeleton.index[hips]
    parent = int(skeleton.parents[i])
    turn = np.eye(3) if parent < 0 else posed[parent, :3, :3].T
    return {hips: skeleton.local[i, :3, 3] + turn @ sink}


def _posed(skeleton: Skeleton, trial_id: str) -> Poser:
    """A trial's turns. skeleton: called and with axes as one built here."""
    poser = Poser(skeleton)
    for s, sign in (("l", 1.0), ("r", -1.0)):
        out = OUT * sign
        if trial_id == "arm_up":
            poser.turn_about(f"arm.{s}.clavicle", FORWARD * sign, 0.42)
            poser.aim(f"arm.{s}.upper", UP + 0.25 * out)
        elif trial_id == "arm_down":
            poser.turn_about(f"arm.{s}.clavicle", FORWARD * sign, -0.1)
            poser.aim(f"arm.{s}.upper", -UP + 0.2 * out)
        elif trial_id == "arm_forward":
            poser.turn_about(f"arm.{s}.clavicle", UP, -0.3 * sign)
            poser.aim(f"arm.{s}.upper", FORWARD + 0.05 * out)
        elif trial_id == "elbow":
            poser.fold(f"arm.{s}.lower", 2.2)
        elif trial_id == "knee":
            poser.fold(f"leg.{s}.lower", 2.2)
        elif trial_id == "crouch":
            poser.turn_about(f"leg.{s}.upper", OUT, -1.75)
            poser.turn_about(f"leg.{s}.upper", FORWARD * sign, 0.22)
            poser.fold(f"leg.{s}.lower", 2.1)
            poser.turn_about(f"leg.{s}.end", OUT, -0.4)
        elif trial_id == "hand_twist":
            poser.twist(f"arm.{s}.end", f"arm.{s}.lower", 1.4 * sign)
        elif trial_id == "wrist":
            poser.flex_hand(s, 1.1)
        elif trial_id == "fist":
            for joint in skeleton.joints:
                if joint.id.startswith(f"hand.{s}.") and not joint.aside:
                    poser.fold(joint.id, 0.45 if ".thumb." in joint.id else 1.35)
        elif trial_id == "leg_back":
            poser.turn_about(f"leg.{s}.upper", OUT, 0.45)
        elif trial_id == "leg_out":
            poser.turn_about(f"leg.{s}.upper", FORWARD * sign, 0.7)
        elif trial_id == "foot":
            poser.turn_about(f"leg.{s}.end", OUT, 0.6)
    _turn_other_bodies(poser, skeleton, trial_id)
    if trial_id == "crouch":
        for one in ("spine.spine", "spine.chest"):
            poser.turn_about(one, OUT, 0.22)
    if trial_id == EVERY.id:
        for joint in skeleton.joints:
            if joint.parent is not None:
                poser.turn_about(joint.id, skeleton.world[skeleton.index[joint.id]][:3, 0], 0.3)
    return poser


def _turn_other_bodies(poser: Poser, skeleton: Skeleton, trial_id: str) -> None:
    """Animals, insects, tails: each limb through its range, in body axes."""
    ids = [j.id for j in skeleton.joints]
    neck = [i for i in ids if i.startswith("neck.") or i in ("spine.neck", "spine.throat")]
    spine = [i for i in ids if i.startswith("spine.") and i not in (*neck, "spine.hips", "spine.head", "spine.body")]
    if trial_id == "head_turn":
        for joint in [*neck, "spine.head"]:
            poser.turn_about(joint, UP, 1.0 / max(len(neck) + 1, 1))
    elif trial_id == "bend":
        for joint in spine:
            poser.turn_about(joint, OUT, 0.8 / max(len(spine), 1))
    elif trial_id == "nod":
        for joint in [*neck, "spine.head"]:
            poser.turn_about(joint, OUT, 0.7 / max(len(neck) + 1, 1))
    elif trial_id in ("side_bend", "twist"):
        axis, angle = (FORWARD, -0.6) if trial_id == "side_bend" else (UP, 0.8)
        for joint in spine:
            poser.turn_about(joint, axis, angle / max(len(spine), 1))
    elif trial_id == "neck_down":
        for joint in neck:
            poser.turn_about(joint, OUT, 0.9 / len(neck))
    for s, sign in (("l", 1.0), ("r", -1.0)):
        if trial_id in ("foreleg_forward", "foreleg_back"):
            way = -1.0 if trial_id.endswith("forward") else 1.0
            poser.turn_about(f"foreleg.{s}.blade", OUT, 0.15 * way)
            poser.turn_about(f"foreleg.{s}.upper", OUT, 0.55 * way)
            if way < 0:
                poser.fold(f"foreleg.{s}.lower", 1.1)
        if (trial_id in ("hind_forward", "hind_back") and f"foreleg.{s}.upper" in ids) or (
            trial_id in ("hind_forward", "hind_back") and f"wing.{s}.upper" in ids
        ):
            poser.turn_about(f"leg.{s}.upper", OUT, -0.75 if trial_id == "hind_forward" else 0.5)
            if trial_id == "hind_forward":
                poser.turn_about(f"leg.{s}.lower", OUT, 0.6)
        if trial_id == "wing_up":
            poser.turn_about(f"wing.{s}.upper", FORWARD * sign, 0.8)
        elif trial_id == "wing_fold":
            poser.turn_about(f"wing.{s}.upper", UP * sign, 0.9)
            poser.turn_about(f"wing.{s}.lower", UP * sign, -1.6)
            poser.turn_about(f"wing.{s}.end", UP * sign, 1.4)
        elif trial_id == "legs_up":
            for joint in ids:
                if joint.startswith("leg") and joint[3:4].isdigit() and joint.endswith(f".{s}.upper"):
                    poser.turn_about(joint, FORWARD * sign, 0.5)
    if trial_id == "curl":
        for stem in ("tail", "body", "rope", "snout", "abdomen"):
            run = [i for i in ids if i.startswith(f"{stem}.")]
            for joint in run:
                poser.turn_about(joint, OUT if stem != "body" else UP, min(1.6 / max(len(run), 1), 0.5))


def trial_amount(skeleton: Skeleton, trial_id: str, amount: float) -> JointPose:
    """A trial from rest (0) to full (1): every turn at a share of its angle."""
    full = turns_of(skeleton, trial_id)
    turns: dict[str, Quaternion] = {}
    for joint_id, q in full.turns.items():
        w = min(abs(q[3]), 1.0)
        angle = 2 * np.arccos(w)
        axis = np.array(q[:3]) * np.sign(q[3] or 1.0)
        x, y, z, w2 = quaternion_about(axis, angle * amount) if angle > 1e-9 else (0.0, 0.0, 0.0, 1.0)
        turns[joint_id] = (float(x), float(y), float(z), float(w2))
    places = {}
    for joint_id, place in full.places.items():
        rest = skeleton.local[skeleton.index[joint_id]][:3, 3]
        places[joint_id] = rest + amount * (place - rest)
    return turned_pose(skeleton, turns, places)


class Poser:
    """Turns joints about body axes, parents first, keeping what each turn means in the body."""

    def __init__(self, skeleton: Skeleton) -> None:
        self.skeleton = skeleton
        self.body: dict[str, FloatArray] = {}

    def turn_about(self, joint: str, axis: FloatArray, angle: float) -> None:
        """A further turn about a body axis (as seen at rest, carried along by the parents)."""
        if joint in self.skeleton.index:
            before = self.body.get(joint, np.array([0.0, 0.0, 0.0, 1.0]))
            self.body[joint] = quaternion_product(quaternion_about(axis, angle), before)

    def aim(self, joint: str, direction: FloatArray) -> None:
        """Turn a joint so that, its parents' turns included, its bone points along a body direction."""
        if joint not in self.skeleton.index:
            return
        carried = self._carried(joint)
        wanted = rotation_matrix(quaternion_inverse(carried)) @ normalised(direction)
        self.body[joint] = quaternion_between(self._bone(joint), wanted)

    def aim_bone(self, joint: str, end: str, direction: FloatArray) -> None:
        """Turn a joint so that the line from it to `end` points along a body direction, whatever its axes are."""
        i, k = self.skeleton.index[joint], self.skeleton.index[end]
        bone = normalised(self.skeleton.positions[k] - self.skeleton.positions[i])
        wanted = rotation_matrix(quaternion_inverse(self._carried(joint))) @ normalised(direction)
        self.body[joint] = quaternion_between(bone, wanted)

    def fold(self, joint: str, angle: float) -> None:
        """A turn about the joint's own bend axis, to `angle` from straight (what it is bent already counts)."""
        if joint not in self.skeleton.index:
            return
        i = self.skeleton.index[joint]
        bend = self.skeleton.world[i][:3, 0]
        parent = self.skeleton.joints[i].parent
        already = 0.0
        if parent is not None:
            already = float(np.arccos(np.clip(self._bone(parent, i) @ self._bone(joint), -1.0, 1.0)))
        self.turn_about(joint, bend, max(angle - already, 0.0))

    def flex_hand(self, s: str, angle: float) -> None:
        """A hand's turn towards its palm, `angle` from straight."""
        hand, lower = f"arm.{s}.end", f"arm.{s}.lower"
        if hand in self.skeleton.index and lower in self.skeleton.index:
            aim, palm = self._bone(hand), palm_of(self.skeleton, s)[0]
            before = self._bone(lower, self.skeleton.index[hand])
            axis = normalised(np.cross(aim, palm))
            already = float(np.arctan2(np.cross(before, aim) @ axis, before @ aim))
            self.turn_about(hand, axis, angle - already)

    def twist(self, joint: str, along: str, angle: float) -> None:
        """A turn about the bone of another joint, as it lies at rest."""
        if joint in self.skeleton.index and along in self.skeleton.index:
            self.turn_about(joint, self._bone(along), angle)

    def _bone(self, joint: str, towards: int | None = None) -> FloatArray:
        i = self.skeleton.index[joint]
        if towards is not None:
            return normalised(self.skeleton.positions[towards] - self.skeleton.positions[i])
        return np.asarray(self.skeleton.world[i][:3, 1])

    def _carried(self, joint: str) -> FloatArray:
        carried = np.array([0.0, 0.0, 0.0, 1.0])
        parent = self.skeleton.joint(joint).parent
        while parent is not None:
            carried = quaternion_product(self.body.get(parent, np.array([0.0, 0.0, 0.0, 1.0])), carried)
            parent = self.skeleton.joint(parent).parent
        return carried

    def turns(self, skeleton: Skeleton, joint_of: Mapping[str, str]) -> Mapping[str, Quaternion]:
        """The turns in the rest axes of each joint of `skeleton`; joint_of: its ids there."""
        local = {}
        for role, q in self.body.items():
            joint = joint_of[role]
            rest = np.array(skeleton.joint(joint).rotation)
            x, y, z, w = quaternion_product(quaternion_product(quaternion_inverse(rest), q), rest)
            local[joint] = (float(x), float(y), float(z), float(w))
        return MappingProxyType(local)
