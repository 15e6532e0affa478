"""Captured-like takes of our own making: performers of any build, names and rest pose, walking, reaching, clapping; as BVH.

    .venv/bin/python tools/takes.py            writes the demo's takes beside the demo characters

Feet stand exactly where they stand until noise is put on, so that what carries the motion over can be held against it.
Nothing of the program is used here but the vectors of NumPy: tests take these performers, too.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo" / "takes"
UP, AHEAD = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0])
Array = np.ndarray


def unit(v: Array) -> Array:
    v = np.asarray(v, dtype=float)
    return v / max(float(np.linalg.norm(v)), 1e-12)


def axes(aim: Array, bend: Array) -> Array:
    y = unit(aim)
    x = np.asarray(bend, dtype=float) - y * float(y @ bend)
    if np.linalg.norm(x) < 1e-8:
        x = np.cross(y, UP) if abs(y[1]) < 0.9 else np.cross(y, AHEAD)
    x = unit(x)
    return np.stack([x, y, np.cross(x, y)], axis=1)


def yaw(angle: float) -> Array:
    return np.asarray(Rotation.from_rotvec(UP * angle).as_matrix())


def ease(u: float) -> float:
    u = min(max(u, 0.0), 1.0)
    return u * u * (3 - 2 * u)


@dataclass(frozen=True)
class Build:
    """Lengths of a performer's bones, metres; spine: how many joints between hips and neck."""

    thigh: float = 0.43
    shin: float = 0.42
    ankle: float = 0.085
    foot: float = 0.15
    toes: float = 0.07
    hips: float = 0.1
    back: float = 0.5
    spine: int = 3
    neck: float = 0.1
    head: float = 0.2
    shoulders: float = 0.18
    upper: float = 0.29
    fore: float = 0.26
    hand: float = 0.1


@dataclass(frozen=True)
class Style:
    """How a file tells a performer. rest: T, A, relaxed, ahead, or stick (a rest that is no body). up: y or z. unit: metres a
    unit of the file. names: of joints by part; {s} stands for the side. facing: turn of the rest about the vertical."""

    rest: str = "T"
    up: str = "y"
    unit: float = 0.01
    facing: float = 0.0
    names: str = "plain"
    sides: tuple[str, str] = ("Left", "Right")


NAMES = {
    "plain": {"hips": "Hips", "spine": "Spine{k}", "neck": "Neck", "head": "Head", "clavicle": "{s}Shoulder", "upper": "{s}Arm", "fore": "{s}ForeArm",
              "hand": "{s}Hand", "thigh": "{s}UpLeg", "shin": "{s}Leg", "foot": "{s}Foot", "toes": "{s}ToeBase"},
    "short": {"hips": "pelvis", "spine": "back_{k}", "neck": "nape", "head": "skull", "clavicle": "{s}_collar", "upper": "{s}_humerus", "fore": "{s}_radius",
              "hand": "{s}_wrist", "thigh": "{s}_femur", "shin": "{s}_tibia", "foot": "{s}_ankle", "toes": "{s}_toe"},
    "none": {},
}  # fmt: skip


@dataclass
class Stance:
    """Where a body is at one moment. pelvis place; turn (3, 3) of the pelvis; lean: turns (radians) of each spine joint on the
    one below, x y z; feet by side: ankle place, foot turn (3, 3), how far the toes are bent up; arms by side: direction of
    the upper arm, of the forearm, and where the palm faces; knees by side: where they point."""

    pelvis: Array
    turn: Array
    lean: Array = field(default_factory=lambda: np.zeros(3))
    nod: Array = field(default_factory=lambda: np.zeros(3))
    feet: dict[str, tuple[Array, Array, float]] = field(default_factory=dict)
    arms: dict[str, tuple[Array, Array, Array]] = field(default_factory=dict)
    grips: dict[str, Array] = field(default_factory=dict)
    """How hands are turned (3, 3) that do not follow their forearms."""


SIDES = (("l", 1.0), ("r", -1.0))
Act = Callable[[float], Stance]


def _foot_at(build: Build, place: Array, heading: float, roll: float) -> tuple[Array, Array, float]:
    """An ankle over a foot whose ball stands at `place` on the floor; roll > 0 lifts the heel about the ball, < 0 the toes about
    the heel."""
    turn = yaw(heading)
    ball = np.array(place, dtype=float)
    down = np.array([0.0, 0.02 - build.ankle, build.foot])
    flat = ball + [0, 0.02, 0] - turn @ down
    if roll >= 0:
        tilt = turn @ Rotation.from_rotvec([roll, 0, 0]).as_matrix()
        return ball + [0, 0.02, 0] - tilt @ down, tilt, -roll
    heel = flat + turn @ np.array([0.0, -build.ankle, -0.05])
    tilt = turn @ Rotation.from_rotvec([roll, 0, 0]).as_matrix()
    return heel - tilt @ np.array([0.0, -build.ankle, -0.05]), tilt, 0.0


def walk(build: Build, *, stride: float = 1.3, period: float = 1.1, heading: float = 0.0, turn: float = 0.0, swing: float = 0.5, bend: float = 0.03) -> Act:
    """A walk: stride metres and period seconds of two steps, turning `turn` radians a second."""
    leg = build.thigh + build.shin
    speed = stride / period

    def path(t: float) -> tuple[Array, float]:
        if abs(turn) < 1e-9:
            return yaw(heading) @ np.array([0.0, 0.0, speed * t]), heading
        r = speed / turn
        return yaw(heading) @ np.array([r * (1 - np.cos(turn * t)), 0.0, r * np.sin(turn * t)]), heading + turn * t

    def footfall(n: int, side: float, shift: float) -> tuple[Array, float]:
        """Where the ball of a foot stands in its n-th step, and its heading."""
        middle = (n + shift + 0.31) * period
        place, way = path(middle)
        return place + yaw(way) @ np.array([side * build.hips * 0.9, 0.0, 0.35 * build.foot]), way + side * 0.08

    def act(t: float) -> Stance:
        place, way = path(t)
        phase = t / period
        bob = 0.018 * np.cos(4 * np.pi * (phase - 0.31))
        sway = 0.025 * np.cos(2 * np.pi * (phase - 0.31))
        height = leg * (1 - bend) + build.ankle - 0.02 + bob
        turn_by = yaw(way + 0.09 * np.sin(2 * np.pi * phase)) @ Rotation.from_rotvec([0.03, 0, 0.04 * np.sin(2 * np.pi * (phase - 0.31))]).as_matrix()
        stance = Stance(place + yaw(way) @ np.array([sway, height, 0.0]), turn_by, lean=np.array([0.02, -0.05 * np.sin(2 * np.pi * phase), 0.0]))
        for name, side in SIDES:
            shift = 0.0 if side > 0 else 0.5
            own = phase - shift
            n = int(np.floor(own))
            u = own - n
            if u < 0.62:
                ball, foot_way = footfall(n, side, shift)
                roll = -0.35 * (1 - ease(u / 0.1)) if u < 0.1 else 0.75 * ease((u - 0.38) / 0.24) if u > 0.38 else 0.0
                stance.feet[name] = _foot_at(build, ball, foot_way, roll)
            else:
                a, wa = footfall(n, side, shift)
                b, wb = footfall(n + 1, side, shift)
                v = (u - 0.62) / 0.38
                start, tilt_a, bend_a = _foot_at(build, a, wa, 0.75)
                end, tilt_b, _ = _foot_at(build, b, wb, -0.35)
                e = ease(v)
                ankle = start + e * (end - start) + np.array([0, 0.07 * np.sin(np.pi * v), 0])
                relative = Rotation.from_matrix(tilt_a.T @ tilt_b).as_rotvec()
                stance.feet[name] = (ankle, tilt_a @ Rotation.from_rotvec(e * relative).as_matrix(), bend_a * (1 - ease(2 * v)))
            s = swing * np.sin(2 * np.pi * (phase - 0.31 + (0.5 if side > 0 else 0.0)) + 0.3)
            body = yaw(way)
            upper = body @ unit(np.array([side * 0.16, -1.0, np.sin(s)]))
            fore = body @ unit(np.array([side * 0.05, -1.0, np.sin(s) + 0.35 + 0.3 * max(s, 0)]))
            stance.arms[name] = (upper, fore, body @ np.array([-side, 0.0, 0.0]))
        return stance

    return act


def stand(build: Build, *, heading: float = 0.0, width: float = 1.1) -> Callable[[float, float], Stance]:
    """Standing with a crouch: (crouch 0..1, lean ahead) -> a stance."""
    leg = build.thigh + build.shin

    def at(crouch: float, lean: float) -> Stance:
        body = yaw(heading)
        stance = Stance(np.array([0.0, leg * (0.985 - 0.4 * crouch) + build.ankle, -0.12 * crouch]), body @ Rotation.from_rotvec([0.5 * lean, 0, 0]).as_matrix())
        stance.pelvis = body @ stance.pelvis
        stance.lean = np.array([0.25 * lean, 0.0, 0.0])
        for name, side in SIDES:
            ball = body @ np.array([side * build.hips * width, 0.0, 0.6 * build.foot])
            stance.feet[name] = _foot_at(build, ball, heading + side * 0.15, 0.0)
            stance.arms[name] = (body @ unit(np.array([side * 0.2, -1.0, 0.05])), body @ unit(np.array([side * 0.1, -1.0, 0.25])), body @ np.array([-side, 0.0, 0.0]))
        return stance

    return at


def reach(build: Build) -> Act:
    """Stands, crouches to pick something up, lifts it overhead, waves."""
    still = stand(build)

    def act(t: float) -> Stance:
        crouch = ease(t / 1.2) * (1 - ease((t - 1.6) / 1.2))
        stance = still(crouch, 0.9 * crouch)
        lift = ease((t - 2.6) / 0.9)
        for name, side in SIDES:
            upper, fore, palm = stance.arms[name]
            low = unit(np.array([side * 0.1, -0.8, 0.7]))
            high = unit(np.array([side * 0.45, 0.9, 0.15]))
            wave = 0.5 * np.sin(2 * np.pi * 1.6 * (t - 3.4)) * ease((t - 3.4) / 0.3) if side > 0 else 0.0
            upper = unit(upper + ease(t / 1.0) * 1.5 * low) if lift == 0 else unit((1 - lift) * low + lift * high)
            fore = unit((1 - lift) * (fore + ease(t) * 1.5 * low) + lift * np.array([side * (0.1 + wave), 1.0, 0.25]))
            stance.arms[name] = (upper, fore, palm if lift < 0.5 else np.array([0.0, 0.0, 1.0]))
        return stance

    return act


def clap(build: Build) -> Act:
    """Claps in front of the chest three times, then puts both hands on the hips."""
    still = stand(build)

    def act(t: float) -> Stance:
        stance = still(0.05, 0.05)
        beat = 0.5 - 0.5 * np.cos(2 * np.pi * min(t, 2.4) / 0.8)
        akimbo = ease((t - 2.6) / 0.7)
        for name, side in SIDES:
            upper = unit(np.array([side * 0.05, -0.85, 0.5]))
            shoulder = np.array([side * build.shoulders, 0.0, 0.0])
            elbow = shoulder + build.upper * upper
            gap = 0.02 + 0.22 * (1 - beat)
            hand = np.array([side * gap, elbow[1] + 0.1, elbow[2] + np.sqrt(max(build.fore**2 - (elbow[0] - side * gap) ** 2 - 0.01, 0.01))])
            fore = unit(hand - elbow)
            hips_upper, hips_fore = unit(np.array([side * 0.75, -0.65, -0.25])), unit(np.array([-side * 0.85, -0.5, 0.35]))
            stance.arms[name] = (unit((1 - akimbo) * upper + akimbo * hips_upper), unit((1 - akimbo) * fore + akimbo * hips_fore), np.array([-side, 0.0, 0.0]))
        return stance

    return act


def jump(build: Build) -> Act:
    """Crouches, jumps straight up, lands."""
    still = stand(build)

    def act(t: float) -> Stance:
        crouch = 0.55 * ease(t / 0.6) * (1 - ease((t - 0.75) / 0.2)) + 0.5 * ease((t - 1.35) / 0.15) * (1 - ease((t - 1.6) / 0.6))
        stance = still(crouch, 0.6 * crouch)
        flight = (t - 0.95) / 0.4
        up = 0.45 * 4 * flight * (1 - flight) if 0 < flight < 1 else 0.0
        stance.pelvis = stance.pelvis + [0, up, 0]
        roll = 0.8 * ease((t - 0.8) / 0.15) * (1 - ease((t - 1.3) / 0.06))
        for name, side in SIDES:
            ball = np.array([side * build.hips * 1.1, up * 0.9, 0.6 * build.foot])
            stance.feet[name] = _foot_at(build, ball, side * 0.15, roll)
        return stance

    return act


def with_hands_at(build: Build, stance: Stance, hands: dict[str, Array]) -> Stance:
    """A stance whose hands are at places in the world, elbows down and out."""
    _, at = _frames(build, stance, [])
    for name, side in SIDES:
        if name in hands:
            start = at[f"upper.{name}"]
            elbow = _two_bones(start, hands[name], build.upper, build.fore, np.array([side * 0.6, -1.0, -0.3]))
            stance.arms[name] = (unit(elbow - start), unit(hands[name] - elbow), np.array([-side, 0.0, 0.0]))
            stance.grips[name] = axes(np.array([0.0, -0.2, 1.0]), np.array([0.0, side, 0.0]))
    return stance


def haul(build: Build) -> Act:
    """Holds a crate in both hands and swings it from side to side and up."""
    still = stand(build)

    def act(t: float) -> Stance:
        middle = np.array([0.09 * np.sin(3.0 * t), 1.2 + 0.12 * np.sin(2.3 * t), 0.26])
        return with_hands_at(build, still(0.04, 0.0), {"l": middle + [0.13, 0, 0], "r": middle - [0.13, 0, 0]})

    return act


def rail(build: Build) -> Act:
    """Holds on to a rail with the left hand while swaying to and fro."""
    still = stand(build)

    def act(t: float) -> Stance:
        stance = still(0.08 + 0.05 * np.sin(2.2 * t), 0.1)
        stance.pelvis = stance.pelvis + np.array([0.07 * np.sin(3.0 * t), 0.0, 0.05 * np.cos(3.0 * t)])
        return with_hands_at(build, stance, {"l": np.array([0.36, 1.1, 0.2])})

    return act


@dataclass
class Take:
    """A performance as BVH has it: joint names, parents, offsets (j, 3), ends by joint, rotations (k, j, 3, 3) in the parent, root
    places (k, 3), and what is true of it: joints (k, j, 3) in metres, Y up."""

    names: list[str]
    parents: list[int]
    offsets: Array
    ends: dict[int, Array]
    turns: Array
    root: Array
    rate: float
    truth: Array
    part: list[str]

    def bvh(self) -> str:
        lines = ["HIERARCHY"]

        def joint(i: int, depth: int) -> None:
            tab = "\t" * depth
            lines.append(f"{tab}{'ROOT' if self.parents[i] < 0 else 'JOINT'} {self.names[i]}")
            lines.append(f"{tab}{{")
            lines.append(f"{tab}\tOFFSET " + " ".join(f"{v:.6f}" for v in self.offsets[i]))
            channels = "6 Xposition Yposition Zposition Zrotation Xrotation Yrotation" if self.parents[i] < 0 else "3 Zrotation Xrotation Yrotation"
            lines.append(f"{tab}\tCHANNELS {channels}")
            for j in range(len(self.names)):
                if self.parents[j] == i:
                    joint(j, depth + 1)
            if i in self.ends:
                lines.extend([f"{tab}\tEnd Site", f"{tab}\t{{", f"{tab}\t\tOFFSET " + " ".join(f"{v:.6f}" for v in self.ends[i]), f"{tab}\t}}"])
            lines.append(f"{tab}}}")

        joint(0, 0)
        order: list[int] = []

        def visit(i: int) -> None:
            order.append(i)
            for j in range(len(self.names)):
                if self.parents[j] == i:
                    visit(j)

        visit(0)
        lines += ["MOTION", f"Frames: {len(self.turns)}", f"Frame Time: {1 / self.rate:.8f}"]
        angles = Rotation.from_matrix(self.turns.reshape(-1, 3, 3)).as_euler("ZXY", degrees=True).reshape(*self.turns.shape[:2], 3)
        for k in range(len(self.turns)):
            row = [f"{v:.6f}" for v in self.root[k]]
            for i in order:
                row += [f"{v:.6f}" for v in angles[k, i]]
            lines.append(" ".join(row))
        return "\n".join(lines) + "\n"


def _plan(build: Build) -> tuple[list[str], list[int], list[float]]:
    """Parts in the order of a hierarchy, parents, and how long each one's bone from its parent is (0: told by width)."""
    parts, parents = ["hips"], [-1]
    for k in range(build.spine):
        parts.append(f"spine{k + 1}")
        parents.append(len(parts) - 2)
    chest = len(parts) - 1
    parts += ["neck", "head"]
    parents += [chest, chest + 1]
    for name, _ in SIDES:
        first = len(parts)
        parts += [f"clavicle.{name}", f"upper.{name}", f"fore.{name}", f"hand.{name}"]
        parents += [chest, first, first + 1, first + 2]
    for name, _ in SIDES:
        first = len(parts)
        parts += [f"thigh.{name}", f"shin.{name}", f"foot.{name}", f"toes.{name}"]
        parents += [0, first, first + 1, first + 2]
    return parts, parents, []


def _name(part: str, number: int, style: Style) -> str:
    known = NAMES[style.names]
    if not known:
        return f"n{number * 7 % 100:02d}"
    stem, _, side = part.partition(".")
    k = stem[5:] if stem.startswith("spine") else ""
    return known["spine" if k else stem].format(s=style.sides[0] if side == "l" else style.sides[1], k=k)


def _frames(build: Build, stance: Stance, parts: list[str]) -> tuple[dict[str, Array], dict[str, Array]]:
    """World axes (3, 3) and places of every part at a stance."""
    frames: dict[str, Array] = {"hips": stance.turn}
    at: dict[str, Array] = {"hips": stance.pelvis}
    turn = stance.turn
    piece = build.back / build.spine
    here = stance.pelvis
    for k in range(build.spine):
        at[f"spine{k + 1}"] = here + (turn @ UP) * (0.1 if k == 0 else piece)
        here = at[f"spine{k + 1}"]
        turn = turn @ Rotation.from_rotvec(stance.lean).as_matrix()
        frames[f"spine{k + 1}"] = turn
    top = here + (turn @ UP) * piece
    at["neck"], frames["neck"] = top, turn @ Rotation.from_rotvec(0.5 * stance.nod).as_matrix()
    at["head"] = top + (frames["neck"] @ UP) * build.neck
    frames["head"] = frames["neck"] @ Rotation.from_rotvec(0.5 * stance.nod).as_matrix()
    for name, side in SIDES:
        upper, fore, palm = stance.arms[name]
        at[f"clavicle.{name}"] = top + turn @ np.array([side * 0.03, -0.05, 0.0])
        frames[f"clavicle.{name}"] = turn
        at[f"upper.{name}"] = top + turn @ np.array([side * build.shoulders, -0.06, 0.0])
        hinge = np.cross(upper, fore)
        if np.linalg.norm(hinge) < 0.02:
            hinge = np.cross(upper, turn @ AHEAD)
        frames[f"upper.{name}"] = axes(upper, hinge)
        at[f"fore.{name}"] = at[f"upper.{name}"] + build.upper * upper
        frames[f"fore.{name}"] = axes(fore, np.cross(fore, palm))
        at[f"hand.{name}"] = at[f"fore.{name}"] + build.fore * fore
        frames[f"hand.{name}"] = stance.grips.get(name, axes(fore, np.cross(fore, palm)))
        ankle, foot, toe = stance.feet[name]
        start = stance.pelvis + stance.turn @ np.array([side * build.hips, -0.03, 0.0])
        way = ankle - start
        far = min(float(np.linalg.norm(way)), 0.9995 * (build.thigh + build.shin))
        e = unit(way)
        knee = foot[:, 2] - e * float(e @ foot[:, 2])
        knee = unit(0.5 * unit(knee) + 0.5 * unit(stance.turn[:, 2] - e * float(e @ stance.turn[:, 2])))
        a, b = build.thigh, build.shin
        cosine = np.clip((a * a + far * far - b * b) / (2 * a * far), -1, 1)
        joint = start + a * (cosine * e + np.sqrt(1 - cosine**2) * knee)
        at[f"thigh.{name}"], at[f"shin.{name}"] = start, joint
        end = start + e * far
        hinge = np.cross(knee, e)
        frames[f"thigh.{name}"] = axes(joint - start, hinge)
        frames[f"shin.{name}"] = axes(end - joint, hinge)
        at[f"foot.{name}"], frames[f"foot.{name}"] = end, foot
        at[f"toes.{name}"] = end + foot @ np.array([0.0, 0.02 - build.ankle, build.foot])
        frames[f"toes.{name}"] = foot @ Rotation.from_rotvec([toe, 0, 0]).as_matrix()
    return frames, at


def _rest(build: Build, kind: str) -> Stance:
    stance = stand(build, width=1.0)(0.0, 0.0)
    leg = build.thigh + build.shin
    stance.pelvis = np.array([0.0, leg + build.ankle + 0.029, 0.0])
    for name, side in SIDES:
        direction = {"T": (side, 0.0, 0.0), "A": (side * 0.7, -0.7, 0.0), "relaxed": (side * 0.12, -1.0, 0.02), "ahead": (side * 0.1, 0.0, 1.0), "stick": (side, 0.0, 0.0)}[kind]
        v = unit(np.array(direction))
        palm = np.array([0.0, -1.0, 0.0]) if kind in ("T", "stick") else np.array([-side * 0.8, -0.5, 0.0]) if kind == "A" else np.array([-side, 0.0, 0.0])
        stance.arms[name] = (v, unit(v + [0, 0, 0.03]), palm)
        stance.feet[name] = _foot_at(build, np.array([side * build.hips, 0.0, build.foot]), 0.0, 0.0)
        stance.pelvis[2] = 0.0
    return stance


def perform(
    build: Build, act: Act, *, seconds: float, rate: float = 60.0, style: Style | None = None, noise: float = 0.0, seed: int = 3, heading: float = 0.0
) -> Take:
    """Record an act. noise: radians of jitter a joint has, smooth over some frames as a filtered capture's is."""
    style = style or Style()
    parts, parents, _ = _plan(build)
    rest_frames, rest_at = _frames(build, _rest(build, style.rest), parts)
    if style.rest == "stick":
        # Every bone straight up: what some captures rest in, and no body.
        for i, part in enumerate(parts):
            if parents[i] >= 0:
                length = float(np.linalg.norm(rest_at[part] - rest_at[parts[parents[i]]]))
                rest_at[part + "'"] = length * UP
    times = np.arange(round(seconds * rate) + 1) / rate
    turns = np.empty((len(times), len(parts), 3, 3))
    places = np.empty((len(times), len(parts), 3))
    for k, t in enumerate(times):
        frames, at = _frames(build, act(float(t)), parts)
        for i, part in enumerate(parts):
            turns[k, i], places[k, i] = frames[part], at[part]
    rest = np.array([rest_frames[p] for p in parts])
    whole = yaw(heading)
    turns, places = whole @ turns, places @ whole.T
    world = turns @ np.swapaxes(rest, -1, -2)
    offsets = np.array([np.zeros(3) if parents[i] < 0 else rest_at[p] - rest_at[parts[parents[i]]] for i, p in enumerate(parts)])
    if style.rest == "stick":
        # Each joint's axes such that its own bone points up at rest.
        spin = np.tile(np.eye(3), (len(parts), 1, 1))
        for i in range(len(parts)):
            child = next((j for j in range(len(parts)) if parents[j] == i), None)
            if child is not None:
                bone = unit(offsets[child])
                axis = np.cross(UP, bone)
                angle = np.arctan2(np.linalg.norm(axis), UP @ bone)
                axis = unit(axis) if np.linalg.norm(axis) > 1e-9 else np.array([1.0, 0.0, 0.0])
                spin[i] = Rotation.from_rotvec(axis * angle).as_matrix()
        world = world @ spin
        offsets = np.array([np.zeros(3) if parents[i] < 0 else spin[parents[i]].T @ offsets[i] for i in range(len(parts))])
    facing = yaw(style.facing)
    world = world @ facing.T
    offsets = offsets @ facing.T
    if noise:
        rng = np.random.default_rng(seed)
        jitter = rng.normal(size=(len(times) + 8, len(parts), 3)) * noise
        kernel = np.ones(5) / np.sqrt(5)
        jitter = np.apply_along_axis(lambda v: np.convolve(v, kernel, "same"), 0, jitter)[4:-4]
        calm = np.array([0.15 if p.split(".")[0] in ("hips", "thigh", "shin", "foot", "toes") else 1.0 for p in parts])
        world = world @ Rotation.from_rotvec((jitter * calm[None, :, None]).reshape(-1, 3)).as_matrix().reshape(world.shape)
    local = np.array([world[:, i] if parents[i] < 0 else np.swapaxes(world[:, parents[i]], -1, -2) @ world[:, i] for i in range(len(parts))]).transpose(1, 0, 2, 3)
    root = places[:, 0]
    truth = np.empty_like(places)
    for i in range(len(parts)):
        truth[:, i] = root if parents[i] < 0 else truth[:, parents[i]] + np.einsum("kab,b->ka", world[:, parents[i]], offsets[i])
    ends = {}
    tips = {"head": np.array([0, build.head, 0.0]), "toes": np.array([0.0, -0.005, build.toes])}
    for i, p in enumerate(parts):
        stem = p.split(".")[0]
        if stem in ("head", "toes", "hand"):
            tip = rest_frames[p] @ (np.array([0, build.hand, 0.0]) if stem == "hand" else tips[stem])
            ends[i] = (facing @ tip if style.rest != "stick" else build.hand * UP) / style.unit
    names = [_name(p, i, style) for i, p in enumerate(parts)]
    if style.up == "z":
        tip_over = Rotation.from_rotvec([np.pi / 2, 0, 0]).as_matrix()
        local = tip_over @ local @ tip_over.T
        offsets, root = offsets @ tip_over.T, root @ tip_over.T
        ends = {i: tip_over @ e for i, e in ends.items()}
    return Take(names, parents, offsets / style.unit, ends, local, root / style.unit, rate, truth, parts)


@dataclass(frozen=True)
class Beast:
    """A four-legged performer. legs: how long its legs are, as a factor; back: from hips to shoulders, metres; hind bones thigh,
    shin, hock; fore bones upper, lower, paw; wide: half of how far its feet stand apart."""

    legs: float = 1.0
    back: float = 0.55
    wide: float = 0.09
    neck: float = 0.3
    thigh: float = 0.26
    shin: float = 0.25
    hock: float = 0.17
    upper: float = 0.22
    lower: float = 0.22
    paw: float = 0.1


BEAST = {
    "hips": ("pelvis", ""), "loin": ("loin", "hips"), "back": ("back", "loin"), "chest": ("chest", "back"), "neck": ("neck", "chest"), "head": ("head", "neck"),
    "tail1": ("tail_1", "hips"), "tail2": ("tail_2", "tail1"),
    **{f"{part}.{s}": (f"{s}_{name}", f"{above}.{s}" if above not in ("hips", "chest") else above) for s in "lr" for part, name, above in (
        ("thigh", "thigh", "hips"), ("shin", "shin", "thigh"), ("hock", "hock", "shin"), ("toes", "hind_paw", "hock"),
        ("blade", "blade", "chest"), ("upper", "fore_upper", "blade"), ("lower", "fore_lower", "upper"), ("paw", "fore_wrist", "lower"), ("fingers", "fore_paw", "paw"))},
}  # fmt: skip


def _two_bones(start: Array, end: Array, a: float, b: float, knee: Array) -> Array:
    """Where the middle joint is; knee: the way it points."""
    way = end - start
    far = min(max(float(np.linalg.norm(way)), abs(a - b) * 1.001), (a + b) * 0.9995)
    e = unit(way)
    side = unit(knee - e * float(e @ knee))
    cosine = np.clip((a * a + far * far - b * b) / (2 * a * far), -1, 1)
    return start + a * (cosine * e + np.sqrt(1 - cosine**2) * side)


def _beast_at(beast: Beast, place: Array, heading: float, feet: dict[str, tuple[Array, float]], bob: float) -> dict[str, Array]:
    """Places of all joints: feet by name (hind or fore, side): where it stands, and how far it is lifted in its step (0 to 1)."""
    k = beast.legs
    body = yaw(heading)
    high = k * (0.985 * (beast.thigh + beast.shin) * 0.86 + beast.hock) + 0.03
    at = {"hips": place + [0, high + 0.05 + bob, 0]}
    for name, share in (("loin", 0.3), ("back", 0.6), ("chest", 1.0)):
        at[name] = at["hips"] + body @ np.array([0, 0.01 * np.sin(np.pi * share), beast.back * share])
    at["neck"] = at["chest"] + body @ np.array([0, 0.06, 0.1])
    at["head"] = at["neck"] + body @ np.array([0, 0.8 * beast.neck, 0.6 * beast.neck])
    at["tail1"] = at["hips"] + body @ np.array([0, 0.01, -0.1])
    at["tail2"] = at["tail1"] + body @ np.array([0, -0.06, -0.15])
    for name, side in SIDES:
        stands, lift = feet[f"hind.{name}"]
        toes = stands + [0, 0.03, 0]
        # The hock's bone leans on as the foot pushes off.
        lean = 0.1 + 0.7 * lift
        at[f"thigh.{name}"] = at["hips"] + body @ np.array([side * beast.wide * 0.9, -0.05, 0.0])
        at[f"toes.{name}"] = toes
        at[f"hock.{name}"] = toes + k * beast.hock * (body @ np.array([0, np.cos(lean), -np.sin(lean)]))
        at[f"shin.{name}"] = _two_bones(at[f"thigh.{name}"], at[f"hock.{name}"], k * beast.thigh, k * beast.shin, body @ AHEAD)
        stands, lift = feet[f"fore.{name}"]
        at[f"blade.{name}"] = at["chest"] + body @ np.array([side * beast.wide * 0.8, 0.0, 0.0])
        at[f"upper.{name}"] = at[f"blade.{name}"] + body @ np.array([side * 0.01, -0.06 - 0.4 * beast.upper * k, 0.1])
        at[f"fingers.{name}"] = stands + [0, 0.03, 0]
        at[f"paw.{name}"] = stands + [0, 0.03, 0] + k * beast.paw * (body @ np.array([0, np.cos(0.9 * lift), -np.sin(0.9 * lift)]))
        at[f"lower.{name}"] = _two_bones(at[f"upper.{name}"], at[f"paw.{name}"], k * beast.upper * 0.9, k * beast.lower, body @ -AHEAD)
    return at


def amble(beast: Beast, *, seconds: float, rate: float = 60.0, stride: float = 0.7, period: float = 0.9, turn: float = 0.0, scale: float = 100.0) -> Take:
    """A four-legged walk: left hind, left fore, right hind, right fore; in a file whose unit is a metre over `scale`."""
    order = {"hind.l": 0.0, "fore.l": 0.25, "hind.r": 0.5, "fore.r": 0.75}
    speed = stride / period

    def path(t: float) -> tuple[Array, float]:
        if abs(turn) < 1e-9:
            return np.array([0.0, 0.0, speed * t]), 0.0
        r = speed / turn
        return np.array([r * (1 - np.cos(turn * t)), 0.0, r * np.sin(turn * t)]), turn * t

    def foot(name: str, t: float) -> tuple[Array, float]:
        side = 1.0 if name.endswith("l") else -1.0
        ahead = beast.back + 0.1 if name.startswith("fore") else -0.02
        own = t / period - order[name]
        n, u = int(np.floor(own)), own - np.floor(own)

        def fall(m: int) -> Array:
            place, way = path((m + order[name] + 0.36) * period)
            return place + yaw(way) @ np.array([side * beast.wide, 0.0, ahead])

        if u < 0.72:
            return fall(n), 0.0 if u < 0.6 else 0.4 * ease((u - 0.6) / 0.12)
        v = (u - 0.72) / 0.28
        place = fall(n) + ease(v) * (fall(n + 1) - fall(n)) + [0, 0.06 * beast.legs * np.sin(np.pi * v), 0]
        return place, 0.4 + 0.6 * np.sin(np.pi * v) - 0.4 * v

    def places(t: float) -> dict[str, Array]:
        place, way = path(t)
        return _beast_at(beast, place, way, {n: foot(n, t) for n in order}, 0.01 * np.sin(4 * np.pi * t / period))

    still = {n: (np.array([(1 if n.endswith("l") else -1) * beast.wide, 0.0, beast.back + 0.1 if n.startswith("fore") else -0.02]), 0.0) for n in order}
    rest = _beast_at(beast, np.zeros(3), 0.0, still, 0.0)
    parts = list(BEAST)
    parents = [-1 if not BEAST[p][1] else parts.index(BEAST[p][1]) for p in parts]
    first = {i: next((j for j in range(len(parts)) if parents[j] == i), None) for i in range(len(parts))}

    def frames(at: dict[str, Array], way: float) -> Array:
        result = []
        for i, p in enumerate(parts):
            j = first[i]
            if p == "hips" or j is None:
                result.append(yaw(way) if p == "hips" or parents[i] < 0 else result[parents[i]] if p in ("toes.l", "toes.r") else yaw(way))
                continue
            result.append(axes(at[parts[j]] - at[p], yaw(way)[:, 0]))
        return np.array(result)

    times = np.arange(round(seconds * rate) + 1) / rate
    base = frames(rest, 0.0)
    world = np.empty((len(times), len(parts), 3, 3))
    truth = np.empty((len(times), len(parts), 3))
    offsets = np.array([np.zeros(3) if parents[i] < 0 else rest[p] - rest[parts[parents[i]]] for i, p in enumerate(parts)])
    for k, t in enumerate(times):
        at = places(float(t))
        world[k] = frames(at, path(float(t))[1]) @ np.swapaxes(base, -1, -2)
        for i, _p in enumerate(parts):
            truth[k, i] = at["hips"] if parents[i] < 0 else truth[k, parents[i]] + world[k, parents[i]] @ offsets[i]
    local = np.stack([world[:, i] if parents[i] < 0 else np.swapaxes(world[:, parents[i]], -1, -2) @ world[:, i] for i in range(len(parts))], axis=1)
    ends = {parts.index("head"): np.array([0.0, -0.03, 0.2]) * scale, **{parts.index(f"{e}.{s}"): np.array([0.0, -0.01, 0.06]) * scale for e in ("toes", "fingers") for s in "lr"}}
    return Take([BEAST[p][0] for p in parts], parents, offsets * scale, ends, local, truth[:, 0] * scale, rate, truth, parts)


def main() -> None:
    DEMO.mkdir(parents=True, exist_ok=True)
    slight = Build(thigh=0.41, shin=0.42, back=0.47, shoulders=0.165, upper=0.27, fore=0.245)
    takes = {
        "pier_walk": perform(slight, walk(slight, stride=1.25, period=1.16, turn=0.22), seconds=4.5, rate=30.0, style=Style(rest="A", names="short", sides=("l", "r")), noise=0.008),
        "heave_and_wave": perform(slight, reach(slight), seconds=4.5, rate=30.0, style=Style(rest="A", names="short", sides=("l", "r")), noise=0.008, seed=5),
    }
    for name, take in takes.items():
        (DEMO / f"{name}.bvh").write_text(take.bvh(), encoding="utf-8")


if __name__ == "__main__":
    main()
