"""PLY, read and written: polygons, vertex order, vertex colours noted, texture coordinates kept.

Format: G. Turk, "The PLY polygon file format", 1994. Parsed by the plyfile package, which
checks claimed sizes as it reads.
"""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from plyfile import PlyData, PlyElement, PlyParseError

from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.document.model import Material, Part
from pegloom.files.imported import Imported, read_bytes


def read_ply(path: Path) -> Imported:
    """Read a PLY file, text or binary. Raises MeshFileError."""
    data = read_bytes(path)
    if data[:3] != b"ply":
        raise MeshFileError(path.name, "this is no PLY file", where="header", hint="check its type")
    try:
        parsed = PlyData.read(io.BytesIO(data))
        vertices = parsed["vertex"].data
        points = np.stack([vertices[a].astype(np.float64) for a in ("x", "y", "z")], axis=1)
        notes = []
        if "face" not in parsed:
            raise MeshFileError(path.name, "holds points but no faces", hint="export the mesh with its faces")
        element = parsed["face"]
        name = next((n for n in ("vertex_indices", "vertex_index") if n in element.data.dtype.names), None)
        if name is None:
            raise MeshFileError(path.name, "its faces name no vertices", where="element face", hint="export it again")
        faces = [np.asarray(f, dtype=np.int64) for f in element.data[name]]
        kept = [k for k, f in enumerate(faces) if len(set(f.tolist())) >= 3]
        if len(kept) < len(faces):
            notes.append(f"faces with under three different corners left out: {len(faces) - len(kept)}")
        if not kept:
            raise MeshFileError(path.name, "holds no surface", hint="export the mesh with its faces")
        uvs = _uvs(element.data, vertices, faces, kept)
        faces = [faces[k] for k in kept]
        sizes = np.array([len(f) for f in faces])
        mesh = make_mesh(points, np.concatenate(faces), np.concatenate([[0], np.cumsum(sizes)]), uvs=uvs)
    except MeshFileError:
        raise
    except (
        PlyParseError,
        ShapeError,
        KeyError,
        ValueError,
        TypeError,
        IndexError,
        EOFError,
        UnicodeDecodeError,
        MemoryError,
    ) as error:
        raise MeshFileError(path.name, f"cannot be read as PLY ({error})", hint="export it again") from error
    if {"red", "diffuse_red"} & set(vertices.dtype.names or ()):
        notes.append("vertex colours ignored")
    return Imported((Part("part0", path.stem, mesh),), (Material("plain"),), (), notes=tuple(notes))


def _uvs(face_rows: np.ndarray, vertices: np.ndarray, faces: list[np.ndarray], kept: list[int]) -> np.ndarray | None:
    names = set(face_rows.dtype.names or ())
    if "texcoord" in names:
        rows = [np.asarray(face_rows["texcoord"][k], dtype=np.float64).reshape(-1, 2) for k in kept]
        if all(len(row) == len(faces[k]) for row, k in zip(rows, kept, strict=True)):
            return np.concatenate(rows)
    for u, v in (("s", "t"), ("u", "v"), ("texture_u", "texture_v")):
        if {u, v} <= set(vertices.dtype.names or ()):
            table = np.stack([vertices[u], vertices[v]], axis=1).astype(np.float64)
            return np.asarray(table[np.concatenate([faces[k] for k in kept])])
    return None


def write_ply(path: Path, mesh: Mesh) -> None:
    """Write one mesh as binary PLY, polygons kept."""
    vertices = np.zeros(mesh.vertex_count, dtype=[("x", "<f4"), ("y", "<f4"), ("z", "<f4")])
    for k, axis in enumerate("xyz"):
        vertices[axis] = mesh.points[:, k]
    columns: list[tuple[str, object]] = [("vertex_indices", "O")]
    if mesh.uvs is not None:
        columns.append(("texcoord", "O"))
    faces = np.empty(mesh.face_count, dtype=columns)
    for f in range(mesh.face_count):
        span = slice(int(mesh.starts[f]), int(mesh.starts[f + 1]))
        faces["vertex_indices"][f] = mesh.corners[span].astype(np.int32)
        if mesh.uvs is not None:
            faces["texcoord"][f] = mesh.uvs[span].astype(np.float32).ravel()
    PlyData(
        [
            PlyElement.describe(vertices, "vertex"),
            PlyElement.describe(faces, "face", val_types={"vertex_indices": "i4", "texcoord": "f4"}),
        ],
        byte_order="<",
    ).write(str(path))
