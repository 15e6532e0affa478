#!/usr/bin/env python3
"""Make the clips of the shelf anew: their motion as BVH in one archive, what is said of them as JSON.

    PYTHONPATH=src:. .venv/bin/python tools/make_clips.py [NAME...]

With names only those are made anew. The scripts are in tools/acting; the bodies are the demo's own.
"""

from __future__ import annotations

import json
import re
import sys
import tempfile
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from tools.acting import everything
from tools.acting.body import body
from tools.acting.made import MADE, Made

from pegloom.core.motion.shelf.measures import measures_of
from pegloom.document.model import Character
from pegloom.files.bvh_write import write_bvh
from pegloom.files.motion import bvh_source

SHELF = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "shelf"
BODY = {"wick": "people", "dumble": "four legs", "harl": "bird", "winch": "prop", "lantern": "cut-out"}
NUMBER = re.compile(r"-?\d+\.\d+(?:e-?\d+)?|-?\d+e-?\d+")


def bvh_of(one: Made) -> bytes:
    """The motion as BVH, a thousandth of a degree and a hundredth of a millimetre fine."""
    actor = body(one.who)
    clip = replace(one.make(), id="clip0", name=one.id)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{one.id}.bvh"
        write_bvh(path, Character("shelf", one.title, skeleton=actor.skeleton, clips=(clip,)), clip)
        head, _, frames = path.read_text().partition("MOTION")
    lines = frames.split("\n")

    def short(found: re.Match[str]) -> str:
        text = f"{float(found[0]):.4f}".rstrip("0").rstrip(".")
        return "0" if text in ("-0", "") else text

    lines = [line if line.startswith("Frame") else NUMBER.sub(short, line) for line in lines]
    return (head + "MOTION" + "\n".join(lines)).encode()


def card_of(one: Made, data: bytes) -> dict[str, object]:
    source = bvh_source(f"{one.id}.bvh", data)
    card: dict[str, object] = {
        "id": one.id, "title": one.title, "kinds": list(one.kinds), "tags": list(one.tags), "body": BODY[one.who], "seconds": round(source.clip.length, 4),
        "rate": source.clip.rate, "loops": one.loops, "measures": [round(float(v), 4) for v in measures_of(source.skeleton, source.clip)],
    }  # fmt: skip
    if one.partner:
        card |= {"partner": one.partner, "beside": list(one.beside)}
    return card


def main() -> None:
    everything()
    wanted = sys.argv[1:] or list(MADE)
    archive, cards_file = SHELF / "clips.zip", SHELF / "cards.json"
    held: dict[str, bytes] = {}
    cards: dict[str, dict[str, object]] = {}
    if sys.argv[1:] and archive.is_file():
        with zipfile.ZipFile(archive) as before:
            held = {Path(n).stem: before.read(n) for n in before.namelist() if n.endswith(".bvh")}
        cards = {c["id"]: c for c in json.loads(cards_file.read_text())["clips"]}
    for name in wanted:
        held[name] = bvh_of(MADE[name])
        cards[name] = card_of(MADE[name], held[name])
        print(name, np.round(cards[name]["measures"], 2).tolist())
    names = [n for n in MADE if n in held]
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as out:
        for name in ("LICENCE.txt", *names):
            info = zipfile.ZipInfo(name if name.endswith(".txt") else f"{name}.bvh", (2026, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            out.writestr(info, (SHELF.parent / "demo" / "CC0-1.0.txt").read_bytes() if name.endswith(".txt") else held[name], compresslevel=9)
    told = {"format": "peg loom shelf", "version": 1, "clips": [cards[n] for n in names]}
    cards_file.write_text(json.dumps(told, ensure_ascii=False, indent=0).replace("\n", "") + "\n")
    print(len(names), "clips,", archive.stat().st_size, "bytes")


if __name__ == "__main__":
    main()
