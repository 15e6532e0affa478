"""glTF skins and animations, read: joints, weights, clips. See gltf.py for the specification."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.transforms import compose, composed, decompose, decomposed, matrix_quaternion
from pegloom.core.motion.clips import Clip, MorphTrack
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, side_of_name
from pegloom.core.skin.weights import Weights, from_entries
from pegloom.core.tolerances import FARTHEST
from pegloom.files.allowance import MOST_JOINTS, take
from pegloom.files.allowance import count as limited
from pegloom.files.names import Unique

if TYPE_CHECKING:
    from pegloom.files.gltf import GltfFile

LONGEST_CLIP = 86_400.0
"""Seconds."""
SAMPLES_A_SECOND, MOST_SAMPLES = 60.0, 20_000
"""Motion that has to be told anew is sampled as often as this, and so often at most besides its own keys."""
CUBIC_PIECES = 8
"""A CUBICSPLINE segment is read as this many straight pieces."""


@dataclass
class FileSkeleton:
    """The joints of all skins as one skeleton.

    order : node of each joint.
    settle : points of the skin to character.

    plain: the file's own local transforms can stand as they are (nothing scaled or turned above the joints).
    """

    skeleton: Skeleton
    order: list[int]
    settle: FloatArray
    plain: bool
    bind: FloatArray


def local_matrix(node: dict[str, Any]) -> FloatArray:
    """parent_from_node of a glTF node."""
    if "matrix" in node:
        return np.array(node["matrix"], dtype=np.float64).reshape(4, 4).T
    q = np.array(node.get("rotation", (0, 0, 0, 1)), dtype=np.float64)
    length = float(np.linalg.norm(q))
    q = q / length if length > 1e-9 else np.array([0.0, 0.0, 0.0, 1.0])
    return compose(node.get("translation", (0, 0, 0)), q, node.get("scale", (1, 1, 1)))


def local_matrices(nodes: list[dict[str, Any]]) -> FloatArray:
    """`local_matrix` of all nodes at once, (n, 4, 4). Raises ValueError for what is not put together right."""
    turns = np.array([n.get("rotation", (0, 0, 0, 1)) for n in nodes], dtype=np.float64).reshape(len(nodes), 4)
    length = np.linalg.norm(turns, axis=1, keepdims=True)
    turns = np.where(length > 1e-9, turns / np.maximum(length, 1e-9), [0.0, 0.0, 0.0, 1.0])
    result = composed(
        np.array([n.get("translation", (0, 0, 0)) for n in nodes], dtype=np.float64).reshape(len(nodes), 3),
        turns,
        np.array([n.get("scale", (1, 1, 1)) for n in nodes], dtype=np.float64).reshape(len(nodes), 3),
    )
    for i, node in enumerate(nodes):
        if "matrix" in node:
            result[i] = np.array(node["matrix"], dtype=np.float64).reshape(4, 4).T
    return result


def read_skeleton(file: GltfFile, worlds: FloatArray, parents: list[int]) -> FileSkeleton | None:
    """The skeleton of all skins at its stored bind, or None where the file has none."""
    skins = file.json.get("skins", [])
    inverse: dict[int, FloatArray] = {}
    for number, skin in enumerate(skins):
        where = f"skin {number}"
        joints = [int(j) for j in skin["joints"]]
        limited(len(joints), MOST_JOINTS, "joints")
        for j in joints:
            file.item("nodes", j, where)
        matrices = np.tile(np.eye(4), (len(joints), 1, 1))
        if "inverseBindMatrices" in skin:
            values = file.accessor(skin["inverseBindMatrices"], where).astype(np.float64)
            if values.shape != (len(joints), 16):
                raise file.fail(f"has {len(values)} bind matrices for {len(joints)} joints", where=where)
            matrices = values.reshape(-1, 4, 4).transpose(0, 2, 1)
        for j, matrix in zip(joints, matrices, strict=True):
            inverse.setdefault(j, matrix)
    if not inverse:
        # Motion alone has no skin to say what its joints are: what moves, and what hangs on it.
        inverse = {j: np.linalg.inv(worlds[j]) for j in _moving_nodes(file, parents) if abs(np.linalg.det(worlds[j])) > 1e-12}
        limited(len(inverse), MOST_JOINTS, "joints")
    if not inverse:
        return None
    order = _parents_first(list(inverse), parents)
    singular = [j for j in order if abs(np.linalg.det(inverse[j])) < 1e-12]
    for j in singular:
        inverse[j] = np.linalg.inv(worlds[j])
    # Where the stored bind is what the nodes show, this brings points to where the file shows them.
    settle = worlds[order[0]] @ inverse[order[0]]
    rest = np.array([settle @ np.linalg.inv(inverse[j]) for j in order])
    joint_of = {node: i for i, node in enumerate(order)}
    if not np.abs(rest).max(initial=0.0) < FARTHEST:
        raise file.fail("a joint stands nowhere: its bind matrix holds no usable numbers", where="skin")
    joints_out, unique = [], Unique()
    plain = True
    for i, node in enumerate(order):
        position, _, scale = decompose(rest[i])
        plain &= bool(np.allclose(np.abs(scale), 1.0, atol=1e-4) and np.allclose(rest[i], worlds[node], atol=1e-4))
        above = parents[node]
        while above >= 0 and above not in joint_of:
            plain &= bool(np.allclose(worlds[above], np.eye(4), atol=1e-6))
            above = parents[above]
        name = unique(str(file.json["nodes"][node].get("name") or f"joint {node}"))
        turn = matrix_quaternion(rest[i])
        joints_out.append(
            Joint(
                f"file.{node}",
                name,
                f"file.{order[joint_of[above]]}" if above >= 0 else None,
                side_of_name(name),
                tuple(float(v) for v in position),  # type: ignore[arg-type]
                tuple(float(v) for v in turn),  # type: ignore[arg-type]
                origin=Origin.FILE,
            )
        )
    return FileSkeleton(Skeleton(tuple(joints_out)), order, settle, plain, np.array([inverse[j] for j in order]))


def _moving_nodes(file: GltfFile, parents: list[int]) -> list[int]:
    """Nodes of a file without meshes that its animations move, and all below them."""
    nodes = file.json.get("nodes", [])
    if any("mesh" in node for node in nodes):
        return []
    moved = {c["target"].get("node") for a in file.json.get("animations", []) for c in a.get("channels", [])}
    found = []
    for node in range(len(nodes)):
        here = node
        while here >= 0 and here not in moved:
            here = parents[here]
        if here >= 0:
            found.append(node)
    return found


def _parents_first(joints: list[int], parents: list[int]) -> list[int]:
    """The file's joint order, moved only where a child stands before its parent."""
    wanted = set(joints)
    order: list[int] = []
    done: set[int] = set()

    for joint in joints:
        # What stands above it and is not in its place yet, the joint itself last: no recursion, chains may be long.
        chain, here = [], joint
        while here >= 0 and here not in done:
            if here in wanted:
                chain.append(here)
            here = parents[here]
        order += reversed(chain)
        done.update(chain)
    return order


def skin_weights(file: GltfFile, skeleton: FileSkeleton, skin: int, joints: np.ndarray, values: np.ndarray) -> Weights:
    """Weights of one part over the whole skeleton's joints; rows without weight go to its first joint."""
    nodes = file.item("skins", skin, "a node")["joints"]
    used = joints[values > 0]
    if len(used) and not 0 <= used.min() <= used.max() < len(nodes):
        raise file.fail(f"a vertex names joint {int(used.max())}, but the skin has {len(nodes)}")
    place = {node: i for i, node in enumerate(skeleton.order)}
    column = np.array([place[n] for n in nodes])
    result, empty = from_entries(
        column[np.clip(joints, 0, len(nodes) - 1)], values, [j.id for j in skeleton.skeleton.joints]
    )
    if empty:
        file.notes.append(f"vertices without weight, given to {skeleton.skeleton.joints[0].name}: {empty}")
    return result


def read_clips(
    file: GltfFile, skeleton: FileSkeleton, parents: list[int], faces: Mapping[int, tuple[str, tuple[str, ...]]]
) -> tuple[Clip, ...]:
    """All animations that move joints or morph targets. faces : name and targets of the part each node holds."""
    clips = []
    for number, animation in enumerate(file.json.get("animations", [])):
        name = str(animation.get("name") or f"clip {number + 1}")
        tracks = _node_tracks(file, animation, f"animation {number}")
        moved = {node for node, _ in tracks}
        morphs = _morph_tracks(file, animation, f"animation {number}", faces)
        if not moved & set(skeleton.order) and morphs:
            clips.append(Clip(f"clip{number}", name, 30.0, max(float(m.times[-1]) for m in morphs) or 1e-3, morphs=morphs))
            continue
        if not moved & set(skeleton.order):
            file.notes.append(f"clip {name} moves no joint, ignored")
            continue
        length = max([float(t.times[-1]) for t in tracks.values()] + [float(m.times[-1]) for m in morphs])
        if skeleton.plain and moved <= set(skeleton.order):
            by_joint: dict[str, list[Track]] = {}
            for (node, _), track in tracks.items():
                by_joint.setdefault(f"file.{node}", []).append(track)
            kept = {joint: tuple(pieces) for joint, pieces in by_joint.items()}
        else:
            kept = _resampled(file, skeleton, parents, tracks)
        clips.append(Clip(f"clip{number}", name, 30.0, max(length, 1e-3), tracks=joint_tracks(kept), morphs=morphs))
    return tuple(clips)


def _morph_tracks(
    file: GltfFile, animation: dict[str, Any], where: str, faces: Mapping[int, tuple[str, tuple[str, ...]]]
) -> tuple[MorphTrack, ...]:
    """Weights of morph targets of an animation; one of a mesh without any is passed by."""
    found = []
    for channel in animation.get("channels", []):
        node, path = channel["target"].get("node"), channel["target"]["path"]
        if path != "weights" or node not in faces:
            continue
        part, names = faces[node]
        sampler = animation["samplers"][channel["sampler"]]
        times = file.accessor(sampler["input"], where)[:, 0].astype(np.float64)
        values = file.accessor(sampler["output"], where).astype(np.float64).ravel()
        if len(times) == 0 or (np.diff(times) < 0).any() or not -LONGEST_CLIP <= times[0] <= times[-1] <= LONGEST_CLIP:
            raise file.fail("key times of morph weights do not rise within a day", where=where)
        mode = sampler.get("interpolation", "LINEAR")
        each = 3 if mode == "CUBICSPLINE" else 1
        if len(values) != each * len(times) * len(names) or not np.isfinite(values).all():
            raise file.fail(f"{len(names)} weights for each time are needed", where=where)
        rows = values.reshape(len(times), each, len(names))
        keep = np.concatenate([[True], np.diff(times) > 0])
        if mode == "CUBICSPLINE":
            times, weights = _cubic(times[keep], rows[keep])
        else:
            times, weights = times[keep], rows[keep, 0]
        found.append(MorphTrack(part, names, frozen(times), frozen(weights), mode == "STEP"))
    return tuple(found)


def _node_tracks(file: GltfFile, animation: dict[str, Any], where: str) -> dict[tuple[int, str], Track]:
    tracks: dict[tuple[int, str], Track] = {}
    for channel in animation.get("channels", []):
        node, path = channel["target"].get("node"), channel["target"]["path"]
        if node is None or path not in ("translation", "rotation", "scale"):
            continue
        sampler = animation["samplers"][channel["sampler"]]
        times = file.accessor(sampler["input"], where)[:, 0].astype(np.float64)
        values = file.accessor(sampler["output"], where).astype(np.float64)
        if values.shape[1] != (4 if path == "rotation" else 3):
            raise file.fail(f"the keys of a {path} have {values.shape[1]} numbers", where=where)
        if len(times) and not -LONGEST_CLIP <= times[0] <= times[-1] <= LONGEST_CLIP:
            raise file.fail("a key stands more than a day from the start", where=where)
        mode = sampler.get("interpolation", "LINEAR")
        if len(times) == 0 or (np.diff(times) < 0).any():
            raise file.fail("key times do not rise", where=where)
        keep = np.concatenate([[True], np.diff(times) > 0])
        if mode == "CUBICSPLINE":
            if len(values) != 3 * len(times):
                raise file.fail("three values for each time are needed", where=where)
            values = values.reshape(len(times), 3, -1)[keep]
            times, values = _cubic(times[keep], values)
        else:
            if len(values) != len(times):
                raise file.fail("as many values as times are needed", where=where)
            times, values = times[keep], values[keep]
        if path == "rotation":
            values = values / np.maximum(np.linalg.norm(values, axis=1, keepdims=True), 1e-12)
        tracks[int(node), path] = Track(path, frozen(times), frozen(values), mode == "STEP")
    return tracks


def _cubic(times: FloatArray, values: FloatArray) -> tuple[FloatArray, FloatArray]:
    """glTF 2.0 appendix C, cubic spline: Hermite pieces with the tangents the file gives."""
    if len(times) == 1:
        return times, values[:, 1]
    out_t, out_v = [], []
    for i in range(len(times) - 1):
        span = times[i + 1] - times[i]
        for u in np.linspace(0, 1, CUBIC_PIECES, endpoint=False):
            u2, u3 = u * u, u * u * u
            out_t.append(times[i] + u * span)
            out_v.append(
                (2 * u3 - 3 * u2 + 1) * values[i, 1]
                + span * (u3 - 2 * u2 + u) * values[i, 2]
                + (3 * u2 - 2 * u3) * values[i + 1, 1]
                + span * (u3 - u2) * values[i + 1, 0]
            )
    return np.array([*out_t, times[-1]]), np.array([*out_v, values[-1, 1]])


def _resampled(
    file: GltfFile, skeleton: FileSkeleton, parents: list[int], tracks: dict[tuple[int, str], Track]
) -> dict[str, tuple[Track, ...]]:
    """Tracks for settled joints: what a file scaled or turned above its joints goes into each sample."""
    base = np.unique(np.round(np.concatenate([t.times for t in tracks.values()]), 6))
    above = sorted({n for joint in skeleton.order for n in _chain(joint, parents)})
    step = max(1.0 / SAMPLES_A_SECOND, base[-1] / MOST_SAMPLES)
    times = np.unique(np.concatenate([base, np.arange(0.0, base[-1], step)]))
    take(40 * len(times) * len(skeleton.order), "motion of joints, sampled")
    local: dict[int, FloatArray] = {}
    for node in above:
        matrix = local_matrix(file.json["nodes"][node])
        if not any((node, path) in tracks for path in ("translation", "rotation", "scale")):
            local[node] = matrix
            continue
        position, turn, scale = decompose(matrix)
        local[node] = composed(
            _values(tracks.get((node, "translation")), times, position),
            _values(tracks.get((node, "rotation")), times, turn),
            _values(tracks.get((node, "scale")), times, scale),
        )
    unsettle = np.linalg.inv(skeleton.settle)
    rest = skeleton.skeleton.world
    world: list[FloatArray] = []
    result: dict[str, tuple[Track, ...]] = {}
    for j, node in enumerate(skeleton.order):
        matrix = np.eye(4)
        for here in _chain(node, parents):
            matrix = local[here] @ matrix
        world.append(np.broadcast_to(matrix @ (skeleton.bind[j] @ unsettle @ rest[j]), (len(times), 4, 4)))
        parent = int(skeleton.skeleton.parents[j])
        inside = world[j] if parent < 0 else np.linalg.inv(world[parent]) @ world[j]
        position, turn, scale = decomposed(inside)
        result[skeleton.skeleton.joints[j].id] = (
            Track("translation", frozen(times.copy()), frozen(position)),
            Track("rotation", frozen(times.copy()), frozen(turn)),
            Track("scale", frozen(times.copy()), frozen(scale)),
        )
    return result


def _chain(node: int, parents: list[int]) -> Iterator[int]:
    """A node and all above it."""
    while node >= 0:
        yield node
        node = parents[node]


def _values(track: Track | None, times: FloatArray, rest: FloatArray) -> FloatArray:
    """Values (t, 3 or 4) of a track at many times; the rest where there is none."""
    return np.broadcast_to(rest, (len(times), len(rest))) if track is None else track.at_all(times)
