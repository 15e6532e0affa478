"""A second, independent reading of a GLB: pygltflib for the file, SciPy for turns, plain loops for skinning."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pygltflib
from scipy.spatial.transform import Rotation, Slerp

KINDS = {5121: np.uint8, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


class Outside:
    def __init__(self, path: Path) -> None:
        self.gltf = pygltflib.GLTF2().load(str(path))
        self.blob = self.gltf.binary_blob()

    def values(self, number: int) -> np.ndarray:
        entry = self.gltf.accessors[number]
        view = self.gltf.bufferViews[entry.bufferView]
        start = (view.byteOffset or 0) + (entry.byteOffset or 0)
        kind, width = KINDS[entry.componentType], WIDTHS[entry.type]
        flat = np.frombuffer(self.blob, kind, entry.count * width, start)
        return flat.reshape(entry.count, width).astype(np.float64)

    def node_local(self, number: int, time: float | None, clip: int) -> np.ndarray:
        node = self.gltf.nodes[number]
        parts = {
            "translation": np.array(node.translation or (0, 0, 0), float),
            "rotation": np.array(node.rotation or (0, 0, 0, 1), float),
            "scale": np.array(node.scale or (1, 1, 1), float),
        }
        if time is not None:
            animation = self.gltf.animations[clip]
            for channel in animation.channels:
                if channel.target.node == number:
                    sampler = animation.samplers[channel.sampler]
                    times, rows = self.values(sampler.input)[:, 0], self.values(sampler.output)
                    parts[channel.target.path] = _between(times, rows, time, channel.target.path)
        matrix = np.eye(4)
        matrix[:3, :3] = Rotation.from_quat(parts["rotation"]).as_matrix() * parts["scale"]
        matrix[:3, 3] = parts["translation"]
        return matrix

    def joint_worlds(self, time: float | None = None, clip: int = 0, skin: int = 0) -> dict[str, np.ndarray]:
        parents = {child: i for i, node in enumerate(self.gltf.nodes) for child in node.children or ()}
        worlds = {}
        for number in self.gltf.skins[skin].joints:
            matrix, here = np.eye(4), number
            while here is not None:
                matrix = self.node_local(here, time, clip) @ matrix
                here = parents.get(here)
            worlds[self.gltf.nodes[number].name] = matrix
        return worlds

    def skinned(self, name: str, time: float | None = None, clip: int = 0) -> np.ndarray:
        """Posed points of the first primitive of a mesh."""
        at, mesh = next((k, m) for k, m in enumerate(self.gltf.meshes) if m.name == name)
        bound = next(n.skin for n in self.gltf.nodes if n.mesh == at)
        attributes = mesh.primitives[0].attributes
        points = self.values(attributes.POSITION)
        joints, weights = self.values(attributes.JOINTS_0).astype(int), self.values(attributes.WEIGHTS_0)
        skin = self.gltf.skins[bound]
        inverse = self.values(skin.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1)
        worlds = self.joint_worlds(time, clip, bound)
        matrices = np.array([worlds[self.gltf.nodes[n].name] @ inverse[i] for i, n in enumerate(skin.joints)])
        flat = np.column_stack([points, np.ones(len(points))])
        return np.einsum("nk,nkab,nb->na", weights, matrices[joints], flat)[:, :3]


def _between(times: np.ndarray, rows: np.ndarray, time: float, path: str) -> np.ndarray:
    if len(times) == 1 or time <= times[0]:
        return rows[0]
    if time >= times[-1]:
        return rows[-1]
    i = int(np.searchsorted(times, time, side="right")) - 1
    u = (time - times[i]) / (times[i + 1] - times[i])
    if path == "rotation":
        return Slerp([0, 1], Rotation.from_quat(rows[i : i + 2]))(u).as_quat()
    return rows[i] * (1 - u) + rows[i + 1] * u
