#!/usr/bin/env python3
"""Make the lesson: Wick with a shoulder as a hasty bind leaves it, and a few strays.

    PYTHONPATH=src:tools .venv/bin/python tools/lesson.py

The clavicles hold nothing, the left arm's border is a step and reaches down the flank, and some vertices at the
belt's rim still follow the forearm. docs/lesson.md walks through the mending.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from make_demo import OUT
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project


def spoiled(document: Document) -> Document:
    for side in "lr":
        document = edits.replace_influence(document, "part0", f"arm.{side}.clavicle", "spine.chest")
    points = document.require_character().part("part0").mesh.points
    x, y = points[:, 0], points[:, 1]
    arm = np.flatnonzero((x > 0.155) & (y > 0.98) & (y < 1.2) & (x < 0.28))
    document = edits.fill_weight(document, "part0", "arm.l.upper", arm, 1.0, both_sides=False)
    flank = np.flatnonzero((x > 0.1) & (x < 0.2) & (y > 0.86) & (y < 1.0))
    document = edits.fill_weight(document, "part0", "arm.l.upper", flank, 0.6, both_sides=False)
    belt = np.flatnonzero((x > 0.08) & (x < 0.115) & (y > 0.8) & (y < 0.825) & (points[:, 2] > 0.05))
    return edits.fill_weight(document, "part0", "arm.l.lower", belt, 0.7, both_sides=False)


def make_lesson() -> None:
    document = spoiled(open_project(OUT / "wick.pegloom"))
    character = replace(document.require_character(), weaves=())
    document = replace(document.with_character(character), name="A bad shoulder to mend")
    save_project(OUT / "lesson.pegloom", document)


if __name__ == "__main__":
    make_lesson()
