"""Where a surface is hollow and where it stands out: what gives form to one plain colour."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.mesh import Mesh, place_lengths, place_neighbours, vertex_normals, weld
from pegloom.core.memo import by_identity

SCALES = ((4, 0.9), (16, 1.5))
"""Passes of smoothing a place is held against, and how much each counts: fine creases, and the hollows between muscles."""


@by_identity
def cavity(mesh: Mesh) -> FloatArray:
    """How hollow (n,) the surface is at each vertex: 1 in a crease, 0 on a plain, -1 on a ridge.

    How far the surface around lies over the place along its normal, in lengths of its edges, as the umbrella operator tells it
    (G. Taubin, "A signal processing approach to fair surface design", 1995).
    """
    g = weld(mesh)
    if g.count == 0:
        return np.zeros(mesh.vertex_count)
    ring = place_neighbours(mesh)
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)[:, None]
    length = np.asarray(place_lengths(mesh).sum(axis=1)).ravel() / degree[:, 0]
    places, normals = mesh.points[g.first], vertex_normals(mesh)[g.first]
    smooth, done = places, 0
    total = np.zeros(g.count)
    for passes, counts in SCALES:
        for _ in range(passes - done):
            smooth = 0.5 * smooth + 0.5 * (ring @ smooth) / degree
        done = passes
        lies = np.einsum("ij,ij->i", smooth - places, normals)
        total += counts * lies / np.maximum(length * np.sqrt(passes), 1e-12)
    # Single vertices of a rough mesh are no form.
    for _ in range(3):
        total = 0.5 * total + 0.5 * (ring @ total) / degree[:, 0]
    return np.asarray(frozen(np.clip(total, -1.0, 1.0)[g.group]))
