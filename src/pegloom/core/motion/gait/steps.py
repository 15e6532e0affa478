"""Where the feet of a gait stand and go, moment by moment."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray
from pegloom.core.motion.gait.course import Course
from pegloom.core.motion.gait.numbers import FEET, Gait
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.retarget.chains import kind_of
from pegloom.core.motion.retarget.plant import Sole
from pegloom.core.motion.retarget.turns import about, of_vector, smooth
from pegloom.core.skeleton.joints import Skeleton

STRIKE, LIFT_OFF = np.radians(20.0), np.radians(46.0)
"""How far the toes are up when a rolling foot comes down, and the heel when it goes."""
FLAT_FROM, FLAT_TO = 0.14, 0.6
"""Shares of the time a foot stands between which all of it does."""
FOLD = np.radians(38.0)
"""How far a paw folds back in its step."""


@dataclass(frozen=True, eq=False)
class Foot:
    """A foot at rest. part; joints : numbers of its leg's upper, lower, end and, where there is one, ball joint. ankle, ball,
    heel (3,) : places at rest; the heel on the ground, the ball the joint or, without one, a place under the foot. paw : whether
    its end joint is a hock or wrist. home (2,) : where it stands at rest beside the root, x and z. side : 1 left, -1 right.
    phase, duty : when in the stride it falls, and the share it stands. out : how far it points outward at rest, radians."""

    part: str
    joints: tuple[int, ...]
    ankle: FloatArray
    ball: FloatArray
    heel: FloatArray
    paw: bool
    home: FloatArray
    side: float
    phase: float
    duty: float
    out: float


@dataclass(frozen=True, eq=False)
class Step:
    """A foot over the moments (k): goal (k, 3) of its end joint; turned, toes (k, 3, 3) from rest, about the body's axes; stands
    (k,); heading (k,) of the foot."""

    goal: FloatArray
    turned: FloatArray
    toes: FloatArray
    stands: BoolArray
    flat: BoolArray
    """Where the ball stands as well, not the heel alone (k,)."""
    heading: FloatArray


def legs_of(parts: Mapping[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
    """Legs a gait can use, by part: three joints at least."""
    return {p: c for p, c in parts.items() if kind_of(p) in ("leg", "foreleg") and len(c) >= 3}


def body_kind(parts: Mapping[str, tuple[str, ...]]) -> str:
    """What of PRESETS suits a body: two, bird, four, many."""
    count = len(legs_of(parts))
    if count > 4:
        return "many"
    if count > 2:
        return "four"
    return "bird" if any(kind_of(p) == "wing" for p in parts) else "two"


def falls_of(skeleton: Skeleton, parts: Mapping[str, tuple[str, ...]], gait: Gait) -> dict[str, tuple[float, float]]:
    """When in the stride each leg's foot falls, and the share of it that it stands, by part."""
    legs = legs_of(parts)
    found = {part: (phase, gait.duty[0 if part.endswith(".l") else 1]) for part, phase in _phases(gait, skeleton, legs).items()}
    return found | {part: (fall, stands) for part, fall, stands in gait.falls if part in found}


def feet_of(skeleton: Skeleton, parts: Mapping[str, tuple[str, ...]], soles: Mapping[str, Sole], gait: Gait, root: FloatArray, floor: float) -> list[Foot]:
    """The feet of a body's legs, with when each falls."""
    legs, falls = legs_of(parts), falls_of(skeleton, parts, gait)
    found = []
    for part, chain in legs.items():
        joints = tuple(skeleton.index[j] for j in chain[:4])
        at = skeleton.positions
        ankle = at[joints[2]]
        sole = soles.get(part)
        points = sole.points if sole is not None and len(sole.points) else np.array([[ankle[0], floor, ankle[2] - 0.1 * (at[joints[0], 1] - floor)]])
        low = points[points[:, 1] < floor + 0.25 * max(float(ankle[1] - floor), 1e-6)]
        low = low if len(low) else points
        heel = low[int(np.argmin(low[:, 2]))] * [1.0, 0.0, 1.0] + [0.0, floor, 0.0]
        front = low[int(np.argmax(low[:, 2]))]
        ball = at[joints[3]] if len(joints) > 3 else np.array([ankle[0], floor, ankle[2] + 0.7 * (front[2] - ankle[2])])
        hip = float(at[joints[0], 1] - floor)
        paw = bool(ankle[1] - floor > 0.2 * hip) or kind_of(part) == "foreleg"
        side = 1.0 if part.endswith(".l") else -1.0
        ahead = ball - ankle
        out = side * float(np.arctan2(ahead[0], max(ahead[2], 1e-9))) if np.hypot(ahead[0], ahead[2]) > 0.2 * max(ankle[1] - floor, 1e-9) else 0.0
        width = gait.width if len(legs) == 2 else 0.5 + 0.5 * gait.width
        x = float(at[joints[0], 0] if len(legs) == 2 else ball[0]) - root[0]
        home = np.array([width * x, ball[2] - root[2]])
        found.append(Foot(part, joints, ankle, ball, heel, paw, home, side, *falls[part], out))
    return found


def _phases(gait: Gait, skeleton: Skeleton, legs: Mapping[str, tuple[str, ...]]) -> dict[str, float]:
    parts = list(legs)
    lead = gait.lead[0]
    if len(parts) <= 2:
        return {p: 0.0 if p.endswith(f".{lead}") else gait.offset for p in parts}
    stems = sorted({p.rpartition(".")[0] for p in parts}, key=lambda s: min(skeleton.positions[skeleton.index[legs[p][0]], 2] for p in parts if p.startswith(f"{s}.")))

    def leads(part: str) -> bool:
        return part.endswith(f".{lead}")

    if len(stems) == 2 and FEET[gait.feet]:
        return {p: FEET[gait.feet][f"{'hind' if p.rpartition('.')[0] == stems[0] else 'fore'}.{'l' if leads(p) else 'r'}"] for p in parts}
    found = {}
    for p in parts:
        row = stems.index(p.rpartition(".")[0])
        if gait.feet == "wave":
            # From behind to the front, one side after the other.
            found[p] = (0.5 * row / len(stems) + (0.0 if leads(p) else 0.5)) % 1.0
        else:
            # Each pair half a stride after the one behind it, sides against each other, so that three pairs go by threes.
            found[p] = (0.5 * row + (0.0 if leads(p) else 0.5)) % 1.0
    return found


@dataclass(frozen=True, eq=False)
class _Stance:
    """What a foot's stances are told by."""

    foot: Foot
    gait: Gait
    way: Way
    course: Course
    leg: float
    floor: float
    ends: tuple[float, float]
    tip: FloatArray
    """How far it stands on its ball all the time (k,), radians."""

    @property
    def s(self) -> int:
        return 0 if self.foot.side > 0 else 1

    def at(self, number: FloatArray, share: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        """Of a foot's n-th stance (k,) at a share (k,) of it: the end joint's place, heading, pitch of the foot and of the toes."""
        foot, gait, leg, course = self.foot, self.gait, self.leg, self.course
        share = np.where(number <= self.ends[0], np.maximum(share, 0.3), np.where(number >= self.ends[1], np.minimum(share, 0.5), share))
        # The foot stands where the body is over it in the middle of its stance; standing, where the body stands.
        uneven = 0.25 * leg * (gait.stride[self.s] - gait.stride[1 - self.s])
        middle = number + foot.phase + 0.5 * foot.duty
        standing = (number <= self.ends[0]) | (number >= self.ends[1])
        middle = np.where(number <= self.ends[0], course.first, np.where(number >= self.ends[1], course.last, middle))
        place, ahead = self.way.at(course.along(middle) + np.where(standing, 0.0, uneven))
        out = np.radians(gait.toe_out[self.s]) - foot.out if not foot.paw else np.radians(gait.toe_out[self.s])
        heading = ahead + foot.side * out
        stand = place + np.einsum("kab,b->ka", _yaw(ahead), np.array([foot.home[0], 0.0, foot.home[1]]))
        stand[:, 1] = self.floor + self.way.ground(stand[:, [0, 2]])
        ball = stand + [0.0, float(foot.ball[1] - self.floor), 0.0]
        if foot.paw:
            pitch = np.radians(16.0) * smooth(share, 0.55, 1.0)
            turned = _yaw(heading) @ _pitch(pitch)
            return ball + np.einsum("kab,b->ka", turned, foot.ankle - foot.ball), heading, pitch, np.zeros_like(pitch)
        roll = gait.roll[self.s]
        toes_up = -STRIKE * roll * (1.0 - smooth(share, 0.0, FLAT_FROM))
        heel_up = np.maximum(LIFT_OFF * roll * smooth(share, FLAT_TO, 1.0), self.tip)
        pitch = np.where((toes_up < 0.0) & (self.tip == 0.0), toes_up, heel_up)
        turned = _yaw(heading) @ _pitch(pitch)
        heel = ball + np.einsum("kab,b->ka", _yaw(heading), foot.heel - foot.ball)
        about_ball = ball + np.einsum("kab,b->ka", turned, foot.ankle - foot.ball)
        about_heel = heel + np.einsum("kab,b->ka", turned, foot.ankle - foot.heel)
        return np.where((pitch < 0.0)[:, None], about_heel, about_ball), heading, pitch, np.where(pitch < 0.0, pitch, 0.0)


def steps_of(foot: Foot, gait: Gait, way: Way, course: Course, phases: FloatArray, leg: float, floor: float) -> Step:
    """What a foot does at phases (k,) of a course. leg : the length numbers are told in, metres."""
    s = 0 if foot.side > 0 else 1
    ends = course.numbers(foot.phase, foot.duty)
    own = phases - foot.phase
    number = np.clip(np.floor(own), *ends)
    u = own - number
    stands = (u < foot.duty) | (number >= ends[1])
    stance = _Stance(foot, gait, way, course, leg, floor, ends, _tip(foot, gait, leg) * course.share(phases))
    here = stance.at(number, np.clip(u / foot.duty, 0.0, 1.0))
    lifted = stance.at(number, np.ones(len(u)))
    falls = stance.at(number + 1.0, np.zeros(len(u)))
    v = np.clip((u - foot.duty) / (1.0 - foot.duty), 0.0, 1.0)
    # Quick in the middle, as a leg swings; the foot leaves and lands without a jerk.
    e = smooth(v, 0.0, 1.0)
    goal = lifted[0] + e[:, None] * (falls[0] - lifted[0])
    goal[:, 1] += gait.lift[s] * leg * np.sin(np.pi * v) ** 1.5
    heading = lifted[1] + e * (falls[1] - lifted[1])
    pitch = lifted[2] * (1.0 - smooth(v, 0.0, 0.7)) + falls[2] * smooth(v, 0.4, 1.0)
    bend = np.zeros(len(u))
    if foot.paw:
        pitch = pitch + FOLD * np.sin(np.pi * v)
        bend = 0.8 * FOLD * np.sin(np.pi * v)
    turned = _yaw(heading) @ _pitch(pitch)
    lands = smooth(v, 0.6, 1.0)
    toes = _yaw(heading) @ _pitch((1.0 - lands) * (lifted[3] * (1.0 - smooth(v, 0.0, 0.5)) + smooth(v, 0.0, 0.5) * pitch) + lands * falls[3] + bend)
    pick = stands[:, None]
    flat = _yaw(here[1]) @ _pitch(here[2])
    return Step(
        np.where(pick, here[0], goal), np.where(pick[..., None], flat, turned), np.where(pick[..., None], _yaw(here[1]) @ _pitch(here[3]), toes),
        stands, stands & (here[2] >= 0.0), np.where(stands, here[1], heading),
    )  # fmt: skip


def _tip(foot: Foot, gait: Gait, leg: float) -> float:
    """How far a foot stands on its ball all the time, radians: what lifts the hips over stretched legs."""
    if gait.height <= 1.0:
        return 0.0
    long = float(np.linalg.norm(foot.ball - foot.ankle))
    return float(np.arcsin(min((gait.height - 1.0) * leg / max(long, 1e-9), 0.85)))


def _yaw(angles: FloatArray) -> FloatArray:
    return about(np.broadcast_to([0.0, 1.0, 0.0], (len(angles), 3)), angles)


def _pitch(angles: FloatArray) -> FloatArray:
    """Heel up for angles above 0."""
    return of_vector(np.stack([angles, np.zeros_like(angles), np.zeros_like(angles)], axis=-1))
