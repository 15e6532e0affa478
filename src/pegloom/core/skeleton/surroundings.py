"""How a file's joints lie in its mesh: a limb's bones run through flesh, those of a skirt, a cape or hair along a sheet."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import sample_surface_normals
from pegloom.core.skeleton.joints import Joint, Skeleton

ALONG = (0.15, 0.5, 0.85)
"""Where along a bone the flesh around it is looked at: not at its ends, which stand in what it is jointed to."""
NEAREST, MOST = 9, 0.5
"""Places of the surface that are asked whether a point lies inside, and the share of them that must say so."""


def with_thickness(skeleton: Skeleton, points: FloatArray, triangles: IntArray) -> Skeleton:
    """The skeleton with each joint's `thick`: the middle of how far the skin is from its bone, 0 of one that lies in none.

    points (n, 3), triangles (t, 3), in the same space; faces may look outward or inward. Thickness is told in shares of the
    mesh's extent. Without a surface the skeleton is as it was.
    """
    extent = float(np.ptp(points, axis=0).max()) if len(points) else 0.0
    if extent <= 0 or not len(triangles) or not skeleton.joints:
        return skeleton
    places, normals = sample_surface_normals(points, triangles)
    a, b, c = (points[triangles[:, k]] - points[0] for k in range(3))
    if float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum()) < 0:
        normals = -normals
    tree = cKDTree(places)
    below: dict[str, list[Joint]] = {}
    for joint in skeleton.joints:
        if joint.parent is not None:
            below.setdefault(joint.parent, []).append(joint)
    known = []
    for joint in skeleton.joints:
        ends = [np.array(child.position) for child in below.get(joint.id, [])]
        ends += [np.array(joint.tail)] if joint.tail is not None else []
        start = np.array(joint.position)
        bones = [np.array([start + share * (end - start) for share in ALONG]) for end in ends] or [start[None]]
        # Of a thigh that carries a skirt, too, the thickest of what begins there counts.
        thick = max(float(np.median(_flesh(bone, tree, places, normals))) for bone in bones)
        known.append(replace(joint, thick=thick / extent))
    return Skeleton(tuple(known))


def _flesh(at: FloatArray, tree: cKDTree, places: FloatArray, normals: FloatArray) -> FloatArray:
    """How far the surface is from points (m, 3) inside it; 0 outside."""
    apart, near = (np.asarray(v) for v in tree.query(at, k=min(NEAREST, len(places))))
    apart, near = apart.reshape(len(at), -1), near.reshape(len(at), -1)
    outward = np.einsum("mki,mki->mk", places[near] - at[:, None], normals[near]) > 0
    return np.where(outward.mean(axis=1) > MOST, apart[:, 0], 0.0)
