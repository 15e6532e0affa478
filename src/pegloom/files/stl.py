"""STL, read and written: a triangle soup, welded on reading so that neighbours know each other.

Format: 3D Systems, "StereoLithography interface specification", 1989; text and binary.
"""

from __future__ import annotations

import io
import struct
from array import array
from pathlib import Path

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError
from pegloom.core.geometry.mesh import Mesh, make_mesh, triangulate, weld_points
from pegloom.document.model import Material, Part
from pegloom.files.allowance import take
from pegloom.files.imported import Imported
from pegloom.files.outgoing import write_bytes
from pegloom.files.raw import read_bytes

RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("spare", "<u2")])


def read_stl(path: Path) -> Imported:
    """Read an STL file, text or binary. Raises MeshFileError."""
    data = read_bytes(path)
    take(3 * len(data), "triangles")
    corners = _binary(path, data)
    if corners is None:
        corners = _text(path, data)
    if len(corners) == 0:
        raise MeshFileError(path.name, "holds no triangles", hint="export the mesh again")
    if not np.isfinite(corners).all():
        bad = int(np.flatnonzero(~np.isfinite(corners).all(axis=(1, 2)))[0])
        raise MeshFileError(path.name, "a corner is not a number", where=f"triangle {bad + 1}", hint="export it again")
    loose = corners.reshape(-1, 3)
    g = weld_points(loose)
    faces = g.group.reshape(-1, 3)
    whole = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    if not whole.any():
        raise MeshFileError(path.name, "all triangles lie in one point or line", hint="export the mesh again")
    notes = [f"corners at one place welded: {len(loose)} to {g.count}"]
    if not whole.all():
        notes.append(f"triangles without area left out: {int((~whole).sum())}")
    faces = faces[whole]
    mesh = make_mesh(loose[g.first], faces.ravel(), np.arange(len(faces) + 1) * 3)
    return Imported((Part("part0", path.stem, mesh),), (Material("plain"),), (), notes=tuple(notes))


def _binary(path: Path, data: bytes) -> FloatArray | None:
    if len(data) < 84:
        return None
    (count,) = struct.unpack_from("<I", data, 80)
    size = 84 + count * RECORD.itemsize
    if data[:5] == b"solid" and size != len(data):
        return None
    if size > len(data):
        raise MeshFileError(
            path.name, f"claims {count} triangles but holds {(len(data) - 84) // RECORD.itemsize}: it is cut short",
            where="byte 80", hint="copy or export it again",
        )  # fmt: skip
    return np.asarray(np.frombuffer(data, RECORD, count, 84)["corners"].astype(np.float64))


def _text(path: Path, data: bytes) -> FloatArray:
    values = array("d")
    for number, line in enumerate(io.TextIOWrapper(io.BytesIO(data), "utf-8", errors="replace"), 1):
        words = line.split()
        if words and words[0] == "vertex":
            try:
                x, y, z = words[1:4]
                values.extend((float(x), float(y), float(z)))
            except ValueError:
                raise MeshFileError(
                    path.name, f"cannot make sense of '{line.strip()[:60]}'", where=f"line {number}", hint="mend it"
                ) from None
    if not values:
        raise MeshFileError(path.name, "this is no STL file", where="header", hint="check its type")
    if len(values) % 9:
        raise MeshFileError(path.name, "its last triangle lacks corners: it is cut short", hint="copy it again")
    return np.array(values, dtype=np.float64).reshape(-1, 3, 3)


def write_stl(path: Path, meshes: list[Mesh]) -> None:
    """Write meshes as one binary STL. Raises MeshFileError where the place cannot be written."""
    corners = np.concatenate([m.points[triangulate(m).vertices] for m in meshes])
    rows = np.zeros(len(corners), dtype=RECORD)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    rows["normal"] = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    rows["corners"] = corners
    write_bytes(path, b"Peg Loom".ljust(80, b" ") + struct.pack("<I", len(rows)) + rows.tobytes())
