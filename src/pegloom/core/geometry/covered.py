"""Skin that other surfaces hide: faces a receiver can do without."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours, triangle_normals, triangulate, vertex_normals, weld

RINGS = 2
"""Rings of covered faces along the rim that stay: a sleeve that slips shows skin, no hole."""
NEIGHBOURS = 24
"""Triangles of the cover a vertex is held against, the nearest ones."""


def covered_faces(mesh: Mesh, covers: list[Mesh], reach: float, *, rings: int = RINGS) -> BoolArray:
    """Which faces (f,) of a mesh lie under others: a ray out along the normal of each of their vertices meets the cover from
    its inner side within `reach` metres. The rim of what is covered stays.

    Intersection: Moeller and Trumbore, "Fast, minimum storage ray-triangle intersection", 1997.
    """
    found = np.zeros(mesh.vertex_count, dtype=bool)
    normals = vertex_normals(mesh)
    for cover in covers:
        if cover.face_count:
            found |= _under(mesh.points, normals, cover, reach)
    g = weld(mesh)
    # A place is covered only with all the vertices that stand there.
    open_places = np.zeros(g.count, dtype=bool)
    open_places[g.group[~found]] = True
    near = place_neighbours(mesh)
    for _ in range(rings):
        open_places |= np.asarray(near @ open_places.astype(np.float64)).ravel() > 0
    hidden = ~open_places[g.group]
    return np.asarray(np.logical_and.reduceat(hidden[mesh.corners], mesh.starts[:-1])) if mesh.face_count else np.zeros(0, dtype=bool)


def _under(points: FloatArray, normals: FloatArray, cover: Mesh, reach: float) -> BoolArray:
    triangles: IntArray = triangulate(cover).vertices
    corners = cover.points[triangles]
    outward = triangle_normals(cover.points, triangles)
    sizes = np.linalg.norm(outward, axis=1, keepdims=True)
    outward = outward / np.maximum(sizes, 1e-30)
    tree = cKDTree(corners.mean(axis=1))
    spread = float(np.sqrt(sizes.max(initial=0.0)))
    count = min(NEIGHBOURS, len(triangles))
    _, nearest = tree.query(points + 0.5 * reach * normals, k=count, distance_upper_bound=reach + 2.0 * spread)
    index = np.asarray(nearest).reshape(len(points), count)
    found = np.zeros(len(points), dtype=bool)
    for k in range(count):
        rows = np.flatnonzero((index[:, k] < len(triangles)) & ~found)
        if not len(rows):
            continue
        chosen = index[rows, k]
        meets = _meets(points[rows], normals[rows], corners[chosen], reach)
        found[rows] = meets & ((outward[chosen] * normals[rows]).sum(axis=1) > 0.0)
    return found


def _meets(origins: FloatArray, ways: FloatArray, corners: FloatArray, reach: float) -> BoolArray:
    """Whether rays (m, 3) meet their triangles (m, 3, 3) within reach."""
    a, ab, ac = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    p = np.cross(ways, ac)
    size = (ab * p).sum(axis=1)
    usable = np.abs(size) > 1e-30
    inverse = np.where(usable, 1.0 / np.where(usable, size, 1.0), 0.0)
    t = origins - a
    u = (t * p).sum(axis=1) * inverse
    q = np.cross(t, ab)
    v = (ways * q).sum(axis=1) * inverse
    way = (ac * q).sum(axis=1) * inverse
    return np.asarray(usable & (u >= -1e-9) & (v >= -1e-9) & (u + v <= 1.0 + 1e-9) & (way > 0.0) & (way <= reach))
