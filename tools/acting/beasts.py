"""Animals on four legs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from tools.acting.body import body
from tools.acting.creature import Creature
from tools.acting.made import made

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.numbers import PRESETS, Gait

FOUR = PRESETS["four"]


def going(gait: Gait, strides: float = 2.0, **more: object) -> Creature:
    walker = body("dumble").walker(gait, strides, **more)
    return Creature("dumble", walker.course.seconds, loop=not (more.get("start") or more.get("stop") or more.get("way")), walker=walker)


@made("Walk on four legs", "walk", "animal, four-legged, calm, horse, cow, dog", who="dumble", loops=True)
def four_walk() -> Clip:
    a = going(FOUR["walk"], 2.0)
    w = a.seconds
    for k in range(4):
        a.key(k * w / 4, neck_pitch=3).key((k + 0.5) * w / 4, neck_pitch=-2)
    return a.clip("four_walk")


@made("Amble on four legs", "amble", "animal, four-legged, slow, easy, pony", who="dumble", loops=True)
def four_amble() -> Clip:
    a = going(FOUR["amble"], 4.0)
    w = a.seconds
    a.key(0, head_yaw=0, neck_pitch=4).key(0.3 * w, head_yaw=14, neck_yaw=6, neck_pitch=8).key(0.7 * w, head_yaw=-12, neck_yaw=-6, neck_pitch=2)
    return a.clip("four_amble")


@made("Trot on four legs", "trot", "animal, four-legged, brisk, horse, quick", who="dumble", loops=True)
def four_trot() -> Clip:
    a = going(FOUR["trot"], 3.0)
    a.key(0, neck_pitch=-6, head_pitch=4)
    return a.clip("four_trot")


@made("Canter on four legs", "canter", "animal, four-legged, fast, horse, gallop, run", who="dumble", loops=True)
def four_canter() -> Clip:
    a = going(FOUR["canter"], 3.0)
    w = a.seconds / 3.0
    for k in range(3):
        a.key(k * w, neck_pitch=8).key((k + 0.5) * w, neck_pitch=-10)
    return a.clip("four_canter")


@made("Creep on four legs", "sneak, walk", "animal, four-legged, hunting, cat, low, careful, stalking", who="dumble", loops=True)
def four_sneak() -> Clip:
    a = going(FOUR["sneak"], 2.0)
    a.key(0, neck_pitch=26, head_pitch=-20)
    return a.clip("four_sneak")


@made("Graze", "graze", "eat, grass, animal, four-legged, calm, cow, meadow", who="dumble", loops=True)
def graze() -> Clip:
    a = Creature("dumble", 5.6, loop=True)
    down = {"neck_pitch": 60.0, "chest_pitch": 10.0, "head_pitch": 40.0, "hips_pitch": 4.0}
    a.key(0, **down, hips_z=0.02, snout=0, snout_yaw=0, head_yaw=0, neck_yaw=0)
    for k in range(6):
        t = 0.4 + 0.5 * k
        a.key(t, snout=10, head_pitch=42).key(t + 0.25, snout=-10, head_pitch=37)
    a.key(1.2, neck_yaw=14, head_yaw=8).key(2.4, neck_yaw=-12, head_yaw=-8).key(3.2, neck_yaw=0, head_yaw=0)
    a.key(3.3, neck_pitch=60, chest_pitch=10, hips_pitch=4, head_pitch=40).key(4.0, neck_pitch=8, chest_pitch=0, hips_pitch=0, head_pitch=10, hips_z=-0.02)
    for k in range(4):
        a.key(4.05 + 0.22 * k, snout=14 if k % 2 else -4)
    a.key(4.8, neck_pitch=10, head_pitch=8, head_yaw=16).key(5.1, neck_pitch=36, head_pitch=22)
    a.key(0, tail_yaw=0, tail_pitch=0).key(1.0, tail_yaw=16).key(1.3, tail_yaw=-16).key(1.6, tail_yaw=10).key(2.0, tail_yaw=0).key(4.2, tail_yaw=14).key(4.5, tail_yaw=-12).key(4.9, tail_yaw=0)
    return a.clip("graze")


@made("Sniff", "sniff", "smell, nose, animal, four-legged, curious, search, dog", who="dumble", loops=True)
def sniff() -> Clip:
    a = Creature("dumble", 4.0, loop=True)
    a.key(0, neck_pitch=60, chest_pitch=12, head_pitch=28, neck_yaw=0, hips_pitch=3).key(0.9, neck_yaw=20, neck_pitch=76, head_yaw=14, head_pitch=36).key(1.7, neck_yaw=24, neck_pitch=66)
    a.key(2.5, neck_yaw=-18, neck_pitch=80, head_yaw=-16, head_pitch=38).key(3.3, neck_yaw=-22, neck_pitch=62)
    for k in range(20):
        a.key(0.2 * k, snout=18 if k % 2 else 2, snout_yaw=8 if k % 4 < 2 else -8)
    a.key(0.5, hips_x=0, hips_z=0).key(1.4, hips_x=0.02, hips_z=0.03).key(2.8, hips_x=-0.02, hips_z=0.03).key(3.6, hips_x=0, hips_z=0)
    a.key(0.6, tail_pitch=10, tail_yaw=0).key(2.0, tail_pitch=18, tail_yaw=8).key(3.4, tail_pitch=8, tail_yaw=-6)
    return a.clip("sniff")


@made("Shake itself dry", "shake", "wet, water, animal, four-legged, dog, fur", who="dumble")
def shake_dry() -> Clip:
    a = Creature("dumble", 2.6)
    a.key(0.1, chest_roll=0, head_roll=0, hips_roll=0, neck_pitch=0).key(0.4, neck_pitch=18, hips_y=-0.04, head_pitch=6)
    for k in range(13):
        t, sign = 0.5 + 0.105 * k, 1 if k % 2 else -1
        size = np.sin(np.pi * min((k + 1.0) / 13.0, 1.0)) ** 0.5
        a.key(t, head_roll=30 * sign * size).key(t + 0.05, chest_roll=13 * sign * size).key(t + 0.13, hips_roll=8 * sign * size).key(t + 0.16, tail_yaw=24 * sign * size)
    a.key(2.05, head_roll=0).key(2.1, chest_roll=0, hips_y=-0.03).key(2.2, hips_roll=0, tail_yaw=0).key(2.3, neck_pitch=-4, head_pitch=-4, hips_y=0).key(2.6, neck_pitch=0, head_pitch=0, hips_roll=0, chest_roll=0, head_roll=0)
    return a.clip("shake_dry")


SIT = {"hips_y": -0.6, "hips_z": 0.16, "hips_pitch": -38.0, "chest_pitch": 22.0, "neck_pitch": 4.0, "head_pitch": 8.0}


@made("Sit down on four legs", "sit", "animal, four-legged, dog, down", who="dumble")
def four_sit() -> Clip:
    a = Creature("dumble", 2.4)
    up = dict.fromkeys(SIT, 0.0)
    a.key(0.15, **up).key(0.5, hips_z=-0.04, neck_pitch=10, hips_y=-0.03).key(1.4, **SIT).key(1.7, head_pitch=2, neck_pitch=-6).key(2.1, **SIT).key(2.4, **SIT)
    for s in "lr":
        a.key(0.5, **{f"foot_leg_{s}_pitch": 0, f"foot_leg_{s}_z": 0}).key(1.35, **{f"foot_leg_{s}_pitch": -66, f"foot_leg_{s}_z": 0.32})
    a.key(0.5, tail_pitch=0).key(1.4, tail_pitch=-18).key(2.0, tail_pitch=-22)
    a.lies.append((1.4, 2.4))
    return a.clip("four_sit")


@made("Lie down on four legs", "lie down", "animal, four-legged, rest, sleep, dog, cow", who="dumble")
def four_lie() -> Clip:
    a = Creature("dumble", 3.2)
    names = ("hips_y", "hips_z", "hips_pitch", "chest_pitch", "neck_pitch", "head_pitch")
    a.key(0.15, **dict.fromkeys(names, 0.0)).key(0.5, neck_pitch=20, hips_z=-0.03)
    a.key(1.2, hips_y=-0.18, hips_pitch=26, chest_pitch=-6, neck_pitch=-14).key(2.1, hips_y=-0.72, hips_pitch=2, chest_pitch=2, neck_pitch=-4, hips_z=0.02).key(2.7, neck_pitch=10, head_pitch=4).key(3.2, hips_y=-0.72, neck_pitch=14, head_pitch=6)
    for s in "lr":
        a.key(0.5, **{f"foot_foreleg_{s}_pitch": 0, f"foot_foreleg_{s}_z": 0}).key(1.3, **{f"foot_foreleg_{s}_pitch": -62, f"foot_foreleg_{s}_z": 0.3}).key(2.0, **{f"foot_foreleg_{s}_pitch": -80, f"foot_foreleg_{s}_z": 0.36})
        a.key(1.2, **{f"foot_leg_{s}_pitch": 0, f"foot_leg_{s}_z": 0}).key(2.1, **{f"foot_leg_{s}_pitch": -74, f"foot_leg_{s}_z": 0.34})
    a.key(1.0, tail_pitch=0).key(2.4, tail_pitch=-14)
    a.lies.append((2.1, 3.2))
    return a.clip("four_lie")


@made("Stand about on four legs", "idle", "animal, four-legged, waiting, calm, breathing", who="dumble", loops=True)
def four_idle() -> Clip:
    a = Creature("dumble", 5.6, loop=True, breath=1.6)
    a.key(0, hips_x=0.03, neck_yaw=0, neck_pitch=4, head_yaw=0).key(1.4, neck_yaw=16, head_yaw=10, neck_pitch=-4).key(2.4, neck_yaw=18, hips_x=0.02).key(3.6, neck_yaw=-8, neck_pitch=10, head_yaw=-6, hips_x=-0.03).key(4.8, neck_yaw=-6, hips_x=-0.02)
    a.key(0, tail_yaw=0, tail_pitch=0).key(0.8, tail_yaw=16).key(1.1, tail_yaw=-16).key(1.4, tail_yaw=12).key(1.8, tail_yaw=0).key(4.0, tail_yaw=-14).key(4.4, tail_yaw=10).key(4.8, tail_yaw=0)
    return a.clip("four_idle")


@made("Start and stop on four legs", "start, stop, walk", "animal, four-legged, from standing, halt", who="dumble")
def four_start_stop() -> Clip:
    return going(replace(FOUR["walk"]), 3.0, start=True, stop=True).clip("four_start_stop")
