"""A gait made on a body: the feet first, then the hips over them, then all that goes with them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.numbers import Gait
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.gait.steps import Foot, Step, feet_of, steps_of
from pegloom.core.motion.retarget.carry import hanging
from pegloom.core.motion.retarget.chains import frames_of, kind_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.plant import STRETCH, Contact, Sole, bare_soles, bend_to
from pegloom.core.motion.retarget.turns import about, of_vector
from pegloom.core.skeleton.joints import Skeleton

OFF_THE_BODY = np.radians(8.0)
"""How far hanging arms stand off."""


@dataclass(frozen=True, eq=False)
class Made:
    """clip : sampled motion of the joints. period : seconds of a stride. speed : metres a second. contacts : when each foot stands.
    sunk : most the hips came down for a leg to reach, metres."""

    clip: Clip
    period: float
    speed: float
    contacts: tuple[Contact, ...]
    sunk: float


def make_gait(
    gait: Gait, skeleton: Skeleton, *, strides: float = 1.0, rate: float = 30.0, way: Way | None = None, in_place: bool = False,
    soles: Mapping[str, Sole] | None = None, name: str = "gait",
) -> Made:  # fmt: skip
    """Motion of a body that goes by the numbers of a gait.

    skeleton : at rest, Y up, facing +Z, metres. strides : how many. rate : moments a second. in_place : the ground goes under it.
    Raises EditError for a body without two legs of three joints.
    """
    way = way or Way()
    parts = parts_of(skeleton)
    trunk = parts.get("trunk", ())
    legs = [p for p, c in parts.items() if kind_of(p) in ("leg", "foreleg") and len(c) >= 3]
    if len(legs) < 2 or not trunk:
        raise EditError("a gait needs hips and two legs of three joints at least; say what they are in Joints, under Parts of the body")
    soles = dict(soles or bare_soles(skeleton, parts))
    floor = min((float(s.points[:, 1].min()) for p, s in soles.items() if p in legs and len(s.points)), default=float(skeleton.positions[:, 1].min()))
    base = skeleton.index[trunk[0]]
    root = skeleton.positions[base]
    feet = feet_of(skeleton, parts, soles, gait, root, floor)
    leg = float(np.mean([skeleton.positions[f.joints[0], 1] - floor for f in feet]))
    period = gait.seconds(leg)
    speed = 0.5 * sum(gait.stride) * leg / period
    count = max(round(strides * period * rate), 2)
    # Whole strides end where they began: the moments divide them evenly.
    times = np.linspace(0.0, strides * period, count + 1)
    figure = Figure(skeleton, len(times), base)
    steps = [steps_of(foot, gait, way, times, period, leg, floor) for foot in feet]
    along = speed * times
    place, heading = way.at(along)
    beat = 2.0 * np.pi * (times / period - feet[0].phase)
    middle = np.pi * gait.duty[0]
    turn = _upright(figure, parts, gait, heading, beat, two_legged=len(feet) == 2)
    sway = gait.sway * leg * np.cos(beat - middle)
    running = max(gait.duty) < 0.5
    twice = 1.0 if gait.feet == "canter" and len(feet) == 4 else 2.0
    bob = 0.5 * gait.bob * leg * np.cos(twice * (beat - middle)) * (-1.0 if running else 1.0)
    drop = (1.0 - min(gait.height, 1.0)) * leg + (0.0 if gait.height <= 1.0 else -(gait.height - 1.0) * leg)
    figure.places = place + np.einsum("kab,b->ka", _turned(heading), np.array([root[0], 0.0, 0.0])) + sway[:, None] * _turned(heading)[:, :, 0]
    figure.places[:, 1] += root[1] - drop + bob
    _arms(figure, parts, gait, turn, beat, two_legged=len(feet) == 2)
    figure.stand()
    down = _sunk(figure, feet, steps, rate)
    figure.places[:, 1] -= down
    figure.stand()
    _legs(figure, feet, steps, soles, way)
    shift = np.zeros_like(place)
    if in_place:
        shift = -place * [1.0, 0.0, 1.0]
        figure.places = figure.places + shift
        figure.stand()
    contacts = tuple(c for foot, step in zip(feet, steps, strict=True) for c in _contacts(foot, step, times, skeleton))
    clip = Clip("", name, rate=count / (strides * period), length=float(times[-1]), tracks=figure.tracks(times))
    return Made(clip, period, speed, contacts, float(down.max(initial=0.0)))


def _turned(angles: FloatArray) -> FloatArray:
    return about(np.broadcast_to([0.0, 1.0, 0.0], (len(angles), 3)), angles)


def _about_x(angles: FloatArray) -> FloatArray:
    return of_vector(np.stack([angles, np.zeros_like(angles), np.zeros_like(angles)], axis=-1))


def _about_z(angles: FloatArray) -> FloatArray:
    return of_vector(np.stack([np.zeros_like(angles), np.zeros_like(angles), angles], axis=-1))


def _upright(figure: Figure, parts: Mapping[str, Sequence[str]], gait: Gait, heading: FloatArray, beat: FloatArray, *, two_legged: bool) -> FloatArray:
    """Turn hips, trunk, neck, head and tail; returns how the chest is turned (k, 3, 3)."""
    index = figure.skeleton.index
    hips = -np.radians(gait.hip_twist) * np.cos(beat)
    chest = np.radians(gait.shoulder_twist) * np.cos(beat)
    lean = np.full(len(beat), np.radians(gait.lean))
    # The side whose leg swings drops a little.
    drop = np.radians(0.6 * gait.hip_twist) * np.sin(beat - np.pi * gait.duty[0] + np.pi / 2)
    trunk = parts["trunk"]
    turn = _turned(heading)
    for k, joint in enumerate(trunk):
        share = k / max(len(trunk) - 1, 1)
        twist = hips + share * (chest - hips) if two_legged else (1.0 - 2.0 * share) * 0.5 * hips
        turn = _turned(heading + twist) @ _about_z(drop * (1.0 - share)) @ _about_x(lean * (0.35 + 0.65 * share))
        figure.turns[index[joint]] = turn
    above = [*parts.get("neck", ()), *parts.get("head", ())]
    for k, joint in enumerate(above, 1):
        share = gait.steady * k / len(above)
        figure.turns[index[joint]] = _turned(heading + (1.0 - share) * chest * (1.0 if two_legged else 0.3)) @ _about_x((1.0 - share) * lean)
    for k, joint in enumerate(parts.get("tail", ()), 1):
        figure.turns[index[joint]] = _turned(heading + np.radians(5.0) * np.sin(beat - 0.7 * k)) @ _about_x(np.radians(2.0) * np.sin(2.0 * beat - 0.7 * k))
    return turn


def _arms(figure: Figure, parts: Mapping[str, Sequence[str]], gait: Gait, chest: FloatArray, beat: FloatArray, *, two_legged: bool) -> None:
    """Arms hang and swing against the legs; a walker's elbows give, a runner's stay bent."""
    if not two_legged:
        return
    index, frames = figure.skeleton.index, frames_of(figure.skeleton)
    for part, chain in parts.items():
        if kind_of(part) != "arm" or len(chain) < 3:
            continue
        side = 1.0 if part.endswith(".l") else -1.0
        s = 0 if side > 0 else 1
        swing = -side * np.radians(gait.arm_swing[s]) * np.cos(beat) + np.radians(0.12 * gait.arm_swing[s])
        elbow = np.radians(gait.elbow) * (1.0 - 0.45 * side * np.cos(beat))
        out = np.full(len(beat), side * OFF_THE_BODY)
        held = chest @ _about_z(out)
        upper = held @ _about_x(-swing)
        lower = upper @ _about_x(-elbow)
        hang = [hanging(frames[j]) for j in chain[:2]]
        figure.turns[index[chain[0]]] = upper @ hang[0]
        figure.turns[index[chain[1]]] = lower @ hang[1]
        figure.turns[index[chain[2]]] = lower @ _about_x(-0.15 * swing) @ hang[1]


def _sunk(figure: Figure, feet: list[Foot], steps: list[Step], rate: float) -> FloatArray:
    """How far the hips come down (k,) for the legs that stand to reach."""
    need = np.zeros(figure.moments)
    for foot, step in zip(feet, steps, strict=True):
        start = figure.at[:, foot.joints[0]]
        bones = [np.linalg.norm(figure.rest[b] - figure.rest[a]) for a, b in zip(foot.joints[:2], foot.joints[1:3], strict=True)]
        whole = STRETCH * float(sum(bones))
        flat = ((step.goal - start)[:, [0, 2]] ** 2).sum(axis=1)
        room = np.sqrt(np.maximum(whole**2 - flat, 0.0))
        need = np.maximum(need, np.where(step.stands, np.maximum(start[:, 1] - step.goal[:, 1] - room, 0.0), 0.0))
    if not need.any():
        return need
    width = max(round(0.05 * rate), 1)
    # Strides repeat: what is smoothed runs on round the end, whose last moment is the first.
    once = need[:-1]
    smoothed = np.maximum(gaussian_filter1d(maximum_filter1d(once, 2 * width + 1, mode="wrap"), width, mode="wrap"), once)
    return np.append(smoothed, smoothed[0])


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
