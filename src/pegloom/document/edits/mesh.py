"""Bring a mesh in, say what its parts are, even its halves out. Standing it up: standing.py."""

from __future__ import annotations

import re
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import diagonal, triangulate, weld, with_points
from pegloom.core.geometry.symmetry import partners, plane_score
from pegloom.core.motion.clips import Clip
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Skeleton, with_sides
from pegloom.core.skeleton.surroundings import with_thickness
from pegloom.core.skin.weights import Weights, most_influences
from pegloom.document.model import Character, Document, Image, Material, Part, PartKind, Skin


def bring_in(
    document: Document,
    parts: tuple[Part, ...],
    *,
    name: str,
    materials: tuple[Material, ...] = (),
    images: tuple[Image, ...] = (),
    skeleton: Skeleton | None = None,
    weights: dict[str, Weights] | None = None,
    clips: tuple[Clip, ...] = (),
    notes: tuple[str, ...] = (),
) -> Document:
    """A new character from a file's parts, in the file's own coordinates. Raises EditError for a mesh of no size."""
    points = np.concatenate([part.mesh.points for part in parts]) if parts else np.zeros((0, 3))
    if len(points) == 0 or diagonal(points) <= 0:
        raise EditError("the mesh has no size: all its points are in one place")
    skin = None
    parts = tuple(replace(part, detail=part.detail or detail_told(part.name)) for part in parts)
    if weights:
        most = max(most_influences(w) for w in weights.values())
        skin = Skin("from the file", most, MappingProxyType(dict(weights)))
    told = None if skeleton is None else with_sides(_laid_in(skeleton, parts))
    character = Character(
        next(i for k in range(len(document.characters) + 1) if (i := f"character{len(document.characters) + k}") not in {c.id for c in document.characters}), name, parts=parts, materials=materials, images=images,
        skeleton=told, adopted=told, skin=skin, clips=clips,
        import_notes=import_lines(parts, materials, images, skeleton, weights, clips, notes),
    )  # fmt: skip
    return replace(document, characters=(*document.characters, character), active=len(document.characters), name=name)


def _laid_in(skeleton: Skeleton, parts: tuple[Part, ...]) -> Skeleton:
    """The skeleton with how deep its joints lie in the finest of the parts."""
    finest = [p.mesh for p in parts if p.included and p.detail == 0 and p.mesh.face_count]
    if not finest:
        return skeleton
    starts = np.cumsum([0, *(mesh.vertex_count for mesh in finest)])
    triangles = [triangulate(mesh).vertices + start for mesh, start in zip(finest, starts, strict=False)]
    return with_thickness(skeleton, np.concatenate([mesh.points for mesh in finest]), np.concatenate(triangles))


DETAIL = re.compile(r"(?i)(?:^|[ _.\-])lod[ _.\-]?(\d)$|(?:^|[ _.\-])level[ _.\-]?(\d)$")


def detail_told(name: str) -> int:
    """The detail level a part's name tells, as game files have it (`body_LOD2`); 0 where it tells none."""
    found = DETAIL.search(name.strip())
    return int(found[1] or found[2]) if found else 0


def import_lines(
    parts: tuple[Part, ...], materials: tuple[Material, ...], images: tuple[Image, ...], skeleton: Skeleton | None,
    weights: dict[str, Weights] | None, clips: tuple[Clip, ...], notes: tuple[str, ...],
) -> tuple[str, ...]:  # fmt: skip
    """What a file brought and what was ignored, for a person."""
    lines = [
        f"{p.name}: {counted(p.mesh.vertex_count, 'vertex', 'vertices')}, {counted(p.mesh.face_count, 'face')}"
        for p in parts[:12]
    ]
    if len(parts) > 12:
        lines.append(f"and {counted(len(parts) - 12, 'more part')}")
    morphs = sum(len(p.morphs) for p in parts)
    lines.append(f"{counted(max(len(materials) - 1, 0), 'material')}, {counted(len(images), 'texture')}")
    if morphs:
        lines.append(counted(morphs, "morph target"))
    if skeleton is not None:
        lines.append(f"a skeleton of {counted(len(skeleton.joints), 'joint')}")
    if weights:
        lines.append(f"weights of {counted(len(weights), 'part')}")
    if clips:
        lines.append(f"{counted(len(clips), 'clip')}: {', '.join(c.name for c in clips[:4])}")
    return (*lines, *(f"ignored or mended: {n}" for n in notes))


def set_middle(document: Document, x: float) -> Document:
    """Put the mirror plane elsewhere: metres along x."""
    character = document.require_character()
    standing = character.standing
    if standing is None:
        raise EditError("stand the mesh up first; then the centre line can be moved")
    points = character.all_points()
    score = plane_score(points, 0, float(x)) if len(points) else 0.0
    return document.with_character(replace(character, standing=replace(standing, middle=float(x), symmetry=score)))


def evenness(document: Document) -> tuple[float, float, float]:
    """How symmetric the included parts are: share of vertices with a partner, mean and largest gap in metres."""
    character = document.require_character()
    middle = character.standing.middle if character.standing else 0.0
    paired, total, gaps = 0, 0, [np.zeros(0)]
    for part in character.included:
        across = partners(part.mesh, middle)
        has = np.flatnonzero(across >= 0)
        paired += len(has)
        total += part.mesh.vertex_count
        mirrored = part.mesh.points[across[has]] * [-1, 1, 1] + [2 * middle, 0, 0]
        gaps.append(np.linalg.norm(part.mesh.points[has] - mirrored, axis=1))
    gap = np.concatenate(gaps)
    return paired / max(total, 1), float(gap.mean()) if len(gap) else 0.0, float(gap.max(initial=0.0))


def even_out(document: Document, *, amount: float = 1.0, part_ids: tuple[str, ...] | None = None) -> Document:
    """Bring each vertex and its partner to mirrored places, each half way; vertices on the plane onto it.

    Vertices without a partner stay. Pegs, joints and weights are not touched.
    """
    if not 0.0 <= amount <= 1.0:
        raise EditError("evening out goes from 0 to 1")
    character = document.require_character()
    middle = character.standing.middle if character.standing else 0.0
    parts = []
    for part in character.parts:
        if part.included and (part_ids is None or part.id in part_ids):
            across = partners(part.mesh, middle)
            has = np.flatnonzero(across >= 0)
            mirrored = part.mesh.points[across[has]] * [-1, 1, 1] + [2 * middle, 0, 0]
            points = part.mesh.points.copy()
            points[has] += 0.5 * amount * (mirrored - points[has])
            points = points[weld(part.mesh).first][weld(part.mesh).group]
            part = replace(part, mesh=with_points(part.mesh, points, normals=part.mesh.normals))
        parts.append(part)
    return document.with_character(replace(character, parts=tuple(parts)))


def include_part(document: Document, part_id: str, included: bool) -> Document:
    """Take a part in or leave it out. Its weights are kept either way."""
    return _with_part(document, replace(document.require_character().part(part_id), included=included))


def set_part_kind(document: Document, part_id: str, kind: PartKind) -> Document:
    """Say what a part is: skin, cloth, hard part, held prop."""
    return _with_part(document, replace(document.require_character().part(part_id), kind=kind))


def _with_part(document: Document, part: Part) -> Document:
    character = document.require_character()
    parts = tuple(part if p.id == part.id else p for p in character.parts)
    return document.with_character(replace(character, parts=parts))
