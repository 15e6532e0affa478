#!/usr/bin/env python3
"""Wick on the pier: on two takes of another body, one on the controls under a layer of corrections, one on the joints.

    PYTHONPATH=. .venv/bin/python tools/demo_takes.py

The takes are made by tools/takes.py; Wick himself is the one that ships: run this after demo_rigs.py.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from pegloom.core.motion.clips import sample
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.motion import read_sources
from pegloom.files.project import open_project, save_project

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo"
TAKES = {"pier walk": ("pier_walk", True), "heave and wave": ("heave_and_wave", False)}
"""Clips: the take, and whether it stands on the controls."""
CORRECTIONS = {("spine.head", "rotate_x"): -0.12, ("arm.l.upper.fk", "rotate_z"): 0.1, ("arm.r.upper.fk", "rotate_z"): 0.1}
"""Radians that the layer puts on: chin up, arms off the coat."""


def without_takes(document: Document) -> Document:
    one = document.require_character()
    return document.with_character(replace(one, sources=(), pairings=(), clips=tuple(c for c in one.clips if c.name not in TAKES)))


def with_takes(document: Document) -> Document:
    """Both takes as clips, after those that are there."""
    document = without_takes(document)
    for name, (take, controls) in TAKES.items():
        (source,), _ = read_sources(DEMO / "takes" / f"{take}.bvh")
        document, (made,) = edits.add_sources(document, [replace(source, name=name)])
        document, lent = edits.borrow(document, made, controls=controls)
        if controls:
            document, layer = edits.add_layer(document, lent.clip, "corrections")
            character = document.require_character()
            rig = character.require_rig()
            shown = sample(character.clip(lent.clip), 0.0, character.require_skeleton(), None, rig)
            assert isinstance(shown, Pose)
            some = {ref: shown.values.get(ref, 0.0) + more for ref, more in CORRECTIONS.items()}
            document = edits.key_layer(document, lent.clip, layer, 0.0, tuple(dict.fromkeys(c for c, _ in some)), Pose(dict(shown.values) | some))
        print(f"{name}: {lent.carried.figures.slide_mm:.1f} mm slide, {lent.carried.figures.floor_mm:.1f} mm floor")
    return document


if __name__ == "__main__":
    save_project(DEMO / "pier.pegloom", with_takes(open_project(DEMO / "wick.pegloom")))
