"""A delivery measured: what its files show against the live rig, at keys and between, vertex by vertex."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.follow_through import state_at
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.outputs import PART
from pegloom.document.delivery import Content, Target, made_plain
from pegloom.document.edits.rest import DeliveredRest
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Document
from pegloom.files.deliver import MESHES, Delivered, deliver
from pegloom.files.proof.other_gltf import OtherGltf
from pegloom.files.proof.other_plain import OtherBvh, mesh_points
from pegloom.files.proof.other_usd import OtherUsd
from pegloom.files.scratch import scratch

MOMENTS = 40
"""Moments between keys that are looked at in a clip, at most; all keys besides."""
MOST_KEYS = 60
NEAR_OF_SIZE = 2e-6
"""Share of the size within which a vertex of the file stands where one of the character does."""
LOSSES = 12
"""Moments of a clip at which what a choice costs is measured."""


class Other(Protocol):
    """A file opened by other code."""

    rest: FloatArray
    clips: list[str]

    def points(self, clip: str | None = None, time: float = 0.0) -> FloatArray: ...


@dataclass(frozen=True, slots=True)
class Loss:
    """What one choice of a target costs by itself: metres at most, and where."""

    choice: str
    worst: float
    where: str


@dataclass(frozen=True)
class Proof:
    """What the files show beside the live rig.

    worst : metres, over all vertices (of joints, where the file has no mesh) and moments. where : part, clip, frame.
    samples : moments looked at. by_vertex : the most of each vertex (n,), metres, by part id; what is not delivered has none.
    losses : what each choice costs by itself. baked, left : see `Delivered`. files : their names and sizes in bytes.
    moment : id of the clip and seconds at which the worst was found.
    """

    worst: float
    where: str
    samples: int
    by_vertex: Mapping[str, FloatArray] = field(default_factory=dict)
    losses: tuple[Loss, ...] = ()
    baked: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    files: tuple[tuple[str, int], ...] = ()
    target: str = ""
    moment: tuple[str, float] = ("", 0.0)


def prove(document: Document, target: Target, *, clips: Collection[str] | None = None, losses: bool = True, progress: Progress = silent) -> Proof:
    """Deliver the character in hand to a place of its own, open what was written, and measure it. Raises as `deliver`."""
    with scratch() as folder:
        made = deliver(folder / f"proof{target.kind}", document, target, clips=clips, progress=part_of(progress, 0.0, 0.3))
        found = prove_files(document, target, made, clips=clips, progress=part_of(progress, 0.3, 0.7))
        files = tuple((f.name, f.stat().st_size) for f in made.files[:50])
    if losses and target.content is not Content.CHARACTER:
        found = replace(found, losses=_losses(document, target, clips, found.moment, part_of(progress, 0.7, 1.0)))
    return replace(found, files=files)


def prove_files(document: Document, target: Target, made: Delivered, *, clips: Collection[str] | None = None, progress: Progress = silent) -> Proof:
    """Files that were delivered, opened again and measured against the document they came from."""
    target = replace(target, kind=made.files[0].suffix.lower())
    character, plain = document.require_character(), made.plain.require_character()
    told = Proof(0.0, "", 0, baked=made.baked, left=made.left, target=target.name)
    chosen = [c for c in character.clips if clips is None or c.id in clips]
    if target.kind == ".bvh" or not plain.parts:
        return _joints(character, target, made, chosen, told, progress)
    # Where the file's vertices stand in the character at the delivered rest.
    before = made_plain(document, _as_it_stands(target), clips=())
    matched = _Matched(character, before.document.require_character(), target)
    worst, where, count = 0.0, "", 0
    seen: dict[str, FloatArray] = {}

    moment = ("", 0.0)

    def look(points: FloatArray, live: Mapping[str, FloatArray], said: str, at: tuple[str, float] = ("", 0.0)) -> None:
        nonlocal worst, where, count, moment
        gap, part = matched.gaps(points, live, seen)
        count += 1
        if gap > worst:
            worst, where, moment = gap, f"{part}, {said}", at

    if target.kind in MESHES:
        some = _sequence(target, made, plain)
        for number, (file, clip, time) in enumerate(some):
            progress(number / len(some), f"comparing {file.name}")
            points = mesh_points(file)
            matched.begin(points if number == 0 else matched.rest)
            live_clip = next((c for c in chosen if clip is not None and c.id == clip.id), None)
            look(points, _rest_points(matched.before) if live_clip is None else _live(character, live_clip, time), "rest" if clip is None else f"{clip.name}, frame {round(time * clip.rate)}")
        return replace(told, worst=worst, where=where, samples=count, by_vertex=seen)
    wrong: list[str] = []
    readers = [_other(file) for file in made.files]
    moments = sum(len(_moments(c)) for c in chosen)
    for other in readers:
        matched.begin(other.rest)
        look(other.points() if isinstance(other, OtherGltf) else other.rest, _rest_points(matched.before), "rest")
        for clip in chosen:
            if clip.name not in other.clips:
                continue
            told_wrong: dict[str, float] = {}
            for time in _moments(clip):
                if isinstance(other, OtherUsd) and clip.name == other.clips[0]:
                    for name in other.hidden(clip.name, time) ^ _hidden(character, clip, time):
                        # Of whole frames alone a file knows no moment between them.
                        near = {name in _hidden(character, clip, max(time + d / (target.rate or clip.rate), 0.0)) for d in (-1.0, 1.0)} if target.rate else {True}
                        if len(near) == 1:
                            told_wrong.setdefault(name, time)
                progress(min(count / max(moments, 1), 1.0), f"comparing {clip.name}")
                look(other.points(clip.name, time), _live(character, clip, time), f"{clip.name}, frame {time * clip.rate:.1f}", (clip.id, time))
            wrong += [f"{name}: is seen otherwise in the file, {clip.name}, frame {time * clip.rate:.1f}" for name, time in told_wrong.items()]
    told = replace(told, left=(*told.left, *wrong))
    return replace(told, worst=worst, where=where, samples=count, by_vertex=seen, moment=moment)


def _as_it_stands(target: Target) -> Target:
    """The same rest, and nothing else of the target: vertices in the character's own order, metres, y up."""
    return Target("proof", rest=target.rest, bake=False)


def _other(file: Path) -> Other:
    return OtherUsd(file) if file.suffix.lower().startswith(".usd") else OtherGltf(file)


def _moments(clip: Clip) -> list[float]:
    steps = min(int(clip.length * clip.rate), MOMENTS)
    keys = clip.key_times
    some = [clip.length * (k + 0.37) / (steps + 1) for k in range(steps)]
    return [*some, *(t for t in keys[:: max(len(keys) // MOST_KEYS, 1)] if t <= clip.length)]


def _live(character: Character, clip: Clip, time: float) -> Mapping[str, FloatArray]:
    pose = sample(clip, time, character.skeleton, character.pose, character.rig)
    return evaluate(character, pose, state_at(character.skeleton, character.rig, clip, character.pose, time)).points


def _hidden(character: Character, clip: Clip, time: float) -> set[str]:
    """Names of the parts that channels hide at a moment."""
    if character.rig is None or not character.rig.shows:
        return set()
    unseen = evaluate(replace(character, parts=()), sample(clip, time, character.skeleton, character.pose, character.rig)).unseen
    return {p.name for p in character.included if f"{PART}{p.id}" in unseen}


def _rest_points(character: Character) -> Mapping[str, FloatArray]:
    """Points at the delivered rest, with what its morph targets weigh there."""
    found = {}
    for part in character.included:
        found[part.id] = part.mesh.points + sum((m.at_rest * m.deltas for m in part.morphs if m.at_rest), np.zeros((part.mesh.vertex_count, 3)))
    return found


class _Matched:
    """Which vertex of the character each point of a file is, told by where they rest; of several at one place the one that moves as
    it does."""

    def __init__(self, character: Character, before: Character, target: Target) -> None:
        self.character, self.before = character, before
        scale = 1.0 if target.is_gltf else 1.0 / target.unit
        turn = np.eye(3) if target.is_gltf and target.up != "+y" else target.turned
        self.back = turn / scale
        parts = before.included
        self.parts = [p.id for p in parts]
        self.part_of: IntArray = np.concatenate([np.full(p.mesh.vertex_count, k) for k, p in enumerate(parts)])
        self.vertex_of: IntArray = np.concatenate([np.arange(p.mesh.vertex_count) for p in parts])
        self.points = np.concatenate([p.mesh.points for p in parts])
        self.tree = cKDTree(self.points)
        self.size = float(np.ptp(self.points, axis=0).max())
        self.rest = np.zeros((0, 3))
        self.candidates = np.zeros((0, 1), dtype=np.int64)
        self.bad = np.zeros((0, 1))

    def begin(self, rest: FloatArray) -> None:
        """Match a file's points (n, 3) as they rest."""
        if len(rest) == len(self.rest) and np.array_equal(rest, self.rest):
            return
        self.rest = rest
        count = min(6, len(self.points))
        away, index = self.tree.query(rest @ self.back, k=count)
        away, index = np.asarray(away).reshape(len(rest), count), np.asarray(index).reshape(len(rest), count)
        near = away <= np.maximum(away[:, :1] + 1e-12, NEAR_OF_SIZE * self.size)
        # Others than the nearest stand in where they are at the same place.
        self.candidates = np.where(near, index, index[:, :1])
        self.bad = np.zeros(self.candidates.shape)

    def gaps(self, points: FloatArray, live: Mapping[str, FloatArray], seen: dict[str, FloatArray]) -> tuple[float, str]:
        """The largest difference, metres, and its part; `seen` keeps the most of each vertex."""
        if not len(points):
            return 0.0, ""
        there = np.concatenate([live[p] for p in self.parts])
        shown = points @ self.back
        away = np.linalg.norm(shown[:, None] - there[self.candidates], axis=2)
        # A vertex at one place with others is the one that was nearest all along.
        self.bad = np.maximum(self.bad, away)
        chosen = np.argmin(self.bad, axis=1)
        rows = np.arange(len(points))
        gap, vertex = away[rows, chosen], self.candidates[rows, chosen]
        for k, part in enumerate(self.parts):
            mine = self.part_of[vertex] == k
            if mine.any():
                values = seen.setdefault(part, np.zeros(len(live[part])))
                np.maximum.at(values, self.vertex_of[vertex[mine]], gap[mine])
        worst = int(np.argmax(gap))
        return float(gap[worst]), self.character.part(self.parts[self.part_of[vertex[worst]]]).name


def _sequence(target: Target, made: Delivered, plain: Character) -> list[tuple[Path, Clip | None, float]]:
    """Files of a sequence with their clip and time; of many some, evenly."""
    if len(made.files) == 1:
        return [(made.files[0], None, 0.0)]
    found: list[tuple[Path, Clip | None, float]] = []
    files = iter(made.files)
    for clip in (c for c in plain.clips if c.tracks or c.morphs):
        found += [(next(files), clip, k / clip.rate) for k in range(round(clip.length * clip.rate) + 1)]
    chosen = found[1 :: max(len(found) // MOMENTS, 1)]
    # The first is matched by its rest; a sequence has none, so it begins where a clip does.
    return [found[0], *chosen]


def _joints(character: Character, target: Target, made: Delivered, clips: list[Clip], told: Proof, progress: Progress) -> Proof:
    """Motion alone: where joints are, by name, against those of the plain skeleton's names."""
    skeleton = character.require_skeleton()
    plain = made.plain.require_character()
    kept = [(j.id, j.name) for j in plain.require_skeleton().joints if j.id in skeleton.index]
    back = (np.eye(3) if target.is_gltf and target.up != "+y" else target.turned) / (1.0 if target.is_gltf else 1.0 / target.unit)
    moving = [c for c in plain.clips if c.tracks]
    worst, where, count = 0.0, "", 0
    settled = target.rest is not DeliveredRest.AS_IT_STANDS
    for number, clip in enumerate(moving):
        live_clip = next((c for c in clips if c.id == clip.id), None)
        if live_clip is None:
            continue
        file = made.files[min(number, len(made.files) - 1)]
        bvh = OtherBvh(file) if target.kind == ".bvh" else None
        other = None if bvh is not None else _other(file)
        frames = range(len(bvh.places)) if bvh is not None else range(round(clip.length * clip.rate) + 1)
        for k in list(frames)[:: max(len(frames) // MOMENTS, 1)]:
            time = k / (bvh.rate if bvh is not None else clip.rate)
            progress(min(number / max(len(moving), 1), 1.0), f"comparing {clip.name}")
            pose = sample(live_clip, time, skeleton, character.pose, character.rig)
            frame = evaluate_rig(skeleton, character.rig, pose, state_at(skeleton, character.rig, live_clip, character.pose, time))
            at = dict(zip(bvh.names, bvh.places[k], strict=True)) if bvh is not None else other.joints(clip.name, time)  # type: ignore[union-attr]
            for joint_id, name in kept:
                place = at.get(name, at.get("_".join(name.split())))
                if place is not None and not settled:
                    gap = float(np.linalg.norm(np.asarray(place) @ back - frame.joints[skeleton.index[joint_id]][:3, 3]))
                    if gap > worst:
                        worst, where = gap, f"{name}, {clip.name}, frame {k}"
            count += 1
    return replace(told, worst=worst, where=where, samples=count)


def _losses(document: Document, target: Target, clips: Collection[str] | None, worst_at: tuple[str, float], progress: Progress) -> tuple[Loss, ...]:
    """What each choice costs: the plain character with that choice alone, held against the live one."""
    base = Target("one choice", bake=False)
    choices: list[tuple[str, Target]] = []
    if target.influences:
        choices.append((f"{target.influences} influences a vertex", replace(base, influences=target.influences)))
    if target.rate:
        choices.append((f"{target.rate:g} frames a second", replace(base, rate=target.rate)))
    if target.rest is not DeliveredRest.AS_IT_STANDS:
        choices.append((f"rest: {target.rest.value}", replace(base, rest=target.rest)))
    if target.without:
        choices.append(("fewer joints", replace(base, without=target.without)))
    character = document.require_character()
    if target.bake and character.skin is not None and (character.skin.relax or character.skin.dual):
        choices.append(("relax and dual quaternions baked", replace(base, bake=True)))
    found = []
    for number, (said, one) in enumerate(choices):
        progress(number / len(choices), f"measuring {said}")
        try:
            plain = made_plain(document, one, clips=clips).document.require_character()
        except EditError:
            continue
        worst, where = 0.0, ""
        for clip in plain.clips:
            live_clip = character.clip(clip.id)
            steps = min(max(int(clip.length * live_clip.rate), 1), LOSSES)
            times = [clip.length * (k + 0.41) / steps for k in range(steps)] + [t for c, t in [worst_at] if c == clip.id]
            for time in times:
                live, shown = _live(character, live_clip, time), evaluate(plain, sample(clip, time, plain.skeleton)).points
                for part in plain.included:
                    gap = float(np.linalg.norm(shown[part.id] - live[part.id][: part.mesh.vertex_count], axis=1).max(initial=0.0))
                    if gap > worst:
                        worst, where = gap, f"{part.name}, {clip.name}, frame {time * live_clip.rate:.1f}"
        found.append(Loss(said, worst, where))
    return tuple(found)


