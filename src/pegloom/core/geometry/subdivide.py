"""Subdivision surfaces: a cage smoothed as a matrix, so that a posed cage is smoothed by one product.

Quads: E. Catmull and J. Clark, "Recursively generated B-spline surfaces on arbitrary topological meshes", 1978.
Triangles: C. Loop, "Smooth subdivision surfaces based on triangles", 1987. Borders follow the cubic B-spline of their
own edge (H. Biermann, A. Levin, D. Zorin, 2000). Vertices at one place are one; UVs are split evenly, not smoothed.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import sparse

from pegloom.core.arrays import IntArray
from pegloom.core.geometry.mesh import Mesh, make_mesh, triangulate, weld


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Smoothed:
    """mesh : the fine mesh at rest.
    matrix (fine vertices, cage vertices) : fine points of any cage points.
    """

    mesh: Mesh
    matrix: sparse.csr_matrix


def catmull_clark(mesh: Mesh, levels: int = 1) -> Smoothed:
    """Smooth polygons into quads, `levels` times (each makes about four times as many)."""
    return _repeated(mesh, levels, _catmull_clark_once)


def loop(mesh: Mesh, levels: int = 1) -> Smoothed:
    """Smooth triangles (polygons are cut into triangles first)."""
    tri = triangulate(mesh)
    plain = make_mesh(
        mesh.points, tri.vertices.ravel(), np.arange(len(tri.vertices) + 1) * 3,
        uvs=None if mesh.uvs is None else mesh.uvs[tri.corners.ravel()], materials=mesh.materials[tri.faces],
    )  # fmt: skip
    return _repeated(plain, levels, _loop_once)


def _repeated(mesh: Mesh, levels: int, once: object) -> Smoothed:
    g = weld(mesh)
    matrix = sparse.csr_matrix((np.ones(g.count), (np.arange(g.count), g.first)), shape=(g.count, mesh.vertex_count))
    # Seams part again only by UVs, which live on corners: the cage is welded first.
    here = make_mesh(
        mesh.points[g.first], g.group[mesh.corners], mesh.starts, uvs=mesh.uvs, materials=mesh.materials
    )  # fmt: skip
    for _ in range(levels):
        here, step = once(here)  # type: ignore[operator]
        matrix = sparse.csr_matrix(step @ matrix)
    return Smoothed(here, matrix)


def _edges(mesh: Mesh) -> tuple[IntArray, IntArray, IntArray, IntArray]:
    """Edges (e, 2), the edge of each corner (c,), the face of each corner (c,), faces an edge has (e,)."""
    following = np.arange(1, len(mesh.corners) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    pairs = np.sort(np.stack([mesh.corners, mesh.corners[following]], axis=1), axis=1)
    key = pairs[:, 0] * np.int64(mesh.vertex_count) + pairs[:, 1]
    unique, number = np.unique(key, return_inverse=True)
    edges = np.stack([unique // mesh.vertex_count, unique % mesh.vertex_count], axis=1)
    face = np.repeat(np.arange(mesh.face_count), np.diff(mesh.starts))
    return edges, number, face, np.bincount(number, minlength=len(edges))


def _catmull_clark_once(mesh: Mesh) -> tuple[Mesh, sparse.csr_matrix]:
    n, f = mesh.vertex_count, mesh.face_count
    edges, edge_of, face_of, uses = _edges(mesh)
    e, c = len(edges), len(mesh.corners)
    sizes = np.diff(mesh.starts)
    faces = sparse.csr_matrix((1.0 / sizes[face_of], (face_of, mesh.corners)), shape=(f, n))
    ends = sparse.csr_matrix((np.ones(2 * e), (np.repeat(np.arange(e), 2), edges.ravel())), shape=(e, n))
    around = sparse.csr_matrix((np.ones(c), (edge_of, face_of)), shape=(e, f))
    inner = uses == 2
    edge_rows = sparse.diags(np.where(inner, 0.25, 0.5)) @ ends + sparse.diags(np.where(inner, 0.25, 0.0)) @ (
        around @ faces
    )
    border = uses != 2
    on_border = np.zeros(n, dtype=bool)
    on_border[edges[border].ravel()] = True
    valence = np.maximum(np.bincount(edges.ravel(), minlength=n), 1).astype(np.float64)
    per_vertex = sparse.csr_matrix((np.ones(c), (mesh.corners, face_of)), shape=(n, f))
    face_count = np.maximum(np.asarray(per_vertex.sum(axis=1)).ravel(), 1.0)
    face_mean = sparse.diags(1.0 / face_count) @ per_vertex @ faces
    edge_mean = sparse.diags(0.5 / valence) @ ends.T @ ends
    smooth = sparse.diags(1.0 / valence) @ (face_mean + 2 * edge_mean) + sparse.diags((valence - 3) / valence)
    vertex_rows = _with_border(smooth, edges[border], on_border, n)
    matrix = sparse.csr_matrix(sparse.vstack([vertex_rows, edge_rows, faces]))
    # Each corner becomes a quad: its vertex, the next edge's middle, the face's middle, the edge before.
    before = np.arange(-1, c - 1)
    before[mesh.starts[:-1]] = mesh.starts[1:] - 1
    quads = np.stack([mesh.corners, n + edge_of, n + e + face_of, n + edge_of[before]], axis=1)
    uvs = None
    if mesh.uvs is not None:
        following = np.arange(1, c + 1)
        following[mesh.starts[1:] - 1] = mesh.starts[:-1]
        middle = np.stack([np.bincount(face_of, weights=mesh.uvs[:, k], minlength=f) / sizes for k in range(2)], axis=1)
        half = (mesh.uvs + mesh.uvs[following]) / 2
        uvs = np.stack([mesh.uvs, half, middle[face_of], half[before]], axis=1).reshape(-1, 2)
    result = make_mesh(
        matrix @ mesh.points, quads.ravel(), np.arange(c + 1) * 4, uvs=uvs, materials=mesh.materials[face_of]
    )
    return result, matrix


def _with_border(smooth: Any, border: IntArray, on_border: np.ndarray, n: int) -> sparse.csr_matrix:
    """Vertex rows: inside as given; on a border 3/4 own and 1/8 of each neighbour along it; a corner stays."""
    rows = np.concatenate([border[:, 0], border[:, 1]])
    columns = np.concatenate([border[:, 1], border[:, 0]])
    along = sparse.csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(n, n))
    degree = np.asarray(along.sum(axis=1)).ravel()
    plain = on_border & (degree == 2)
    fixed = on_border & (degree != 2)
    inside = ~on_border
    return sparse.csr_matrix(
        sparse.diags(inside.astype(float)) @ smooth
        + sparse.diags(np.where(plain, 0.125, 0.0)) @ along
        + sparse.diags(np.where(plain, 0.75, 0.0) + fixed)
    )


def _loop_once(mesh: Mesh) -> tuple[Mesh, sparse.csr_matrix]:
    n = mesh.vertex_count
    edges, edge_of, _, uses = _edges(mesh)
    e, c = len(edges), len(mesh.corners)
    tri = mesh.corners.reshape(-1, 3)
    opposite = tri[:, [2, 0, 1]].ravel()
    ends = sparse.csr_matrix((np.ones(2 * e), (np.repeat(np.arange(e), 2), edges.ravel())), shape=(e, n))
    across = sparse.csr_matrix((np.ones(c), (edge_of, opposite)), shape=(e, n))
    inner = uses == 2
    edge_rows = sparse.diags(np.where(inner, 0.375, 0.5)) @ ends + sparse.diags(np.where(inner, 0.125, 0.0)) @ across
    border = edges[~inner]
    on_border = np.zeros(n, dtype=bool)
    on_border[border.ravel()] = True
    both = sparse.csr_matrix(
        (np.ones(2 * e), (np.concatenate([edges[:, 0], edges[:, 1]]), np.concatenate([edges[:, 1], edges[:, 0]]))),
        shape=(n, n),
    )
    valence = np.maximum(np.asarray(both.sum(axis=1)).ravel(), 1.0)
    beta = (0.625 - (0.375 + 0.25 * np.cos(2 * np.pi / valence)) ** 2) / valence
    smooth = sparse.diags(beta) @ both + sparse.diags(1.0 - valence * beta)
    matrix = sparse.csr_matrix(sparse.vstack([_with_border(smooth, border, on_border, n), edge_rows]))
    m = (n + edge_of).reshape(-1, 3)
    faces = np.concatenate(
        [
            np.stack([tri[:, 0], m[:, 0], m[:, 2]], 1), np.stack([tri[:, 1], m[:, 1], m[:, 0]], 1),
            np.stack([tri[:, 2], m[:, 2], m[:, 1]], 1), m,
        ]
    )  # fmt: skip
    uvs = None
    if mesh.uvs is not None:
        uv = mesh.uvs.reshape(-1, 3, 2)
        half = (uv + uv[:, [1, 2, 0]]) / 2
        uvs = np.concatenate(
            [
                np.stack([uv[:, 0], half[:, 0], half[:, 2]], 1), np.stack([uv[:, 1], half[:, 1], half[:, 0]], 1),
                np.stack([uv[:, 2], half[:, 2], half[:, 1]], 1), half,
            ]
        ).reshape(-1, 2)  # fmt: skip
    result = make_mesh(
        matrix @ mesh.points,
        faces.ravel(),
        np.arange(len(faces) + 1) * 3,
        uvs=uvs,
        materials=np.tile(mesh.materials, 4),
    )
    return result, matrix
