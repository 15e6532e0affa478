"""Performers of tools/takes.py as sources, and characters of other builds that take their motion on."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from tools import takes

from pegloom.core.motion.retarget import Source
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.gltf_write import write_glb
from pegloom.files.motion import read_sources
from tests.support import judge
from tests.support.figures import as_mesh, document_of, human

BUILD = takes.Build(thigh=0.46, shin=0.4, ankle=0.1, foot=0.17, hips=0.085, back=0.53, spine=2, shoulders=0.2, upper=0.31, fore=0.25)
"""Lankier than most."""
NAMES = {"toes": "{}_toes", "foot": "{}_foot", "upper": "{}_upper_arm", "fore": "{}_forearm", "hand": "{}_hand", "thigh": "{}_thigh", "shin": "{}_shin"}


def source_of(take: takes.Take, folder: Path, name: str = "take") -> Source:
    file = folder / f"{name}.bvh"
    file.write_text(take.bvh(), encoding="utf-8")
    (source,), _ = read_sources(file)
    return source


@lru_cache(maxsize=1)
def stout() -> Document:
    """A bound human of another build: stout, arms down, a large head."""
    made, _ = human(down=0.8, fat=1.3, head=1.3, wide=1.3)
    made.vertices = made.vertices * [1.1, 0.82, 1.05]
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    return edits.bind(document)


def only(document: Document, clip: str) -> Document:
    """With that clip alone, so that it is the first of a file."""
    character = document.require_character()
    return document.with_character(replace(character, clips=tuple(c for c in character.clips if c.id == clip)))


class Judged:
    """A borrowed clip as an exported GLB plays it, held against what the performer truly did."""

    def __init__(self, document: Document, clip: str, take: takes.Take, folder: Path, build: takes.Build = BUILD) -> None:
        self.document, self.take = only(document, clip), take
        self.path = folder / "judged.glb"
        character = self.document.require_character()
        write_glb(self.path, character)
        self.times = np.arange(len(take.truth)) / take.rate
        self.played = judge.Played(self.path, self.times)
        self.here = 1.7 / character.height
        self.there = 1.7 / (build.thigh + build.shin + build.ankle + build.back + build.neck + build.head)
        self.index = {part: i for i, part in enumerate(take.part)}

    def truth(self, part: str, side: str = "") -> np.ndarray:
        return self.take.truth[:, self.index[f"{part}.{side}" if side else part]]

    def at(self, part: str, side: str) -> np.ndarray:
        return self.played.at(NAMES[part].format(side))

    def slide(self) -> np.ndarray:
        return np.concatenate([
            judge.slide_mm(self.at(p, s), self.truth(p, s), self.take.rate, here_to_body=self.here, there_to_body=self.there) for s in "lr" for p in ("toes", "foot")
        ])  # fmt: skip

    def standing(self) -> np.ndarray:
        """Frames (k,) in which some foot stands."""
        slow = np.any([judge.contacts(self.truth(p, s), self.take.rate, self.there) for s in "lr" for p in ("toes", "foot")], axis=0)
        return np.flatnonzero(np.concatenate([slow, [False]]))

    def lowest_mm(self, frames: np.ndarray) -> np.ndarray:
        """The lowest skin over the floor at frames, at 1.7 m."""
        return judge.Played(self.path, self.times[frames]).skin(10.0).min(axis=1)[:, 1] * self.here * 1000

    def angle(self, a: str, b: str, side: str) -> np.ndarray:
        return judge.angle_deg(self.at(b, side) - self.at(a, side), self.truth(b, side) - self.truth(a, side))


def inserted(take: takes.Take, child: str, name: str, share: float) -> takes.Take:
    """A joint that does nothing between a joint and its parent, at a share of the way."""
    i = take.names.index(child)
    parents = [p if p < i else p + 1 for p in take.parents]
    parents = [*parents[:i], take.parents[i], *parents[i:]]
    parents[i + 1] = i
    offsets = np.insert(take.offsets, i, share * take.offsets[i], axis=0)
    offsets[i + 1] = (1.0 - share) * take.offsets[i]
    turns = np.insert(take.turns, i, np.broadcast_to(np.eye(3), (len(take.turns), 3, 3)), axis=1)
    return replace(
        take, names=[*take.names[:i], name, *take.names[i:]], parents=parents, offsets=offsets, turns=turns,
        ends={k if k < i else k + 1: e for k, e in take.ends.items()}, truth=np.insert(take.truth, i, take.truth[:, i], axis=1),
        part=[*take.part[:i], f"extra {name}", *take.part[i:]],
    )  # fmt: skip


def without_toes(take: takes.Take) -> takes.Take:
    """Feet that end in a tip instead of a joint."""
    gone = {i for i, part in enumerate(take.part) if part.startswith("toes")}
    kept = [i for i in range(len(take.names)) if i not in gone]
    place = {i: k for k, i in enumerate(kept)}
    ends = {place[i]: e for i, e in take.ends.items() if i in place} | {place[take.parents[i]]: take.offsets[i] for i in gone}
    return replace(
        take, names=[take.names[i] for i in kept], parents=[place.get(take.parents[i], -1) for i in kept], offsets=take.offsets[kept], ends=ends,
        turns=take.turns[:, kept], truth=take.truth[:, kept], part=[take.part[i] for i in kept],
    )  # fmt: skip


def under_a_root(take: takes.Take) -> takes.Take:
    """The path told by a joint over the hips, which stand still in it."""
    high = np.array([0.0, take.root[:, 1].mean(), 0.0])
    still = np.broadcast_to(np.eye(3), (len(take.turns), 1, 3, 3))
    return replace(
        take, names=["reference", *take.names], parents=[-1, *(p + 1 for p in take.parents)], offsets=np.concatenate([np.zeros((1, 3)), [high], take.offsets[1:]]),
        ends={k + 1: e for k, e in take.ends.items()}, turns=np.concatenate([still, take.turns], axis=1), root=take.root - high,
        truth=np.concatenate([np.zeros_like(take.truth[:, :1]), take.truth], axis=1), part=["reference", *take.part],
    )  # fmt: skip
