"""How well a posed skin keeps: figures around each joint, the worst stretch, faces passing through others."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton.body import role_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.crossing import crossing_faces, crossing_partners
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.quality import Figures, gauge_of, measured, worst_of
from pegloom.core.skin.weights import packed
from pegloom.document.model import Character, Part

LIMITS = {"upper": 0.72, "lower": 0.72, "end": 0.8, "hand": 0.7, "spine": 0.85, "neck": 0.85}
"""Girth kept under which a joint is doubtful: folds of limbs lose more than a neck may."""
USUAL_LIMIT = 0.78
STRETCH_LIMIT = 1.8
"""Stretch (99th percentile) over which a joint's region is doubtful."""


def girth_limit(skeleton: Skeleton, joint_id: str) -> float:
    """The girth kept under which a joint of this kind is doubtful."""
    words = role_of(skeleton, joint_id).split(".")
    return next((LIMITS[w] for w in (words[-1], words[0]) if w in LIMITS), USUAL_LIMIT)


def past_limits(skeleton: Skeleton, joint_id: str, figures: Figures) -> float:
    """How many times a joint's figures are past the limits of its kind, the worst of them; up to 1 is sound.

    Thin, flat (area goes with the girth squared) or long.
    """
    limit = girth_limit(skeleton, joint_id)
    past = figures.stretch / STRETCH_LIMIT
    if figures.girth is not None:
        past = max(past, limit / max(figures.girth, 1e-6))
    if figures.area is not None:
        past = max(past, limit / max(np.sqrt(figures.area), 1e-6))
    return float(past)


def doubtful(skeleton: Skeleton, joint_id: str, figures: Figures) -> bool:
    """Whether a joint's figures are past the limits of its kind."""
    return past_limits(skeleton, joint_id, figures) > 1.0


def _bound(character: Character) -> list[Part]:
    weights = character.skin.weights if character.skin else {}
    return [p for p in character.at_level(0) if p.id in weights and p.mesh.face_count]


def joint_figures(
    character: Character, points: Mapping[str, FloatArray], joints: Iterable[str]
) -> dict[str, Figures | None]:
    """Figures around joints, the worst of all bound parts; None where no part is around one. points by part id."""
    found: dict[str, Figures | None] = {}
    assert character.skeleton is not None
    for joint in joints:
        gauges = [(p, gauge_of(p.mesh, character.skeleton, joint)) for p in _bound(character)]
        found[joint] = worst_of([measured(p.mesh, g, points[p.id]) for p, g in gauges if g is not None])
    return found


def worst_stretch(character: Character, points: Mapping[str, FloatArray]) -> float:
    """The 99th percentile of the edges' length posed / rest, of the worst bound part."""
    worst = 1.0
    for part in _bound(character):
        g, edges = weld(part.mesh), place_edges(part.mesh)
        if len(edges):
            stretch = edge_stretch(part.mesh.points[g.first], points[part.id][g.first], edges)
            worst = max(worst, float(np.quantile(stretch, 0.99)))
    return worst


@dataclass(frozen=True, slots=True)
class Crossing:
    """Faces that pass through others in one pose and do not at rest.

    faces : how many.
    between : the same by the names of the two parts (one name twice: within the part), the most first.
    joints : the same by the joint that moves the face most.
    """

    faces: int
    between: tuple[tuple[str, str, int], ...] = ()
    joints: Mapping[str, int] = field(default_factory=dict)


def crossing_of(character: Character, points: Mapping[str, FloatArray]) -> Crossing:
    """Where the skin passes through itself. points by part id."""
    character = _finest(character)
    if not any(p.mesh.face_count for p in character.included):
        return Crossing(0)
    rest = _crossing_at_rest(character)
    triangles, part, joint = _faces(character)
    partner = crossing_partners(np.concatenate([points[p.id] for p in character.included]), triangles)
    partner[rest] = -1
    found = np.flatnonzero(partner >= 0)
    names = [p.name for p in character.included]
    pairs = np.sort(np.stack([part[found], part[partner[found]]], axis=1), axis=1)
    each, count = np.unique(pairs, axis=0, return_counts=True)
    between = [(names[a], names[b], int(n)) for (a, b), n in zip(each.tolist(), count.tolist(), strict=True)]
    ids = [j.id for j in character.skeleton.joints] if character.skeleton else []
    owners, many = np.unique(joint[found], return_counts=True)
    by_joint = {ids[k]: int(n) for k, n in zip(owners.tolist(), many.tolist(), strict=True) if k >= 0}
    return Crossing(len(found), tuple(sorted(between, key=lambda row: -row[2])), by_joint)


def _finest(character: Character) -> Character:
    """The character with its body's own parts alone: coarser detail levels lie in it and cross it everywhere."""
    return character if len(character.levels) < 2 else _without_coarser(character)


@of_the_latest(3)
def _without_coarser(character: Character) -> Character:
    return replace(character, parts=character.at_level(0))


@of_the_latest(3)
def _faces(character: Character) -> tuple[IntArray, IntArray, IntArray]:
    """Triangles over all included vertices (vertices at one place as one, flat ones left out), the number of each one's
    part, and the index of the joint that moves it most, -1 where it is not bound."""
    groups, parts, movers, start = [], [], [], 0
    skin, skeleton = character.skin, character.skeleton
    for number, one in enumerate(character.included):
        g = weld(one.mesh)
        groups.append(g.first[g.group] + start)
        parts.append(np.full(one.mesh.vertex_count, number))
        weights = skin.weights.get(one.id) if skin is not None else None
        if weights is None or skeleton is None:
            movers.append(np.full(one.mesh.vertex_count, -1))
        else:
            movers.append(np.array([skeleton.index[j] for j in weights.joint_ids])[packed(weights).indices[:, 0]])
        start += one.mesh.vertex_count
    t = np.concatenate(groups)[character.all_triangles()]
    t = t[(t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 0] != t[:, 2])]
    return np.asarray(t), np.concatenate(parts)[t[:, 0]], np.concatenate(movers)[t[:, 0]]


@of_the_latest(3)
def _crossing_at_rest(character: Character) -> BoolArray:
    return crossing_faces(character.all_points(), _faces(character)[0])
