#!/usr/bin/env python3
"""Gaits and clips of the shelf on the demos: Wick on the pier walks, talks, rows; Dumble ambles; Harl takes off.

    PYTHONPATH=. .venv/bin/python tools/demo_clips.py

Run this after demo_takes.py; what it made before is made anew.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project
from pegloom.files.shelf import Shelf

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo"
SHELF = Shelf(Path("/nonexistent"))


def without(document: Document, *names: str) -> Document:
    one = document.require_character()
    gone = tuple(c for c in one.clips if c.name in names)
    sources = {c.borrowed.source for c in gone if c.borrowed is not None}
    return document.with_character(replace(one, clips=tuple(c for c in one.clips if c not in gone), sources=tuple(s for s in one.sources if s.id not in sources)))


def taken(document: Document, clip: str, name: str) -> Document:
    """A clip of the shelf on the controls, free of its source: a demo is not to carry both."""
    document, lent = edits.take_clip(document, SHELF.card(clip), SHELF.source(clip), controls=True)
    source = document.require_character().clip(lent.clip).borrowed
    assert source is not None
    document = edits.drop_source(document, source.source)
    return edits.rename_clip(document, lent.clip, name)


def main() -> None:
    wick = without(open_project(DEMO / "pier.pegloom"), "walk", "talk", "row")
    wick, _ = edits.make_gait(wick, {"preset": "walk"}, strides=2.0)
    save_project(DEMO / "pier.pegloom", taken(taken(wick, "talk", "talk"), "row", "row"))
    dumble = without(open_project(DEMO / "dumble.pegloom"), "amble")
    dumble, _ = edits.make_gait(dumble, {"preset": "amble"}, strides=4.0)
    save_project(DEMO / "dumble.pegloom", dumble)
    harl = without(open_project(DEMO / "harl.pegloom"), "take off")
    save_project(DEMO / "harl.pegloom", taken(harl, "take_off", "take off"))
    for name in ("pier", "dumble", "harl"):
        one = open_project(DEMO / f"{name}.pegloom").require_character()
        print(name, [c.name for c in one.clips], (DEMO / f"{name}.pegloom").stat().st_size)


if __name__ == "__main__":
    main()
