"""Motion in an exported GLB judged by other code: pygltflib for the file, SciPy for turns; definitions as practitioners tell them.

A body is told at 1.7 m. A contact is where the source's point is slower than 0.05 m/s.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from tests.support.outside import Outside

SLOW = 0.05


class Played:
    """A clip of a GLB at moments: joints by name (k, 4, 4)."""

    def __init__(self, path: Path, times: np.ndarray, clip: int = 0) -> None:
        self.file = Outside(path)
        self.times = times
        gltf = self.file.gltf
        moved: dict[int, dict[str, tuple[np.ndarray, np.ndarray]]] = {}
        animation = gltf.animations[clip]
        for channel in animation.channels:
            sampler = animation.samplers[channel.sampler]
            keys = self.file.values(sampler.input)[:, 0], self.file.values(sampler.output)
            moved.setdefault(channel.target.node, {})[channel.target.path] = keys
        parents = {child: i for i, node in enumerate(gltf.nodes) for child in node.children or ()}
        self.worlds: dict[int, np.ndarray] = {}

        def world(number: int) -> np.ndarray:
            if number not in self.worlds:
                local = self._local(number, moved.get(number, {}))
                above = parents.get(number)
                self.worlds[number] = local if above is None else world(above) @ local
            return self.worlds[number]

        for number in range(len(gltf.nodes)):
            world(number)
        self.by_name = {gltf.nodes[n].name: self.worlds[n] for n in gltf.skins[0].joints}

    def _local(self, number: int, tracks: dict[str, tuple[np.ndarray, np.ndarray]]) -> np.ndarray:
        node = self.file.gltf.nodes[number]
        k = len(self.times)
        place = np.tile(np.array(node.translation or (0, 0, 0), float), (k, 1))
        turn = np.tile(np.array(node.rotation or (0, 0, 0, 1), float), (k, 1))
        scale = np.tile(np.array(node.scale or (1, 1, 1), float), (k, 1))
        for path, (keys, rows) in tracks.items():
            at = np.clip(self.times, keys[0], keys[-1])
            if path == "rotation":
                turn = Slerp(keys, Rotation.from_quat(rows))(at).as_quat() if len(keys) > 1 else np.tile(rows[0], (k, 1))
            elif path in ("translation", "scale"):
                told = np.stack([np.interp(at, keys, rows[:, c]) for c in range(3)], axis=1)
                place, scale = (told, scale) if path == "translation" else (place, told)
        result = np.zeros((k, 4, 4))
        result[:, :3, :3] = Rotation.from_quat(turn).as_matrix() * scale[:, None, :]
        result[:, :3, 3] = place
        result[:, 3, 3] = 1.0
        return result

    def at(self, name: str) -> np.ndarray:
        return self.by_name[name][:, :3, 3]

    def skin(self, below: float) -> np.ndarray:
        """All skinned points (k, n, 3) that rest lower than a height."""
        gltf, pieces = self.file.gltf, []
        for node in gltf.nodes:
            if node.mesh is None or node.skin is None:
                continue
            skin = gltf.skins[node.skin]
            inverse = self.file.values(skin.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1)
            matrices = np.stack([self.worlds[j] @ inverse[i] for i, j in enumerate(skin.joints)], axis=1)
            for primitive in gltf.meshes[node.mesh].primitives:
                a = primitive.attributes
                points = self.file.values(a.POSITION)
                low = np.flatnonzero(points[:, 1] < below)
                joints, weights = self.file.values(a.JOINTS_0).astype(int)[low], self.file.values(a.WEIGHTS_0)[low]
                full = np.pad(points[low], ((0, 0), (0, 1)), constant_values=1.0)
                posed = np.zeros((len(self.times), len(low), 3))
                for c in range(joints.shape[1]):
                    posed += weights[:, c, None] * np.einsum("knab,nb->kna", matrices[:, joints[:, c], :3], full)
                pieces.append(posed)
        return np.concatenate(pieces, axis=1)


def runs(slow: np.ndarray) -> list[tuple[int, int]]:
    """First and last frame of each run of slow steps."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], slow.astype(int), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def contacts(there: np.ndarray, rate: float, to_body: float) -> np.ndarray:
    """Steps at which a source's point (k, 3) stands. to_body: what a metre of it is at 1.7 m."""
    return np.linalg.norm(np.diff(there, axis=0), axis=1) * rate * to_body < SLOW


def slide_mm(here: np.ndarray, there: np.ndarray, rate: float, *, here_to_body: float, there_to_body: float) -> np.ndarray:
    """How far a point here strays in contacts from the way of the source's, both told at 1.7 m, millimetres."""
    found = [np.zeros(1)]
    for a, b in runs(contacts(there, rate, there_to_body)):
        ours = (here[a : b + 1] - here[a]) * here_to_body
        theirs = (there[a : b + 1] - there[a]) * there_to_body
        found.append(np.linalg.norm(ours - theirs, axis=1) * 1000)
    return np.concatenate(found)


def angle_deg(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Between directions (k, 3)."""
    a, b = (v / np.linalg.norm(v, axis=1, keepdims=True) for v in (a, b))
    return np.degrees(np.arccos(np.clip((a * b).sum(axis=1), -1, 1)))
