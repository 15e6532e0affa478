"""What every reader's result goes through: numbers finite and in their range, indices in their lists, names once.

What can be mended without loss is, with a line; anything else is one error that names the place.
"""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import MeshFileError, ShapeError, one_line
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.tracks import PATHS, JointTracks
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, row_sums_hold
from pegloom.core.tolerances import FARTHEST
from pegloom.document.model import Material, Morph, Part
from pegloom.files.allowance import MOST_JOINTS, MOST_PARTS, count
from pegloom.files.imported import Imported
from pegloom.files.names import Unique

LONGEST_NAME = 200
"""Characters of a name; what runs on for pages is cut."""
LARGEST_UV = 1e6
FASTEST = 1000.0
"""Frames a second."""
LONGEST_CLIP = 86_400.0
"""Seconds: a day."""
MOST_LEVELS = 3
"""Subdivision levels: each is four times the faces."""


def sound(imported: Imported, file: str) -> Imported:
    """The same, checked and mended. Raises MeshFileError for what cannot be mended."""
    count(len(imported.parts), MOST_PARTS, "parts")
    if imported.skeleton is not None:
        count(len(imported.skeleton.joints), MOST_JOINTS, "joints")
    notes: list[str] = []
    names = Unique()
    materials = tuple(material(m, notes) for m in imported.materials)
    try:
        parts = tuple(
            part(replace(p, name=names(plain(p.name, "part"))), len(materials), notes) for p in imported.parts
        )
        skeleton = None if imported.skeleton is None else joints(imported.skeleton)
        clip_names = Unique()
        clips = tuple(clip(replace(c, name=clip_names(plain(c.name, "clip")))) for c in imported.clips)
        for part_id, part_weights in (imported.weights or {}).items():
            weights(part_weights, next(p.mesh for p in parts if p.id == part_id))
    except ShapeError as error:
        raise MeshFileError(file, str(error), hint="export it again") from error
    return replace(
        imported, parts=parts, materials=materials, skeleton=skeleton, clips=clips, notes=(*imported.notes, *notes)
    )


def plain(name: str, fallback: str) -> str:
    """A name as one line of at most LONGEST_NAME characters."""
    return one_line(name).strip()[:LONGEST_NAME] or fallback


def material(result: Material, notes: list[str]) -> Material:
    """Numbers between 0 and 1; what is no number takes its usual value."""
    usual = Material(result.name)
    more = (result.occlusion, *result.emissive, 0.5 if result.cutoff is None else result.cutoff)
    numbers = (*result.base_colour, result.metallic, result.roughness, *more)
    fallback = (*usual.base_colour, usual.metallic, usual.roughness, usual.occlusion, *usual.emissive, 0.5)
    in_range = [float(min(max(v, 0.0), 1.0)) if np.isfinite(v) else f for v, f in zip(numbers, fallback, strict=True)]
    name = plain(result.name, "material")
    if tuple(in_range) != tuple(numbers):
        notes.append(f"material {name}: numbers outside 0 to 1 brought back into it")
    r, g, b, a, metallic, roughness, occlusion, x, y, z, cutoff = in_range
    placings = {w: p for w, p in result.placings.items() if np.isfinite([*p.offset, p.rotation, *p.scale]).all()}
    scale = result.normal_scale if np.isfinite(result.normal_scale) else 1.0
    whole = len(placings) == len(result.placings) and scale == result.normal_scale
    if name == result.name and tuple(in_range) == tuple(numbers) and whole:
        return result
    if not whole:
        notes.append(f"material {name}: how its pictures lie is told by no usable number; left as is usual")
    return replace(
        result, name=name, base_colour=(r, g, b, a), metallic=metallic, roughness=roughness, occlusion=occlusion,
        emissive=(x, y, z), cutoff=None if result.cutoff is None else cutoff, normal_scale=scale,
        placings=MappingProxyType(placings),
    )  # fmt: skip


def part(result: Part, slots: int, notes: list[str]) -> Part:
    """Faces within the materials there are, UVs and normals of a usable size, morph targets of finite numbers."""
    mesh = result.mesh
    if mesh.uvs is not None and largest(mesh.uvs) > LARGEST_UV:
        notes.append(f"{result.name}: UVs beyond {LARGEST_UV:.0e} cut to it")
        mesh = replace(mesh, uvs=frozen(np.clip(mesh.uvs, -LARGEST_UV, LARGEST_UV)))
    if any(largest(values) > LARGEST_UV for values in mesh.layers.values()):
        notes.append(f"{result.name}: second UVs or vertex colours beyond {LARGEST_UV:.0e} cut to it")
        cut = {name: frozen(np.clip(np.nan_to_num(v), -LARGEST_UV, LARGEST_UV)) for name, v in mesh.layers.items()}
        mesh = replace(mesh, layers=MappingProxyType(cut))
    if len(mesh.materials) and not 0 <= mesh.materials.min() <= mesh.materials.max() < slots:
        notes.append(f"{result.name}: faces of materials that are not there took the last one")
        wrong = (mesh.materials < 0) | (mesh.materials >= slots)
        mesh = replace(mesh, materials=frozen(np.where(wrong, slots - 1, mesh.materials)))
    names = Unique()
    morphs = tuple(morph(m, names, mesh.vertex_count, result.name) for m in result.morphs)
    levels = min(max(int(result.levels), 1), MOST_LEVELS)
    same = all(a is b for a, b in zip(morphs, result.morphs, strict=True))
    if same and mesh is result.mesh and levels == result.levels:
        return result
    return replace(result, mesh=mesh, morphs=morphs, levels=levels)


def largest(values: FloatArray) -> float:
    """The largest number but for its sign, without a copy of them all; NaN where one is none."""
    return max(-float(values.min(initial=0.0)), float(values.max(initial=0.0)))


def morph(result: Morph, names: Unique, vertices: int, owner: str) -> Morph:
    """Raises ShapeError for deltas that are no numbers or not one for each vertex."""
    if result.deltas.shape != (vertices, 3) or not largest(result.deltas) < FARTHEST:
        raise ShapeError(f"morph target {result.name} of {owner} does not move its {vertices} vertices by usable numbers")
    rest = float(np.clip(result.at_rest, 0.0, 1.0)) if np.isfinite(result.at_rest) else 0.0
    name = names(plain(result.name, "morph"))
    return result if (name, rest) == (result.name, result.at_rest) else replace(result, name=name, at_rest=rest)


def joints(skeleton: Skeleton) -> Skeleton:
    """Unit quaternions, finite places, names once. Raises ShapeError naming the joint."""
    names = Unique()
    result = []
    for joint in skeleton.joints:
        numbers = np.array([*joint.position, *joint.rotation, *(joint.tail or ())])
        if not np.abs(numbers).max(initial=0.0) < FARTHEST:
            raise ShapeError(f"joint {joint.name} stands nowhere: its place or turn is no usable number")
        q = np.array(joint.rotation)
        length = float(np.linalg.norm(q))
        turn = joint.rotation
        if abs(length - 1.0) > 1e-6:
            turn = tuple(float(v) for v in q / length) if length > 1e-9 else (0.0, 0.0, 0.0, 1.0)  # type: ignore[assignment]
        name = names(plain(joint.name, joint.id))
        result.append(joint if (name, turn) == (joint.name, joint.rotation) else replace(joint, name=name, rotation=turn))
    return skeleton if all(a is b for a, b in zip(result, skeleton.joints, strict=True)) else Skeleton(tuple(result))


def weights(found_weights: Weights, mesh: Mesh) -> None:
    """Raises ShapeError for weights that do not fit their part, or are no weights."""
    if found_weights.vertex_count != mesh.vertex_count:
        raise ShapeError(f"weights are given for {found_weights.vertex_count} vertices of {mesh.vertex_count}")
    steps = np.diff(found_weights.indptr)
    if found_weights.indptr[0] != 0 or (steps < 0).any() or not int(found_weights.indptr[-1]) == len(found_weights.indices) == len(found_weights.values):
        raise ShapeError("rows of weights do not follow each other")
    if len(found_weights.indices) and not 0 <= found_weights.indices.min() <= found_weights.indices.max() < len(found_weights.joint_ids):
        raise ShapeError("weights name a joint that is not there")
    if not np.isfinite(found_weights.values).all() or not row_sums_hold(found_weights):
        raise ShapeError("a row of weights is no numbers, or does not add up to 1")


def clip(result: Clip) -> Clip:
    """Raises ShapeError naming the clip whose times or values are no usable numbers."""
    if not (np.isfinite(result.rate) and result.rate > 0.0 and np.isfinite(result.length) and result.length <= LONGEST_CLIP):
        raise ShapeError(f"clip {result.name} has no usable length or frame rate")
    tracks = sound_tracks(result.tracks, result.name)
    every = [*result.curves.items(), *(pair for layer in result.layers for pair in (*layer.curves.items(), ((layer.name, "amount"), layer.amount)))]
    for (control, channel), curve in every:
        if not (_rising(curve.times) and np.abs(curve.values).max() < FARTHEST):
            raise ShapeError(f"clip {result.name}: the keys of {control} {channel} are no rising times with a value each")
    rate, length = min(result.rate, FASTEST), max(result.length, 1e-3)
    if tracks is result.tracks and (rate, length) == (result.rate, result.length):
        return result
    return replace(result, rate=rate, length=length, tracks=tracks)


def sound_tracks(result: JointTracks, owner: str) -> JointTracks:
    """Raises ShapeError; turns come out at unit length."""
    turning = np.zeros(len(result.rows), dtype=bool)
    for path, first, keys, start in zip(result.path, result.first, result.count, result.starts, strict=True):
        rows = slice(start, start + keys)
        if not _rising(result.times[first : first + keys]) or not largest(result.rows[rows]) < FARTHEST:
            raise ShapeError(f"clip {owner}: a track of {PATHS[path]} is no rising times with a value each")
        turning[rows] |= PATHS[path] == "rotation"
    length = np.linalg.norm(result.rows, axis=1, keepdims=True)
    off = turning & (np.abs(length[:, 0] - 1.0) > 1e-6)
    if not off.any():
        return result
    unit = np.where(length > 1e-9, result.rows / np.maximum(length, 1e-9), [0.0, 0.0, 0.0, 1.0])
    return replace(result, rows=frozen(np.where(off[:, None], unit, result.rows)))


def _rising(times: FloatArray) -> bool:
    return bool(np.isfinite(times).all() and (np.diff(times) > 0).all() and np.abs(times).max() <= LONGEST_CLIP)


def usable(
    uvs: FloatArray | None, normals: FloatArray | None, notes: list[str], name: str
) -> tuple[FloatArray | None, FloatArray | None]:
    """UVs with what is no number at 0, normals only where all are numbers; with a line for what was wrong."""
    if uvs is not None and not np.isfinite(uvs).all():
        notes.append(f"{name}: UVs that are no numbers set to 0: {int((~np.isfinite(uvs).all(axis=1)).sum())}")
        uvs = np.where(np.isfinite(uvs), uvs, 0.0)
    if normals is not None and not np.isfinite(normals).all():
        notes.append(f"{name}: normals that are no numbers, all left out")
        normals = None
    return uvs, normals
