"""A plain character in another unit and other axes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.mesh import with_points
from pegloom.core.geometry.transforms import matrix_quaternion, quaternion_product
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.skeleton.joints import Joint, Skeleton, Vector
from pegloom.document.model import Character, Morph, Part


def in_space(character: Character, turn: FloatArray, scale: float) -> Character:
    """The character turned (3, 3) and scaled. It is plain: its clips are sampled, it has no rig."""
    if np.allclose(turn, np.eye(3)) and scale == 1.0:
        return character

    def place(v: Vector) -> Vector:
        x, y, z = (scale * (turn @ np.array(v))).tolist()
        return (x, y, z)

    def part(one: Part) -> Part:
        normals = None if one.mesh.normals is None else frozen(one.mesh.normals @ turn.T)
        mesh = with_points(one.mesh, scale * one.mesh.points @ turn.T, normals=normals)
        return replace(one, mesh=mesh, morphs=tuple(Morph(m.name, frozen(scale * m.deltas @ turn.T), m.at_rest) for m in one.morphs))

    q = matrix_quaternion(turn)

    def joint(one: Joint) -> Joint:
        x, y, z, w = quaternion_product(q, np.array(one.rotation)).tolist()
        return replace(one, position=place(one.position), rotation=(x, y, z, w), tail=None if one.tail is None else place(one.tail))

    skeleton = character.skeleton
    roots = {j.id for j in skeleton.joints if j.parent is None} if skeleton is not None else set()
    return replace(
        character, parts=tuple(part(p) for p in character.parts), clips=tuple(_clip(c, roots, turn, q, scale) for c in character.clips),
        skeleton=None if skeleton is None else Skeleton(tuple(joint(j) for j in skeleton.joints)),
    )  # fmt: skip


def _clip(clip: Clip, roots: set[str], turn: FloatArray, q: FloatArray, scale: float) -> Clip:
    told: dict[str, tuple[Track, ...]] = {}
    for joint, tracks in clip.tracks.items():
        made = []
        for track in tracks:
            values = track.values
            if track.path == "translation":
                values = scale * (values @ turn.T if joint in roots else values)
            elif track.path == "rotation" and joint in roots:
                values = np.stack([quaternion_product(q, row) for row in values])
            made.append(Track(track.path, track.times, frozen(values), track.step))
        told[joint] = tuple(made)
    kept: Mapping[str, tuple[Track, ...]] = MappingProxyType(told)
    return replace(clip, tracks=joint_tracks(kept)) if clip.tracks else clip
