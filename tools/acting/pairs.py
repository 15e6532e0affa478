"""What two people do together; each of the two clips begins at the same moment."""

from __future__ import annotations

from dataclasses import replace

from tools.acting.actor import Actor
from tools.acting.made import made
from tools.acting.people import TWO, going

from pegloom.core.motion.clips import Clip

APART = (0.0, 1.05, 180.0)
MEETING = (-0.22, 0.97, 180.0)
"""Right hands meet straight ahead of each other."""


@made("Hand over a parcel, who gives", "hand over", "two people, give, parcel, letter, post, deliver, both hands", partner="hand_over_take", beside=APART)
def hand_over_give() -> Clip:
    a = Actor(3.6)
    holds = {"arm_up": -40.0, "arm_out": 8.0, "arm_reach": 0.6, "arm_turn": -50.0, "arm_curl": 0.35}
    gives = {"arm_up": -19.0, "arm_out": 7.0, "arm_reach": 0.92, "arm_turn": -50.0, "arm_curl": 0.35}
    a.key(0, **holds, lean=-2).key(0.6, **holds, lean=-2, head_pitch=12, hips_pitch=0, weight=0).key(1.15, head_pitch=0).key(1.3, **gives, lean=12, hips_pitch=5, hips_y=-0.02, weight=0.3).key(1.9, **gives, lean=12, hips_pitch=5, weight=0.3)
    a.key(2.0, arm_curl=0.1).key(2.5, arm_up=-44, arm_out=14, arm_reach=0.74, arm_turn=-30, lean=4, hips_pitch=1).key(3.1, arm_up=-78, arm_out=14, arm_reach=0.985, arm_turn=0, arm_curl=0.22, lean=0, hips_pitch=0, hips_y=0, weight=0)
    a.key(2.3, head_pitch=0).key(2.6, head_pitch=14).key(3.0, head_pitch=0)
    return a.clip("hand_over_give")


@made("Hand over a parcel, who takes", "hand over", "two people, take, receive, parcel, letter, post, both hands", partner="hand_over_give", beside=APART)
def hand_over_take() -> Clip:
    a = Actor(3.6)
    rest = {"arm_up": -78.0, "arm_out": 14.0, "arm_reach": 0.985, "arm_turn": 0.0, "arm_curl": 0.22}
    a.key(0, **rest, lean=0, hips_pitch=0, head_pitch=0, weight=0).key(0.7, head_pitch=10).key(0.8, **rest)
    a.key(1.35, arm_up=-22, arm_out=16, arm_reach=0.84, arm_turn=-40, arm_curl=0.05, lean=10, hips_pitch=4, weight=0.25).key(1.7, arm_out=8, arm_reach=0.9, arm_up=-19, arm_curl=0.1, lean=12).key(1.95, arm_curl=0.4, lean=11, hips_pitch=4)
    a.key(2.6, arm_up=-40, arm_out=8, arm_reach=0.6, arm_turn=-50, arm_curl=0.35, lean=-3, hips_pitch=-1, weight=-0.2).key(3.6, arm_up=-41, arm_reach=0.6, lean=-2, weight=0)
    a.key(1.9, head_pitch=12).key(2.4, head_pitch=0).key(2.7, head_pitch=13).key(3.0, head_pitch=-2).key(3.4, head_pitch=0)
    return a.clip("hand_over_take")


def _hand(first: bool) -> Actor:
    a = Actor(3.2)
    late = 0.0 if first else 0.12
    a.key(0.1 + late, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.985, arm_r_curl=0.2, twist=0, lean=0, weight=0, head_pitch=0)
    a.key(0.75 + late, arm_r_up=-26, arm_r_out=6, arm_r_reach=0.82, arm_r_curl=0.1, twist=9, lean=8, weight=0.4).key(1.0, arm_r_up=-25, arm_r_out=2, arm_r_reach=0.8, arm_r_curl=0.5)
    for k in range(5):
        a.key(1.15 + 0.17 * k, arm_r_up=-31 if k % 2 == 0 else -19, arm_r_reach=0.8)
    a.key(2.05, arm_r_up=-25, arm_r_reach=0.8, arm_r_curl=0.5, twist=9, lean=8, weight=0.4).key(2.75 + late, arm_r_up=-78, arm_r_out=14, arm_r_reach=0.985, arm_r_curl=0.2, twist=0, lean=0, weight=0)
    a.key(1.0, head_pitch=0).key(1.3, head_pitch=11 if first else 6).key(1.65, head_pitch=0).key(1.95, head_pitch=7).key(2.3, head_pitch=0)
    return a


@made("Shake hands, the one", "shake hands", "two people, greeting, agreement, deal, hello, right hand", partner="shake_hands_two", beside=MEETING)
def shake_hands_one() -> Clip:
    return _hand(True).clip("shake_hands_one")


@made("Shake hands, the other", "shake hands", "two people, greeting, agreement, deal, hello, right hand", partner="shake_hands_one", beside=MEETING)
def shake_hands_two() -> Clip:
    return _hand(False).clip("shake_hands_two")


def _together(front: bool) -> Actor:
    gait = replace(TWO["walk"], stride=(1.05, 1.05), cadence=86.0, lean=2.0 if front else -4.0, height=0.94, sway=0.03, bob=0.03, lead="left" if front else "right")
    a = going(gait)
    if front:
        # The load is behind: arms hang back.
        a.key(0, arm_up=-70, arm_out=150, arm_reach=0.97, arm_curl=0.95, arm_turn=10, lean=3)
    else:
        a.key(0, arm_up=-58, arm_out=9, arm_reach=0.93, arm_curl=0.95, arm_turn=-10, lean=-3)
    a.key(0, head_pitch=2 if front else 8)
    return a


@made("Carry together, in front", "carry, walk", "two people, together, heavy, load, stretcher, plank, front", loops=True, partner="carry_together_back", beside=(0.0, -1.9, 0.0))
def carry_together_front() -> Clip:
    return _together(True).clip("carry_together_front")


@made("Carry together, behind", "carry, walk", "two people, together, heavy, load, stretcher, plank, back", loops=True, partner="carry_together_front", beside=(0.0, 1.9, 0.0))
def carry_together_back() -> Clip:
    return _together(False).clip("carry_together_back")
