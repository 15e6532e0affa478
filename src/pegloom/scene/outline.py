"""The outline of a figure as the eye sees it: edges between a face that is seen from the front and one that is not."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, triangulate, weld
from pegloom.core.memo import by_identity
from pegloom.scene.camera import Camera


@by_identity
def _beside(mesh: Mesh) -> tuple[IntArray, IntArray, IntArray]:
    """Triangles (t, 3), edges (e, 2) with two triangles, and those (e, 2); edges are joined where points stand together."""
    triangles = triangulate(mesh).vertices
    group = weld(mesh).group
    told = group[triangles]
    edges = np.concatenate([told[:, [0, 1]], told[:, [1, 2]], told[:, [2, 0]]])
    own = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    owner = np.tile(np.arange(len(triangles)), 3)
    low, high = edges.min(axis=1), edges.max(axis=1)
    order = np.lexsort((high, low))
    same = (np.diff(low[order]) == 0) & (np.diff(high[order]) == 0)
    first = np.flatnonzero(same)
    return triangles, own[order[first]], np.stack([owner[order[first]], owner[order[first + 1]]], axis=1)


def outline(mesh: Mesh, points: FloatArray, camera: Camera) -> FloatArray:
    """Segments (s, 2, 3) of the outline of a posed mesh, points (n, 3)."""
    triangles, edges, pairs = _beside(mesh)
    if not len(edges):
        return np.zeros((0, 2, 3))
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    toward = camera.eye - a if camera.perspective else np.broadcast_to(camera.eye - np.array(camera.target), a.shape)
    front = (normals * toward).sum(axis=1) > 0
    seen = front[pairs[:, 0]] != front[pairs[:, 1]]
    return np.asarray(points[edges[seen]])
