"""A gait made on a body: the feet first, then the hips over them, then all that goes with them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.course import Course
from pegloom.core.motion.gait.numbers import Gait
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.gait.steps import Foot, Step, body_kind, feet_of, legs_of, steps_of
from pegloom.core.motion.gait.straight import places_between
from pegloom.core.motion.retarget.carry import hanging
from pegloom.core.motion.retarget.chains import frames_of, kind_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.plant import STRETCH, Contact, Sole, bare_soles, bend_to
from pegloom.core.motion.retarget.turns import about, of_vector, smooth
from pegloom.core.skeleton.joints import Skeleton

OFF_THE_BODY = np.radians(8.0)
"""How far hanging arms stand off."""
FOLDED, FOLDED_DOWN = (78.0, -152.0, 150.0), np.radians(16.0)
"""Degrees each bone of a folded wing is turned back, and how far the first hangs."""
HELD_STILL = 0.62
"""Share of a step for which a nodding head holds its place."""
WALKS_EASED, RUNS_EASED = 0.05, 0.2
"""Of a stride: how far the hips' sinking is spread."""
ROLLS = 2.5e-4
"""Of the legs' length: what a planted foot may roll between two moments before there is one more between them."""
FINEST = 3
"""Times the span between two frames is halved at most."""


@dataclass(frozen=True, eq=False)
class Made:
    """clip : sampled motion of the joints. period : seconds of a stride. speed : metres a second, once under way. contacts : when
    each foot stands. sunk : most the hips came down for a leg to reach, metres."""

    clip: Clip
    period: float
    speed: float
    contacts: tuple[Contact, ...]
    sunk: float


def make_gait(
    gait: Gait, skeleton: Skeleton, *, strides: float = 1.0, rate: float = 30.0, way: Way | None = None, in_place: bool = False,
    start: bool = False, stop: bool = False, soles: Mapping[str, Sole] | None = None, name: str = "gait", free: bool = False,
) -> Made:  # fmt: skip
    """Motion of a body that goes by the numbers of a gait.

    skeleton : at rest, Y up, facing +Z, metres. strides : how many. rate : moments a second. in_place : the ground goes under it.
    start, stop : whether it begins and ends standing. free : more moments where a planted foot would roll between two.
    Raises EditError for a body without two legs of three joints.
    """
    walker = Walker(gait, skeleton, strides=strides, way=way, in_place=in_place, start=start, stop=stop, soles=soles)
    return walker.make(rate, name, free=free)


class Walker:
    """A body that goes by the numbers of a gait, at any moments of its course."""

    def __init__(
        self, gait: Gait, skeleton: Skeleton, *, strides: float = 1.0, way: Way | None = None, in_place: bool = False, start: bool = False,
        stop: bool = False, soles: Mapping[str, Sole] | None = None,
    ) -> None:  # fmt: skip
        self.gait, self.skeleton, self.way, self.in_place = gait, skeleton, way or Way(), in_place
        self.parts = parts_of(skeleton)
        legs = legs_of(self.parts)
        if len(legs) < 2 or not self.parts.get("trunk"):
            raise EditError("a gait needs hips and two legs of three joints at least; say what they are in Joints, under Parts of the body")
        if start and stop and strides < 1.0:
            raise EditError("from standing to a stand takes one stride at least")
        self.soles = dict(soles or bare_soles(skeleton, self.parts))
        lowest = float(skeleton.positions[:, 1].min())
        self.floor = min((float(s.points[:, 1].min()) for p, s in self.soles.items() if p in legs and len(s.points)), default=lowest)
        self.base = skeleton.index[self.parts["trunk"][0]]
        self.root = skeleton.positions[self.base]
        self.feet = feet_of(skeleton, self.parts, self.soles, gait, self.root, self.floor)
        self.leg = float(np.mean([skeleton.positions[f.joints[0], 1] - self.floor for f in self.feet]))
        self.kind = body_kind(self.parts)
        period = gait.seconds(self.leg, self.kind)
        self.length = 0.5 * sum(gait.stride) * self.leg
        self.course = Course(strides, period, self.length, start, stop).held((f.phase, f.duty) for f in self.feet)

    @property
    def two_legged(self) -> bool:
        return len(self.feet) == 2

    def make(self, rate: float, name: str = "gait", *, free: bool = False) -> Made:
        """The whole course at moments; its clip's rate divides it evenly."""
        seconds = self.course.seconds
        count = max(round(seconds * rate), 2)
        # Whole strides end where they began: the moments divide them evenly.
        times = np.linspace(0.0, seconds, count + 1)
        figure, steps, down = self.figure(times)
        contacts = self._contacts(steps, times)
        clip = Clip("", name, rate=count / seconds, length=float(times[-1]), tracks=figure.tracks(times))
        if free:
            clip = self._refined(clip, figure, times, down)
        return Made(clip, self.course.period, self.length / self.course.period, contacts, float(down.max(initial=0.0)))

    def figure(self, times: FloatArray, down: tuple[FloatArray, FloatArray] | None = None) -> tuple[Figure, list[Step], FloatArray]:
        """The body at moments (k,), its feet's steps, and how far the hips came down. down : that at other, even moments."""
        gait, course, leg = self.gait, self.course, self.leg
        phases = course.phases(times)
        figure = Figure(self.skeleton, len(times), self.base)
        steps = [steps_of(foot, gait, self.way, course, phases, leg, self.floor) for foot in self.feet]
        place, heading = self.way.at(course.along(phases))
        beat = 2.0 * np.pi * (phases - self.feet[0].phase)
        middle = np.pi * self.feet[0].duty
        on = course.share(phases)
        turn = self._upright(figure, place, heading, phases, beat, on)
        # The weight goes over the foot that stays before the other is lifted.
        sway = gait.sway * leg * np.cos(beat - middle) * course.share(phases, 0.35)
        running = max(f.duty for f in self.feet) < 0.5
        twice = 1.0 if gait.feet == "canter" and len(self.feet) == 4 else 2.0
        bob = 0.5 * gait.bob * leg * np.cos(twice * (beat - middle)) * (-1.0 if running else 1.0) * on
        drop = (1.0 - gait.height) * leg * on
        figure.places = place + np.einsum("kab,b->ka", _turned(heading), np.array([self.root[0], 0.0, 0.0])) + sway[:, None] * _turned(heading)[:, :, 0]
        figure.places[:, 1] += self.root[1] - drop + bob
        self._arms(figure, turn, beat, on)
        self._wings(figure, turn)
        figure.stand()
        lowered = self._sunk(figure, steps, times) if down is None else np.interp(times, *down)
        figure.places[:, 1] -= lowered
        figure.stand()
        _legs(figure, self.feet, steps, self.soles, self.way)
        if self.in_place:
            figure.places = figure.places - place * [1.0, 0.0, 1.0]
            figure.stand()
        return figure, steps, lowered

    def _contacts(self, steps: Sequence[Step], times: FloatArray) -> tuple[Contact, ...]:
        return tuple(c for foot, step in zip(self.feet, steps, strict=True) for c in _contacts(foot, step, times, self.skeleton))

    def _refined(self, clip: Clip, figure: Figure, times: FloatArray, down: FloatArray) -> Clip:
        """With moments put between those at which a planted foot would roll on the straight way from one to the next."""
        even, joints = (times, down), [foot.joints[min(3, len(foot.joints) - 1)] for foot in self.feet]
        for _ in range(FINEST):
            between = 0.5 * (times[1:] + times[:-1])
            told, steps, _ = self.figure(between, even)
            played = places_between(self.skeleton, figure.rows(), 0.5, joints)
            off = np.linalg.norm(played - told.at[:, joints], axis=-1)
            wanted = (np.where(np.stack([s.stands for s in steps], axis=1), off, 0.0).max(axis=1)) > ROLLS * self.leg
            if not wanted.any():
                break
            times = np.sort(np.concatenate([times, between[wanted]]))
            figure, _, _ = self.figure(times, even)
        return replace(clip, tracks=figure.tracks(times))

    def _upright(self, figure: Figure, place: FloatArray, heading: FloatArray, phases: FloatArray, beat: FloatArray, on: FloatArray) -> FloatArray:
        """Turn hips, trunk, neck, head and tail; returns how the chest is turned (k, 3, 3)."""
        gait, parts, index = self.gait, self.parts, figure.skeleton.index
        hips = -_both(gait.hip_twist, np.cos(beat)) * on
        chest = _both(gait.shoulder_twist, np.cos(beat)) * on
        lean = np.radians(gait.lean) * on
        if not self.two_legged:
            # What stands on four legs goes with the ground.
            ahead = np.stack([np.sin(heading), np.cos(heading)], axis=-1)
            flat = place[:, [0, 2]]
            lean = lean - np.arctan((self.way.ground(flat + 0.1 * ahead) - self.way.ground(flat - 0.1 * ahead)) / 0.2)
        # The side whose leg swings drops a little.
        drop = np.radians(0.3 * sum(gait.hip_twist)) * np.sin(beat - np.pi * self.feet[0].duty + np.pi / 2) * on
        trunk = parts["trunk"]
        turn = _turned(heading)
        for k, joint in enumerate(trunk):
            share = k / max(len(trunk) - 1, 1)
            twist = hips + share * (chest - hips) if self.two_legged else (1.0 - 2.0 * share) * 0.5 * hips
            turn = _turned(heading + twist) @ _about_z(drop * (1.0 - share)) @ _about_x(lean * (0.35 + 0.65 * share))
            figure.turns[index[joint]] = turn
        above = [*parts.get("neck", ()), *parts.get("head", ())]
        nods = self._nod(phases, above) * on
        for k, joint in enumerate(above, 1):
            share = gait.steady * k / len(above)
            bow = (1.0 - share) * lean + (nods if joint in parts.get("neck", ()) else 0.0)
            figure.turns[index[joint]] = _turned(heading + (1.0 - share) * chest * (1.0 if self.two_legged else 0.3)) @ _about_x(bow)
        for k, joint in enumerate(parts.get("tail", ()), 1):
            figure.turns[index[joint]] = _turned(heading + np.radians(5.0) * np.sin(beat - 0.7 * k) * on) @ _about_x(np.radians(2.0) * np.sin(2.0 * beat - 0.7 * k) * on)
        return turn

    def _nod(self, phases: FloatArray, above: Sequence[str]) -> FloatArray:
        """How far the neck leans ahead (k,), radians, so that the head holds its place through most of a step."""
        joints = [self.skeleton.index[j] for j in above]
        if self.gait.nod <= 0.0 or len(joints) < 2:
            return np.zeros_like(phases)
        high = float(np.linalg.norm(self.skeleton.positions[joints[-1]] - self.skeleton.positions[joints[0]]))
        u = 2.0 * (phases - self.feet[0].phase) % 1.0
        held = 1.0 - 2.0 * np.clip(u / HELD_STILL, 0.0, 1.0)
        thrust = -1.0 + 2.0 * smooth(u, HELD_STILL, 1.0)
        way = 0.25 * self.length * HELD_STILL * self.gait.nod * np.where(u < HELD_STILL, held, thrust)
        return np.asarray(np.arcsin(np.clip(way / max(high, 1e-9), -0.6, 0.6)))

    def _arms(self, figure: Figure, chest: FloatArray, beat: FloatArray, on: FloatArray) -> None:
        """Arms hang and swing against the legs; a walker's elbows give, a runner's stay bent."""
        if not self.two_legged:
            return
        gait, index, frames = self.gait, figure.skeleton.index, frames_of(figure.skeleton)
        for part, chain in self.parts.items():
            if kind_of(part) != "arm" or len(chain) < 3:
                continue
            side = 1.0 if part.endswith(".l") else -1.0
            s = 0 if side > 0 else 1
            swing = (-side * np.radians(gait.arm_swing[s]) * np.cos(beat) + np.radians(0.12 * gait.arm_swing[s])) * on
            elbow = np.radians(gait.elbow[s]) * (1.0 - 0.45 * side * np.cos(beat)) * on + np.radians(6.0) * (1.0 - on)
            held = chest @ _about_z(np.full(len(beat), side * OFF_THE_BODY))
            upper = held @ _about_x(-swing)
            lower = upper @ _about_x(-elbow)
            hang = [hanging(frames[j]) for j in chain[:2]]
            figure.turns[index[chain[0]]] = upper @ hang[0]
            figure.turns[index[chain[1]]] = lower @ hang[1]
            figure.turns[index[chain[2]]] = lower @ _about_x(-0.15 * swing) @ hang[1]

    def _wings(self, figure: Figure, chest: FloatArray) -> None:
        """Folded wings: the upper bone back along the body, the next ahead, the last back again."""
        if self.gait.fold <= 0.0:
            return
        for part, chain in self.parts.items():
            if kind_of(part) != "wing":
                continue
            side, above = (1.0 if part.endswith(".l") else -1.0), chest
            for k, joint in enumerate(chain):
                yaw = side * np.radians(FOLDED[min(k, 2)]) * self.gait.fold
                above = above @ _turned(np.full(len(chest), yaw))
                if k == 0:
                    above = above @ _about_z(np.full(len(chest), -side * FOLDED_DOWN * self.gait.fold))
                figure.turns[figure.skeleton.index[joint]] = above

    def _sunk(self, figure: Figure, steps: Sequence[Step], times: FloatArray) -> FloatArray:
        """How far the hips come down (k,) at even moments for the legs that stand to reach."""
        need = np.zeros(figure.moments)
        for foot, step in zip(self.feet, steps, strict=True):
            start = figure.at[:, foot.joints[0]]
            bones = [np.linalg.norm(figure.rest[b] - figure.rest[a]) for a, b in zip(foot.joints[:2], foot.joints[1:3], strict=True)]
            whole = STRETCH * float(sum(bones))
            flat = ((step.goal - start)[:, [0, 2]] ** 2).sum(axis=1)
            room = np.sqrt(np.maximum(whole**2 - flat, 0.0))
            need = np.maximum(need, np.where(step.stands, np.maximum(start[:, 1] - step.goal[:, 1] - room, 0.0), 0.0))
        if not need.any():
            return need
        # Walkers rise and sink over their legs; who runs goes low all the time.
        share = WALKS_EASED if max(f.duty for f in self.feet) >= 0.5 else RUNS_EASED
        width = max(share * self.course.period / max(float(times[1] - times[0]), 1e-6), 1.0)
        if self.course.start or self.course.stop or self.course.strides % 1.0 > 1e-9:
            return _over(need, width, "nearest")
        # Strides repeat: what is smoothed runs on round the end, whose last moment is the first.
        once = _over(need[:-1], width, "wrap")
        return np.append(once, once[0])


def _over(need: FloatArray, width: float, mode: Literal["nearest", "wrap"]) -> FloatArray:
    """A smooth course (k,) that is nowhere below another: widened as far as it is then smoothed. width : moments."""
    reach = int(np.ceil(3.0 * width))
    return np.asarray(gaussian_filter1d(maximum_filter1d(need, 2 * reach + 1, mode=mode), width, mode=mode, radius=reach))


def _both(values: tuple[float, float], wave: FloatArray) -> FloatArray:
    """Radians (k,) that come to the left value where a wave is 1, to the right one the other way where it is -1."""
    left, right = np.radians(values[0]), np.radians(values[1])
    return np.asarray(0.5 * (left + right) * wave + 0.5 * (left - right) * wave**2)


def _turned(angles: FloatArray) -> FloatArray:
    return about(np.broadcast_to([0.0, 1.0, 0.0], (len(angles), 3)), angles)


def _about_x(angles: FloatArray) -> FloatArray:
    return of_vector(np.stack([angles, np.zeros_like(angles), np.zeros_like(angles)], axis=-1))


def _about_z(angles: FloatArray) -> FloatArray:
    return of_vector(np.stack([np.zeros_like(angles), np.zeros_like(angles), angles], axis=-1))


def _legs(figure: Figure, feet: list[Foot], steps: list[Step], soles: Mapping[str, Sole], way: Way) -> None:
    frames = frames_of(figure.skeleton)
    for foot, step in zip(feet, steps, strict=True):
        upper, lower, end = foot.joints[:3]
        parent = int(figure.parents[upper])
        hips = figure.turned[:, parent]
        # Knees point half way between the hips and the foot.
        off = step.heading - np.arctan2(hips[:, 0, 2], hips[:, 2, 2])
        off = np.arctan2(np.sin(off), np.cos(off))
        figure.turns[upper] = _turned(0.5 * off) @ hips
        figure.turns[end] = step.turned
        if len(foot.joints) > 3:
            figure.turns[foot.joints[3]] = step.toes
        figure.stand(figure.below(upper))
        axis = frames[figure.skeleton.joints[upper].id][:, 0]
        bend_to(figure, (upper, lower, end), step.goal, axis)
        sole = soles.get(foot.part)
        if sole is not None and len(sole.points):
            ground = float(sole.points[:, 1].min()) + way.ground(figure.at[:, end][:, [0, 2]])
            goal = step.goal
            for _ in range(2):
                below = np.maximum(ground - sole.lowest(figure), 0.0)
                if below.max() < 1e-5:
                    break
                # Where a leg does not reach its goal, what it lacks is no room under the foot.
                goal = np.where(below[:, None] > 0, figure.at[:, end], goal) + below[:, None] * np.array([0.0, 1.0, 0.0])
                bend_to(figure, (upper, lower, end), goal, axis)


def _contacts(foot: Foot, step: Step, times: FloatArray, skeleton: Skeleton) -> list[Contact]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], step.flat.astype(np.int8), [0]])))
    joint = skeleton.joints[foot.joints[min(3, len(foot.joints) - 1)]].id
    return [Contact(foot.part, joint, float(times[a]), float(times[b - 1]), 0.0) for a, b in zip(edges[::2], edges[1::2], strict=True)]
