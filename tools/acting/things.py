"""Props and flat figures: what turns, hangs and flutters."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping

import numpy as np
from tools.acting.actor import keyed, rotation
from tools.acting.body import RATE, body
from tools.acting.made import made

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.figure import Figure

Keys = Mapping[str, list[tuple[float, float]]]


def played(who: str, name: str, seconds: float, keys: dict[str, dict[str, list[tuple[float, float]]]], *, loop: bool, moved: dict[str, list[tuple[float, float]]] | None = None) -> Clip:
    """Joints turned in their parents by keys of yaw, pitch and roll, degrees; moved : the root's x, y, z by keys, metres."""
    one = body(who)
    times = np.arange(round(seconds * RATE) + 1) / RATE
    figure = Figure(one.skeleton, len(times), 0)
    figure.places = figure.places + np.stack([keyed((moved or {}).get(axis, []), times, 0.0, seconds, loop) for axis in "xyz"], axis=1)
    for number, joint in enumerate(one.skeleton.joints):
        told = keys.get(joint.id)
        parent = int(figure.parents[number])
        above = figure.turns.get(parent) if parent >= 0 else None
        if told is None:
            if above is not None:
                figure.turns[number] = above
            continue
        own = rotation(*(keyed(told.get(axis, []), times, 0.0, seconds, loop) for axis in ("yaw", "pitch", "roll")))
        figure.turns[number] = own if above is None else above @ own
    figure.stand()
    return Clip("", name, rate=RATE, length=float(times[-1]), tracks=figure.tracks(times))


def swing(seconds: float, size: float, beats: int, late: float = 0.0, fade: float = 0.0) -> list[tuple[float, float]]:
    """A swing told by its turning points and the middles between them."""
    found = []
    for k in range(2 * beats):
        t = (k + 0.5) * seconds / (2 * beats) + late
        found.append((t % seconds if not fade else t, size * (1 if k % 2 == 0 else -1) * np.exp(-fade * t)))
    return found


@made("Turn the wheel", "turn", "prop, wheel, crank, winch, machine, round", who="winch", loops=True)
def wheel_turns() -> Clip:
    # Even, as a hand that pushes on the way down and lifts on the way up can.
    roll = [(0.0, 0.0), (0.5, -98.0), (1.1, -180.0), (1.6, -278.0), (2.2, -360.0)]
    times = np.linspace(0.0, 2.2, 12)
    told = [(float(t), float(np.interp(t, *zip(*roll, strict=True)))) for t in times]
    keys: dict[str, dict[str, list[tuple[float, float]]]] = {"wheel.wheel": {"roll": told}, "crank.hinge": {"roll": [(t, -v) for t, v in told]}}
    for k in range(1, 7):
        keys[f"rope.{k}"] = {"roll": swing(2.2, 0.9, 2, 0.05 * k)}
    return played("winch", "wheel_turns", 2.2, keys, loop=False)


@made("Swing the boom out", "turn, lift", "prop, boom, crane, winch, machine, load", who="winch")
def boom_swings() -> Clip:
    keys: dict[str, dict[str, list[tuple[float, float]]]] = defaultdict(dict)
    keys["boom.hinge"]["roll"] = [(0.2, 0.0), (0.5, 2.0), (1.6, -20.0), (1.9, -18.5), (2.2, -19.0), (4.0, -19.0)]
    for k in range(1, 7):
        hang = [(0.2, 0.0), (0.6, -2.0), (1.3, 20.0 if k == 1 else 4.0)]
        keys[f"rope.{k}"]["roll"] = [*hang, *((1.6 + 0.3 * n, (19.0 if k == 1 else 0.0) + 3.4 * np.exp(-0.35 * n) * (-1) ** n) for n in range(9))]
    keys["bell.hinge"]["roll"] = [(1.0, 0.0), *((1.7 + 0.26 * n, 9.0 * np.exp(-0.3 * n) * (-1) ** n) for n in range(9))]
    return played("winch", "boom_swings", 4.2, keys, loop=False)


@made("Ring the bell", "shake, wave", "prop, bell, rope, swing, sound, alarm", who="winch", loops=True)
def bell_rings() -> Clip:
    keys: dict[str, dict[str, list[tuple[float, float]]]] = {"bell.hinge": {"roll": swing(2.4, 30.0, 2)}}
    for k in range(1, 7):
        keys[f"rope.{k}"] = {"roll": swing(2.4, 2.2, 2, 0.06 * (7 - k))}
    return played("winch", "bell_rings", 2.4, keys, loop=True)


@made("Flutter", "flap, idle", "cut-out, flat, moth, butterfly, wings, light", who="lantern", loops=True)
def flutter() -> Clip:
    seconds = 1.6
    keys: dict[str, dict[str, list[tuple[float, float]]]] = defaultdict(dict)
    for s, sign in (("l", 1.0), ("r", -1.0)):
        keys[f"arm.{s}.upper"]["roll"] = [(0.1 * k, sign * (24.0 if k % 2 else -18.0)) for k in range(16)]
        keys[f"arm.{s}.lower"]["roll"] = [(0.1 * k + 0.03, sign * (16.0 if k % 2 else -14.0)) for k in range(16)]
        keys[f"leg.{s}.upper"]["roll"] = [(0.1 * k + 0.02, sign * (12.0 if k % 2 else -8.0)) for k in range(16)]
        keys[f"leg.{s}.lower"]["roll"] = [(0.1 * k + 0.05, sign * (10.0 if k % 2 else -8.0)) for k in range(16)]
    keys["spine.chest"]["roll"] = [(0.0, 4.0), (0.8, -4.0)]
    keys["spine.head"]["roll"] = [(0.1, -5.0), (0.9, 5.0)]
    moved = {"y": [(0.1 * k, 0.14 + (0.012 if k % 2 else -0.012) + 0.04 * np.sin(2 * np.pi * k / 16)) for k in range(16)], "x": [(0.0, 0.05), (0.8, -0.05)]}
    return played("lantern", "flutter", seconds, keys, loop=True, moved=moved)


@made("Nod of a paper figure", "nod, bow", "cut-out, flat, puppet, paper, yes", who="lantern")
def paper_nod() -> Clip:
    keys: dict[str, dict[str, list[tuple[float, float]]]] = defaultdict(dict)
    keys["spine.chest"]["roll"] = [(0.1, 0.0), (0.4, -3.0), (0.8, 9.0), (1.3, -2.0), (1.8, 0.0)]
    keys["spine.head"]["roll"] = [(0.1, 0.0), (0.45, -5.0), (0.88, 16.0), (1.12, 4.0), (1.3, 12.0), (1.6, -2.0), (2.0, 0.0)]
    for s, sign in (("l", 1.0), ("r", -1.0)):
        keys[f"arm.{s}.upper"]["roll"] = [(0.1, 0.0), (0.5, 5.0 * sign), (0.95, -10.0 * sign), (1.5, 4.0 * sign), (2.0, 0.0)]
        keys[f"arm.{s}.lower"]["roll"] = [(0.15, 0.0), (0.6, 6.0 * sign), (1.05, -12.0 * sign), (1.6, 5.0 * sign), (2.1, 0.0)]
    return played("lantern", "paper_nod", 2.2, keys, loop=False)


@made("Sway of a paper figure", "dance, idle", "cut-out, flat, puppet, paper, music", who="lantern", loops=True)
def paper_sway() -> Clip:
    keys: dict[str, dict[str, list[tuple[float, float]]]] = defaultdict(dict)
    keys["spine.hips"]["roll"] = swing(2.4, 8.0, 1)
    keys["spine.chest"]["roll"] = swing(2.4, 7.0, 1, 0.1)
    keys["spine.head"]["roll"] = swing(2.4, -10.0, 1, 0.2)
    for s in "lr":
        keys[f"arm.{s}.upper"]["roll"] = swing(2.4, 14.0, 1, 0.25)
        keys[f"arm.{s}.lower"]["roll"] = swing(2.4, 12.0, 1, 0.35)
        keys[f"leg.{s}.upper"]["roll"] = swing(2.4, 6.0, 1, 0.2)
    return played("lantern", "paper_sway", 2.4, keys, loop=True, moved={"y": [(0.0, 0.0), (0.6, 0.015), (1.2, 0.0), (1.8, 0.015)]})
