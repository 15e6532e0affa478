"""A two-legged body told by a few channels over time: hips, trunk, head, arms, hands, feet.

A channel is keys of (seconds, value), joined without overshoot, so that what rests between two keys rests; loops go on round
their end. Lengths are told in legs (hips to ground) and, for hands, in arms; angles in degrees.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.ndimage import gaussian_filter1d, maximum_filter1d
from tools.acting.body import RATE, Body, body

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.making import Walker
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.plant import STRETCH, bend_to
from pegloom.core.motion.retarget.turns import about, across, framed, of_vector, smooth, unit, vector_of

SIDES = {"l": 1.0, "r": -1.0}
FINGERS = ("thumb", "index", "middle", "ring", "little")
USUAL = {
    "up": -78.0, "out": 14.0, "reach": 0.985, "swivel": 0.0, "wrist": 0.0, "turn": 0.0, "curl": 0.22, "spread": 0.0, "shrug": 0.0, "ahead": 0.0, "hold": 0.0,
    "world": 0.0, "arm": 1.0,
}  # fmt: skip
"""Of an arm: up, out: where the hand is from the shoulder, degrees up and to the side (0: level, ahead); reach: how far, of the arm;
swivel: the elbow raised about that line; wrist, turn: the hand bent and turned; curl, spread: fingers; shrug, ahead: the shoulder;
hold: whether the hand is at its place in space; arm: whether it is told at all, over a gait's own swing."""


def keyed(keys: list[tuple[float, float]], times: FloatArray, usual: float, length: float, loop: bool) -> FloatArray:
    """Values (k,) of keys at times."""
    if not keys:
        return np.full(len(times), usual)
    told = dict(sorted(keys))
    t, v = np.array(list(told)), np.array(list(told.values()))
    if loop:
        t, v = np.concatenate([t - length, t, t + length]), np.tile(v, 3)
        keep = np.concatenate([[True], np.diff(t) > 1e-6])
        t, v = t[keep], v[keep]
    if len(t) == 1:
        return np.full(len(times), v[0])
    return np.asarray(PchipInterpolator(t, v)(np.clip(times, t[0], t[-1])))


def rotation(yaw: FloatArray | float, pitch: FloatArray | float, roll: FloatArray | float) -> FloatArray:
    """(k, 3, 3) of degrees: about the vertical, then nodding ahead, then to the side."""
    y, x, z = (np.radians(np.atleast_1d(np.asarray(v, dtype=float))) for v in (yaw, pitch, roll))
    count = max(len(y), len(x), len(z))

    def one(axis: int, angle: FloatArray) -> FloatArray:
        vector = np.zeros((count, 3))
        vector[:, axis] = angle
        return of_vector(vector)

    return np.asarray(one(1, y) @ one(0, x) @ one(2, z))


def thrown(place: FloatArray, times: FloatArray, first: float, last: float) -> None:
    """Between two moments a place (k, 3) goes as what is thrown goes, in place."""
    a, b = round(first * RATE), round(last * RATE)
    t = times[a : b + 1] - times[a]
    start, end, pull = place[a].copy(), place[b].copy(), np.array([0.0, -9.81, 0.0])
    speed = (end - start - 0.5 * pull * t[-1] ** 2) / t[-1]
    place[a : b + 1] = start + speed * t[:, None] + 0.5 * pull * t[:, None] ** 2


@dataclass
class Step:
    """A foot that goes from where it stands to a place (x, z in legs from where it stood at first) and heading."""

    side: str
    first: float
    last: float
    x: float
    z: float
    yaw: float
    lift: float


@dataclass
class Actor:
    seconds: float
    loop: bool = False
    who: str = "wick"
    walker: Walker | None = None
    keys: dict[str, list[tuple[float, float]]] = field(default_factory=lambda: defaultdict(list))
    steps: list[Step] = field(default_factory=list)
    flights: list[tuple[float, float]] = field(default_factory=list)
    """From when to when the body is in the air, seconds."""
    lies: list[tuple[float, float]] = field(default_factory=list)
    """From when to when the body itself rests on the ground."""
    breath: float = 1.0
    stance: float = 1.0
    """How far apart the feet stand, 1 as at rest."""
    free_feet: bool = False
    """Feet go with the hips: nothing is planted."""

    @property
    def body(self) -> Body:
        return body(self.who)

    def key(self, time: float, **values: float) -> Actor:
        """Values at a time; `arm_` stands for both arms, `arm_l_up` for one."""
        for name, value in values.items():
            names = [name]
            if name.startswith("arm_") and name[4:6] not in ("l_", "r_"):
                names = [f"arm_{s}_{name[4:]}" for s in "lr"]
            elif name.startswith("foot_") and name[5:7] not in ("l_", "r_"):
                names = [f"foot_{s}_{name[5:]}" for s in "lr"]
            for one in names:
                self.keys[one].append((time, value))
        return self

    def hold(self, *times: float, **values: float) -> Actor:
        for time in times:
            self.key(time, **values)
        return self

    def step(self, side: str, first: float, last: float, x: float = 0.0, z: float = 0.0, yaw: float = 0.0, lift: float = 0.1) -> Actor:
        self.steps.append(Step(side, first, last, x, z, yaw, lift))
        return self

    # Working it out

    def at(self, name: str, usual: float = 0.0, late: float = 0.0) -> FloatArray:
        """A channel's values, late by some seconds: what follows another."""
        return keyed(self.keys.get(name, []), self.times - late, usual, self.seconds, self.loop)

    def figure(self) -> Figure:
        """The body at every frame."""
        count = round(self.seconds * RATE)
        self.times = np.arange(count + 1) / RATE
        if self.walker is not None:
            figure = self._gone()
        else:
            figure = self.body.figure(len(self.times))
            self._hips(figure)
        self._trunk(figure)
        figure.stand()
        if self.walker is None and not self.free_feet:
            self._sink(figure)
        self._arms(figure)
        self._legs(figure)
        self._hands(figure)
        figure.limited(self.body.bounds)
        figure.stand()
        self._ground(figure)
        return figure

    def clip(self, name: str) -> Clip:
        figure = self.figure()
        return Clip("", name, rate=RATE, length=float(self.times[-1]), tracks=figure.tracks(self.times))

    def _gone(self) -> Figure:
        """A gait under it."""
        walker = self.walker
        assert walker is not None
        seconds = walker.course.seconds
        even = np.linspace(0.0, seconds, max(round(seconds * 60.0), 2) + 1)
        _, _, down = walker.figure(even)
        figure, _, _ = walker.figure(np.minimum(self.times, seconds), (even, down))
        self.base_turns = {j: turn.copy() for j, turn in figure.turns.items()}
        return figure

    def _drift(self, seed: int, size: float, seconds: float = 1.6) -> FloatArray:
        """A slow, small wandering (k,): nobody stands quite still."""
        rng = np.random.default_rng(seed)
        count = len(self.times)
        raw = rng.normal(size=count)
        told = gaussian_filter1d(raw, seconds * RATE / 2.5, mode="wrap")
        told = told / max(np.abs(told).max(), 1e-9)
        if not self.loop:
            told = told * smooth(self.times, 0.0, 0.4) * smooth(self.times, self.seconds, self.seconds - 0.4)
        return np.asarray(size * told)

    def _breath(self) -> FloatArray:
        beats = max(round(self.seconds / 3.4), 1)
        return np.asarray(self.breath * np.sin(2.0 * np.pi * beats * self.times / self.seconds))

    def _hips(self, figure: Figure) -> None:
        leg, rest = self.body.leg, self.body.skeleton.positions[figure.base]
        feet = self._places()
        weight = self.at("weight") + self._drift(1, 0.06)
        left, right = (feet[s][0] for s in "lr")
        middle, apart = 0.5 * (left + right), 0.5 * (left - right)
        self.yaw = self.at("hips_yaw") + 0.5 * (feet["l"][1] + feet["r"][1])
        place = np.zeros((len(self.times), 3))
        ground = middle + weight[:, None] * apart if not self.free_feet else np.zeros((len(self.times), 2))
        # At rest the hips are not quite over the middle of the ankles.
        home = 0.5 * (self.body.skeleton.positions[self.body.j("leg.l", 2)] + self.body.skeleton.positions[self.body.j("leg.r", 2)])
        off = rest - home
        turned = rotation(self.yaw, 0.0, 0.0)
        place[:, [0, 2]] = ground + np.einsum("kab,b->ka", turned, [off[0], 0.0, off[2]])[:, [0, 2]]
        place += np.einsum("kab,kb->ka", turned, leg * np.stack([self.at("hips_x"), np.zeros(len(self.times)), self.at("hips_z")], axis=1))
        place[:, 1] = rest[1] + leg * self.at("hips_y")
        for first, last in self.flights:
            thrown(place, self.times, first, last)
        figure.places = place
        self.pitch, self.roll = self.at("hips_pitch"), self.at("hips_roll") - 3.0 * weight
        self.hips_turn = rotation(self.yaw, self.pitch, self.roll)

    def _trunk(self, figure: Figure) -> None:
        one, index = self.body, figure.skeleton.index
        breath = self._breath()
        lean, side, twist = self.at("lean") + 0.5 * breath, self.at("side") + self._drift(2, 0.8), self.at("twist") + self._drift(3, 1.0)
        trunk = one.parts["trunk"]
        if self.walker is None:
            for k, joint in enumerate(trunk):
                share = k / max(len(trunk) - 1, 1)
                figure.turns[index[joint]] = self.hips_turn if k == 0 else self.hips_turn @ rotation(twist * share, lean * share, side * share)
        else:
            for k, joint in enumerate(trunk):
                share = k / max(len(trunk) - 1, 1)
                figure.turns[index[joint]] = figure.turns[index[joint]] @ rotation(twist * share, lean * share, side * share)
        chest = figure.turns[index[trunk[-1]]]
        self.chest = chest
        pitch, yaw, roll = (self.at(f"head_{n}") for n in ("pitch", "yaw", "roll"))
        pitch = pitch + self._drift(4, 1.0)
        yaw = yaw + self._drift(5, 1.5)
        steady = self.at("steady", 0.75)
        above = [*one.parts.get("neck", ()), *one.parts.get("head", ())]
        for k, joint in enumerate(above, 1):
            share = k / len(above)
            if self.walker is None:
                # What the trunk does is taken back by the neck: the face stays where it looks.
                own = rotation(self.yaw + (1.0 - steady * share) * twist, (1.0 - steady * share) * (self.pitch + lean), (1.0 - steady * share) * (self.roll + side))
                figure.turns[index[joint]] = own @ rotation(yaw * share, pitch * share, roll * share)
            else:
                figure.turns[index[joint]] = figure.turns[index[joint]] @ rotation(yaw * share, pitch * share, roll * share)

    # Arms

    def _arms(self, figure: Figure) -> None:
        for s, sign in SIDES.items():
            self._arm(figure, s, sign)

    def _arm(self, figure: Figure, s: str, sign: float) -> None:
        one = self.body
        told = {name: self.at(f"arm_{s}_{name}", usual) for name, usual in USUAL.items()}
        if self.walker is not None and not any(k.startswith(f"arm_{s}_") for k in self.keys):
            told["arm"] = np.zeros(len(self.times))
        share = told["arm"]
        if not share.any():
            return
        shoulder = f"shoulder.{s}"
        chest = figure.turned[:, figure.skeleton.index[one.parts["trunk"][-1]]]
        if shoulder in one.parts:
            figure.turns[one.j(shoulder)] = chest @ rotation(-sign * told["ahead"], 0.0, sign * told["shrug"])
            figure.stand(figure.below(one.j(shoulder)))
        upper, lower, end = (one.j(f"arm.{s}", k) for k in range(3))
        rest = one.skeleton.positions
        a, b = float(np.linalg.norm(rest[lower] - rest[upper])), float(np.linalg.norm(rest[end] - rest[lower]))
        breath = 0.25 * self._breath() if self.walker is None else 0.0
        up, out = np.radians(told["up"] + breath), np.radians(told["out"])
        way = np.stack([sign * np.cos(up) * np.sin(out), np.sin(up), np.cos(up) * np.cos(out)], axis=1)
        way = np.einsum("kab,kb->ka", chest, way)
        start = figure.at[:, upper]
        goal = start + way * (np.clip(told["reach"], 0.25, STRETCH) * (a + b))[:, None]
        hold = told["hold"]
        if hold.any():
            place = np.stack([self.at(f"arm_{s}_{n}") for n in ("x", "y", "z")], axis=1) * one.leg
            place[:, 1] += one.floor
            goal = goal + hold[:, None] * (place - goal)
        reach = goal - start
        far = np.linalg.norm(reach, axis=1)
        goal = start + reach * (np.clip(far, 0.25 * (a + b), STRETCH * (a + b)) / np.maximum(far, 1e-9))[:, None]
        e = unit(goal - start)
        far = np.linalg.norm(goal - start, axis=1)
        # The elbow: behind and below, raised about the line to the hand by its swivel.
        pole = np.einsum("kab,b->ka", chest, [sign * 0.35, -0.75, -0.65])
        pole = unit(pole - e * (pole * e).sum(axis=1, keepdims=True))
        pole = np.einsum("kab,kb->ka", about(e, -sign * np.radians(told["swivel"])), pole)
        bend = np.arccos(np.clip((a * a + far * far - b * b) / (2.0 * a * far), -1.0, 1.0))
        elbow = start + e * (a * np.cos(bend))[:, None] + pole * (a * np.sin(bend))[:, None]
        first, second = unit(elbow - start), unit(goal - elbow)
        # The hinge stays square to the plane where the arm is straight.
        hinge = unit(np.cross(pole, e))
        hinge = hinge * np.sign((np.cross(first, second) * hinge).sum(axis=1, keepdims=True) + 1e-12)
        frames = one.frames
        turns = {}
        for joint, aim in ((upper, first), (lower, second)):
            axes = frames[figure.skeleton.joints[joint].id]
            turns[joint] = framed(aim, hinge) @ axes.T
        axes = frames[figure.skeleton.joints[lower].id]
        # The hand goes on as the forearm does, bent and turned.
        bent = of_vector(axes[:, 0] * np.radians(told["wrist"])[:, None])
        turns[lower] = turns[lower] @ of_vector(axes[:, 1] * (0.5 * sign * np.radians(told["turn"]))[:, None])
        turns[end] = turns[lower] @ of_vector(axes[:, 1] * (0.5 * sign * np.radians(told["turn"]))[:, None]) @ bent
        for joint, turn in turns.items():
            if share.min() < 1.0 and joint in figure.turns:
                turn = figure.turns[joint] @ of_vector(share[:, None] * vector_of(across(figure.turns[joint]) @ turn))
            figure.turns[joint] = turn
        figure.stand(figure.below(upper))

    def _hands(self, figure: Figure) -> None:
        """Fingers curled, each a little after the one before."""
        one = self.body
        for s, sign in SIDES.items():
            curl = self.at(f"arm_{s}_curl", USUAL["curl"])
            spread = self.at(f"arm_{s}_spread")
            for f, finger in enumerate(FINGERS):
                part = f"{finger}.{s}"
                for k, joint in enumerate(one.parts.get(part, ())):
                    number = figure.skeleton.index[joint]
                    axes = one.frames[joint]
                    parent = int(figure.parents[number])
                    more = curl + 0.05 * (f - 2)
                    angle = np.radians((38.0, 45.0, 40.0) if finger == "thumb" and k else (75.0, 80.0, 60.0))[min(k, 2)] * more * (0.45 if finger == "thumb" else 1.0)
                    turn = figure.turned[:, parent] @ of_vector(axes[:, 0] * angle[:, None])
                    if k == 0 and finger != "thumb":
                        turn = turn @ of_vector(axes[:, 2] * np.radians(sign * spread * 7.0 * (f - 2.5))[:, None])
                    figure.turns[number] = turn
                    figure.stand(frozenset({number}))
            below = figure.below(one.j(f"arm.{s}", 2))
            figure.stand(below)

    # Feet

    def _places(self) -> dict[str, tuple[FloatArray, FloatArray, FloatArray, FloatArray]]:
        """Of each foot: where its ankle's place on the ground is (k, 2), metres, its heading (k,), degrees, how high it is lifted
        (k,), metres, and whether it stands (k,)."""
        one, found = self.body, {}
        for s in SIDES:
            rest = one.skeleton.positions[one.j(f"leg.{s}", 2)]
            x0, z0 = rest[0] * self.stance, rest[2]
            x, z, yaw, high = (np.zeros(len(self.times)) for _ in range(4))
            stands = np.ones(len(self.times), dtype=bool)
            now = (0.0, 0.0, 0.0)
            for step in sorted((p for p in self.steps if p.side == s), key=lambda p: p.first):
                u = np.clip((self.times - step.first) / max(step.last - step.first, 1e-6), 0.0, 1.0)
                e = smooth(u, 0.0, 1.0)
                on = self.times >= step.first
                for row, (a, b) in zip((x, z, yaw), zip(now, (step.x, step.z, step.yaw), strict=True), strict=True):
                    row[on] = (a + (b - a) * e)[on]
                going = (u > 0.0) & (u < 1.0)
                high[going] = (step.lift * one.leg * np.sin(np.pi * u) ** 1.4)[going]
                stands &= ~going
                now = (step.x, step.z, step.yaw)
            # A turned foot stands about the body's own middle where it says so by its x and z.
            found[s] = (np.stack([x0 + x * one.leg, z0 + z * one.leg], axis=1), yaw, high, stands)
        return found

    def _sink(self, figure: Figure) -> None:
        """The hips come down where a leg could not reach, but for flights."""
        feet, need = self._feet(figure), np.zeros(len(self.times))
        air = self._in_air()
        for s in "lr":
            upper, lower, end = (self.body.j(f"leg.{s}", k) for k in range(3))
            rest = self.body.skeleton.positions
            whole = STRETCH * float(np.linalg.norm(rest[lower] - rest[upper]) + np.linalg.norm(rest[end] - rest[lower]))
            start, goal = figure.at[:, upper], feet[s][0]
            flat = ((goal - start)[:, [0, 2]] ** 2).sum(axis=1)
            room = np.sqrt(np.maximum(whole**2 - flat, 0.0))
            need = np.maximum(need, np.where(air, 0.0, np.maximum(start[:, 1] - goal[:, 1] - room, 0.0)))
        if need.max() > 0.0:
            width = 2.0
            reach = 6
            mode = "wrap" if self.loop else "nearest"
            down = gaussian_filter1d(maximum_filter1d(need, 2 * reach + 1, mode=mode), width, mode=mode, radius=reach)
            down = np.where(air, 0.0, down)
            figure.places[:, 1] -= down
            figure.stand()

    def _in_air(self) -> np.ndarray:
        air = np.zeros(len(self.times), dtype=bool)
        for first, last in self.flights:
            a, b = round(first * RATE), round(last * RATE)
            air[a + 1 : b] = True
        return air

    def _feet(self, figure: Figure) -> dict[str, tuple[FloatArray, FloatArray, FloatArray]]:
        """Of each foot: its ankle's goal (k, 3), how it is turned, and how its toes are (k, 3, 3)."""
        one, found = self.body, {}
        places = self._places()
        for s in "lr":
            at, yaw, high, _ = places[s]
            rest = one.skeleton.positions
            ankle = rest[one.j(f"leg.{s}", 2)]
            ball = rest[one.j(f"leg.{s}", 3)] if len(one.parts[f"leg.{s}"]) > 3 else ankle * [1, 0, 1]
            pitch = self.at(f"foot_{s}_pitch")
            lifted = self.at(f"foot_{s}_y") * one.leg
            forward = self.at(f"foot_{s}_z") * one.leg
            level = rotation(yaw, 0.0, 0.0)
            turned = rotation(yaw, pitch, 0.0)
            place = np.stack([at[:, 0], np.full(len(at), ankle[1]) + high + lifted, at[:, 1] + forward], axis=1)
            # A heel that goes up turns about the ball, toes that go up about the heel.
            about_ball = place + np.einsum("kab,b->ka", level, ball - ankle) + np.einsum("kab,b->ka", turned, ankle - ball)
            heel = np.array([0.0, one.floor - ankle[1], -0.35 * abs(ball[2] - ankle[2])])
            about_heel = place + np.einsum("kab,b->ka", level, heel) - np.einsum("kab,b->ka", turned, heel)
            goal = np.where((pitch >= 0.0)[:, None], about_ball, about_heel)
            toes = rotation(yaw, np.where(pitch >= 0.0, np.maximum(self.at(f"foot_{s}_toes"), 0.0), pitch), 0.0)
            found[s] = (goal, turned, toes)
        return found

    def _legs(self, figure: Figure) -> None:
        if self.walker is not None or self.free_feet:
            if self.free_feet:
                self._free_legs(figure)
            return
        feet, frames = self._feet(figure), self.body.frames
        for s, sign in SIDES.items():
            joints = [self.body.j(f"leg.{s}", k) for k in range(len(self.body.parts[f"leg.{s}"]))]
            upper, lower, end = joints[:3]
            goal, turned, toes = feet[s]
            open_ = self.at(f"knee_{s}_out")
            figure.turns[upper] = self.hips_turn @ rotation(sign * open_, 0.0, 0.0)
            # Knees follow the feet half way.
            off = np.radians(self._places()[s][1] - self.yaw)
            figure.turns[upper] = rotation(np.degrees(0.5 * off), 0.0, 0.0) @ figure.turns[upper]
            figure.turns[end] = turned
            if len(joints) > 3:
                figure.turns[joints[3]] = toes
            figure.stand(figure.below(upper))
            axis = frames[figure.skeleton.joints[upper].id][:, 0]
            bend_to(figure, (upper, lower, end), goal, axis)
            sole = self.body.soles[f"leg.{s}"]
            for _ in range(2):
                below = np.maximum(self.body.floor - sole.lowest(figure), 0.0)
                if below.max() < 1e-4:
                    break
                bend_to(figure, (upper, lower, end), figure.at[:, end] + below[:, None] * np.array([0.0, 1.0, 0.0]), axis)

    def _free_legs(self, figure: Figure) -> None:
        """Thighs and knees by angle: hip_l (flexed ahead), hip_l_out, knee_l, ankle_l."""
        for s, sign in SIDES.items():
            joints = [self.body.j(f"leg.{s}", k) for k in range(len(self.body.parts[f"leg.{s}"]))]
            hip, knee, ankle = self.at(f"hip_{s}"), self.at(f"bend_{s}"), self.at(f"ankle_{s}")
            thigh = self.hips_turn @ rotation(0.0, -hip, 0.0) @ rotation(0.0, 0.0, sign * self.at(f"hip_{s}_out"))
            shin = thigh @ rotation(0.0, knee, 0.0)
            foot = shin @ rotation(0.0, ankle, 0.0)
            for joint, turn in zip(joints, (thigh, shin, foot, foot), strict=False):
                figure.turns[joint] = turn
        figure.stand()

    def _ground(self, figure: Figure) -> None:
        """Nothing goes through the ground; what lies on it lies on it."""
        if not self.lies and not self.free_feet:
            return
        low = self.body.skin.lowest(figure) - self.body.floor - 0.001
        lies = np.zeros(len(self.times))
        for first, last in self.lies:
            lies = np.maximum(lies, smooth(self.times, first - 0.12, first) * smooth(self.times, last + 0.12, last))
        shift = np.where(low < 0.0, -low, -low * lies)
        figure.places[:, 1] += shift
        figure.stand()
