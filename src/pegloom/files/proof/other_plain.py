"""OBJ, PLY, STL and BVH opened again by a few lines of their own."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray

PLY_KINDS = {"float": "f4", "float32": "f4", "double": "f8", "float64": "f8", "uchar": "u1", "uint8": "u1", "char": "i1", "int8": "i1", "short": "i2", "int16": "i2", "ushort": "u2", "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4"}  # fmt: skip


def mesh_points(path: Path) -> FloatArray:
    """All points (n, 3) of an OBJ, PLY or STL."""
    data, kind = path.read_bytes(), path.suffix.lower()
    if kind == ".obj":
        return np.array([[float(w) for w in line.split()[1:4]] for line in data.decode().splitlines() if line.startswith("v ")])
    if kind == ".stl":
        (count,) = struct.unpack_from("<I", data, 80)
        rows = np.frombuffer(data, np.dtype([("n", "<f4", 3), ("p", "<f4", (3, 3)), ("a", "<u2")]), count, 84)
        return rows["p"].reshape(-1, 3).astype(np.float64)
    head, _, body = data.partition(b"end_header\n")
    columns, count, inside = [], 0, False
    for line in head.decode("ascii", "replace").splitlines():
        words = line.split()
        if words[:1] == ["element"]:
            inside = words[1] == "vertex"
            count = int(words[2]) if inside else count
        elif words[:1] == ["property"] and inside:
            columns.append((words[2], "<" + PLY_KINDS[words[1]]))
    if b"format ascii" in head:
        rows_ = [line.split() for line in body.decode().splitlines()[:count]]
        places = [[name for name, _ in columns].index(a) for a in "xyz"]
        return np.array([[float(row[k]) for k in places] for row in rows_])
    rows = np.frombuffer(body, np.dtype(columns), count)
    return np.stack([rows[a].astype(np.float64) for a in "xyz"], axis=1)


class OtherBvh:
    """Places (k, j, 3) of the joints at its frames, in the file's unit and axes. names, rate."""

    def __init__(self, path: Path) -> None:
        words = path.read_text().split()
        self.names: list[str] = []
        parents: list[int] = []
        offsets: list[list[float]] = []
        channels: list[list[str]] = []
        stack: list[int] = []
        i = 1
        while words[i] != "MOTION":
            word = words[i]
            if word in ("ROOT", "JOINT"):
                self.names.append(words[i + 1])
                parents.append(stack[-1] if stack else -1)
                channels.append([])
                offsets.append([0.0] * 3)
                stack.append(len(self.names) - 1)
                i += 3
            elif word == "End":
                i += 8
            elif word == "OFFSET":
                offsets[stack[-1]] = [float(w) for w in words[i + 1 : i + 4]]
                i += 4
            elif word == "CHANNELS":
                count = int(words[i + 1])
                channels[stack[-1]] = words[i + 2 : i + 2 + count]
                i += 2 + count
            elif word == "HIERARCHY":
                i += 1
            else:
                stack.pop()
                i += 1
        frames = int(words[i + 2])
        self.rate = 1.0 / float(words[i + 5])
        rows = np.array([float(w) for w in words[i + 6 :]]).reshape(frames, -1)
        self.places = np.zeros((frames, len(self.names), 3))
        turns = np.zeros((frames, len(self.names), 3, 3))
        column = 0
        for j, some in enumerate(channels):
            local, turn = np.tile(np.array(offsets[j]), (frames, 1)), np.tile(np.eye(3), (frames, 1, 1))
            for c in some:
                values = rows[:, column]
                column += 1
                if c.endswith("position"):
                    local[:, "XYZ".index(c[0])] = values
                else:
                    turn = turn @ Rotation.from_euler(c[0], values[:, None], degrees=True).as_matrix()
            above = parents[j]
            turns[:, j] = turn if above < 0 else turns[:, above] @ turn
            self.places[:, j] = local if above < 0 else self.places[:, above] + np.einsum("kab,kb->ka", turns[:, above], local)
