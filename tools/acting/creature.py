"""Animals told by a few channels over time: a body on its feet or in the air, a neck, a tail, wings.

Channels as in actor.py. Feet stand where they do at rest unless they are told otherwise.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
from tools.acting.actor import keyed, rotation, thrown
from tools.acting.body import RATE, Body, body

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.making import FOLDED, FOLDED_DOWN, Walker
from pegloom.core.motion.gait.steps import legs_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.plant import STRETCH, bend_to
from pegloom.core.motion.retarget.turns import smooth

SIDES = {"l": 1.0, "r": -1.0}


@dataclass
class Creature:
    who: str
    seconds: float
    loop: bool = False
    walker: Walker | None = None
    keys: dict[str, list[tuple[float, float]]] = field(default_factory=lambda: defaultdict(list))
    lies: list[tuple[float, float]] = field(default_factory=list)
    flights: list[tuple[float, float]] = field(default_factory=list)
    free: bool = False
    """Legs hang from the hips: in the air."""
    breath: float = 1.0

    @property
    def body(self) -> Body:
        return body(self.who)

    def key(self, time: float, **values: float) -> Creature:
        for name, value in values.items():
            self.keys[name].append((time, value))
        return self

    def at(self, name: str, usual: float = 0.0, late: float = 0.0) -> FloatArray:
        return keyed(self.keys.get(name, []), self.times - late, usual, self.seconds, self.loop)

    def told(self, *names: str) -> bool:
        return any(name in self.keys for name in names)

    def clip(self, name: str) -> Clip:
        count = round(self.seconds * RATE)
        self.times = np.arange(count + 1) / RATE
        figure = self._figure()
        return Clip("", name, rate=RATE, length=float(self.times[-1]), tracks=figure.tracks(self.times))

    def _figure(self) -> Figure:
        one, index = self.body, self.body.skeleton.index
        parts = one.parts
        beats = max(round(self.seconds / 2.8), 1)
        breath = self.breath * np.sin(2.0 * np.pi * beats * self.times / self.seconds)
        if self.walker is not None:
            seconds = self.walker.course.seconds
            even = np.linspace(0.0, seconds, max(round(seconds * 60.0), 2) + 1)
            _, _, down = self.walker.figure(even)
            figure, _, _ = self.walker.figure(np.minimum(self.times, seconds), (even, down))
            hips = None
        else:
            figure = one.figure(len(self.times))
            rest = one.skeleton.positions[figure.base]
            figure.places = rest + one.leg * np.stack([self.at("hips_x"), self.at("hips_y"), self.at("hips_z")], axis=1)
            for first, last in self.flights:
                thrown(figure.places, self.times, first, last)
            hips = rotation(self.at("hips_yaw"), self.at("hips_pitch"), self.at("hips_roll"))
        trunk = parts["trunk"]
        for k, joint in enumerate(trunk):
            share = k / max(len(trunk) - 1, 1)
            own = rotation(share * self.at("chest_yaw"), share * (self.at("chest_pitch") + 0.4 * breath), share * self.at("chest_roll"))
            base = figure.turns[index[joint]] if hips is None else hips
            figure.turns[index[joint]] = base @ own
        chest = figure.turns[index[trunk[-1]]]
        neck = parts.get("neck", ())
        for k, joint in enumerate(neck, 1):
            share = k / len(neck)
            # The base of the neck bends first, its end after: it goes like a whip.
            late = 0.05 * (k - 1) if self.told("neck_pitch", "neck_yaw") else 0.0
            own = rotation(share * self.at("neck_yaw", late=late), self.at("neck_pitch", late=late) * (0.6 + 0.4 * share) + self.at("neck_curl", late=late) * (2.0 * share - 1.0), 0.0)
            base = figure.turns.get(index[joint], chest) if hips is None else chest
            figure.turns[index[joint]] = base @ own
        above = figure.turns[index[neck[-1]]] if neck else chest
        for joint in parts.get("head", ()):
            base = figure.turns.get(index[joint], above) if hips is None else chest
            figure.turns[index[joint]] = base @ rotation(self.at("head_yaw"), self.at("head_pitch") + 0.3 * breath, self.at("head_roll"))
        if self.told("tail_pitch", "tail_yaw"):
            for k, joint in enumerate(parts.get("tail", ()), 1):
                base = figure.turns[index[trunk[0]]]
                figure.turns[index[joint]] = base @ rotation(self.at("tail_yaw", late=0.06 * k) * k / 2.0, self.at("tail_pitch", late=0.06 * k) * k / 2.0, 0.0)
        if self.told("snout"):
            base = figure.turns[index[parts["head"][0]]]
            for k, joint in enumerate(parts.get("snout", ()), 1):
                figure.turns[index[joint]] = base @ rotation(self.at("snout_yaw", late=0.04 * k) * k / 3.0, self.at("snout", late=0.04 * k) * k / 3.0, 0.0)
        figure.stand()
        self._wings(figure)
        figure.limited(one.bounds)
        figure.stand()
        if self.walker is None:
            if self.free:
                self._hang(figure)
                figure.places[:, 1] += np.maximum(one.floor - one.skin.lowest(figure), 0.0)
                figure.stand()
            else:
                self._lie(figure)
                self._legs(figure)
                figure.limited(one.bounds)
                figure.stand()
                if self.lies:
                    # Legs that fold no further come to lie on the ground with the rest.
                    figure.places[:, 1] += np.maximum(one.floor + 0.001 - one.skin.lowest(figure), 0.0)
                    figure.stand()
                low = float((one.skin.lowest(figure) - one.floor).min())
                if low < -0.0025:
                    print(f"   goes {-1000 * low:.0f} mm through the ground")
        return figure

    def _lie(self, figure: Figure) -> None:
        """The trunk comes down onto the ground where it lies, and never goes through it; legs fold after it."""
        low = self.body.trunk_skin.lowest(figure) - self.body.floor
        lies = np.zeros(len(self.times))
        for first, last in self.lies:
            lies = np.maximum(lies, smooth(self.times, first - 0.15, first) * smooth(self.times, last + 0.15, last))
        figure.places[:, 1] += np.where(low < 0.0, -low, -low * lies)
        figure.stand()

    def _legs(self, figure: Figure) -> None:
        one, rest = self.body, self.body.skeleton.positions
        need = np.zeros(len(self.times))
        goals = {}
        for part in legs_of(one.parts):
            name = "foot_" + part.replace(".", "_")
            upper, lower, end = (one.j(part, k) for k in range(3))
            ankle = rest[end]
            ball = rest[one.j(part, 3)] if len(one.parts[part]) > 3 else ankle * [1.0, 0.0, 1.0]
            pitch = self.at(f"{name}_pitch")
            turned = rotation(self.at(f"{name}_yaw"), pitch, 0.0)
            move = one.leg * np.stack([self.at(f"{name}_x"), self.at(f"{name}_y"), self.at(f"{name}_z")], axis=1)
            goal = ball + move + np.einsum("kab,b->ka", turned, ankle - ball)
            goals[part] = (goal, turned)
            whole = STRETCH * float(np.linalg.norm(rest[lower] - rest[upper]) + np.linalg.norm(rest[end] - rest[lower]))
            start = figure.at[:, upper]
            flat = ((goal - start)[:, [0, 2]] ** 2).sum(axis=1)
            need = np.maximum(need, np.maximum(start[:, 1] - goal[:, 1] - np.sqrt(np.maximum(whole**2 - flat, 0.0)), 0.0) * (self.at(f"{name}_y") <= 1e-6))
        air = np.zeros(len(self.times), dtype=bool)
        for first, last in self.flights:
            air[round(first * RATE) + 1 : round(last * RATE)] = True
        figure.places[:, 1] -= np.where(air, 0.0, need)
        figure.stand()
        for part, (goal, turned) in goals.items():
            upper, lower, end = (one.j(part, k) for k in range(3))
            parent = int(figure.parents[upper])
            figure.turns[upper] = figure.turned[:, parent]
            figure.turns[end] = turned
            if len(one.parts[part]) > 3:
                name = "foot_" + part.replace(".", "_")
                figure.turns[one.j(part, 3)] = rotation(self.at(f"{name}_yaw"), np.where(self.at(f"{name}_y") > 1e-6, self.at(f"{name}_pitch"), 0.0) + self.at(f"{name}_toes"), 0.0)
            figure.stand(figure.below(upper))
            bend_to(figure, (upper, lower, end), goal, one.frames[figure.skeleton.joints[upper].id][:, 0])
            sole = one.soles.get(part)
            if sole is None:
                continue
            for _ in range(2):
                below = np.maximum(one.floor - sole.lowest(figure), 0.0)
                if below.max() < 1e-4:
                    break
                bend_to(figure, (upper, lower, end), figure.at[:, end] + below[:, None] * np.array([0.0, 1.0, 0.0]), one.frames[figure.skeleton.joints[upper].id][:, 0])

    def _hang(self, figure: Figure) -> None:
        """Legs told by angles: leg (back for more), knee, shank."""
        one = self.body
        for part in legs_of(one.parts):
            s = part[-1]
            parent = figure.turned[:, int(figure.parents[one.j(part)])]
            a = parent @ rotation(0.0, self.at(f"leg_{s}") + self.at("leg"), 0.0)
            b = a @ rotation(0.0, self.at("knee"), 0.0)
            c = b @ rotation(0.0, self.at("shank"), 0.0)
            d = c @ rotation(0.0, self.at("toes"), 0.0)
            for k, turn in enumerate((a, b, c, d)[: len(one.parts[part])]):
                figure.turns[one.j(part, k)] = turn
        figure.stand()

    def _wings(self, figure: Figure) -> None:
        """flap: degrees up; sweep: back; twist: the leading edge down; fold: 0 spread, 1 folded. Each joint follows the one before."""
        one = self.body
        if not self.told("flap", "fold", "sweep", "twist"):
            return
        for s, sign in SIDES.items():
            part = f"wing.{s}"
            if part not in one.parts:
                continue
            chain = one.parts[part]
            above = figure.turned[:, int(figure.parents[one.j(part)])]
            for k, joint in enumerate(chain):
                late = 0.055 * k
                flap, sweep, twist = (self.at(name, late=late) for name in ("flap", "sweep", "twist"))
                flap = flap + self.at(f"flap_{s}", late=late)
                fold = self.at("fold", late=0.3 * late)
                bend = self.at("tip", late=late) if k else np.zeros(len(self.times))
                own = (0.75, 0.25, 0.15)[min(k, 2)]
                # Folded, the upper arm goes back along the body, the forearm ahead, the hand back again.
                yaw = np.array(FOLDED[min(k, 2)]) * fold + (sweep if k == 0 else 0.0)
                down = -np.degrees(FOLDED_DOWN) * fold if k == 0 else 0.0
                turn = above @ rotation(0.0, 0.0, sign * (own * flap + bend)) @ rotation(sign * yaw, twist * own, 0.0) @ rotation(0.0, 0.0, sign * down)
                figure.turns[figure.skeleton.index[joint]] = turn
                above = turn
        figure.stand()
