"""People: how they go, sit, lift, point, talk."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from tools.acting.actor import Actor
from tools.acting.body import body
from tools.acting.made import made

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.numbers import PRESETS, Gait
from pegloom.core.motion.gait.path import Way

TWO = PRESETS["two"]


def going(gait: Gait, strides: float = 2.0, **more: object) -> Actor:
    """An actor on a gait; loops unless it starts, stops or turns."""
    walker = body("wick").walker(gait, strides, **more)
    loops = not (more.get("start") or more.get("stop") or more.get("way"))
    return Actor(walker.course.seconds, loop=loops, walker=walker)


# Going


@made("Walk", "walk", "calm, steady, plain", loops=True)
def walk() -> Clip:
    return going(TWO["walk"]).clip("walk")


@made("Stroll", "walk", "slow, calm, relaxed, easy, sunday", loops=True)
def stroll() -> Clip:
    a = going(TWO["stroll"], 4.0)
    w = a.seconds
    a.key(0.1 * w, head_yaw=0).key(0.35 * w, head_yaw=32).key(0.5 * w, head_yaw=30).key(0.75 * w, head_yaw=-20).key(0.9 * w, head_yaw=0)
    return a.clip("stroll")


@made("Walk home tired", "walk", "tired, slow, weary, heavy, evening, home, exhausted", loops=True)
def walk_tired() -> Clip:
    gait = replace(TWO["walk"], stride=(1.05, 1.05), cadence=82.0, lift=(0.03, 0.03), lean=16.0, height=0.93, arm_swing=(9.0, 9.0), elbow=(8.0, 8.0), bob=0.03, sway=0.06, steady=0.25,
                   toe_out=(12.0, 12.0), roll=(0.5, 0.5), shoulder_twist=(4.0, 4.0))  # fmt: skip
    a = going(gait, 4.0)
    w = a.seconds
    a.key(0, head_pitch=16, lean=5, head_roll=0).key(0.25 * w, head_pitch=22, head_roll=4).key(0.5 * w, head_pitch=15, lean=9, head_roll=-2).key(0.75 * w, head_pitch=24, head_roll=-4)
    return a.clip("walk_tired")


@made("Walk sad", "walk", "sad, slow, lonely, head down, disappointed", loops=True)
def walk_sad() -> Clip:
    gait = replace(TWO["stroll"], stride=(1.1, 1.1), cadence=76.0, lean=8.0, height=0.96, arm_swing=(5.0, 5.0), elbow=(6.0, 6.0), steady=0.5, sway=0.03, bob=0.02)
    a = going(gait, 2.0)
    a.key(0, head_pitch=30, lean=5, arm_shrug=-4, arm_ahead=14, arm_arm=0.0)
    return a.clip("walk_sad")


@made("Walk happily", "walk", "happy, cheerful, lively, bouncy, light, glad", loops=True)
def walk_happy() -> Clip:
    gait = replace(TWO["walk"], stride=(1.6, 1.6), cadence=122.0, lift=(0.15, 0.15), bob=0.09, lean=-1.0, arm_swing=(40.0, 40.0), elbow=(35.0, 35.0), sway=0.04, hip_twist=(8.0, 8.0),
                   shoulder_twist=(10.0, 10.0), height=1.0)  # fmt: skip
    a = going(gait, 2.0)
    w = a.seconds
    a.key(0, head_roll=6, head_pitch=-5).key(0.25 * w, head_roll=-6).key(0.5 * w, head_roll=6).key(0.75 * w, head_roll=-6)
    return a.clip("walk_happy")


@made("Walk proudly", "walk", "proud, confident, strong, upright, important, boss", loops=True)
def walk_proud() -> Clip:
    gait = replace(TWO["walk"], stride=(1.65, 1.65), cadence=100.0, lean=-5.0, height=1.0, arm_swing=(28.0, 28.0), elbow=(24.0, 24.0), sway=0.045, shoulder_twist=(12.0, 12.0), toe_out=(14.0, 14.0))
    a = going(gait, 2.0)
    a.key(0, head_pitch=-8, lean=-4)
    return a.clip("walk_proud")


@made("Walk angrily", "walk", "angry, furious, stomping, hard, quick, cross", loops=True)
def walk_angry() -> Clip:
    gait = replace(TWO["walk"], stride=(1.6, 1.6), cadence=126.0, lift=(0.12, 0.12), lean=12.0, arm_swing=(34.0, 34.0), elbow=(48.0, 48.0), bob=0.05, sway=0.02, steady=0.5, height=0.95,
                   hip_twist=(8.0, 8.0), shoulder_twist=(13.0, 13.0), roll=(0.4, 0.4))  # fmt: skip
    a = going(gait, 2.0)
    a.key(0, head_pitch=-4, arm_l_curl=0.95, arm_r_curl=0.95, arm_arm=0.0, steady=0.5)
    return a.clip("walk_angry")


@made("Walk like an old man", "walk", "old, slow, bent, stooped, grandfather, careful, frail", loops=True)
def walk_old() -> Clip:
    gait = replace(TWO["shuffle"], stride=(0.72, 0.72), cadence=88.0, lift=(0.035, 0.035), lean=24.0, height=0.9, steady=0.6, arm_swing=(6.0, 6.0), elbow=(42.0, 42.0))
    a = going(gait, 4.0)
    w = a.seconds
    a.key(0, head_pitch=-6, lean=4, arm_l_up=-52, arm_l_out=-28, arm_l_reach=0.52, arm_l_swivel=22, arm_l_wrist=20).key(0.5 * w, arm_l_up=-49)
    return a.clip("walk_old")


@made("Stagger", "walk", "drunk, dizzy, staggering, unsteady, swaying", loops=True)
def stagger() -> Clip:
    gait = replace(TWO["walk"], stride=(1.0, 1.0), cadence=80.0, sway=0.11, width=1.7, lean=6.0, lift=(0.09, 0.06), arm_swing=(14.0, 18.0), toe_out=(18.0, 12.0), steady=0.1, offset=0.46)
    a = going(gait, 4.0)
    w = a.seconds
    a.key(0, side=6, lean=2, head_roll=10, head_pitch=10, twist=6).key(0.22 * w, side=-9, lean=10, head_roll=-14, head_pitch=18).key(0.5 * w, side=10, lean=-4, head_roll=12, head_pitch=2, twist=-8)
    a.key(0.78 * w, side=-7, lean=8, head_roll=-8, head_pitch=16)
    a.key(0.1 * w, arm_l_up=-40, arm_l_out=70, arm_l_reach=0.9).key(0.5 * w, arm_l_up=-20, arm_l_out=75, arm_l_reach=0.85).key(0.8 * w, arm_l_up=-55, arm_l_out=55)
    return a.clip("stagger")


@made("March", "walk", "soldier, parade, stiff, brisk, rhythm", loops=True)
def march() -> Clip:
    a = going(TWO["march"])
    a.key(0, head_pitch=-3, arm_curl=0.8, arm_arm=0.0)
    return a.clip("march")


@made("Walk briskly", "walk", "quick, fast, hurried, brisk, late", loops=True)
def walk_brisk() -> Clip:
    gait = replace(TWO["walk"], stride=(1.85, 1.85), cadence=132.0, lean=7.0, arm_swing=(36.0, 36.0), elbow=(50.0, 50.0), hip_twist=(9.0, 9.0), bob=0.05, sway=0.02)
    return going(gait).clip("walk_brisk")


@made("Run", "run", "fast, quick, athletic", loops=True)
def run() -> Clip:
    return going(TWO["run"], 3.0).clip("run")


@made("Jog", "run", "easy, steady, morning, training, jogging", loops=True)
def jog() -> Clip:
    return going(TWO["jog"], 3.0).clip("jog")


@made("Run for it", "run", "scared, afraid, fleeing, fast, sprint, panic, chased", loops=True)
def run_scared() -> Clip:
    gait = replace(TWO["run"], stride=(3.0, 3.0), cadence=205.0, lean=14.0, arm_swing=(52.0, 52.0), elbow=(95.0, 95.0), lift=(0.36, 0.36))
    a = going(gait, 6.0)
    w = a.seconds
    a.key(0.1 * w, head_yaw=0, twist=0).key(0.42 * w, head_yaw=62, twist=14).key(0.6 * w, head_yaw=60, twist=14).key(0.85 * w, head_yaw=0, twist=0)
    return a.clip("run_scared")


@made("Sneak", "sneak", "careful, quiet, secret, slow, thief, silent, crouched", loops=True)
def sneak() -> Clip:
    a = going(TWO["sneak"])
    w = a.seconds
    a.key(0, arm_up=-34, arm_out=12, arm_reach=0.55, arm_swivel=20, arm_wrist=-38, arm_curl=0.35)
    a.key(0.25 * w, arm_l_up=-22, arm_r_up=-46, head_yaw=28).key(0.5 * w, head_yaw=0).key(0.75 * w, arm_l_up=-46, arm_r_up=-22, head_yaw=-28).key(w, head_yaw=0)
    return a.clip("sneak")


@made("Tiptoe", "sneak, walk", "quiet, careful, toes, softly, night", loops=True)
def tiptoe() -> Clip:
    a = going(TWO["tiptoe"])
    w = a.seconds
    a.key(0, arm_up=-18, arm_out=58, arm_reach=0.72, arm_wrist=30, arm_curl=0.1).key(0.5 * w, arm_up=-10)
    return a.clip("tiptoe")


@made("Limp, left leg hurt", "limp", "left, hurt, injured, wounded, leg, pain", loops=True)
def limp_left() -> Clip:
    a = going(TWO["limp left"])
    a.key(0, head_pitch=8)
    return a.clip("limp_left")


@made("Limp, right leg hurt", "limp", "right, hurt, injured, wounded, leg, pain", loops=True)
def limp_right() -> Clip:
    a = going(TWO["limp right"])
    a.key(0, head_pitch=8)
    return a.clip("limp_right")


@made("Start walking", "start, walk", "begin, set off, from standing")
def start_walk() -> Clip:
    a = going(TWO["walk"], 2.5, start=True)
    a.key(0, head_yaw=0)
    return a.clip("start_walk")


@made("Stop walking", "stop, walk", "end, halt, arrive, to a stand")
def stop_walk() -> Clip:
    return going(TWO["walk"], 2.5, stop=True).clip("stop_walk")


@made("Start running", "start, run", "begin, set off, dash, from standing")
def start_run() -> Clip:
    return going(TWO["run"], 4.0, start=True).clip("start_run")


@made("Run and stop", "stop, run", "halt, brake, to a stand")
def stop_run() -> Clip:
    return going(TWO["run"], 4.0, stop=True).clip("stop_run")


@made("Walk in a curve to the left", "walk, turn", "left, curve, corner, around")
def walk_left() -> Clip:
    a = going(TWO["walk"], 4.0, way=Way(turn=0.55))
    a.key(0, head_yaw=14)
    return a.clip("walk_left")


@made("Walk in a curve to the right", "walk, turn", "right, curve, corner, around")
def walk_right() -> Clip:
    a = going(TWO["walk"], 4.0, way=Way(turn=-0.55))
    a.key(0, head_yaw=-14)
    return a.clip("walk_right")


@made("Walk up a slope", "walk, climb", "uphill, hill, slope, steep, mountain, effort")
def walk_uphill() -> Clip:
    gait = replace(TWO["walk"], stride=(1.2, 1.2), cadence=92.0, lean=14.0, lift=(0.13, 0.13), height=0.93, arm_swing=(28.0, 28.0))
    a = going(gait, 4.0, way=Way(slope=(0.28, 0.0)))
    a.key(0, head_pitch=-6)
    return a.clip("walk_uphill")


@made("Carry a crate", "carry, walk", "box, crate, heavy, load, parcel, both hands", loops=True)
def carry_crate() -> Clip:
    gait = replace(TWO["walk"], stride=(1.15, 1.15), cadence=94.0, lean=-7.0, height=0.94, sway=0.045, bob=0.035, width=1.1)
    a = going(gait)
    w = a.seconds
    a.key(0, arm_up=-34, arm_out=9, arm_reach=0.7, arm_swivel=4, arm_turn=-55, arm_wrist=-18, arm_curl=0.3, lean=-2)
    a.key(0.25 * w, arm_up=-36).key(0.5 * w, arm_up=-34).key(0.75 * w, arm_up=-36)
    return a.clip("carry_crate")


@made("Carry a sack on the shoulder", "carry, walk", "sack, shoulder, heavy, load, bent", loops=True)
def carry_sack() -> Clip:
    gait = replace(TWO["walk"], stride=(1.2, 1.2), cadence=90.0, lean=17.0, height=0.93, sway=0.05, arm_swing=(14.0, 14.0))
    a = going(gait)
    a.key(0, arm_r_up=42, arm_r_out=18, arm_r_reach=0.42, arm_r_swivel=35, arm_r_curl=0.8, arm_r_shrug=8, side=-7, head_roll=-8, head_pitch=-6)
    return a.clip("carry_sack")


@made("Wave while walking", "walk, wave", "greeting, hello, friendly, passing", loops=True)
def walk_wave() -> Clip:
    a = going(TWO["walk"], 3.0)
    w = a.seconds
    a.key(0.0, arm_r_arm=0.0, head_yaw=0).key(0.16 * w, arm_r_arm=1.0, head_yaw=-26).key(0.78 * w, arm_r_arm=1.0, head_yaw=-26).key(0.97 * w, arm_r_arm=0.0, head_yaw=0)
    a.key(0, arm_r_up=-70, arm_r_out=14, arm_r_reach=0.95).key(0.18 * w, arm_r_up=36, arm_r_out=58, arm_r_reach=0.72, arm_r_curl=0.0, arm_r_turn=-70)
    for k in range(6):
        a.key((0.22 + 0.09 * k) * w, arm_r_out=42 if k % 2 else 74, arm_r_up=40)
    a.key(0.95 * w, arm_r_up=-70, arm_r_out=14, arm_r_reach=0.95, arm_r_curl=0.22, arm_r_turn=0)
    return a.clip("walk_wave")


# Turning


@made("Turn to the left", "turn", "left, quarter, on the spot")
def turn_left() -> Clip:
    a = Actor(1.5)
    a.key(0.1, head_yaw=0, hips_yaw=0, twist=0, weight=0).key(0.35, head_yaw=38, twist=16, weight=-0.75).key(0.6, hips_yaw=10, twist=22, weight=-0.6, hips_y=-0.02)
    a.key(0.75, weight=0.6).key(1.0, twist=4, head_yaw=10).key(1.25, head_yaw=0, twist=0, hips_yaw=0, weight=0, hips_y=0).key(1.5, weight=0)
    x = 0.14
    a.step("l", 0.38, 0.72, -0.02, -0.1, 88, 0.1).step("r", 0.76, 1.12, x - 0.02, 0.12, 88, 0.1)
    return a.clip("turn_left")


@made("Turn to the right", "turn", "right, quarter, on the spot")
def turn_right() -> Clip:
    a = Actor(1.5)
    a.key(0.1, head_yaw=0, hips_yaw=0, twist=0, weight=0).key(0.35, head_yaw=-38, twist=-16, weight=0.75).key(0.6, hips_yaw=-10, twist=-22, weight=0.6, hips_y=-0.02)
    a.key(0.75, weight=-0.6).key(1.0, twist=-4, head_yaw=-10).key(1.25, head_yaw=0, twist=0, hips_yaw=0, weight=0, hips_y=0).key(1.5, weight=0)
    a.step("r", 0.38, 0.72, 0.02, -0.1, -88, 0.1).step("l", 0.76, 1.12, -0.12, 0.12, -88, 0.1)
    return a.clip("turn_right")


@made("Turn around", "turn", "back, half, about, behind, surprised")
def turn_around() -> Clip:
    a = Actor(2.1)
    a.key(0.1, head_yaw=0, twist=0, weight=0, hips_yaw=0).key(0.4, head_yaw=55, twist=24, weight=-0.7, hips_y=-0.03).key(0.75, weight=-0.4, twist=26).key(0.95, weight=0.7)
    a.key(1.3, head_yaw=18, twist=10, weight=-0.6).key(1.75, head_yaw=0, twist=0, weight=0, hips_y=0).key(2.1, weight=0)
    a.step("l", 0.4, 0.75, -0.06, -0.2, 84, 0.1).step("r", 0.82, 1.2, 0.22, -0.08, 178, 0.12).step("l", 1.25, 1.6, -0.27, -0.08, 180, 0.1)
    a.key(0.4, arm_l_out=28, arm_r_out=-6).key(1.0, arm_l_out=40, arm_r_out=30).key(1.7, arm_out=14)
    return a.clip("turn_around")


# Jumping, falling


@made("Jump", "jump", "up, hop, leap, high")
def jump() -> Clip:
    a = Actor(2.3)
    a.key(0.15, hips_y=0, lean=0, hips_pitch=0, foot_pitch=0).key(0.62, hips_y=-0.34, lean=26, hips_pitch=16, hips_z=-0.1).key(0.7, hips_y=-0.35).key(0.9, hips_y=0.07, lean=2, hips_pitch=0, hips_z=0)
    a.key(1.36, hips_y=0.0, lean=4, hips_pitch=2).key(1.56, hips_y=-0.3, lean=24, hips_pitch=12, hips_z=-0.08).key(2.0, hips_y=0, lean=0, hips_pitch=0, hips_z=0).key(2.3, hips_y=0)
    a.flights.append((0.9, 1.367))
    a.key(0.75, foot_pitch=0, foot_y=0).key(0.9, foot_pitch=48).key(1.0, foot_pitch=55, foot_y=0.24).key(1.13, foot_y=0.36, foot_pitch=40).key(1.28, foot_y=0.2, foot_pitch=22).key(1.38, foot_y=0, foot_pitch=10)
    a.key(1.45, foot_pitch=0)
    a.key(0.1, arm_up=-78, arm_out=14, arm_reach=0.98).key(0.62, arm_up=-55, arm_out=150, arm_reach=0.92).key(0.92, arm_up=62, arm_out=22, arm_reach=0.95).key(1.2, arm_up=40, arm_out=50, arm_reach=0.9)
    a.key(1.55, arm_up=-42, arm_out=34, arm_reach=0.85).key(2.05, arm_up=-78, arm_out=14, arm_reach=0.98)
    a.key(0.6, head_pitch=-14).key(0.9, head_pitch=-22).key(1.4, head_pitch=10).key(1.7, head_pitch=6).key(2.1, head_pitch=0)
    return a.clip("jump")


@made("Leap ahead", "jump", "forward, far, leap, over, puddle, ditch")
def leap() -> Clip:
    a = Actor(2.2)
    far = 1.35
    a.key(0.1, hips_y=0, lean=0, hips_pitch=0, hips_z=0).key(0.55, hips_y=-0.32, lean=28, hips_pitch=14, hips_z=0.02).key(0.62, hips_y=-0.32, hips_z=0.06).key(0.86, hips_y=0.03, hips_z=0.32, lean=16, hips_pitch=6)
    a.key(1.3, hips_y=-0.06, hips_z=far - 0.3, lean=14, hips_pitch=8).key(1.5, hips_y=-0.36, hips_z=far - 0.06, lean=34, hips_pitch=14).key(1.95, hips_y=0, hips_z=far, lean=0, hips_pitch=0)
    a.key(2.2, hips_y=0, hips_z=far)
    a.flights.append((0.867, 1.3))
    for s in "lr":
        a.key(0.7, **{f"foot_{s}_pitch": 0, f"foot_{s}_y": 0, f"foot_{s}_z": 0}).key(0.86, **{f"foot_{s}_pitch": 48}).key(1.0, **{f"foot_{s}_pitch": 50, f"foot_{s}_y": 0.24, f"foot_{s}_z": 0.45})
        a.key(1.15, **{f"foot_{s}_pitch": 6, f"foot_{s}_y": 0.3, f"foot_{s}_z": 1.05}).key(1.3, **{f"foot_{s}_pitch": -10, f"foot_{s}_y": 0, f"foot_{s}_z": far}).key(1.38, **{f"foot_{s}_pitch": 0})
    a.key(0.1, arm_up=-78, arm_out=14).key(0.55, arm_up=-45, arm_out=155, arm_reach=0.95).key(0.9, arm_up=34, arm_out=14, arm_reach=0.98).key(1.3, arm_up=0, arm_out=20).key(1.5, arm_up=-20, arm_out=34).key(2.0, arm_up=-78, arm_out=14)
    a.key(0.55, head_pitch=-16).key(1.3, head_pitch=6).key(1.6, head_pitch=-8).key(2.0, head_pitch=0)
    return a.clip("leap")


@made("Fall over", "fall", "trip, stumble, down, collapse, hit")
def fall_over() -> Clip:
    a = Actor(2.4)
    a.free_feet = True
    a.breath = 0.4
    a.key(0, hips_pitch=0, lean=0, hips_y=0, hips_z=0, hip_l=2, hip_r=2, bend_l=4, bend_r=4, ankle_l=-2, ankle_r=-2).key(0.3, hips_pitch=8, lean=12, hips_z=0.06, hip_r=40, bend_r=60)
    a.key(0.55, hips_pitch=26, lean=22, hips_y=-0.2, hips_z=0.3, hip_l=10, bend_l=56, hip_r=52, bend_r=84, ankle_l=10, ankle_r=10)
    a.key(0.85, hips_pitch=52, lean=16, hips_y=-0.55, hips_z=0.52, hip_l=0, bend_l=92, hip_r=6, bend_r=100, ankle_l=40, ankle_r=40)
    a.key(1.1, hips_pitch=80, lean=-4, hips_y=-0.8, hips_z=0.6, hip_l=-4, bend_l=40, hip_r=-2, bend_r=46, ankle_l=60, ankle_r=60).key(1.3, hips_pitch=88, lean=-6, hips_y=-0.85, bend_l=12, bend_r=16)
    a.key(1.6, hips_pitch=88, bend_l=5, bend_r=8, lean=-2, hip_l=0, hip_r=0).key(2.4, hips_pitch=88, hips_y=-0.85, hips_z=0.6, bend_l=6, bend_r=9)
    a.key(0.1, arm_up=-78, arm_out=14, arm_reach=0.98).key(0.4, arm_up=-10, arm_out=40, arm_reach=0.9).key(0.7, arm_up=10, arm_out=20, arm_reach=0.85).key(1.05, arm_up=30, arm_out=26, arm_reach=0.62)
    a.key(1.3, arm_up=48, arm_out=62, arm_reach=0.5, arm_swivel=50).key(2.4, arm_up=50, arm_out=66, arm_reach=0.5, arm_swivel=52)
    a.key(0.4, head_pitch=-16).key(1.0, head_pitch=-36).key(1.35, head_pitch=-14).key(1.8, head_pitch=-8, head_yaw=30).key(2.4, head_yaw=32, head_pitch=-8)
    a.key(0, steady=0.3)
    a.lies.append((1.05, 2.4))
    return a.clip("fall_over")


@made("Get up from the floor", "get up, stand up", "rise, floor, ground, after a fall, up")
def get_up() -> Clip:
    a = Actor(3.2)
    a.free_feet = True
    a.breath = 0.4
    a.key(0, steady=0.3)
    a.key(0, hips_pitch=88, hips_y=-0.85, hips_z=0.6, lean=-2, hip_l=0, hip_r=0, bend_l=6, bend_r=9, ankle_l=60, ankle_r=60)
    a.key(0.6, hips_pitch=82, lean=-18, bend_l=14, bend_r=40, hip_r=20, hips_y=-0.8).key(1.1, hips_pitch=66, hips_y=-0.52, hips_z=0.42, lean=-4, hip_l=62, bend_l=92, hip_r=88, bend_r=112, ankle_l=52, ankle_r=40)
    a.key(1.6, hips_pitch=38, hips_y=-0.5, hips_z=0.32, lean=16, hip_l=42, bend_l=116, hip_r=104, bend_r=104, ankle_l=48, ankle_r=-2)
    a.key(2.05, hips_pitch=30, hips_y=-0.34, hips_z=0.4, lean=26, hip_l=46, bend_l=78, hip_r=74, bend_r=88, ankle_l=8, ankle_r=-14)
    a.key(2.6, hips_pitch=6, hips_y=-0.04, hips_z=0.46, lean=8, hip_l=14, bend_l=18, hip_r=18, bend_r=24, ankle_l=-6, ankle_r=-8).key(3.0, hips_pitch=0, hips_y=0, lean=0, hip_l=2, bend_l=4, hip_r=2, bend_r=4, ankle_l=-2, ankle_r=-2)
    a.key(3.2, hips_pitch=0, hips_z=0.46)
    a.key(0, arm_up=50, arm_out=66, arm_reach=0.5, arm_swivel=52).key(0.45, arm_up=6, arm_out=30, arm_reach=0.5, arm_swivel=44).key(0.75, arm_up=8, arm_out=16, arm_reach=0.9, arm_swivel=10, arm_wrist=60).key(1.15, arm_up=16, arm_out=12, arm_reach=0.97, arm_swivel=0, arm_wrist=55)
    a.key(1.6, arm_l_up=-34, arm_l_out=10, arm_l_reach=0.98, arm_r_up=-52, arm_r_out=-4, arm_r_reach=0.6).key(2.1, arm_l_up=-60, arm_l_out=20, arm_r_up=-66, arm_r_out=2, arm_r_reach=0.68)
    a.key(1.6, arm_wrist=0)
    a.key(2.8, arm_up=-78, arm_out=14, arm_reach=0.985).key(3.2, arm_up=-78)
    a.key(0, head_yaw=32, head_pitch=-8).key(0.5, head_yaw=0, head_pitch=-28).key(1.6, head_pitch=-12).key(2.6, head_pitch=4).key(3.1, head_pitch=0)
    a.lies += [(0.0, 2.9)]
    return a.clip("get_up")


# Sitting


def seat(a: Actor, first: float, last: float, back: bool = False) -> None:
    """Down onto a seat behind, or up again."""
    down = {"hips_y": -0.44, "hips_z": -0.42, "hips_pitch": -6.0, "lean": 6.0}
    up = {"hips_y": 0.0, "hips_z": 0.0, "hips_pitch": 0.0, "lean": 0.0}
    begin, end = (down, up) if back else (up, down)
    over = {"hips_y": -0.24, "hips_z": -0.26, "hips_pitch": 30.0, "lean": 34.0}
    span = last - first
    a.key(first, **begin).key(first + 0.28 * span, lean=26 if not back else 38, hips_pitch=18 if not back else 26, hips_y=begin["hips_y"] * 0.98 - 0.02, hips_z=begin["hips_z"])
    a.key(first + 0.58 * span, **over).key(last, **end)


@made("Sit down", "sit", "chair, bench, seat, down")
def sit_down() -> Clip:
    a = Actor(2.2)
    seat(a, 0.2, 1.6)
    a.key(2.2, hips_y=-0.44, hips_z=-0.42, hips_pitch=-8, lean=4)
    a.key(0.2, arm_up=-78, arm_out=14, arm_reach=0.98).key(0.8, arm_up=-42, arm_out=4, arm_reach=0.85).key(1.6, arm_up=-46, arm_out=0, arm_reach=0.7, arm_turn=-30).key(2.2, arm_up=-50, arm_out=2, arm_reach=0.72, arm_turn=-30)
    a.key(0.1, head_yaw=0, head_pitch=0).key(0.4, head_yaw=34, head_pitch=14).key(0.8, head_yaw=10, head_pitch=8).key(1.6, head_yaw=0, head_pitch=-2).key(2.2, head_pitch=0)
    return a.clip("sit_down")


@made("Stand up", "stand up", "rise, chair, seat, bench, up")
def stand_up() -> Clip:
    a = Actor(2.1)
    seat(a, 0.3, 1.6, back=True)
    a.key(0, hips_y=-0.44, hips_z=-0.42, hips_pitch=-8, lean=4).key(2.1, hips_y=0, lean=0)
    a.key(0, arm_up=-50, arm_out=2, arm_reach=0.72, arm_turn=-30).key(0.7, arm_up=-40, arm_out=6, arm_reach=0.8).key(1.2, arm_up=-62, arm_out=18, arm_reach=0.95, arm_turn=0).key(1.7, arm_up=-78, arm_out=14, arm_reach=0.985)
    a.key(0.2, head_pitch=0).key(0.7, head_pitch=-18).key(1.5, head_pitch=2).key(2.0, head_pitch=0)
    return a.clip("stand_up")


@made("Sit and wait", "sit, idle", "chair, waiting, seated, resting, calm", loops=True)
def sit_idle() -> Clip:
    a = Actor(6.8, loop=True)
    a.key(0, hips_y=-0.44, hips_z=-0.42, hips_pitch=-8, lean=8, arm_up=-50, arm_out=2, arm_reach=0.72, arm_turn=-30, head_yaw=0, head_pitch=4)
    a.key(1.6, head_yaw=24, head_pitch=0, twist=4).key(2.6, head_yaw=26, twist=4).key(3.8, head_yaw=-8, head_pitch=10, lean=12, twist=0).key(5.2, head_yaw=-12, head_pitch=12)
    a.key(3.4, arm_r_up=-50, arm_r_out=2).key(4.0, arm_r_up=-46, arm_r_out=-4).key(4.3, arm_r_up=-50).key(4.6, arm_r_up=-46).key(5.0, arm_r_up=-50, arm_r_out=2)
    return a.clip("sit_idle")


# Working


@made("Lift a crate", "lift", "heavy, box, crate, from the floor, up, pick up, load")
def lift_crate() -> Clip:
    a = Actor(3.0)
    a.stance = 1.35
    a.key(0.1, hips_y=0, lean=0, hips_pitch=0, hips_z=0).key(0.9, hips_y=-0.5, hips_z=-0.2, hips_pitch=38, lean=34).key(1.35, hips_y=-0.52, hips_z=-0.2, hips_pitch=40, lean=30)
    a.key(1.75, hips_y=-0.3, hips_z=-0.14, hips_pitch=26, lean=20).key(2.35, hips_y=-0.02, hips_z=0.0, hips_pitch=-4, lean=-7).key(3.0, hips_y=-0.02, hips_pitch=-4, lean=-6)
    a.key(0.1, arm_up=-78, arm_out=14, arm_reach=0.985, arm_curl=0.2, arm_turn=0).key(0.85, arm_up=-22, arm_out=20, arm_reach=0.93, arm_curl=0.1, arm_turn=-40).key(1.3, arm_up=-20, arm_out=11, arm_reach=0.96, arm_curl=0.45)
    a.key(1.75, arm_up=-34, arm_out=10, arm_reach=0.95).key(2.35, arm_up=-36, arm_out=9, arm_reach=0.7, arm_turn=-55).key(3.0, arm_up=-35, arm_out=9, arm_reach=0.7, arm_turn=-55, arm_curl=0.4)
    a.key(0.1, head_pitch=0).key(0.6, head_pitch=20).key(1.35, head_pitch=8).key(1.8, head_pitch=-14).key(2.5, head_pitch=-2).key(3.0, head_pitch=0)
    return a.clip("lift_crate")


@made("Throw a stone", "throw", "ball, stone, far, hurl, right hand")
def throw() -> Clip:
    a = Actor(2.2)
    a.key(0.1, twist=0, hips_yaw=0, lean=0, weight=0, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_l_up=-78, arm_l_out=14, arm_l_reach=0.98, arm_r_curl=0.8)
    a.key(0.65, twist=-34, hips_yaw=-24, lean=-10, weight=-0.85, side=8, arm_r_up=24, arm_r_out=128, arm_r_reach=0.72, arm_r_swivel=20, arm_l_up=6, arm_l_out=16, arm_l_reach=0.9, hips_y=-0.06)
    a.key(0.82, twist=-36, hips_yaw=-10, weight=0.1, arm_r_up=36, arm_r_out=122, arm_r_reach=0.66).key(0.98, twist=4, hips_yaw=20, lean=10, weight=0.9, arm_r_up=58, arm_r_out=24, arm_r_reach=0.97, arm_r_curl=0.7)
    a.key(1.06, arm_r_curl=0.02, arm_r_wrist=24).key(1.22, twist=32, hips_yaw=28, lean=28, side=-6, weight=0.9, arm_r_up=-34, arm_r_out=-34, arm_r_reach=0.96, arm_l_up=-50, arm_l_out=60, arm_l_reach=0.75, hips_y=-0.08)
    a.key(1.5, arm_r_up=-44, arm_r_out=-30).key(2.0, twist=0, hips_yaw=0, lean=0, side=0, weight=0, hips_y=0, arm_up=-78, arm_out=14, arm_reach=0.98, arm_r_curl=0.22, arm_r_swivel=0, arm_r_wrist=0)
    a.step("l", 0.62, 0.95, 0.0, 0.42, 0, 0.12).step("l", 1.55, 1.9, 0.0, 0.0, 0, 0.07)
    a.key(0.6, head_yaw=24).key(1.2, head_yaw=-26, head_pitch=4).key(1.9, head_yaw=0, head_pitch=0)
    a.key(0.62, foot_r_pitch=0).key(1.0, foot_r_pitch=30).key(1.3, foot_r_pitch=36).key(1.75, foot_r_pitch=0)
    return a.clip("throw")


@made("Push a cart", "push, walk", "heavy, cart, crate, shove, effort, both hands", loops=True)
def push() -> Clip:
    gait = replace(TWO["walk"], stride=(0.95, 0.95), cadence=74.0, lean=24.0, height=0.86, sway=0.03, duty=(0.7, 0.7), lift=(0.05, 0.05), bob=0.02, roll=(0.8, 0.8))
    a = going(gait)
    w = a.seconds
    a.key(0, arm_up=-20, arm_out=7, arm_reach=0.78, arm_wrist=58, arm_curl=0.05, lean=4, head_pitch=4)
    a.key(0.25 * w, arm_reach=0.82, lean=7).key(0.5 * w, arm_reach=0.78, lean=4).key(0.75 * w, arm_reach=0.82, lean=7)
    return a.clip("push")


@made("Push hard against a door", "push", "door, wall, stuck, effort, strong, heavy, both hands")
def push_door() -> Clip:
    a = Actor(3.2)
    a.key(0.1, lean=0, hips_pitch=0, hips_y=0, hips_z=0).key(0.7, lean=10, hips_pitch=10, hips_y=-0.12, hips_z=0.08).key(1.1, lean=16, hips_pitch=20, hips_y=-0.2, hips_z=0.14).key(1.6, lean=18, hips_pitch=24, hips_y=-0.24, hips_z=0.18)
    a.key(1.75, lean=15, hips_pitch=20).key(2.2, lean=19, hips_pitch=25, hips_y=-0.25, hips_z=0.19).key(2.9, lean=2, hips_pitch=2, hips_y=0, hips_z=0.02).key(3.2, lean=0, hips_pitch=0, hips_z=0)
    a.step("r", 0.25, 0.6, -0.02, -0.42, -18, 0.06).step("r", 2.5, 2.9, 0, 0, 0, 0.06)
    a.key(0.1, arm_up=-78, arm_out=14, arm_reach=0.98, arm_wrist=0).key(0.6, arm_up=-8, arm_out=8, arm_reach=0.62, arm_wrist=70, arm_curl=0.02).key(1.1, arm_up=-6, arm_reach=0.7).key(1.6, arm_reach=0.78).key(1.75, arm_reach=0.72)
    a.key(2.2, arm_reach=0.8, arm_up=-6).key(2.5, arm_reach=0.7).key(3.0, arm_up=-78, arm_out=14, arm_reach=0.98, arm_wrist=0, arm_curl=0.2)
    a.key(0.6, head_pitch=0).key(1.6, head_pitch=22).key(2.3, head_pitch=24).key(2.9, head_pitch=0)
    a.key(0.85, foot_r_pitch=0).key(1.1, foot_r_pitch=28).key(2.25, foot_r_pitch=28).key(2.5, foot_r_pitch=0)
    return a.clip("push_door")


@made("Pull a rope", "pull", "rope, haul, tug, heavy, effort, both hands, net", loops=True)
def pull_rope() -> Clip:
    a = Actor(2.4, loop=True)
    a.stance = 1.2
    a.key(0, hips_y=-0.16, hips_z=0.05, hips_pitch=2, lean=12, weight=0.45, twist=12).key(0.7, hips_y=-0.3, hips_z=-0.2, hips_pitch=-12, lean=-12, weight=-0.4, twist=-8)
    a.key(1.2, hips_y=-0.18, hips_z=0.03, hips_pitch=0, lean=10, weight=0.4, twist=-14).key(1.9, hips_y=-0.3, hips_z=-0.2, hips_pitch=-12, lean=-12, weight=-0.4, twist=8)
    a.key(0, arm_l_up=-18, arm_l_out=-4, arm_l_reach=0.97, arm_r_up=-30, arm_r_out=-2, arm_r_reach=0.6, arm_curl=0.95).key(0.7, arm_l_up=-42, arm_l_out=2, arm_l_reach=0.52, arm_r_up=-40, arm_r_out=6, arm_r_reach=0.5)
    a.key(1.2, arm_r_up=-18, arm_r_out=-4, arm_r_reach=0.97, arm_l_up=-30, arm_l_out=-2, arm_l_reach=0.6).key(1.9, arm_r_up=-42, arm_r_out=2, arm_r_reach=0.52, arm_l_up=-40, arm_l_out=6, arm_l_reach=0.5)
    a.key(0, head_pitch=4).key(0.7, head_pitch=14).key(1.2, head_pitch=4).key(1.9, head_pitch=14)
    return a.clip("pull_rope")


@made("Climb a ladder", "climb", "ladder, up, rungs, wall", loops=True)
def climb_ladder() -> Clip:
    """On the spot: the ladder comes down as the body goes up."""
    a = Actor(2.0, loop=True)
    a.free_feet = True
    a.breath = 0.3
    # Hands and feet move by turns, half a round apart; what holds goes down with the ladder.
    for s, at in (("l", 0.0), ("r", 1.0)):
        o = "r" if s == "l" else "l"
        a.key(at, **{f"arm_{s}_up": 10, f"arm_{s}_reach": 0.62, f"arm_{s}_out": 6}).key(at + 0.28, **{f"arm_{s}_up": 44, f"arm_{s}_reach": 0.72}).key(at + 0.55, **{f"arm_{s}_up": 58, f"arm_{s}_reach": 0.96, f"arm_{s}_out": 10})
        a.key(at + 0.28, **{f"arm_{s}_curl": 0.3}).key(at + 0.6, **{f"arm_{s}_curl": 0.95}).key(at + 1.6, **{f"arm_{s}_curl": 0.95})
        a.key(at + 1.3, **{f"arm_{s}_up": 34, f"arm_{s}_reach": 0.8})
        a.key(at + 0.1, **{f"hip_{o}": 18, f"bend_{o}": 26, f"ankle_{o}": 0}).key(at + 0.38, **{f"hip_{o}": 74, f"bend_{o}": 104, f"ankle_{o}": 12}).key(at + 0.6, **{f"hip_{o}": 72, f"bend_{o}": 86, f"ankle_{o}": 4})
        a.key(at + 1.35, **{f"hip_{o}": 42, f"bend_{o}": 56})
    a.key(0, hips_y=0.0, side=4, hips_roll=-3, twist=6).key(1.0, side=-4, hips_roll=3, twist=-6)
    a.key(0, hips_pitch=4, lean=4, head_pitch=-24).key(1.0, head_pitch=-20)
    return a.clip("climb_ladder")


@made("Row a boat", "row", "boat, oars, water, sit, pull", loops=True)
def row() -> Clip:
    a = Actor(2.6, loop=True)
    a.key(0, hips_y=-0.6, hips_z=-0.36, hips_pitch=14, lean=34).key(0.5, hips_pitch=12, lean=32).key(1.15, hips_pitch=-12, lean=-10).key(1.4, hips_pitch=-13, lean=-12).key(1.8, hips_pitch=-4, lean=4)
    a.key(0, hips_y=-0.6, hips_z=-0.36)
    a.key(0, arm_up=-4, arm_out=8, arm_reach=0.97, arm_curl=0.95).key(0.5, arm_up=-2, arm_reach=0.97).key(0.95, arm_up=-10, arm_reach=0.86).key(1.25, arm_up=-38, arm_out=24, arm_reach=0.46, arm_swivel=24)
    a.key(1.45, arm_up=-50, arm_out=22, arm_reach=0.48, arm_swivel=18).key(1.8, arm_up=-34, arm_out=12, arm_reach=0.72, arm_swivel=4).key(2.3, arm_up=-14, arm_out=8, arm_reach=0.95)
    a.key(0, head_pitch=-6).key(1.2, head_pitch=4).key(1.8, head_pitch=0)
    a.step("l", -2, -1.9, 0, 0.36, 0).step("r", -2, -1.9, 0, 0.36, 0)
    return a.clip("row")


@made("Dig with a spade", "lift, push", "dig, spade, garden, earth, work", loops=True)
def dig() -> Clip:
    a = Actor(3.2, loop=True)
    a.stance = 1.2
    a.key(0, lean=16, hips_pitch=10, hips_y=-0.08, twist=0).key(0.55, lean=34, hips_pitch=24, hips_y=-0.26, twist=-8).key(1.0, lean=42, hips_pitch=28, hips_y=-0.34).key(1.6, lean=12, hips_pitch=6, hips_y=-0.08, twist=10)
    a.key(2.1, lean=10, hips_pitch=4, hips_y=-0.06, twist=44, weight=0.5).key(2.6, twist=36, weight=0.4).key(0.5, weight=-0.2)
    a.key(0, arm_l_up=-46, arm_l_out=-14, arm_l_reach=0.72, arm_r_up=-36, arm_r_out=4, arm_r_reach=0.6, arm_curl=0.95).key(0.6, arm_l_up=-56, arm_l_reach=0.94, arm_r_up=-44, arm_r_reach=0.74)
    a.key(1.6, arm_l_up=-34, arm_l_reach=0.8, arm_r_up=-46, arm_r_reach=0.55).key(2.1, arm_l_up=-20, arm_l_out=-4, arm_l_reach=0.9, arm_r_up=-34, arm_r_out=-30, arm_r_reach=0.6)
    a.key(0.5, head_pitch=18).key(1.2, head_pitch=20).key(2.1, head_yaw=20, head_pitch=10).key(2.9, head_yaw=0)
    return a.clip("dig")


# Gestures


@made("Wave hello", "wave", "greeting, hello, goodbye, friendly, hand, right hand")
def wave() -> Clip:
    a = Actor(2.8)
    a.key(0.1, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_r_turn=0, arm_r_curl=0.22, side=0, head_roll=0)
    a.key(0.5, arm_r_up=30, arm_r_out=52, arm_r_reach=0.72, arm_r_turn=-75, arm_r_curl=0.02, arm_r_shrug=8, side=-4, head_roll=5, weight=0.3, twist=-5)
    for k in range(5):
        a.key(0.75 + 0.26 * k, arm_r_out=36 if k % 2 else 72, arm_r_up=38 if k % 2 else 34, arm_r_wrist=-10 if k % 2 else 14)
    a.key(2.05, arm_r_up=30, arm_r_out=50, arm_r_turn=-70, head_roll=5, side=-4, arm_r_shrug=8, weight=0.3)
    a.key(2.55, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_r_turn=0, arm_r_curl=0.22, arm_r_wrist=0, arm_r_shrug=0, side=0, head_roll=0, weight=0, twist=0)
    return a.clip("wave")


@made("Wave with both arms", "wave", "far, help, ship, calling, both hands, excited", loops=True)
def wave_both() -> Clip:
    a = Actor(1.6, loop=True)
    a.key(0, arm_up=48, arm_out=72, arm_reach=0.97, arm_curl=0.02, arm_turn=-60, hips_y=-0.02, foot_pitch=0).key(0.4, arm_up=74, arm_out=40, hips_y=0.0).key(0.8, arm_up=48, arm_out=74, hips_y=-0.03).key(1.2, arm_up=74, arm_out=40)
    a.key(0, side=4, weight=0.2, head_pitch=-8).key(0.8, side=-4, weight=-0.2)
    return a.clip("wave_both")


@made("Point ahead", "point", "there, show, direction, finger, forward, right hand")
def point() -> Clip:
    a = Actor(2.4)
    a.key(0.1, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_r_curl=0.3, twist=0, lean=0, weight=0)
    a.key(0.32, arm_r_up=-60, arm_r_reach=0.8, twist=-6).key(0.62, arm_r_up=6, arm_r_out=12, arm_r_reach=0.99, arm_r_curl=0.5, twist=12, lean=7, weight=0.35, head_pitch=-3).key(0.75, arm_r_up=2)
    a.key(1.7, arm_r_up=3, arm_r_out=12, arm_r_reach=0.98, twist=11, lean=6, weight=0.35).key(2.2, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_r_curl=0.22, twist=0, lean=0, weight=0, head_pitch=0)
    return a.clip("point")


@made("Point to the left", "point, look", "left, there, direction, side, left hand")
def point_left() -> Clip:
    a = Actor(2.4)
    a.key(0.1, arm_l_up=-78, arm_l_out=14, arm_l_reach=0.98, head_yaw=0, twist=0, weight=0).key(0.4, head_yaw=44, twist=10).key(0.7, arm_l_up=4, arm_l_out=86, arm_l_reach=0.99, arm_l_curl=0.5, twist=16, weight=0.4, side=-3)
    a.key(1.0, head_yaw=50).key(1.3, head_yaw=6).key(1.75, head_yaw=4, arm_l_up=3, arm_l_out=86, twist=15, weight=0.4).key(2.2, arm_l_up=-78, arm_l_out=14, arm_l_curl=0.22, twist=0, weight=0, side=0, head_yaw=0)
    return a.clip("point_left")


@made("Bow", "bow", "polite, thanks, respect, greeting, deep, stage")
def bow() -> Clip:
    a = Actor(2.8)
    a.key(0.1, hips_pitch=0, lean=0, hips_z=0, head_pitch=0).key(0.95, hips_pitch=34, lean=36, hips_z=-0.13, head_pitch=20).key(1.5, hips_pitch=35, lean=38, hips_z=-0.13, head_pitch=24).key(2.3, hips_pitch=0, lean=0, hips_z=0, head_pitch=0)
    a.key(0, steady=0.1)
    a.key(0.1, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98).key(0.9, arm_r_up=-52, arm_r_out=-46, arm_r_reach=0.58, arm_r_swivel=16).key(1.5, arm_r_up=-54, arm_r_out=-46, arm_r_reach=0.58).key(2.4, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, arm_r_swivel=0)
    a.key(0.1, arm_l_up=-78, arm_l_out=14).key(0.95, arm_l_up=-66, arm_l_out=140).key(1.5, arm_l_up=-66, arm_l_out=140).key(2.4, arm_l_up=-78, arm_l_out=14)
    return a.clip("bow")


@made("Clap", "clap", "applause, bravo, happy, hands, cheer", loops=True)
def clap() -> Clip:
    a = Actor(1.4, loop=True)
    for k in range(4):
        t = 0.35 * k
        a.key(t, arm_up=-17, arm_out=-9.5, arm_reach=0.64, arm_swivel=18).key(t + 0.17, arm_up=-13, arm_out=13, arm_reach=0.64, arm_swivel=26)
    a.key(0, arm_curl=0.04, arm_turn=-10, arm_wrist=-8)
    a.key(0, head_pitch=2, side=2, hips_y=-0.01).key(0.7, side=-2, head_pitch=-3)
    return a.clip("clap")


@made("Nod", "nod", "yes, agree, head, okay, understood")
def nod() -> Clip:
    a = Actor(1.8)
    a.key(0.15, head_pitch=0, lean=0).key(0.4, head_pitch=24, lean=2).key(0.65, head_pitch=-5).key(0.88, head_pitch=18).key(1.1, head_pitch=-2).key(1.3, head_pitch=10).key(1.6, head_pitch=0, lean=0)
    return a.clip("nod")


@made("Shake the head", "shake", "no, refuse, disagree, head, never")
def shake_head() -> Clip:
    a = Actor(1.9)
    a.key(0.15, head_yaw=0, head_pitch=0).key(0.42, head_yaw=32, head_pitch=6).key(0.75, head_yaw=-34).key(1.05, head_yaw=26).key(1.32, head_yaw=-16, head_pitch=6).key(1.65, head_yaw=0, head_pitch=0)
    a.key(0.15, twist=0).key(0.5, twist=4).key(0.85, twist=-4).key(1.2, twist=3).key(1.7, twist=0)
    return a.clip("shake_head")


@made("Shrug", "shrug", "do not know, who knows, unsure, shoulders, whatever")
def shrug() -> Clip:
    a = Actor(2.1)
    a.key(0.15, arm_shrug=0, arm_up=-78, arm_out=14, arm_reach=0.98, arm_turn=0, head_roll=0, head_pitch=0)
    a.key(0.55, arm_shrug=21, arm_up=-46, arm_out=44, arm_reach=0.68, arm_turn=70, arm_curl=0.05, arm_wrist=-14, head_roll=9, head_pitch=4, lean=-3).key(0.7, arm_shrug=23)
    a.key(1.25, arm_shrug=20, arm_up=-46, arm_out=44, arm_reach=0.68, head_roll=9).key(1.8, arm_shrug=0, arm_up=-78, arm_out=14, arm_reach=0.985, arm_turn=0, arm_curl=0.22, arm_wrist=0, head_roll=0, head_pitch=0, lean=0)
    return a.clip("shrug")


@made("Look around", "look", "around, search, curious, where, watch, left, right", loops=True)
def look_around() -> Clip:
    a = Actor(5.0, loop=True)
    a.key(0, head_yaw=0, twist=0, weight=0).key(0.7, head_yaw=52, twist=14, weight=0.4, head_pitch=-2).key(1.5, head_yaw=56, twist=16, head_pitch=4).key(2.3, head_yaw=-10, twist=-4, weight=-0.1, head_pitch=-4)
    a.key(3.0, head_yaw=-54, twist=-15, weight=-0.45).key(3.8, head_yaw=-58, twist=-17, head_pitch=6).key(4.6, head_yaw=0, twist=0, weight=0, head_pitch=0)
    return a.clip("look_around")


@made("Look into the distance", "look", "far, hand over eyes, search, horizon, sun, right hand")
def look_far() -> Clip:
    a = Actor(3.4)
    a.key(0.1, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.98, lean=0, weight=0).key(0.7, arm_r_up=46, arm_r_out=12, arm_r_reach=0.5, arm_r_swivel=62, arm_r_turn=55, arm_r_curl=0.05, lean=6, weight=0.4, head_pitch=-5)
    a.key(1.3, twist=14, head_yaw=18).key(2.2, twist=-12, head_yaw=-16).key(2.6, arm_r_up=46, arm_r_out=12, arm_r_reach=0.5, arm_r_swivel=62, lean=6, weight=0.4)
    a.key(3.2, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.985, arm_r_swivel=0, arm_r_turn=0, arm_r_curl=0.22, lean=0, weight=0, twist=0, head_yaw=0, head_pitch=0).key(0.6, twist=0, head_yaw=0)
    return a.clip("look_far")


@made("Talk", "talk", "explain, speak, conversation, hands, lively", loops=True)
def talk() -> Clip:
    a = Actor(6.4, loop=True)
    a.key(0, arm_up=-48, arm_out=14, arm_reach=0.62, arm_turn=20, arm_curl=0.2, weight=0.35, head_pitch=0)
    beats = (("r", 0.5, -30, 34, 0.66), ("r", 0.85, -46, 20, 0.6), ("l", 1.5, -26, 38, 0.68), ("l", 1.9, -48, 16, 0.6), ("r", 2.5, -22, 6, 0.7), ("r", 2.8, -34, 10, 0.64), ("l", 2.55, -24, 8, 0.7), ("l", 2.85, -36, 10, 0.64),
             ("r", 3.8, -18, 48, 0.74), ("r", 4.4, -40, 30, 0.62), ("l", 4.6, -36, 24, 0.6), ("r", 5.2, -30, 0, 0.56), ("l", 5.3, -44, 10, 0.6), ("r", 5.9, -46, 14, 0.6))  # fmt: skip
    for s, t, up, out, reach in beats:
        a.key(t, **{f"arm_{s}_up": up, f"arm_{s}_out": out, f"arm_{s}_reach": reach, f"arm_{s}_curl": 0.08 if reach > 0.64 else 0.3, f"arm_{s}_wrist": -12 if reach > 0.64 else 8})
    for t, p, y, r in ((0.5, 6, 4, 3), (0.85, -3, 2, 0), (1.5, 5, -12, -4), (2.5, 9, 0, 0), (2.9, -2, 0, 2), (3.8, -4, 16, 6), (4.6, 3, 8, 0), (5.3, 7, -4, -3), (5.9, 0, 0, 0)):
        a.key(t, head_pitch=p, head_yaw=y, head_roll=r)
    a.key(1.4, weight=0.3, twist=4, lean=2).key(2.6, lean=6, twist=0).key(3.8, weight=-0.4, twist=-7, lean=0).key(5.2, lean=4, weight=-0.2)
    return a.clip("talk")


@made("Listen", "listen", "attentive, quiet, nodding, conversation, interested", loops=True)
def listen() -> Clip:
    a = Actor(6.0, loop=True)
    a.key(0, weight=-0.5, head_roll=7, head_pitch=3, lean=3, arm_l_up=-56, arm_l_out=-34, arm_l_reach=0.56, arm_r_up=-38, arm_r_out=-8, arm_r_reach=0.46, arm_r_swivel=4, arm_r_curl=0.5, arm_l_curl=0.5)
    a.key(1.2, head_pitch=3).key(1.5, head_pitch=14).key(1.8, head_pitch=2).key(2.05, head_pitch=10).key(2.4, head_pitch=2).key(3.4, head_roll=-6, weight=-0.3, lean=5, head_yaw=6).key(4.4, head_pitch=2).key(4.7, head_pitch=12).key(5.0, head_pitch=3)
    a.key(5.4, head_roll=6, head_yaw=0)
    return a.clip("listen")


@made("Cheer", "jump, wave", "happy, hurrah, victory, won, celebrate, both hands, excited", loops=True)
def cheer() -> Clip:
    a = Actor(1.4, loop=True)
    a.key(0, hips_y=-0.18, lean=10, hips_pitch=6, arm_up=-20, arm_out=34, arm_reach=0.6, arm_curl=0.95, foot_pitch=0).key(0.22, hips_y=0.06, lean=-6, hips_pitch=-3, foot_pitch=42, foot_y=0.0)
    a.key(0.38, arm_up=76, arm_out=30, arm_reach=0.97, foot_y=0.13).key(0.56, hips_y=0.03, foot_pitch=24, foot_y=0, lean=-4).key(0.74, hips_y=-0.2, lean=10, foot_pitch=0).key(0.85, arm_up=60, arm_out=36, arm_reach=0.9)
    a.key(1.15, hips_y=-0.12, lean=7, arm_up=0, arm_out=40, arm_reach=0.6, foot_pitch=0)
    a.flights.append((0.233, 0.567))
    a.key(0.2, head_pitch=-16).key(0.8, head_pitch=4)
    return a.clip("cheer")


@made("Dance", "dance", "happy, music, rhythm, party, lively", loops=True)
def dance() -> Clip:
    a = Actor(4.0, loop=True)
    for k in range(4):
        t, sign = 1.0 * k, 1 if k % 2 == 0 else -1
        side, other = ("l", "r") if sign > 0 else ("r", "l")
        a.key(t, weight=0.85 * sign, hips_y=-0.1, side=-8 * sign, hips_roll=4 * sign, twist=12 * sign).key(t + 0.25, hips_y=-0.02).key(t + 0.5, hips_y=-0.11, weight=0.8 * sign, twist=-8 * sign, side=-10 * sign).key(t + 0.75, hips_y=-0.01)
        a.step(other, t + 0.1, t + 0.4, 0.0, 0.1 if k % 2 == 0 else -0.06, 0, 0.09).step(other, t + 0.5, t + 0.8, 0.0, 0.0, 0, 0.08)
        a.key(t, **{f"arm_{side}_up": 10, f"arm_{side}_out": 54, f"arm_{side}_reach": 0.6, f"arm_{other}_up": -36, f"arm_{other}_out": 10, f"arm_{other}_reach": 0.55})
        a.key(t + 0.5, **{f"arm_{side}_up": 26, f"arm_{side}_out": 40, f"arm_{side}_reach": 0.66, f"arm_{other}_up": -24, f"arm_{other}_out": -6, f"arm_{other}_reach": 0.6})
        a.key(t + 0.25, head_pitch=8, head_roll=-6 * sign).key(t + 0.5, head_pitch=-4).key(t + 0.75, head_pitch=8, head_roll=-8 * sign)
    a.key(0, arm_curl=0.7)
    return a.clip("dance")


@made("Stand and wait", "idle", "waiting, standing, calm, breathing, still", loops=True)
def idle() -> Clip:
    a = Actor(6.8, loop=True)
    a.key(0, weight=0.55, hips_yaw=3, head_yaw=0).key(2.6, weight=0.5, head_yaw=8).key(3.6, weight=-0.5, hips_yaw=-3, twist=2).key(5.8, weight=-0.55, head_yaw=-10).key(6.4, weight=0.3)
    return a.clip("idle")


@made("Wait impatiently", "idle", "impatient, bored, nervous, hurry, arms crossed, foot tapping", loops=True)
def idle_impatient() -> Clip:
    a = Actor(4.8, loop=True)
    a.key(0, weight=0.75, hips_yaw=8, arm_l_up=-40, arm_l_out=-44, arm_l_reach=0.55, arm_l_swivel=10, arm_r_up=-47, arm_r_out=-46, arm_r_reach=0.55, arm_r_swivel=8, arm_curl=0.5, head_pitch=2)
    for k in range(9):
        a.key(0.4 + 0.36 * k, foot_r_pitch=-17 if k % 2 == 0 else 0)
    a.key(4.0, foot_r_pitch=0)
    a.key(1.2, head_yaw=34, head_pitch=-6).key(2.0, head_yaw=36).key(2.7, head_yaw=-8, head_pitch=-14).key(3.2, head_pitch=-16, lean=-4).key(4.0, head_yaw=0, head_pitch=4, lean=2)
    return a.clip("idle_impatient")


@made("Stand tired", "idle", "tired, sleepy, yawning, weary, exhausted", loops=True)
def idle_tired() -> Clip:
    a = Actor(6.8, loop=True)
    a.breath = 2.6
    a.key(0, weight=0.7, lean=14, hips_pitch=-4, head_pitch=24, arm_shrug=-5, arm_ahead=12, arm_up=-82, arm_out=4).key(2.4, lean=17, head_pitch=30, head_roll=5).key(2.9, head_pitch=34).key(3.1, head_pitch=22, lean=13)
    a.key(4.6, weight=0.2, lean=16, head_pitch=26, head_roll=-3).key(6.2, weight=0.7, head_roll=0)
    return a.clip("idle_tired")


@made("Shiver with cold", "idle, shake", "cold, freezing, winter, trembling", loops=True)
def shiver() -> Clip:
    a = Actor(2.4, loop=True)
    rng = np.random.default_rng(5)
    a.key(0, lean=16, hips_pitch=-2, head_pitch=12, arm_l_up=-44, arm_l_out=-42, arm_l_reach=0.5, arm_r_up=-50, arm_r_out=-44, arm_r_reach=0.5, arm_curl=0.6, arm_shrug=13, hips_y=-0.05)
    for k in range(24):
        t = 0.1 * k
        a.key(t, side=float(rng.normal(0, 1.6)), twist=float(rng.normal(0, 1.8)), head_roll=float(rng.normal(0, 2)), hips_y=-0.05 + float(rng.normal(0, 0.004)))
    return a.clip("shiver")
