"""glTF opened again without anything that wrote it: pygltflib for the file, NumPy and SciPy for what it shows."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray, IntArray

KINDS = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
PATHS = ("translation", "rotation", "scale")


class OtherGltf:
    """rest : points (n, 3) of all meshes one after the other, as the file has them; metres, y up. clips : names."""

    def __init__(self, path: Path) -> None:
        import pygltflib

        self.gltf = pygltflib.GLTF2().load(str(path))
        uri = self.gltf.buffers[0].uri if self.gltf.buffers else None
        self.blob: bytes = (path.parent / unquote(uri)).read_bytes() if uri else self.gltf.binary_blob() or b""
        self.parents = {child: k for k, node in enumerate(self.gltf.nodes) for child in node.children or ()}
        self.order = self._order()
        self.pieces = [(k, node.mesh, node.skin, p) for k, node in enumerate(self.gltf.nodes) if node.mesh is not None for p in self.gltf.meshes[node.mesh].primitives]
        self.shapes = [self._piece(mesh, p) for _, mesh, _, p in self.pieces]
        self.rest = np.concatenate([s["points"] for s in self.shapes]) if self.shapes else np.zeros((0, 3))
        self.clips = [a.name or f"animation {k}" for k, a in enumerate(self.gltf.animations or [])]
        self.tracks = [self._tracks(a) for a in self.gltf.animations or []]
        self.inverse = {k: self._values(s.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1) for k, s in enumerate(self.gltf.skins or [])}

    def _order(self) -> list[int]:
        """Nodes, parents before children."""
        found: list[int] = []
        waiting = [k for k in range(len(self.gltf.nodes)) if k not in self.parents]
        while waiting:
            node = waiting.pop()
            found.append(node)
            waiting += self.gltf.nodes[node].children or []
        return found

    def _values(self, number: int) -> FloatArray:
        entry = self.gltf.accessors[number]
        view = self.gltf.bufferViews[entry.bufferView]
        start = (view.byteOffset or 0) + (entry.byteOffset or 0)
        kind, width = KINDS[entry.componentType], WIDTHS[entry.type]
        return np.frombuffer(self.blob, kind, entry.count * width, start).reshape(entry.count, width).astype(np.float64)

    def _piece(self, mesh: int, primitive: Any) -> dict[str, Any]:
        told = primitive.attributes
        found: dict[str, Any] = {"points": self._values(told.POSITION), "mesh": mesh}
        used: IntArray = np.unique(self._values(primitive.indices).astype(np.int64)) if primitive.indices is not None else np.arange(len(found["points"]))
        found["used"] = used
        found["points"] = found["points"][used]
        found["targets"] = [self._values(t["POSITION"] if isinstance(t, dict) else t.POSITION)[used] for t in primitive.targets or []]
        joints, weights = [], []
        for k in range(4):
            j, w = getattr(told, f"JOINTS_{k}", None), getattr(told, f"WEIGHTS_{k}", None)
            if j is not None and w is not None:
                joints.append(self._values(j)[used].astype(np.int64))
                weights.append(self._values(w)[used])
        found["joints"] = np.concatenate(joints, axis=1) if joints else None
        found["weights"] = np.concatenate(weights, axis=1) if weights else None
        return found

    def _tracks(self, animation: Any) -> dict[tuple[int, str], tuple[FloatArray, FloatArray, bool]]:
        found = {}
        for channel in animation.channels:
            sampler = animation.samplers[channel.sampler]
            times, rows = self._values(sampler.input)[:, 0], self._values(sampler.output)
            if channel.target.path == "weights":
                rows = rows.reshape(len(times), -1)
            found[channel.target.node, channel.target.path] = (times, rows, sampler.interpolation == "STEP")
        return found

    def points(self, clip: str | None = None, time: float = 0.0) -> FloatArray:
        """All points (n, 3) in the scene at a moment of a clip, or at rest."""
        tracks = self.tracks[self.clips.index(clip)] if clip is not None else {}
        worlds = np.tile(np.eye(4), (len(self.gltf.nodes), 1, 1))
        for node in self.order:
            local = self._local(node, tracks, time)
            worlds[node] = worlds[self.parents[node]] @ local if node in self.parents else local
        out = []
        for (node, mesh, skin, _), shape in zip(self.pieces, self.shapes, strict=True):
            points = shape["points"]
            weights = self._weights(node, mesh, tracks, time)
            for target, weight in zip(shape["targets"], weights, strict=False):
                points = points + weight * target
            flat = np.column_stack([points, np.ones(len(points))])
            if skin is not None and shape["joints"] is not None:
                matrices = worlds[self.gltf.skins[skin].joints] @ self.inverse[skin]
                shown = np.zeros((len(points), 3))
                for k in range(shape["joints"].shape[1]):
                    shown += shape["weights"][:, k, None] * np.einsum("nab,nb->na", matrices[shape["joints"][:, k]], flat)[:, :3]
                out.append(shown)
            else:
                out.append((flat @ worlds[node].T)[:, :3])
        return np.concatenate(out) if out else np.zeros((0, 3))

    def joints(self, clip: str, time: float) -> dict[str, FloatArray]:
        """Where each joint is (3,), by name."""
        tracks = self.tracks[self.clips.index(clip)]
        worlds: dict[int, FloatArray] = {}
        for node in self.order:
            local = self._local(node, tracks, time)
            worlds[node] = worlds[self.parents[node]] @ local if node in self.parents else local
        return {self.gltf.nodes[k].name: w[:3, 3] for k, w in worlds.items()}

    def _weights(self, node: int, mesh: int, tracks: Any, time: float) -> FloatArray:
        told = tracks.get((node, "weights"))
        if told is None:
            return np.array(getattr(self.gltf.nodes[node], "weights", None) or self.gltf.meshes[mesh].weights or [])
        times, rows, step = told
        if step:
            return np.asarray(rows[max(int(np.searchsorted(times, time + 1e-9, side="right")) - 1, 0)])
        return np.array([np.interp(time, times, rows[:, k]) for k in range(rows.shape[1])])

    def _local(self, number: int, tracks: Any, time: float) -> FloatArray:
        node = self.gltf.nodes[number]
        if node.matrix:
            return np.array(node.matrix, dtype=np.float64).reshape(4, 4).T
        parts = {"translation": np.array(node.translation or (0, 0, 0), float), "rotation": np.array(node.rotation or (0, 0, 0, 1), float), "scale": np.array(node.scale or (1, 1, 1), float)}
        for path in PATHS:
            if (number, path) in tracks:
                times, rows, step = tracks[number, path]
                parts[path] = _at(times, rows, step, time, path == "rotation")
        matrix = np.eye(4)
        matrix[:3, :3] = Rotation.from_quat(parts["rotation"]).as_matrix() * parts["scale"]
        matrix[:3, 3] = parts["translation"]
        return matrix


def _at(times: FloatArray, rows: FloatArray, step: bool, time: float, turns: bool) -> FloatArray:
    k = int(np.clip(np.searchsorted(times, time, side="right") - 1, 0, len(times) - 1))
    if k == len(times) - 1 or time <= times[0] or step:
        return np.asarray(rows[k])
    share = (time - times[k]) / (times[k + 1] - times[k])
    a, b = rows[k], rows[k + 1]
    if not turns:
        return np.asarray(a + share * (b - a))
    cosine = float(a @ b)
    if cosine < 0:
        b, cosine = -b, -cosine
    angle = np.arccos(min(cosine, 1.0))
    if angle < 1e-7:
        mixed = a + share * (b - a)
    else:
        mixed = (np.sin((1 - share) * angle) * a + np.sin(share * angle) * b) / np.sin(angle)
    return np.asarray(mixed / np.linalg.norm(mixed))
