"""Parts for a receiver: without what is covered or stands double, joined, with fewer influences."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.covered import covered_faces
from pegloom.core.geometry.mend import drop_loose, joined, keep_faces, second_sides
from pegloom.core.geometry.mesh import Mesh, with_points
from pegloom.core.motion.clips import Clip, MorphTrack
from pegloom.core.said import counted
from pegloom.core.skin.weights import Weights, carried_over, dense, from_dense, most_influences
from pegloom.document.delivery.target import Meshes, Morphs, Target
from pegloom.document.model import Character, Material, Morph, Part, PartKind

COVER = 0.03
"""Share of the height within which another part covers skin."""


def prepared(character: Character, target: Target, notes: list[str]) -> Character:
    """A plain character's parts as a target wants them. notes : gets a line for what was done."""
    character = replace(character, parts=character.included)
    if not target.covered:
        character = _uncovered(character, notes)
    if not target.doubled:
        character = _single(character, notes)
    if target.morphs is Morphs.BAKED:
        character = _without_morphs(character, notes)
    if target.influences:
        character = _limited(character, target.influences, notes)
    if not target.materials:
        character = replace(character, materials=tuple(Material(m.name) for m in character.materials), images=())
        notes.append("materials are left to the receiver: their names alone are in the file")
    if target.meshes is not Meshes.AS_THEY_ARE:
        character = _merged(character, target.meshes is Meshes.BY_MATERIAL, notes)
    return character


def _with_vertices(character: Character, part: Part, mesh: Mesh, rows: np.ndarray) -> tuple[Part, dict[str, Weights]]:
    """A part with some of its vertices (rows) alone, and its weights."""
    morphs = tuple(Morph(m.name, frozen(m.deltas[rows]), m.at_rest) for m in part.morphs)
    own = character.skin.weights.get(part.id) if character.skin is not None else None
    weights = {} if own is None else {part.id: _rows_of(own, rows)}
    return replace(part, mesh=mesh, morphs=morphs), weights


def _rows_of(weights: Weights, rows: np.ndarray) -> Weights:
    matrix = weights.matrix()[rows]
    return Weights(weights.joint_ids, frozen(matrix.indptr.astype(np.int32)), frozen(matrix.indices.astype(np.int32)), frozen(matrix.data.astype(np.float64)))


def _thinned(character: Character, keep: Mapping[str, np.ndarray]) -> Character:
    """The character with some faces of some parts alone; what no face holds any more goes, a part of nothing too."""
    parts, weights = [], dict(character.skin.weights) if character.skin is not None else {}
    for part in character.parts:
        if part.id not in keep or keep[part.id].all():
            parts.append(part)
            continue
        mesh, carry = drop_loose(keep_faces(part.mesh, keep[part.id]))
        if not mesh.face_count:
            weights.pop(part.id, None)
            continue
        part, own = _with_vertices(character, part, mesh, carry.indices)
        weights |= own
        parts.append(part)
    skin = None if character.skin is None else replace(character.skin, weights=MappingProxyType(weights), dual=MappingProxyType({}), relax=MappingProxyType({}))
    return replace(character, parts=tuple(parts), skin=skin)


def _uncovered(character: Character, notes: list[str]) -> Character:
    keep = {}
    for part in character.parts:
        covers = [p.mesh for p in character.parts if p.id != part.id and p.kind in (PartKind.CLOTH, PartKind.HARD) and p.detail == part.detail]
        if part.kind is PartKind.SKIN and covers:
            hidden = covered_faces(part.mesh, covers, COVER * character.height)
            if hidden.any():
                keep[part.id] = ~hidden
                notes.append(f"{part.name}: {counted(int(hidden.sum()), 'covered face')} left out")
    return _thinned(character, keep) if keep else character


def _single(character: Character, notes: list[str]) -> Character:
    keep, slots = {}, set()
    for part in character.parts:
        second = second_sides(part.mesh)
        if second.any():
            keep[part.id] = ~second
            slots |= set(np.unique(part.mesh.materials[second]).tolist())
            notes.append(f"{part.name}: {counted(int(second.sum()), 'second side')} left out, its material is seen from both sides")
    if not keep:
        return character
    materials = tuple(replace(m, double_sided=True) if k in slots else m for k, m in enumerate(character.materials))
    return replace(_thinned(character, keep), materials=materials)


def _without_morphs(character: Character, notes: list[str]) -> Character:
    parts, lost = [], 0
    for part in character.parts:
        lost += len(part.morphs)
        moved = [m for m in part.morphs if m.at_rest]
        mesh = with_points(part.mesh, part.mesh.points + sum(m.at_rest * m.deltas for m in moved)) if moved else part.mesh
        parts.append(replace(part, mesh=mesh, morphs=()))
    if lost:
        notes.append(f"{counted(lost, 'morph target')} put into the mesh as at rest; what clips do with them is not in the file")
    return replace(character, parts=tuple(parts), clips=tuple(replace(c, morphs=()) for c in character.clips))


def _limited(character: Character, most: int, notes: list[str]) -> Character:
    if character.skin is None:
        return character
    weights = {}
    for part_id, own in character.skin.weights.items():
        weights[part_id] = own
        if most_influences(own) > most:
            weights[part_id] = from_dense(dense(own), own.joint_ids, influences=most)
            notes.append(f"{character.part(part_id).name}: cut to the {most} strongest influences of a vertex")
    return replace(character, skin=replace(character.skin, weights=MappingProxyType(weights), influences=most, limits=MappingProxyType({})))


def on_fewer_joints(character: Character, carriers: Mapping[str, str], joint_ids: tuple[str, ...]) -> Character:
    """Weights of joints that go, given to what carries them."""
    if character.skin is None:
        return character
    weights = {part: carried_over(own, carriers, joint_ids) for part, own in character.skin.weights.items()}
    return replace(character, skin=replace(character.skin, weights=MappingProxyType(weights)))


def _merged(character: Character, by_material: bool, notes: list[str]) -> Character:
    """Parts joined into one a material, or one in all; detail levels, and what is bound to nothing, stay apart."""
    bound = set(character.skin.weights) if character.skin is not None else set()
    groups: dict[tuple[int, bool, str, int, int], list[tuple[Part, Mesh, np.ndarray]]] = {}
    for part in character.parts:
        key = (part.detail, part.id in bound, part.smooth.name, part.levels)
        if not by_material:
            groups.setdefault((*key, -1), []).append((part, part.mesh, np.arange(part.mesh.vertex_count)))
            continue
        for slot in np.unique(part.mesh.materials).tolist():
            mesh, carry = drop_loose(keep_faces(part.mesh, part.mesh.materials == slot))
            groups.setdefault((*key, int(slot)), []).append((part, mesh, carry.indices))
    if len(groups) == len(character.parts) and all(len(some) == 1 and some[0][1].face_count == some[0][0].mesh.face_count for some in groups.values()):
        return character
    alike = _alike_morphs(character)
    parts: list[Part] = []
    weights: dict[str, Weights] = {}
    tracks: dict[str, list[MorphTrack]] = {clip.id: [] for clip in character.clips}
    taken: set[str] = set()
    for (detail, skinned, _, _, slot), some in groups.items():
        name = _name(character, some, slot, detail, taken)
        made_id = f"joined{len(parts)}"
        mesh = joined([m for _, m, _ in some])
        morphs = _joined_morphs(some, alike)
        first = some[0][0]
        kind = PartKind.SKIN if any(p.kind is PartKind.SKIN for p, _, _ in some) else first.kind
        parts.append(replace(first, id=made_id, name=name, mesh=mesh, morphs=tuple(m for m, _ in morphs), kind=kind))
        if skinned and character.skin is not None:
            weights[made_id] = _stacked([_rows_of(character.skin.weights[p.id], rows) for p, _, rows in some])
        for clip in character.clips:
            told = _joined_track(clip, name, morphs)
            if told is not None:
                tracks[clip.id].append(told)
    notes.append(f"{counted(len(character.parts), 'part')} joined into {counted(len(parts), 'mesh')[:-1] + 'es' if len(parts) != 1 else '1 mesh'}")
    skin = None if character.skin is None else replace(character.skin, weights=MappingProxyType(weights), dual=MappingProxyType({}), relax=MappingProxyType({}), limits=MappingProxyType({}))
    clips = tuple(replace(c, morphs=tuple(tracks[c.id])) for c in character.clips)
    return replace(character, parts=tuple(parts), skin=skin, clips=clips)


def _name(character: Character, some: list[tuple[Part, Mesh, np.ndarray]], slot: int, detail: int, taken: set[str]) -> str:
    if slot >= 0:
        name = character.materials[slot].name if slot < len(character.materials) else "surface"
    else:
        name = some[0][0].name if len(some) == 1 else "body"
    if detail:
        name = f"{name}_{detail}"
    number, plain = 1, name
    while name in taken:
        number += 1
        name = f"{plain}_{number}"
    taken.add(name)
    return name


def _alike_morphs(character: Character) -> set[str]:
    """Names of morph targets that rest alike and move alike on every part that has them."""
    rests: dict[str, set[float]] = {}
    for part in character.parts:
        for morph in part.morphs:
            rests.setdefault(morph.name, set()).add(morph.at_rest)
    alike = {name for name, values in rests.items() if len(values) == 1}
    for clip in character.clips:
        told: dict[str, list[tuple[FloatArray, FloatArray, bool]]] = {}
        having = {name: sum(any(m.name == name for m in p.morphs) for p in character.parts) for name in alike}
        for track in clip.morphs:
            for k, name in enumerate(track.names):
                told.setdefault(name, []).append((track.times, track.weights[:, k], track.step))
        for name, some in told.items():
            same = len(some) == having.get(name, 0) and all(
                s[2] == some[0][2] and np.array_equal(s[0], some[0][0]) and np.allclose(s[1], some[0][1], atol=1e-9) for s in some[1:]
            )
            if not same:
                alike.discard(name)
    return alike


def _joined_morphs(some: list[tuple[Part, Mesh, np.ndarray]], alike: set[str]) -> list[tuple[Morph, list[tuple[str, str]]]]:
    """Targets of a joined mesh, and of which parts' targets (part, name) each is made."""
    sizes = [len(rows) for _, _, rows in some]
    offsets = np.cumsum([0, *sizes])
    made: dict[str, tuple[FloatArray, float, list[tuple[str, str]]]] = {}
    for (part, _, rows), start in zip(some, offsets[:-1], strict=True):
        for morph in part.morphs:
            name = morph.name if morph.name in alike or len({p.id for p, _, _ in some}) == 1 else f"{part.name}_{morph.name}"
            deltas, _, sources = made.setdefault(name, (np.zeros((int(offsets[-1]), 3)), morph.at_rest, []))
            deltas[start : start + len(rows)] = morph.deltas[rows]
            sources.append((part.name, morph.name))
    return [(Morph(name, frozen(deltas), rest), sources) for name, (deltas, rest, sources) in made.items()]


def _joined_track(clip: Clip, name: str, morphs: list[tuple[Morph, list[tuple[str, str]]]]) -> MorphTrack | None:
    told = {(t.part, n): (t.times, t.weights[:, k], t.step) for t in clip.morphs for k, n in enumerate(t.names)}
    moved = [told.get(sources[0]) for _, sources in morphs]
    if not any(moved):
        return None
    times = np.unique(np.concatenate([m[0] for m in moved if m is not None]))
    columns = []
    for (morph, _), one in zip(morphs, moved, strict=True):
        if one is None:
            columns.append(np.full(len(times), morph.at_rest))
        elif one[2]:
            columns.append(one[1][np.maximum(np.searchsorted(one[0], times + 1e-9, side="right") - 1, 0)])
        else:
            columns.append(np.interp(times, one[0], one[1]))
    step = all(one is None or one[2] for one in moved)
    return MorphTrack(name, tuple(m.name for m, _ in morphs), frozen(times), frozen(np.stack(columns, axis=1)), step)


def _stacked(some: list[Weights]) -> Weights:
    """Weights of several meshes one under the other, over the joints of all."""
    from scipy import sparse

    ids = tuple(dict.fromkeys(j for w in some for j in w.joint_ids))
    matrix = sparse.csr_matrix(sparse.vstack([carried_over(w, {}, ids).matrix() for w in some]))
    return Weights(ids, frozen(matrix.indptr.astype(np.int32)), frozen(matrix.indices.astype(np.int32)), frozen(matrix.data.astype(np.float64)))
