"""A revised file of a character that is rigged: which of its parts and clips stand for ours, and all of it taken in as one step."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import partial
from types import MappingProxyType

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, diagonal, triangulate, with_points
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.said import counted
from pegloom.core.skin.transfer import far_from, nearest_rows
from pegloom.document.edits.bring import come_back
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.mesh import detail_told
from pegloom.document.edits.motion import with_clip
from pegloom.document.edits.parts import carried_set, carried_skin, moved_mesh, without
from pegloom.document.edits.skins import each_skin
from pegloom.document.edits.trials import bring_motion
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Document, Image, Material, Morph, Part

SCALES = (1.0, 0.01, 100.0, 0.001, 1000.0, 0.0254, 39.3700787)
"""Units a file may have been handed over in: metres, centimetres, millimetres, inches, and those of a metre taken for one."""
MUCH_NEARER = 0.5
"""A frame in which no more parts lie as before takes the place of the one the first file stood in only where parts are that
much nearer to ours."""
OVERLAP = 0.6
"""Share of two boxes in common from which a part of another name and other faces stands in another's place."""
MOMENTS, MOVED, PLAYED = 24, 1e-5, 2e-4
"""Of a clip that are looked at; shares of the height from which a mesh has moved, and from which a clip plays otherwise."""
SAME_FACES = 0.99
"""Share of faces, or of our faces' edges, from which a mesh cut into triangles is ours."""
MOST_OF_THEM = 0.5
"""Share of the included parts that must be in a file for those missing in it to count as taken out there."""


@dataclass(frozen=True, slots=True, eq=False)
class Arrived:
    """What a revised file holds: parts in its own coordinates, clips told on the character's joints by name.

    name : of the file. notes : what of it did not match, or was ignored.
    """

    name: str
    parts: tuple[Part, ...] = ()
    materials: tuple[Material, ...] = ()
    images: tuple[Image, ...] = ()
    clips: tuple[Clip, ...] = ()
    notes: tuple[str, ...] = ()


class ClipWay(Enum):
    """What becomes of a clip that came back."""

    LAYER = "a layer over the one here"
    REPLACE = "in the place of the one here"
    ADD = "a new clip"
    LEAVE = "left"


@dataclass(frozen=True, slots=True)
class Taking:
    """What is taken of a file, and as what.

    onto : for each part of the file the id of ours it takes the place of; "" for a new part, None for one that is left.
    stay : ids of ours that are not in the file and stay all the same.
    clips : for each clip of the file.
    looks : whether its materials and pictures take the place of ours.
    frame : 16 numbers, row after row, character_from_file.
    """

    onto: tuple[str | None, ...] = ()
    stay: frozenset[str] = frozenset()
    clips: tuple[ClipWay, ...] = ()
    looks: bool = True
    frame: tuple[float, ...] = tuple(np.eye(4).ravel().tolist())


def propose(document: Document, arrived: Arrived) -> Taking:
    """How a file would be taken in without a word from a person: parts by name, then by faces, then by place; clips by name."""
    character = document.require_character()
    names = _by_name(character, arrived.parts)
    frame = _frame(character, arrived.parts, names)
    onto = _matched(character, arrived.parts, names, frame)
    met = {part_id for part_id in onto if part_id}
    gone = {p.id for p in character.parts if p.id not in met}
    included = [p.id for p in character.included]
    whole = bool(arrived.parts) and len(met & set(included)) >= MOST_OF_THEM * len(included)
    # What is left out of the character anyway was never in a file that was handed over.
    stay = frozenset(p.id for p in character.parts if p.id in gone and (not whole or not p.included))
    # Every file has one material that stands for none.
    looks = bool(arrived.images) or (len(arrived.materials) > 1 and not character.images)
    ours = {c.name: c for c in character.clips}
    ways = tuple(_way(character, ours.get(clip.name), clip) for clip in arrived.clips)
    return Taking(onto, stay, ways, looks, tuple(frame.ravel().tolist()))


def _way(character: Character, ours: Clip | None, clip: Clip) -> ClipWay:
    if ours is None:
        return ClipWay.ADD
    if clip_gap(character, ours, clip)[0] <= PLAYED * character.height:
        return ClipWay.LEAVE
    return ClipWay.LAYER if character.rig is not None and not ours.tracks else ClipWay.REPLACE


def clip_gap(character: Character, ours: Clip, theirs: Clip) -> tuple[float, float]:
    """How far any joint goes from where it was, metres, and the second of it; over the time both have."""
    skeleton = character.require_skeleton()
    worst = (0.0, 0.0)
    for time in np.linspace(0.0, min(ours.length, theirs.length), MOMENTS).tolist():
        places = [evaluate(replace(character, parts=()), sample(clip, time, skeleton, character.pose, character.rig)).joints[:, :3, 3] for clip in (ours, theirs)]
        gap = float(np.linalg.norm(places[0] - places[1], axis=1).max(initial=0.0))
        worst = max(worst, (gap, time))
    return worst


def _plain(name: str) -> str:
    """A name without what programs put around it: a prefix, `.001`, case, marks between words."""
    bare = re.sub(r"[._ ]\d{3}$", "", name.rsplit(":", 1)[-1])
    return re.sub(r"[^a-z0-9]", "", bare.lower()) or name


def _by_name(character: Character, parts: Sequence[Part]) -> list[str]:
    """For each part the id of ours of its name, exact names first; "" where none is left."""
    left, found = {p.id: p.name for p in character.parts}, [""] * len(parts)
    for called in (str, _plain):
        known: dict[str, str] = {}
        for part_id, name in left.items():
            known.setdefault(called(name), part_id)
        for k, part in enumerate(parts):
            mine = known.get(called(part.name))
            if not found[k] and mine in left:
                found[k] = mine
                del left[mine]
    return found


def _box(points: FloatArray) -> FloatArray:
    return np.stack([points.min(axis=0), points.max(axis=0)]) if len(points) else np.zeros((2, 3))


def _frame(character: Character, parts: Sequence[Part], names: Sequence[str]) -> FloatArray:
    """character_from_file (4, 4): as the first file was stood up, or, where parts then lie far from ours and nearer so, as a file
    that was handed over upright, in some unit, with Y or Z up."""
    stood = np.array(character.standing.file_to_character).reshape(4, 4) if character.standing else np.eye(4)
    pairs = [(part.mesh.points, character.part(mine).mesh.points) for part, mine in zip(parts, names, strict=True) if mine and part.mesh.vertex_count]
    if not pairs:
        theirs = [p.mesh.points for p in parts if p.mesh.vertex_count]
        pairs = [(np.concatenate(theirs), character.all_points())] if theirs and len(character.all_points()) else []
    if not pairs:
        return stood
    turned = np.eye(4)
    turned[:3, :3] = [[1, 0, 0], [0, 0, 1], [0, -1, 0]]  # Z up to Y up
    others = [turn * np.array([[s], [s], [s], [1.0]]) for s in SCALES for turn in (np.eye(4), turned)]

    def away(matrix: FloatArray) -> tuple[int, float]:
        """How many parts lie elsewhere than before, and how far parts are from there."""
        gaps = np.array([np.abs(_box(transform_points(matrix, a)) - _box(b)).mean() for a, b in pairs])
        return int((gaps > MOVED * character.height).sum()), float(gaps.mean())

    first, found = away(stood), [away(m) for m in others]
    best = min(range(len(others)), key=lambda k: found[k])
    nearer = found[best][0] < first[0] or found[best][1] < MUCH_NEARER * first[1]
    return others[best] if nearer and first[0] else stood


def _matched(character: Character, parts: Sequence[Part], names: Sequence[str], frame: FloatArray) -> tuple[str, ...]:
    found = list(names)
    left = [p for p in character.parts if p.id not in found]
    for k, part in enumerate(parts):
        if found[k]:
            continue
        alike = next((p for p in left if same_faces(p.mesh, part.mesh)), None) or _in_place_of(left, transform_points(frame, part.mesh.points))
        if alike is None and len(parts) == 1 == len(character.parts):
            alike = left[0] if left else None
        if alike is not None:
            found[k] = alike.id
            left.remove(alike)
    return tuple(found)


def _in_place_of(left: Sequence[Part], points: FloatArray) -> Part | None:
    """The part whose box shares most with that of some points, if it is enough."""
    best, most = None, OVERLAP
    a = _box(points)
    for part in left:
        b = _box(part.mesh.points)
        common = np.prod(np.clip(np.minimum(a[1], b[1]) - np.maximum(a[0], b[0]), 0.0, None))
        whole = np.prod(a[1] - a[0]) + np.prod(b[1] - b[0]) - common
        if whole > 0 and common / whole > most:
            best, most = part, common / whole
    return best


def same_faces(a: Mesh, b: Mesh) -> bool:
    """Whether two meshes have the same vertices in the same faces, wherever they lie."""
    return a.vertex_count == b.vertex_count and np.array_equal(a.corners, b.corners) and np.array_equal(a.starts, b.starts)


def with_our_faces(ours: Mesh, theirs: Mesh) -> Mesh | None:
    """Our mesh with the places of one whose faces were cut into triangles and whose vertices were split at seams on the way, the
    split ones standing after the others; None where it is no such mesh."""
    count = ours.vertex_count
    if theirs.vertex_count < count or ours.face_count == 0:
        return None
    group = np.arange(theirs.vertex_count)
    if theirs.vertex_count > count:
        near = cKDTree(theirs.points[:count])
        gaps, first = near.query(theirs.points[count:])
        if np.max(gaps) > MOVED * diagonal(theirs.points):
            return None
        group[count:] = first
    cut = (_triangles(triangulate(ours).vertices, count), _triangles(group[triangulate(theirs).vertices], count))
    if len(cut[0]) != len(cut[1]):
        return None
    common = np.isin(cut[1], cut[0]).mean() if len(cut[1]) else 0.0
    if common < SAME_FACES:
        # Whichever diagonal a face was cut along, its corners are neighbours in both.
        edges = [_edges(m, g, count) for m, g in ((ours, np.arange(count)), (theirs, group))]
        if not len(edges[0]) or np.isin(edges[0], edges[1]).mean() < SAME_FACES:
            return None
    return with_points(ours, theirs.points[:count].copy())


def _triangles(vertices: IntArray, count: int) -> IntArray:
    """Triangles (t, 3) as single numbers, whatever corner they begin at."""
    a, b, c = np.sort(vertices.astype(np.int64), axis=1).T
    return np.asarray((a * count + b) * count + c)


def _edges(mesh: Mesh, group: IntArray, count: int) -> IntArray:
    """Edges of faces as single numbers."""
    following = np.arange(len(mesh.corners)) + 1
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    a, b = np.sort(np.stack([group[mesh.corners], group[mesh.corners[following]]]).astype(np.int64), axis=0)
    return np.unique(a * count + b)


@dataclass(frozen=True, slots=True)
class Row:
    """kind : part, gone or clip. name : in the file, or ours of what is gone. said : what becomes of it."""

    kind: str
    name: str
    said: str


def foretold(document: Document, arrived: Arrived, taking: Taking) -> list[Row]:
    """What taking a file in would do, line by line, without doing it."""
    character = document.require_character()
    frame = np.array(taking.frame).reshape(4, 4)
    rows = []
    for part, mine in zip(arrived.parts, taking.onto, strict=True):
        if mine is None:
            rows.append(Row("part", part.name, "left"))
        elif not mine:
            rows.append(Row("part", part.name, f"new, {counted(part.mesh.vertex_count, 'vertex', 'vertices')}, not bound yet"))
        else:
            rows.append(Row("part", part.name, _change(character, character.part(mine), moved_mesh(part.mesh, frame))))
    met = set(taking.onto)
    for part in character.parts:
        if arrived.parts and part.id not in met and part.included:
            rows.append(Row("gone", part.name, "not in the file; stays" if part.id in taking.stay else "not in the file; goes, its weights with it"))
    ours = {c.name: c for c in character.clips}
    for clip, way in zip(arrived.clips, taking.clips, strict=True):
        said = way.value
        if clip.name in ours:
            gap, time = clip_gap(character, ours[clip.name], clip)
            far = f"differs by up to {1000 * gap:.1f} mm at {time:.2f} s" if gap > PLAYED * character.height else "as it went"
            said = far if way is ClipWay.LEAVE and far == "as it went" else f"{far}; {said}"
        rows.append(Row("clip", clip.name, said))
    return rows


def _change(character: Character, before: Part, mesh: Mesh) -> str:
    mesh = with_our_faces(before.mesh, mesh) or mesh if not same_faces(before.mesh, mesh) else mesh
    if same_faces(before.mesh, mesh):
        gap = np.linalg.norm(before.mesh.points - mesh.points, axis=1).max(initial=0.0)
        return f"the same faces, moved by up to {1000 * gap:.1f} mm" if gap > MOVED * character.height else "the same"
    far = far_from(before.mesh, mesh)
    said = f"{mesh.vertex_count} vertices for {before.mesh.vertex_count}"
    bound = character.skin is not None and before.id in character.skin.weights
    said += "; weights read from the nearest surface" if bound else "; not bound"
    return said + (f", {counted(far, 'vertex lies', 'vertices lie')} far from it" if far else "")


def take_in(document: Document, arrived: Arrived, taking: Taking | None = None, *, progress: Progress = silent) -> tuple[Document, tuple[str, ...]]:
    """Take a revised file in: pegs, joints, weights, controls, keys and what was changed by hand stay. The same faces: everything
    stays; others: weights, morph targets and kept selections are read from the nearest place of the old surface.

    Returns the document and a report, one line a part and clip. Raises EditError where nothing is taken.
    """
    taking = propose(document, arrived) if taking is None else taking
    rows = foretold(document, arrived, taking)
    report = [f"{row.name}: {row.said}" for row in rows]
    if arrived.parts and any(mine is not None for mine in taking.onto):
        progress(0.2, "reading weights from the nearest surface")
        document = _meshes(document, arrived, taking)
    elif not any(way is not ClipWay.LEAVE for way in taking.clips):
        raise EditError(f"nothing of {arrived.name} is taken" if not report else f"nothing of {arrived.name} differs: {'; '.join(report[:3])}")
    count = max(len(arrived.clips), 1)
    for number, (clip, way) in enumerate(zip(arrived.clips, taking.clips, strict=True)):
        one = part_of(progress, 0.4 + 0.6 * number / count, 0.4 + 0.6 * (number + 1) / count)
        one(0.0, clip.name)
        there = next((c for c in document.require_character().clips if c.name == clip.name), None)
        if way is ClipWay.LEAVE:
            continue
        if way is ClipWay.ADD or there is None:
            document, _ = bring_motion(document, (clip,))
        elif way is ClipWay.REPLACE:
            document = with_clip(document, replace(there, tracks=clip.tracks, length=clip.length, rate=clip.rate, curves=MappingProxyType({}), layers=(), borrowed=None, gait=None))
        else:
            try:
                document, _, _ = come_back(document, there.id, clip, name=f"from {arrived.name}"[:60], progress=one)
            except EditError as error:  # what a file's rate and precision do to it is no change
                report = [line if not line.startswith(f"{clip.name}: ") else str(error) for line in report]
    return document, (*report, *arrived.notes)


def _in_place(part: Part, matrix: FloatArray) -> Part:
    morphs = tuple(replace(m, deltas=owned_floats(m.deltas @ matrix[:3, :3].T)) for m in part.morphs)
    return replace(part, mesh=moved_mesh(part.mesh, matrix), morphs=morphs)


def _meshes(document: Document, arrived: Arrived, taking: Taking) -> Document:
    character = document.require_character()
    matrix = np.array(taking.frame).reshape(4, 4)
    offset = len(character.materials)
    by_id: dict[str, Part] = {}
    new: list[Part] = []
    own_slots = {p.id for p in character.parts}
    """Parts whose faces still say which of our materials is theirs."""
    for part, mine in zip(arrived.parts, taking.onto, strict=True):
        if mine is None:
            continue
        placed = _in_place(part, matrix)
        if mine:
            old = character.part(mine)
            whole = None if same_faces(old.mesh, placed.mesh) else with_our_faces(old.mesh, placed.mesh)
            if whole is not None:
                by_id[mine] = replace(old, mesh=whole, morphs=_cut_to(placed.morphs, whole.vertex_count) or old.morphs)
                own_slots.add(mine)
                continue
            by_id[mine] = _revised(old, placed, looks=taking.looks and bool(arrived.materials))
            own_slots.discard(mine)
        else:
            new.append(placed)
    gone = {p.id for p in character.parts if p.id not in by_id and p.id not in taking.stay}
    remade = [(p, by_id[p.id]) for p in character.parts if p.id in by_id and not same_faces(p.mesh, by_id[p.id].mesh)]
    character = without(character, gone)
    for before, after in remade:
        character = _carried(character, before, after.mesh)
    stays = [p for p in character.parts if p.id not in gone]
    character, ids = fresh_ids(character, "part", {p.id for p in character.parts}, len(new), first=0)
    taken = {by_id[p.id].name if p.id in by_id else p.name for p in stays}
    named = []
    for part, part_id in zip(new, ids, strict=True):
        name, number = part.name, 2
        while name in taken:
            name, number = f"{part.name} {number}", number + 1
        taken.add(name)
        named.append(replace(part, id=part_id, name=name, detail=part.detail or detail_told(part.name)))
    parts = [by_id.get(p.id, p) for p in stays]
    materials, images = character.materials, character.images
    if taking.looks and arrived.materials:
        # Those that keep their faces' materials find them by name among the file's, else behind them.
        known = {m.name: k for k, m in enumerate(arrived.materials)}
        to = np.array([known.get(m.name, len(arrived.materials) + k) for k, m in enumerate(materials)], dtype=int)
        parts = [replace(p, mesh=_with_slots(p.mesh, to[p.mesh.materials])) if p.id in own_slots else p for p in parts]
        used = any(int(to[p.mesh.materials].max(initial=0)) >= len(arrived.materials) for p in stays if p.id in own_slots)
        materials = (*arrived.materials, *(materials if used else ()))
        fresh = {i.name for i in arrived.images}
        images = (*arrived.images, *(i for i in images if i.name not in fresh and used))
    elif new and arrived.materials:
        named = [replace(p, mesh=_with_slots(p.mesh, p.mesh.materials + offset)) for p in named]
        materials, images = (*materials, *arrived.materials), (*images, *(i for i in arrived.images if i.name not in {x.name for x in images}))
    return document.with_character(replace(character, parts=(*parts, *named), materials=materials, images=images))


def _cut_to(morphs: tuple[Morph, ...], count: int) -> tuple[Morph, ...]:
    return tuple(replace(m, deltas=owned_floats(m.deltas[:count])) for m in morphs)


def _with_slots(mesh: Mesh, slots: IntArray) -> Mesh:
    slots = slots.astype(mesh.materials.dtype)
    slots.setflags(write=False)
    return replace(mesh, materials=slots)


def _revised(before: Part, placed: Part, *, looks: bool) -> Part:
    """A part of ours with the mesh of the file; what a person said of it stays."""
    mesh = placed.mesh
    if not looks:
        same = mesh.face_count == before.mesh.face_count
        most = int(np.bincount(before.mesh.materials).argmax()) if before.mesh.face_count else 0
        mesh = _with_slots(mesh, before.mesh.materials.copy() if same else np.full(mesh.face_count, most))
    morphs = placed.morphs
    if not morphs and before.morphs:
        carry = None if same_faces(before.mesh, mesh) else nearest_rows(before.mesh, mesh)
        morphs = before.morphs if carry is None else tuple(Morph(m.name, owned_floats(carry @ m.deltas), m.at_rest) for m in before.morphs)
    return replace(before, mesh=mesh, morphs=morphs)


def _carried(character: Character, before: Part, mesh: Mesh) -> Character:
    """Weights, weaves and kept selections of a part, read from the nearest place of its old surface."""
    carry = nearest_rows(before.mesh, mesh)
    character = each_skin(character, partial(carried_skin, before.id, carry))
    sets = {n: carried_set(chosen, before.id, {before.id: carry}) for n, chosen in character.vertex_sets.items()}
    return replace(character, vertex_sets=MappingProxyType(sets))


__all__ = ["Arrived", "ClipWay", "Row", "Taking", "clip_gap", "foretold", "propose", "take_in"]
