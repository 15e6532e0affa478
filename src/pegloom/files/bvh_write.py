"""Motion of a character as BVH: its hierarchy, and every frame of a clip.

At rest a joint's axes are the world's, so turns are told from the rest, about the world's axes: Z, then X, then Y, as most
readers expect. Lengths are metres. A joint that leaves its place in its parent has channels for that as well.
"""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.retarget.source import worlds_of
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.baking import baked_clip
from pegloom.document.model import Character
from pegloom.files.names import Unique
from pegloom.files.outgoing import write_bytes

MOVES_OF_SIZE = 1e-6
"""Share of the skeleton's size a joint strays from its place in its parent before that is told."""
TURNS, MOVES = ("Zrotation", "Xrotation", "Yrotation"), ("Xposition", "Yposition", "Zposition")


def write_bvh(path: Path, character: Character, clip: Clip) -> list[str]:
    """Write a clip of a character. Returns notes on what BVH cannot hold. Raises MeshFileError where nothing moves."""
    skeleton = character.require_skeleton()
    told = baked_clip(character, clip)
    if not told.tracks:
        raise MeshFileError(path.name, f"{clip.name} moves no joint", hint="choose a clip with motion")
    times = np.arange(max(round(clip.length * clip.rate), 0) + 1) / clip.rate
    worlds = worlds_of(Source("", clip.name, skeleton, told), times)
    text, scaled = _text(skeleton, worlds, 1.0 / clip.rate)
    write_bytes(path, text.encode())
    notes = [f"BVH holds no scale: {', '.join(scaled[:4])} keep their size"] if scaled else []
    if told.morphs:
        notes.append("BVH holds no weights of morph targets")
    return notes


def _text(skeleton: Skeleton, worlds: FloatArray, step: float) -> tuple[str, list[str]]:
    lengths = np.linalg.norm(worlds[..., :3, :3], axis=-2)
    scaled = [j.name for k, j in enumerate(skeleton.joints) if np.abs(lengths[:, k] - 1.0).max(initial=0.0) > 1e-3]
    # How each joint has turned from rest, about the world's axes.
    turned = (worlds[..., :3, :3] / lengths[..., None, :]) @ np.swapaxes(skeleton.world[:, :3, :3], -1, -2)
    places = worlds[..., :3, 3]
    size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-9)
    offsets = skeleton.positions.copy()
    local_turns, local_places = turned.copy(), places.copy()
    for j, parent in enumerate(skeleton.parents.tolist()):
        if parent >= 0:
            offsets[j] = skeleton.positions[j] - skeleton.positions[parent]
            back = np.swapaxes(turned[:, parent], -1, -2)
            local_turns[:, j] = back @ turned[:, j]
            local_places[:, j] = np.einsum("kab,kb->ka", back, places[:, j] - places[:, parent])
    moves = [parent < 0 or bool(np.abs(local_places[:, j] - offsets[j]).max(initial=0.0) > MOVES_OF_SIZE * size) for j, parent in enumerate(skeleton.parents.tolist())]
    out, order = io.StringIO(), []
    out.write("HIERARCHY\n")
    names = Unique("_")
    below: dict[int, list[int]] = {}
    for j, parent in enumerate(skeleton.parents.tolist()):
        below.setdefault(parent, []).append(j)
    # A list, not recursion: chains may be longer than Python is deep.
    waiting: list[tuple[int, int, bool]] = [(j, 0, True) for j in reversed(below.get(-1, []))]
    while waiting:
        j, depth, opens = waiting.pop()
        tab = "\t" * depth
        if not opens:
            out.write(f"{tab}}}\n")
            continue
        joint = skeleton.joints[j]
        order.append(j)
        name = names(re.sub(r"[\s{}]+", "_", joint.name) or "joint")
        channels = (*(MOVES if moves[j] else ()), *TURNS)
        out.write(f"{tab}{'ROOT' if skeleton.parents[j] < 0 else 'JOINT'} {name}\n{tab}{{\n{tab}\tOFFSET {_row(offsets[j])}\n")
        out.write(f"{tab}\tCHANNELS {len(channels)} {' '.join(channels)}\n")
        waiting.append((j, depth, False))
        if j in below:
            waiting.extend((child, depth + 1, True) for child in reversed(below[j]))
        else:
            tail = transform_points(np.eye(4), np.array(joint.tail)) - skeleton.positions[j] if joint.tail is not None else np.zeros(3)
            out.write(f"{tab}\tEnd Site\n{tab}\t{{\n{tab}\t\tOFFSET {_row(tail)}\n{tab}\t}}\n")
    frames = len(worlds)
    angles = Rotation.from_matrix(local_turns.reshape(-1, 3, 3)).as_euler("ZXY", degrees=True).reshape(frames, -1, 3)
    out.write(f"MOTION\nFrames: {frames}\nFrame Time: {step:.9g}\n")
    columns = [piece for j in order for piece in ((local_places[:, j], angles[:, j]) if moves[j] else (angles[:, j],))]
    np.savetxt(out, np.concatenate(columns, axis=1), fmt="%.7g")
    return out.getvalue(), scaled


def _row(values: FloatArray) -> str:
    return " ".join(f"{v:.7g}" for v in values)
