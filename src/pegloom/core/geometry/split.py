"""Vertices split where UVs or normals part, as graphics cards and glTF want them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, triangulate, vertex_normals
from pegloom.core.memo import by_identity


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Split:
    """glTF vertices of a mesh: which vertex each comes from (m,), its uv (m, 2) and normal (m, 3); triangles (t, 3).

    layers : as of the mesh, (m, w).
    """

    vertex: IntArray
    uvs: FloatArray | None
    normals: FloatArray
    triangles: IntArray
    triangle_material: IntArray
    layers: Mapping[str, FloatArray]


@by_identity
def split_vertices(mesh: Mesh) -> Split:
    """One glTF vertex per vertex, UV and normal. The first use of each vertex keeps its number; others follow."""
    tri = triangulate(mesh)
    n = mesh.vertex_count
    columns = [mesh.corners]
    if mesh.uvs is not None:
        columns += list(np.round(mesh.uvs * 1e6).astype(np.int64).T)
    if mesh.normals is not None:
        columns += list(np.round(mesh.normals * 1e4).astype(np.int64).T)
    for values in mesh.layers.values():
        columns += list(np.round(values * 1e6).astype(np.int64).T)
    first, inverse = _distinct_rows(columns)
    # Variants in the order of their first corner; the first variant of a vertex takes the vertex's own place.
    order = np.argsort(first)
    vertex_of = mesh.corners[first[order]]
    _, first_variant = np.unique(vertex_of, return_index=True)
    is_first = np.zeros(len(order), dtype=bool)
    is_first[first_variant] = True
    number = np.empty(len(order), dtype=np.int64)
    number[is_first] = vertex_of[is_first]
    number[~is_first] = n + np.arange(int((~is_first).sum()))
    of_unique = np.empty(len(order), dtype=np.int64)
    of_unique[order] = number
    corner_number = of_unique[inverse]
    total = n + int((~is_first).sum())
    vertex = np.concatenate([np.arange(n), vertex_of[~is_first]])
    normals = vertex_normals(mesh)[vertex].copy()
    if mesh.normals is not None:
        normals[corner_number] = mesh.normals
    uvs = None
    if mesh.uvs is not None:
        uvs = np.zeros((total, 2))
        uvs[corner_number] = mesh.uvs
    layers = {}
    for name, values in mesh.layers.items():
        layers[name] = np.zeros((total, values.shape[1]))
        layers[name][corner_number] = values
    return Split(vertex, uvs, normals, corner_number[tri.corners], mesh.materials[tri.faces], layers)


def _distinct_rows(columns: list[IntArray]) -> tuple[IntArray, IntArray]:
    """First row of each distinct one, and which distinct one each row (c,) is. Sorted column by column: many times
    as quick as sorting rows whole, which would hold the interpreter for long."""
    count = len(columns[0])
    order = np.lexsort([np.arange(count), *columns[::-1]])
    new = np.zeros(count, dtype=bool)
    if count:
        new[0] = True
    for column in columns:
        ranked = column[order]
        new[1:] |= ranked[1:] != ranked[:-1]
    inverse = np.empty(count, dtype=np.int64)
    inverse[order] = np.cumsum(new) - 1
    return np.asarray(order[new]), inverse
