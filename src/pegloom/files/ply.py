"""PLY, read and written: polygons, vertex order and texture coordinates kept; text and binary of either byte order.

Format: G. Turk, "The PLY polygon file format", 1994.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.document.model import Material, Part
from pegloom.files.imported import Imported, read_bytes

KINDS = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2", "uint16": "u2",
    "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4", "double": "f8", "float64": "f8",
}  # fmt: skip


@dataclass
class _Element:
    """name, how many, and (property, kind, kind of its count or "") in order."""

    name: str
    count: int
    properties: list[tuple[str, str, str]] = field(default_factory=list)


Columns = dict[str, "np.ndarray | list[np.ndarray]"]


class _Reader:
    def __init__(self, path: Path, data: bytes) -> None:
        self.path, self.data = path, data
        self.elements: list[_Element] = []
        self.order = "<"
        self.text = False
        self.at = self._header()

    def fail(self, what: str, where: str, hint: str = "export it again") -> MeshFileError:
        return MeshFileError(self.path.name, what, where=where, hint=hint)

    def _header(self) -> int:
        end = self.data.find(b"end_header")
        if self.data[:3] != b"ply" or end < 0:
            raise self.fail("this is no PLY file, or its header is cut short", "header", "check its type")
        for number, raw in enumerate(self.data[:end].decode("ascii", errors="replace").splitlines(), 1):
            words = raw.split()
            try:
                if words[:1] == ["format"]:
                    self.text = words[1] == "ascii"
                    self.order = ">" if words[1] == "binary_big_endian" else "<"
                elif words[:1] == ["element"]:
                    self.elements.append(_Element(words[1], int(words[2])))
                elif words[:2] == ["property", "list"]:
                    self.elements[-1].properties.append((words[4], KINDS[words[3]], KINDS[words[2]]))
                elif words[:1] == ["property"]:
                    self.elements[-1].properties.append((words[2], KINDS[words[1]], ""))
            except (IndexError, KeyError, ValueError):
                raise self.fail(f"cannot make sense of '{raw.strip()[:60]}'", f"line {number}") from None
        line = self.data.find(b"\n", end)
        return len(self.data) if line < 0 else line + 1

    def read(self) -> dict[str, Columns]:
        """Columns of each element; lists as a list of arrays."""
        if self.text:
            self.words = self.data[self.at :].split()
            self.word = 0
        return {e.name: self._text(e) if self.text else self._binary(e) for e in self.elements}

    def _text(self, element: _Element) -> Columns:
        rows: dict[str, list[object]] = {name: [] for name, _, _ in element.properties}
        if element.count * max(len(element.properties), 1) > len(self.words) - self.word:
            raise self.fail(
                f"claims {element.count} rows of {element.name}, more than it holds", f"element {element.name}"
            )
        for number in range(element.count):
            try:
                for name, _, counted in element.properties:
                    if counted:
                        count = int(self.words[self.word])
                        taken = self.words[self.word + 1 : self.word + 1 + count]
                        if count < 0 or len(taken) != count:
                            raise IndexError
                        rows[name].append(np.array(taken, dtype=np.float64))
                        self.word += 1 + count
                    else:
                        rows[name].append(float(self.words[self.word]))
                        self.word += 1
            except (IndexError, ValueError):
                raise self.fail("is cut short or holds what is no number", f"{element.name} {number + 1}") from None
        listed = {name for name, _, counted in element.properties if counted}
        return {n: (v if n in listed else np.array(v, dtype=np.float64)) for n, v in rows.items()}  # type: ignore[misc]

    def _binary(self, element: _Element) -> Columns:
        kinds = [(name, np.dtype(self.order + kind)) for name, kind, _ in element.properties]
        if not any(counted for _, _, counted in element.properties):
            row = np.dtype(kinds)
            if element.count * row.itemsize > len(self.data) - self.at:
                raise self.fail(
                    f"claims {element.count} rows of {element.name}, more than it holds", f"element {element.name}"
                )
            table = np.frombuffer(self.data, row, element.count, self.at)
            self.at += element.count * row.itemsize
            return {name: table[name] for name, _ in kinds}
        rows: dict[str, list[object]] = {name: [] for name, _, _ in element.properties}
        least = sum(np.dtype(counted or kind).itemsize for _, kind, counted in element.properties)
        if element.count * least > len(self.data) - self.at:
            raise self.fail(
                f"claims {element.count} rows of {element.name}, more than it holds", f"element {element.name}"
            )
        for number in range(element.count):
            for name, kind, counted in element.properties:
                count = 1
                if counted:
                    count = int(self._take(counted, 1, element.name, number)[0])
                values = self._take(kind, count, element.name, number)
                rows[name].append(values if counted else values[0])
        listed = {name for name, _, counted in element.properties if counted}
        return {n: (v if n in listed else np.array(v)) for n, v in rows.items()}  # type: ignore[misc]

    def _take(self, kind: str, count: int, name: str, number: int) -> np.ndarray:
        item = np.dtype(self.order + kind)
        if count < 0 or count * item.itemsize > len(self.data) - self.at:
            raise self.fail("is cut short", f"{name} {number + 1}")
        values = np.frombuffer(self.data, item, count, self.at)
        self.at += count * item.itemsize
        return values


def read_ply(path: Path) -> Imported:
    """Read a PLY file, text or binary. Raises MeshFileError."""
    reader = _Reader(path, read_bytes(path))
    found = reader.read()
    vertices, element = found.get("vertex", {}), found.get("face")
    if not {"x", "y", "z"} <= set(vertices):
        raise reader.fail("its vertices have no x, y and z", "element vertex")
    points = np.stack([np.asarray(vertices[a], dtype=np.float64) for a in ("x", "y", "z")], axis=1)
    if element is None:
        raise reader.fail("holds points but no faces", "header", "export the mesh with its faces")
    name = next((n for n in ("vertex_indices", "vertex_index") if n in element), None)
    if name is None:
        raise reader.fail("its faces name no vertices", "element face")
    faces = [np.asarray(f).astype(np.int64) for f in element[name]]
    notes = []
    kept = [k for k, f in enumerate(faces) if len(set(f.tolist())) >= 3]
    if len(kept) < len(faces):
        notes.append(f"faces with under three different corners left out: {len(faces) - len(kept)}")
    if not kept:
        raise reader.fail("holds no surface", "element face", "export the mesh with its faces")
    wrong = next((k for k in kept if faces[k].min() < 0 or faces[k].max() >= len(points)), None)
    if wrong is not None:
        raise reader.fail(
            f"a face names vertex {int(faces[wrong].max())}, but there are {len(points)}", f"face {wrong + 1}"
        )
    uvs = _uvs(element, vertices, faces, kept)
    chosen = [faces[k] for k in kept]
    try:
        mesh = make_mesh(
            points, np.concatenate(chosen), np.concatenate([[0], np.cumsum([len(f) for f in chosen])]), uvs=uvs
        )
    except ShapeError as error:
        raise reader.fail(str(error), "vertices") from error
    if {"red", "diffuse_red"} & set(vertices):
        notes.append("vertex colours ignored")
    return Imported((Part("part0", path.stem, mesh),), (Material("plain"),), (), notes=tuple(notes))


def _uvs(element: Columns, vertices: Columns, faces: list[np.ndarray], kept: list[int]) -> np.ndarray | None:
    if "texcoord" in element:
        rows = [np.asarray(element["texcoord"][k], dtype=np.float64) for k in kept]
        if all(len(row) == 2 * len(faces[k]) for row, k in zip(rows, kept, strict=True)):
            return np.concatenate(rows).reshape(-1, 2)
    for u, v in (("s", "t"), ("u", "v"), ("texture_u", "texture_v")):
        if {u, v} <= set(vertices):
            table = np.stack([np.asarray(vertices[u]), np.asarray(vertices[v])], axis=1).astype(np.float64)
            return np.asarray(table[np.concatenate([faces[k] for k in kept])])
    return None


def write_ply(path: Path, mesh: Mesh) -> None:
    """Write one mesh as binary PLY, polygons kept."""
    head = [
        "ply", "format binary_little_endian 1.0", "comment Peg Loom", f"element vertex {mesh.vertex_count}",
        "property float x", "property float y", "property float z", f"element face {mesh.face_count}",
        "property list uchar int vertex_indices",
    ]  # fmt: skip
    if mesh.uvs is not None:
        head.append("property list uchar float texcoord")
    out = bytearray(("\n".join([*head, "end_header"]) + "\n").encode())
    out += mesh.points.astype("<f4").tobytes()
    corners = mesh.corners.astype("<i4")
    uvs = None if mesh.uvs is None else mesh.uvs.astype("<f4")
    for f in range(mesh.face_count):
        span = slice(int(mesh.starts[f]), int(mesh.starts[f + 1]))
        size = span.stop - span.start
        out += bytes([min(size, 255)]) + corners[span][:255].tobytes()
        if uvs is not None:
            out += bytes([min(2 * size, 254)]) + uvs[span][:127].tobytes()
    path.write_bytes(bytes(out))
