#!/usr/bin/env python3
"""The demo of several figures: Wick takes a pannier off Dumble's back, turns, and hangs it on the winch's rope, which winds it up.

    PYTHONPATH=. .venv/bin/python tools/demo_hand_over.py

Run this after demo_clips.py.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from tools.acting.actor import Actor

from pegloom.core.arrays import frozen
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.together import Figure, Stance, Stand, stance_of
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.model import Character, Document
from pegloom.files.project import open_project, save_project

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo"
TAKEN, HUNG = 1.25, 4.15
"""Seconds at which the pannier goes into Wick's hands, and onto the rope."""
SECONDS = 7.4


def hands_over() -> Clip:
    """What Wick does: bends to the pannier, lifts it, turns to the left, raises it to the rope, steps back and looks up."""
    a = Actor(SECONDS)
    down = {"arm_up": -78.0, "arm_out": 14.0, "arm_reach": 0.985, "arm_turn": 0.0, "arm_curl": 0.22}
    takes = {"arm_up": -38.0, "arm_out": 12.0, "arm_reach": 0.9, "arm_turn": -62.0, "arm_curl": 0.12}
    holds = {"arm_up": -34.0, "arm_out": 11.0, "arm_reach": 0.72, "arm_turn": -58.0, "arm_curl": 0.34}
    hangs = {"arm_up": 4.0, "arm_out": 11.0, "arm_reach": 0.9, "arm_turn": -58.0, "arm_curl": 0.34}
    a.key(0, **down, lean=0, hips_pitch=0, hips_y=0, head_pitch=0, head_yaw=0, twist=0, hips_yaw=0, weight=0)
    a.key(0.35, head_pitch=14, **down).key(0.7, lean=4, hips_y=-0.08)
    a.key(1.05, **takes, lean=10, hips_pitch=4, hips_y=-0.27, head_pitch=12, weight=0.1).key(TAKEN, **{**takes, "arm_curl": 0.36}, lean=10, hips_pitch=4, hips_y=-0.27)
    a.key(1.85, **holds, lean=-3, hips_pitch=0, hips_y=-0.01, head_pitch=8, weight=0).key(2.05, head_yaw=0, twist=0, hips_yaw=0)
    a.key(2.2, head_yaw=40, twist=12, weight=-0.75).key(2.5, hips_yaw=10, twist=18, weight=-0.6, hips_y=-0.03).key(2.65, weight=0.6)
    a.key(2.95, twist=4, head_yaw=8).key(3.25, head_yaw=0, twist=0, hips_yaw=0, weight=0, hips_y=0, **holds, lean=-3, head_pitch=4)
    a.step("l", 2.25, 2.62, -0.02, -0.1, 88, 0.1).step("r", 2.66, 3.05, 0.12, 0.12, 88, 0.1)
    a.key(3.85, **hangs, lean=6, hips_pitch=2, head_pitch=-10).key(HUNG, **hangs, lean=7, hips_pitch=2, head_pitch=-12).key(4.3, arm_curl=0.08)
    a.key(4.75, arm_up=-30, arm_out=24, arm_reach=0.86, arm_turn=-20, lean=0, hips_pitch=0, head_pitch=-8).key(5.4, **down, lean=-2, head_pitch=-14)
    a.key(6.4, head_pitch=-22, lean=-4).key(SECONDS, head_pitch=-24, lean=-4, **down)
    return a.clip("hands over")


def bare(character: Character, clips: tuple[Clip, ...] = ()) -> Character:
    """A demo's figure with what this one needs, and no more."""
    return replace(character, clips=clips, sources=(), pairings=(), weaves=(), trials=(), poses=(), expressions=(), pose=Pose())


def parted(dumble: Document) -> tuple[Document, Document, np.ndarray]:
    """Dumble without the left pannier; that as a figure of its own, its top in its middle; and where that was."""
    before = next(p for p in dumble.require_character().parts if p.name == "panniers")
    dumble = edits.split_part(dumble, before.id)
    baskets = [p for p in dumble.require_character().parts if p.name.startswith("panniers")]
    assert len(baskets) == 2
    left = max(baskets, key=lambda p: float(p.mesh.points[:, 0].mean()))
    dumble = edits.remove_part(dumble, left.id)
    points = left.mesh.points
    at = np.array([(points[:, 0].min() + points[:, 0].max()) / 2, points[:, 1].max(), (points[:, 2].min() + points[:, 2].max()) / 2])
    own = replace(left, id="part0", name="pannier", mesh=replace(left.mesh, points=frozen(points - at)))
    character = dumble.require_character()
    figure = edits.bring_in(Document(), (own,), name="The pannier", materials=character.materials, images=character.images)
    return dumble, figure, at


def main() -> None:
    wick = open_project(DEMO / "wick.pegloom").require_character()
    clip = replace(hands_over(), id="clip0")
    wick = replace(bare(wick, (clip,)), figure=Figure(clip="clip0"), name="Wick, the ferry postman")
    dumble, basket, at = parted(open_project(DEMO / "dumble.pegloom"))
    sniff = next(c for c in dumble.require_character().clips if c.name == "sniff")
    turn = (0.0, float(np.sin(np.pi / 4)), 0.0, float(np.cos(np.pi / 4)))
    tapir = replace(bare(dumble.require_character(), (sniff,)), figure=Figure(stands=(Stand(stance=Stance((0.22, 0.0, 0.74), turn)),), clip=sniff.id, start=1.6))
    winch = open_project(DEMO / "winch.pegloom").require_character()
    wind = next(c for c in winch.clips if c.name == "wind")
    bell = next(p for p in winch.parts if p.name == "bell")
    winch = replace(bare(winch, (wind,)), parts=tuple(replace(p, included=p.id != bell.id) for p in winch.parts))
    winch = replace(winch, figure=Figure(stands=(Stand(stance=Stance((1.16, 0.0, 0.13))),), clip=wind.id, start=HUNG + 0.2))
    document = Document((), name="The pannier")
    for one in (wick, tapir, winch, basket.require_character()):
        document, _ = edits.add_figures(document, [one], beside=False)
    first, second, third, fourth = (c.id for c in document.characters)
    # On Dumble's back at first, in Wick's hands, then on the rope.
    document = edits.carry_figure(document, fourth, second, "spine.spine", time=0.0, stance=on_joint(document, second, "spine.spine", at))
    document = edits.carry_figure(document, fourth, first, "spine.chest", time=TAKEN)
    document = edits.carry_figure(document, fourth, third, "rope.6", time=HUNG)
    document = replace(edits.take_character(document, first), name="The pannier")
    save_project(DEMO / "pannier.pegloom", document)
    print([c.name for c in document.characters], (DEMO / "pannier.pegloom").stat().st_size)


def on_joint(document: Document, character: str, joint: str, at: np.ndarray) -> Stance:
    """Where a place at rest is, told from a joint at rest."""
    skeleton = edits.figure_of(document, character).require_skeleton()
    x, y, z = (skeleton.inverse_world[skeleton.index[joint]] @ [*at, 1.0])[:3]
    turn = np.linalg.inv(skeleton.world[skeleton.index[joint]])
    told = stance_of(turn)
    return replace(told, at=(float(x), float(y), float(z)))


if __name__ == "__main__":
    main()
