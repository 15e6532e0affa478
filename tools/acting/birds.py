"""Birds: on their feet and on their wings."""

from __future__ import annotations

from tools.acting.body import body
from tools.acting.creature import Creature
from tools.acting.made import made

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.numbers import PRESETS

BIRD = PRESETS["bird"]
FOLD = 1.0


@made("Walk like a bird", "walk", "bird, heron, hen, nodding, stalking", who="harl", loops=True)
def bird_walk() -> Clip:
    walker = body("harl").walker(BIRD["stalk"], 2.0)
    a = Creature("harl", walker.course.seconds, loop=True, walker=walker)
    a.key(0, fold=FOLD)
    return a.clip("bird_walk")


@made("Stand like a bird", "idle, look", "bird, heron, waiting, watch, calm", who="harl", loops=True)
def bird_idle() -> Clip:
    a = Creature("harl", 5.0, loop=True)
    a.key(0, fold=FOLD, neck_yaw=0, head_yaw=0, neck_pitch=0)
    for t, yaw, pitch in ((0.8, 30, -2), (0.95, 42, 4), (2.0, 40, 2), (2.15, -8, -6), (3.0, -10, 0), (3.12, -38, 6), (4.2, -36, 4), (4.4, 0, 0)):
        a.key(t, head_yaw=yaw, head_pitch=pitch)
    a.key(1.0, neck_yaw=10).key(2.2, neck_yaw=-4, neck_pitch=-4).key(3.2, neck_yaw=-12, neck_pitch=4).key(4.4, neck_yaw=0, neck_pitch=0)
    a.key(2.6, tail_pitch=0).key(2.75, tail_pitch=14).key(2.95, tail_pitch=-4).key(3.1, tail_pitch=0)
    return a.clip("bird_idle")


@made("Peck", "peck", "bird, eat, ground, hen, grain, fish", who="harl", loops=True)
def peck() -> Clip:
    a = Creature("harl", 3.6, loop=True)
    a.key(0, fold=FOLD, hips_pitch=0, neck_pitch=0, neck_curl=0, head_pitch=0, hips_y=0)
    a.key(0.5, hips_pitch=16, neck_pitch=50, head_pitch=16, hips_y=-0.1, neck_curl=0)
    for k in range(3):
        t = 0.75 + 0.5 * k
        a.key(t, hips_pitch=26, neck_pitch=84, head_pitch=34, hips_y=-0.2, neck_curl=14).key(t + 0.12, neck_pitch=100, head_pitch=44).key(t + 0.3, neck_pitch=78, head_pitch=20, hips_pitch=22)
    a.key(2.5, hips_pitch=0, neck_pitch=-8, head_pitch=-16, hips_y=0, neck_curl=0).key(2.8, head_pitch=-28, neck_pitch=-10).key(3.1, neck_pitch=0, head_pitch=0)
    a.key(0.5, tail_pitch=0).key(1.0, tail_pitch=-12).key(2.4, tail_pitch=0)
    return a.clip("peck")


def beat(a: Creature, first: float, period: float, count: int, up: float = 46.0, down: float = -44.0) -> None:
    """Wing beats: down slower than up, spread on the way down, drawn in on the way up, the body lifted by each."""
    for k in range(count):
        t = first + period * k
        a.key(t, flap=up, fold=0.0, twist=8, tip=10).key(t + 0.3 * period, flap=0, fold=0.0, twist=14, tip=14).key(t + 0.58 * period, flap=down, fold=0.05, twist=0, tip=-6)
        a.key(t + 0.78 * period, flap=-4, fold=0.28, twist=-16, tip=-26)


@made("Flap", "flap", "bird, fly, wings, air, heron", who="harl", loops=True)
def flap() -> Clip:
    a = Creature("harl", 2.4, loop=True, free=True)
    beat(a, 0.0, 0.6, 4)
    for k in range(4):
        t = 0.6 * k
        a.key(t, hips_y=1.9).key(t + 0.34, hips_y=2.02).key(t + 0.5, hips_y=2.03)
        a.key(t, hips_pitch=8).key(t + 0.3, hips_pitch=2)
    a.key(0, leg=76, knee=-30, shank=46, toes=40, neck_pitch=34, neck_curl=24, head_pitch=-2, tail_pitch=4)
    return a.clip("flap")


@made("Glide", "glide", "bird, fly, sail, soar, air, wind, calm", who="harl", loops=True)
def glide() -> Clip:
    a = Creature("harl", 5.0, loop=True, free=True)
    a.key(0, flap=9, tip=4, fold=0.03, sweep=2, hips_y=2.0, hips_roll=0, hips_yaw=0).key(1.2, hips_roll=11, flap=11, hips_y=1.96, flap_l=4, flap_r=-3).key(2.5, hips_roll=-2, flap=8, hips_y=2.03).key(3.8, hips_roll=-12, flap=11, hips_y=1.97, flap_l=-3, flap_r=4)
    a.key(0, leg=78, knee=-30, shank=48, toes=40, neck_pitch=34, neck_curl=24, head_pitch=-2).key(1.2, head_roll=-9, tail_yaw=8).key(3.8, head_roll=9, tail_yaw=-8).key(2.5, head_roll=0, tail_yaw=0)
    return a.clip("glide")


@made("Take off", "take off", "bird, fly, start, up, jump, heron", who="harl")
def take_off() -> Clip:
    a = Creature("harl", 3.0, free=True)
    a.key(0.1, fold=1.0, flap=0, hips_y=0, hips_z=0, hips_pitch=0, leg=0, knee=0, shank=0, toes=0, neck_pitch=0, neck_curl=0)
    a.key(0.55, fold=0.7, flap=20, hips_y=-0.22, hips_pitch=16, leg=-34, knee=62, shank=-44, toes=0, neck_pitch=14).key(0.72, fold=0.0, flap=58, hips_y=-0.24, leg=-36, knee=64, shank=-44)
    beat(a, 0.78, 0.46, 4, 60, -52)
    a.key(0.95, hips_y=0.14, hips_z=0.1, hips_pitch=-24, leg=4, knee=4, shank=-6, toes=30).key(1.3, hips_y=0.55, hips_z=0.4, hips_pitch=-26, leg=26).key(1.8, hips_y=1.15, hips_z=1.1, hips_pitch=-14, leg=52, knee=-14, shank=26, toes=40)
    a.key(2.4, hips_y=1.75, hips_z=2.2, hips_pitch=-2, leg=72, knee=-28, shank=44, neck_pitch=26, neck_curl=18).key(3.0, hips_y=2.05, hips_z=3.6, hips_pitch=4, leg=76, knee=-30, shank=46, neck_pitch=33, neck_curl=24, flap=30, fold=0.0)
    a.key(0.9, neck_pitch=-10, head_pitch=10, tail_pitch=-10).key(1.8, neck_pitch=4, head_pitch=4, tail_pitch=-6).key(3.0, tail_pitch=4, head_pitch=-2)
    return a.clip("take_off")


@made("Land", "land", "bird, fly, stop, down, ground, heron", who="harl")
def land() -> Clip:
    a = Creature("harl", 3.2, free=True)
    a.key(0, hips_y=2.0, hips_z=-3.4, hips_pitch=4, leg=76, knee=-30, shank=46, toes=40, neck_pitch=33, neck_curl=24, flap=10, fold=0.02).key(0.8, hips_y=1.5, hips_z=-2.1, hips_pitch=-6, flap=16)
    a.key(1.25, hips_y=0.95, hips_z=-1.15, hips_pitch=-30, leg=20, knee=-4, shank=10, toes=10, neck_pitch=10, neck_curl=8)
    beat(a, 1.15, 0.42, 2, 50, -20)
    a.key(1.75, hips_y=0.3, hips_z=-0.35, hips_pitch=-32, leg=-4, knee=8, shank=-8, toes=10, neck_pitch=2, neck_curl=0).key(2.05, hips_y=-0.02, hips_z=-0.06, hips_pitch=-16, leg=-2, knee=8, shank=-8, toes=0, flap=34, fold=0.0)
    a.key(2.25, hips_y=-0.2, hips_z=0.0, hips_pitch=10, leg=-32, knee=58, shank=-40, flap=26, fold=0.25).key(2.75, hips_y=0, hips_pitch=0, leg=0, knee=0, shank=0, flap=0, fold=1.0).key(3.2, hips_y=0, fold=1.0, flap=0, leg=0, knee=0, shank=0)
    a.key(1.2, tail_pitch=0).key(1.7, tail_pitch=-26).key(2.3, tail_pitch=-8).key(2.8, tail_pitch=0).key(2.3, neck_pitch=10, head_pitch=0).key(2.8, neck_pitch=0)
    return a.clip("land")

