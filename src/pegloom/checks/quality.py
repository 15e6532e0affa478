"""How well a posed skin keeps: figures around each joint, the worst stretch, faces passing through others."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.memo import of_the_latest
from pegloom.core.skin.crossing import crossing_faces
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.quality import Figures, gauge_of, measured, worst_of
from pegloom.document.model import Character, Part

LIMITS = {"upper": 0.72, "lower": 0.72, "end": 0.8, "hand": 0.7, "spine": 0.85, "neck": 0.85}
"""Girth kept under which a joint is doubtful: folds of limbs lose more than a neck may."""
USUAL_LIMIT = 0.78
STRETCH_LIMIT = 1.8
"""Stretch (99th percentile) over which a joint's region is doubtful."""


def girth_limit(joint_id: str) -> float:
    """The girth kept under which a joint of this kind is doubtful."""
    words = joint_id.split(".")
    return next((LIMITS[w] for w in (words[-1], words[0]) if w in LIMITS), USUAL_LIMIT)


def doubtful(joint_id: str, figures: Figures) -> bool:
    """Whether a joint's figures are past the limits of its kind: thin, flat (area goes with the girth squared), long."""
    limit = girth_limit(joint_id)
    thin = figures.girth is not None and figures.girth < limit
    flat = figures.area is not None and figures.area < limit**2
    return thin or flat or figures.stretch > STRETCH_LIMIT


def _bound(character: Character) -> list[Part]:
    held = character.skin.weights if character.skin else {}
    return [p for p in character.included if p.id in held and p.mesh.face_count]


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


def crossing_count(character: Character, points: Mapping[str, FloatArray]) -> int:
    """Faces that pass through others, within and between parts, and do not at rest. points by part id."""
    parts = [p for p in character.included if p.mesh.face_count]
    if not parts:
        return 0
    triangles = _solid_triangles(character)
    posed = np.concatenate([points[p.id] for p in character.included])
    return int((crossing_faces(posed, triangles) & ~_crossing_at_rest(character)).sum())


@of_the_latest(3)
def _solid_triangles(character: Character) -> IntArray:
    """Triangles over all included vertices, vertices at one place taken as one, flat ones left out."""
    groups, start = [], 0
    for part in character.included:
        g = weld(part.mesh)
        groups.append(g.first[g.group] + start)
        start += part.mesh.vertex_count
    t = np.concatenate(groups)[character.all_triangles()]
    return np.asarray(t[(t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 0] != t[:, 2])])


@of_the_latest(3)
def _crossing_at_rest(character: Character) -> BoolArray:
    return crossing_faces(character.all_points(), _solid_triangles(character))
