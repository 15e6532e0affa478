"""PLY, read and written: polygons, vertex order and texture coordinates kept; text and binary of either byte order.

Format: G. Turk, "The PLY polygon file format", 1994.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numba import njit

from pegloom.core.arrays import BoolArray, IntArray
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.document.model import Material, Part
from pegloom.files.allowance import take
from pegloom.files.imported import Imported
from pegloom.files.outgoing import write_bytes
from pegloom.files.raw import read_bytes
from pegloom.files.soundness import usable

LONGEST_HEADER = 1 << 20

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


@dataclass(frozen=True, slots=True)
class Lists:
    """A list property of an element's rows: counts (r,), all values one after the other."""

    counts: IntArray
    values: np.ndarray

    @property
    def starts(self) -> IntArray:
        return np.concatenate([[0], np.cumsum(self.counts)])


Columns = dict[str, "np.ndarray | Lists"]


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
        if end > LONGEST_HEADER:
            raise self.fail(f"its header holds {end} bytes", "header", "check its type")
        for number, raw in enumerate(self.data[:end].decode("ascii", errors="replace").splitlines(), 1):
            words = raw.split()
            try:
                if words[:1] == ["format"]:
                    self.text = words[1] == "ascii"
                    self.order = ">" if words[1] == "binary_big_endian" else "<"
                elif words[:1] == ["element"]:
                    self.elements.append(_Element(words[1], int(words[2])))
                    if not 0 <= self.elements[-1].count < 1 << 40:
                        raise ValueError
                elif words[:2] == ["property", "list"]:
                    if KINDS[words[2]] not in ("u1", "u2", "u4", "i1", "i2", "i4"):
                        raise ValueError
                    self.elements[-1].properties.append((words[4], KINDS[words[3]], KINDS[words[2]]))
                elif words[:1] == ["property"]:
                    self.elements[-1].properties.append((words[2], KINDS[words[1]], ""))
            except (IndexError, KeyError, ValueError):
                raise self.fail(f"cannot make sense of '{raw.strip()[:60]}'", f"line {number}") from None
        line = self.data.find(b"\n", end)
        return len(self.data) if line < 0 else line + 1

    def read(self) -> dict[str, Columns]:
        """Columns of each element."""
        if self.text:
            take(4 * (len(self.data) - self.at), "numbers")
            try:
                with warnings.catch_warnings():
                    warnings.simplefilter("error")
                    self.numbers = np.fromstring(self.data[self.at :].decode("ascii"), dtype=np.float64, sep=" ")
            except (ValueError, DeprecationWarning):
                raise self.fail("is cut short or holds what is no number", "body") from None
            self.word = 0
        return {e.name: self._text(e) if self.text else self._binary(e) for e in self.elements}

    def _claims(self, element: _Element) -> MeshFileError:
        return self.fail(
            f"claims {element.count} rows of {element.name}, more than it holds", f"element {element.name}"
        )

    def _text(self, element: _Element) -> Columns:
        width = max(len(element.properties), 1)
        if element.count * width > len(self.numbers) - self.word:
            raise self._claims(element)
        if not any(counted for _, _, counted in element.properties):
            table = self.numbers[self.word : self.word + element.count * width].reshape(element.count, width)
            self.word += element.count * width
            return {name: table[:, k] for k, (name, _, _) in enumerate(element.properties)}
        lists = np.array([bool(counted) for _, _, counted in element.properties])
        starts, counts, self.word = _rows_of_words(self.numbers, self.word, element.count, lists)
        if self.word < 0:
            raise self.fail("is cut short or holds what is no number", f"{element.name} {-self.word}")
        take(16 * starts.size + 8 * int(counts.sum()), element.name)
        return {
            name: _gathered(self.numbers, starts[:, k], counts[:, k]) if counted else self.numbers[starts[:, k]]
            for k, (name, _, counted) in enumerate(element.properties)
        }

    def _binary(self, element: _Element) -> Columns:
        kinds = [(name, np.dtype(self.order + kind)) for name, kind, _ in element.properties]
        left = len(self.data) - self.at
        if not any(counted for _, _, counted in element.properties):
            size = sum(kind.itemsize for _, kind in kinds)
            if element.count * size > left:
                raise self._claims(element)
            names = [f"{k}" for k in range(len(kinds))]  # a name may stand twice
            row = np.dtype([(n, kind) for n, (_, kind) in zip(names, kinds, strict=True)])
            table = np.frombuffer(self.data, row, element.count if size else 0, self.at)
            self.at += element.count * size
            return {name: table[n] for n, (name, _) in zip(names, kinds, strict=True)}
        least = sum(np.dtype(counted or kind).itemsize for _, kind, counted in element.properties)
        if element.count * least > left:
            raise self._claims(element)
        take(16 * element.count * len(kinds), element.name)
        counting = [np.dtype(counted or "u1") for _, _, counted in element.properties]
        starts, counts, end = _rows_of_bytes(
            np.frombuffer(self.data, np.uint8), self.at, element.count,
            np.array([kind.itemsize for _, kind in kinds]),
            np.array([kind.itemsize if counted else 0 for kind, (_, _, counted) in zip(counting, element.properties, strict=True)]),
            np.array([kind.kind == "i" for kind in counting]), self.order == ">",
        )  # fmt: skip
        if end < 0:
            raise self.fail("is cut short", f"{element.name} {-end}")
        self.at = end
        take(8 * int(counts.sum()), element.name)
        raw = np.frombuffer(self.data, np.uint8)
        result: Columns = {}
        for k, ((name, kind), (_, _, counted)) in enumerate(zip(kinds, element.properties, strict=True)):
            picked = _gathered(raw, starts[:, k], counts[:, k] * kind.itemsize)
            values = picked.values.view(kind)
            result[name] = Lists(counts[:, k], values) if counted else values
        return result


@njit(cache=True, nogil=True)
def _rows_of_words(numbers, at, rows, lists):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Where each property of each row begins and how many values it has; the place after, or -row where it ends."""
    starts = np.zeros((rows, len(lists)), dtype=np.int64)
    counts = np.ones((rows, len(lists)), dtype=np.int64)
    for r in range(rows):
        for k in range(len(lists)):
            if at >= len(numbers):
                return starts, counts, -(r + 1)
            if lists[k]:
                count = numbers[at]
                at += 1
                if not (0 <= count <= len(numbers) - at) or count != np.floor(count):
                    return starts, counts, -(r + 1)
                counts[r, k] = int(count)
            starts[r, k] = at
            at += counts[r, k]
    return starts, counts, at


@njit(cache=True, nogil=True)
def _rows_of_bytes(data, at, rows, sizes, counting, signed, big):  # type: ignore[no-untyped-def]  # pragma: no cover
    """As `_rows_of_words`, in bytes: sizes of a value, and of the count before it (0 for none), of each property."""
    starts = np.zeros((rows, len(sizes)), dtype=np.int64)
    counts = np.ones((rows, len(sizes)), dtype=np.int64)
    for r in range(rows):
        for k in range(len(sizes)):
            width = counting[k]
            if at + width > len(data):
                return starts, counts, -(r + 1)
            if width:
                count = np.int64(0)
                for b in range(width):
                    count |= np.int64(data[at + b]) << (8 * (width - 1 - b if big else b))
                if signed[k] and count >> (8 * width - 1):
                    return starts, counts, -(r + 1)
                counts[r, k] = count
                at += width
            if counts[r, k] * sizes[k] > len(data) - at:
                return starts, counts, -(r + 1)
            starts[r, k] = at
            at += counts[r, k] * sizes[k]
    return starts, counts, at


def _gathered(flat: np.ndarray, starts: IntArray, counts: IntArray) -> Lists:
    """Stretches of a flat array one after the other."""
    ends = np.cumsum(counts)
    index = np.arange(int(ends[-1]) if len(ends) else 0) + np.repeat(starts - (ends - counts), counts)
    return Lists(counts, flat[index])


def read_ply(path: Path) -> Imported:
    """Read a PLY file, text or binary. Raises MeshFileError."""
    reader = _Reader(path, read_bytes(path))
    found = reader.read()
    vertices, element = found.get("vertex", {}), found.get("face")
    if not {"x", "y", "z"} <= set(vertices) or any(isinstance(vertices[a], Lists) for a in "xyz"):
        raise reader.fail("its vertices have no x, y and z", "element vertex")
    points = np.stack([np.asarray(vertices[a], dtype=np.float64) for a in ("x", "y", "z")], axis=1)
    if element is None:
        raise reader.fail("holds points but no faces", "header", "export the mesh with its faces")
    named = next((element[n] for n in ("vertex_indices", "vertex_index") if n in element), None)
    if not isinstance(named, Lists):
        raise reader.fail("its faces name no vertices", "element face")
    if not np.isfinite(named.values).all():
        raise reader.fail("a face names what is no number", "element face")
    corners, owner = named.values.astype(np.int64), np.repeat(np.arange(len(named.counts)), named.counts)
    notes = []
    kept = different(corners, owner, len(named.counts)) >= 3
    if not kept.all():
        notes.append(f"faces with under three different corners left out: {int((~kept).sum())}")
    if not kept.any():
        raise reader.fail("holds no surface", "element face", "export the mesh with its faces")
    of_kept = kept[owner]
    wrong = np.flatnonzero(of_kept & ((corners < 0) | (corners >= len(points))))
    if len(wrong):
        raise reader.fail(
            f"a face names vertex {corners[wrong[0]]}, but there are {len(points)}", f"face {owner[wrong[0]] + 1}"
        )
    chosen = corners[of_kept]
    take(8 * (3 * len(points) + 5 * len(chosen)), "mesh")
    uvs, _ = usable(_uvs(element, vertices, chosen, named.counts, kept), None, notes, path.stem)
    try:
        mesh = make_mesh(points, chosen, np.concatenate([[0], np.cumsum(named.counts[kept])]), uvs=uvs)
    except ShapeError as error:
        raise reader.fail(str(error), "vertices") from error
    if {"red", "diffuse_red"} & set(vertices):
        notes.append("vertex colours ignored")
    return Imported((Part("part0", path.stem, mesh),), (Material("plain"),), (), notes=tuple(notes))


def different(corners: IntArray, owner: IntArray, faces: int) -> IntArray:
    """How many different vertices each face (f,) names; owner (c,): the face of each corner."""
    order = np.lexsort((corners, owner))
    c, o = corners[order], owner[order]
    fresh = np.ones(len(c), dtype=bool)
    fresh[1:] = (c[1:] != c[:-1]) | (o[1:] != o[:-1])
    return np.bincount(o[fresh], minlength=faces)


def _uvs(element: Columns, vertices: Columns, chosen: IntArray, counts: IntArray, kept: BoolArray) -> np.ndarray | None:
    texcoord = element.get("texcoord")
    if isinstance(texcoord, Lists) and (texcoord.counts[kept] == 2 * counts[kept]).all():
        rows = np.repeat(kept, texcoord.counts)
        return texcoord.values[rows].astype(np.float64).reshape(-1, 2)
    for u, v in (("s", "t"), ("u", "v"), ("texture_u", "texture_v")):
        if {u, v} <= set(vertices) and not any(isinstance(vertices[n], Lists) for n in (u, v)):
            table = np.stack([np.asarray(vertices[u]), np.asarray(vertices[v])], axis=1).astype(np.float64)
            return np.asarray(table[chosen])
    return None


def write_ply(path: Path, mesh: Mesh) -> None:
    """Write one mesh as binary PLY, polygons kept. Raises MeshFileError where the place cannot be written."""
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
    write_bytes(path, bytes(out))
