"""Motion of the same skeleton brought in from a file: BVH, or the clips of a GLB."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import numpy as np

from pegloom.core.arrays import frozen
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.retell import carried_clip
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, Vector, side_of_name
from pegloom.files.allowance import allowed
from pegloom.files.bvh import BvhMotion, parse_bvh, read_bvh
from pegloom.files.gltf import read_gltf
from pegloom.files.imported import Imported
from pegloom.files.names import Unique
from pegloom.files.raw import checked_size, read_bytes
from pegloom.files.reading import read_mesh
from pegloom.files.soundness import clip as sound_clip
from pegloom.files.soundness import joints, sound

MOTION_FILES = (".bvh", ".glb", ".gltf", ".usd", ".usda", ".usdc", ".usdz")
LEAST_MATCHED = 0.3
"""Share of the file's joints that must be known by name, or it is another skeleton's motion."""


def read_motion(path: Path, skeleton: Skeleton) -> tuple[tuple[Clip, ...], tuple[str, ...]]:
    """Clips of a file told on a skeleton, joints matched by name; and notes on what did not match.

    A file whose skeleton is another size is scaled. Raises MeshFileError for a broken file, one without motion, or
    one that moves another skeleton.
    """
    suffix = path.suffix.lower()
    if suffix == ".bvh":
        motion = read_bvh(path)
        theirs, clip = _of_bvh(motion, path.stem)
        return _onto(path.name, theirs, (clip,), skeleton)
    if suffix in (".glb", ".gltf"):
        with allowed(path.name, checked_size(path)):
            return clips_onto(path.name, sound(read_gltf(path), path.name), skeleton)
    if suffix in MOTION_FILES:
        return clips_onto(path.name, read_mesh(path, motion=True), skeleton)
    raise MeshFileError(path.name, "is no motion this program reads", hint="use BVH, GLB, glTF or USD")


def clips_onto(name: str, imported: Imported, skeleton: Skeleton) -> tuple[tuple[Clip, ...], tuple[str, ...]]:
    """What `read_motion` gives, of a file that is read already. name : of the file."""
    clips = tuple(c for c in imported.clips if c.tracks)
    if imported.skeleton is None or not clips:
        raise MeshFileError(name, "holds no motion of joints", hint="choose a file with a clip")
    return _onto(name, imported.skeleton, clips, skeleton)


def _onto(name: str, theirs: Skeleton, clips: tuple[Clip, ...], skeleton: Skeleton) -> tuple[tuple[Clip, ...], tuple[str, ...]]:
    known = {_plain(j.name): j.id for j in skeleton.joints}
    names = {j.id: known.get(_plain(j.name)) for j in theirs.joints}
    matched = {k: v for k, v in names.items() if v is not None}
    if len(matched) < max(LEAST_MATCHED * len(theirs.joints), 1):
        raise MeshFileError(
            name, f"moves another skeleton: {len(matched)} of its {len(theirs.joints)} joints are known by name",
            hint="motion of another skeleton is for Motion, not for a trial",
        )  # fmt: skip
    scale = _scale(theirs, skeleton, matched)
    renamed, ids = _renamed(theirs, matched, scale)
    result = tuple(carried_clip(_scaled(clip, ids, scale), renamed, skeleton) for clip in clips)
    lost = [j.name for j in theirs.joints if names[j.id] is None]
    notes = (f"{counted(len(lost), 'joint')} of the file {'is' if len(lost) == 1 else 'are'} not here: {', '.join(lost[:4])}",) if lost else ()
    return result, notes


def read_sources(path: Path) -> tuple[tuple[Source, ...], tuple[str, ...]]:
    """Motion of any body, one source a clip, with the skeleton as the file has it; and what is to be said of it.

    BVH, GLB, glTF, USD. Raises MeshFileError for a broken file, or one without motion of joints.
    """
    suffix = path.suffix.lower()
    if suffix == ".bvh":
        return (bvh_source(path.name, read_bytes(path)),), ()
    if suffix not in MOTION_FILES:
        raise MeshFileError(path.name, "is no motion this program reads", hint="use BVH, GLB, glTF or USD")
    imported = read_mesh(path, motion=True)
    clips = tuple(c for c in imported.clips if c.tracks)
    if imported.skeleton is None or not clips:
        raise MeshFileError(path.name, "holds no motion of joints", hint="choose a file with a clip")
    return tuple(Source("", c.name, imported.skeleton, _rated(c), path.name) for c in clips), imported.notes


def bvh_source(name: str, data: bytes) -> Source:
    """The source in a BVH file's bytes. name : of the file. Raises MeshFileError."""
    stem = Path(name).stem
    skeleton, clip = _of_bvh(parse_bvh(name, data), stem)
    try:
        return Source("", stem, joints(skeleton), sound_clip(clip), name)
    except ShapeError as error:
        raise MeshFileError(name, str(error), hint="write the motion again") from error


def _rated(clip: Clip) -> Clip:
    """The clip with the rate its samples have, where they are even."""
    longest = max((t.times for rows in clip.tracks.values() for t in rows), key=len)
    steps = np.diff(longest)
    if len(steps) < 2 or steps.min() < 0.98 * steps.max():
        return clip
    rate = 1.0 / float(np.median(steps))
    return replace(clip, rate=round(rate, 3) if abs(rate - round(rate)) > 0.02 else float(round(rate)))


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]", "", name.rsplit(":", 1)[-1].lower())


def _of_bvh(motion: BvhMotion, name: str) -> tuple[Skeleton, Clip]:
    worlds: list[np.ndarray] = []
    joints, tracks, names = [], {}, Unique()
    rate = 1.0 / motion.step
    # A file writes 0.033333 and means a thirtieth.
    rate = float(round(rate)) if abs(rate - round(rate)) < 0.02 * (1.0 if rate > 10.0 else 0.1) else rate
    times = frozen(np.arange(len(motion.turns)) / rate)
    for i, joint in enumerate(motion.joints):
        place = joint.offset + (worlds[joint.parent] if joint.parent >= 0 else 0.0)
        worlds.append(place)
        joint_id = f"bvh.{i}"
        parent = f"bvh.{joint.parent}" if joint.parent >= 0 else None
        x, y, z = (float(v) for v in place)
        tail: Vector | None = None
        if joint.tail is not None and np.abs(joint.tail).max() > 0:
            tail = (x + float(joint.tail[0]), y + float(joint.tail[1]), z + float(joint.tail[2]))
        name_here = names(joint.name or joint_id)
        joints.append(Joint(joint_id, name_here, parent, side_of_name(name_here), (x, y, z), origin=Origin.FILE, tail=tail))
        tracks[joint_id] = (
            Track("translation", times, frozen(np.ascontiguousarray(motion.moves[:, i]))),
            Track("rotation", times, frozen(np.ascontiguousarray(motion.turns[:, i]))),
        )
    length = max(float(times[-1]), 1.0 / rate)
    clip = Clip(
        f"motion.{name}", name, rate=round(rate, 3), length=length, tracks=joint_tracks(tracks)
    )
    return Skeleton(tuple(joints)), clip


def _scale(theirs: Skeleton, ours: Skeleton, matched: dict[str, str]) -> float:
    a = np.array([theirs.joint(k).position for k in matched])
    b = np.array([ours.joint(v).position for v in matched.values()])
    spread = float(np.linalg.norm(a - a.mean(axis=0)))
    if spread < 1e-12:
        return 1.0
    scale = float(np.linalg.norm(b - b.mean(axis=0))) / spread
    return 1.0 if abs(scale - 1.0) < 0.02 else scale


def _renamed(theirs: Skeleton, matched: dict[str, str], scale: float) -> tuple[Skeleton, dict[str, str]]:
    """The file's skeleton under our ids, scaled; what is unknown keeps an id of its own."""
    ids: dict[str, str] = {}
    for joint in theirs.joints:
        wanted = matched.get(joint.id, f"theirs.{joint.id}")
        ids[joint.id] = wanted if wanted not in ids.values() else f"theirs.{joint.id}"
    joints = []
    for joint in theirs.joints:
        x, y, z = (float(scale * v) for v in joint.position)
        parent = ids[joint.parent] if joint.parent is not None else None
        joints.append(replace(joint, id=ids[joint.id], parent=parent, position=(x, y, z), tail=None))
    return Skeleton(tuple(joints)), ids


def _scaled(clip: Clip, ids: dict[str, str], scale: float) -> Clip:
    tracks = {}
    for joint_id, rows in clip.tracks.items():
        tracks[ids.get(joint_id, joint_id)] = tuple(
            replace(t, values=frozen(t.values * scale)) if t.path == "translation" else t for t in rows
        )
    return replace(clip, tracks=joint_tracks(tracks))
