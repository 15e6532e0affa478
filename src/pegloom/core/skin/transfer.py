"""Weights from one mesh to another: by the nearest surface where there is a good match, filled smoothly between.

Abdrashitov, Raichstat, Monsen, Hill, "Robust Skin Weights Transfer via Weight Inpainting", SIGGRAPH Asia 2023
Technical Communications: a match must be near and face the same way; the rest solves the biharmonic equation on the
target's own surface with the matches held. Copying alone gives a coat's inside the wrong arm, and hems that jump.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import igl
import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import (
    Mesh,
    diagonal,
    place_neighbours,
    place_triangles,
    triangulate,
    vertex_normals,
    weld,
)
from pegloom.core.geometry.operators import tufted_laplacian
from pegloom.core.skin.weights import Weights, dense, from_dense

FAR_OF_SIZE = 0.02
"""Share of the bounding diagonal beyond which a vertex counts as far from the surface it was read from."""
MATCH_OF_SIZE = 0.05
"""Share of the source's diagonal within which a match is taken."""
MATCH_ANGLE = 35.0
"""Degrees the two surfaces may face apart for a match; the other way round counts as well (thin cloth has two sides)."""


@dataclass(frozen=True, slots=True, eq=False)
class Nearest:
    """distance (n,) metres to the surface, triangle (n,), shares (n, 3) of its corners."""

    distance: FloatArray
    triangle: IntArray
    shares: FloatArray


@dataclass(frozen=True, slots=True)
class TransferReport:
    """How a transfer went, in vertices: read from a match, filled smoothly, read from the nearest place for want of any
    match on their shell;.

    far : of all, those far from the surface.
    farthest : metres.
    """

    matched: int
    filled: int
    forced: int
    far: int
    farthest: float


def nearest_on(points: FloatArray, surface: FloatArray, triangles: IntArray) -> Nearest:
    """Nearest place of a surface (s, 3), triangles (t, 3), to each point (n, 3)."""
    squared, triangle, place = igl.point_mesh_squared_distance(
        np.ascontiguousarray(points, dtype=np.float64), np.ascontiguousarray(surface, dtype=np.float64),
        np.ascontiguousarray(triangles, dtype=np.int64),
    )[:3]  # fmt: skip
    triangle = np.asarray(triangle, dtype=np.int64)
    a, b, c = (surface[triangles[triangle, k]] for k in range(3))
    u, v, w = b - a, c - a, np.asarray(place) - a
    uu, uv, vv = (u * u).sum(1), (u * v).sum(1), (v * v).sum(1)
    wu, wv = (w * u).sum(1), (w * v).sum(1)
    bottom = np.where(np.abs(uu * vv - uv * uv) < 1e-30, 1.0, uu * vv - uv * uv)
    s, t = (vv * wu - uv * wv) / bottom, (uu * wv - uv * wu) / bottom
    shares = np.clip(np.stack([1 - s - t, s, t], axis=1), 0.0, 1.0)
    shares /= np.maximum(shares.sum(axis=1, keepdims=True), 1e-12)
    return Nearest(np.sqrt(np.maximum(np.asarray(squared), 0.0)), triangle, shares)


def nearest_rows(source: Mesh, target: Mesh) -> sparse.csr_matrix:
    """The nearest place of `source` for each vertex of `target`, as rows (target, source) that add up to 1."""
    triangles = triangulate(source).vertices
    g = weld(target)
    near = nearest_on(target.points[g.first], source.points, triangles)
    corners = triangles[near.triangle][g.group]
    rows = np.repeat(np.arange(target.vertex_count), 3)
    shape = (target.vertex_count, source.vertex_count)
    return sparse.csr_matrix((near.shares[g.group].ravel(), (rows, corners.ravel())), shape=shape)


def far_from(source: Mesh, target: Mesh) -> int:
    """How many vertices of `target` lie far from the surface of `source`."""
    near = nearest_on(target.points, source.points, triangulate(source).vertices)
    return int((near.distance > FAR_OF_SIZE * max(diagonal(source.points), 1e-12)).sum())


def transfer_weights(
    source: Mesh, weights: Weights, target: Mesh, *, influences: int | None = None,
    joint_map: Mapping[str, str] | None = None, fill: bool = True, rows: BoolArray | None = None,
    leave_out: IntArray | None = None,
) -> tuple[Weights, TransferReport]:  # fmt: skip
    """Weights of `target` read from `source`.

    Parameters
    ----------
    joint_map : other names for the source's joints (another character's skeleton); joints that share a name add up.
    fill : False reads every vertex from its nearest place, whichever way it faces.
    rows : (n,) vertices to take matches from; the others are filled. None: all.
    leave_out : vertices of the source that are not read, with the faces on them: hair that hangs on shoulders.

    Vertices at one place read as one, so that seams stay closed.
    """
    triangles = triangulate(source).vertices
    if leave_out is not None and len(leave_out):
        gone = np.zeros(source.vertex_count, dtype=bool)
        gone[leave_out] = True
        triangles = triangles[~gone[triangles].any(axis=1)]
        if len(triangles) == 0:
            raise EditError("all of the source is left out; keep some of it to read from")
    g = weld(target)
    near = nearest_on(target.points[g.first], source.points, triangles)
    corners = triangles[near.triangle]
    values, joints = _renamed(weights, joint_map)
    read = np.einsum("nk,nkj->nj", near.shares, values[corners])
    size = max(diagonal(source.points), 1e-12)
    far = near.distance > FAR_OF_SIZE * size
    matched = np.ones(g.count, dtype=bool)
    forced = np.zeros(g.count, dtype=bool)
    if fill:
        matched = near.distance <= MATCH_OF_SIZE * size
        if rows is not None:
            matched &= np.asarray(rows, dtype=bool)[g.first]
        theirs = np.einsum("nk,nkd->nd", near.shares, vertex_normals(source)[corners])
        theirs /= np.maximum(np.linalg.norm(theirs, axis=1, keepdims=True), 1e-12)
        ours = vertex_normals(target)[g.first]
        matched &= np.abs(np.einsum("nd,nd->n", theirs, ours)) >= np.cos(np.radians(MATCH_ANGLE))
        # A shell with no match at all (a button facing askew) has nothing to fill from.
        _, shell = connected_components(place_neighbours(target), directed=False)
        alone = np.bincount(shell, weights=matched) == 0
        forced = alone[shell]
        read = filled(target, read, matched | forced)
    count = np.bincount(g.group, minlength=g.count)
    report = TransferReport(
        int(count[matched].sum()),
        int(count[~matched & ~forced].sum()),
        int(count[forced].sum()),
        int(count[far].sum()),
        float(near.distance.max(initial=0.0)),
    )
    return from_dense(read[g.group], joints, influences=influences), report


def _renamed(weights: Weights, joint_map: Mapping[str, str] | None) -> tuple[FloatArray, list[str]]:
    values = dense(weights)
    if not joint_map:
        return values, list(weights.joint_ids)
    named = [joint_map.get(j, j) for j in weights.joint_ids]
    joints = list(dict.fromkeys(named))
    gathered = np.zeros((len(values), len(joints)))
    for column, name in enumerate(named):
        gathered[:, joints.index(name)] += values[:, column]
    return gathered, joints


def filled(mesh: Mesh, values: FloatArray, known: BoolArray) -> FloatArray:
    """Rows (g, j) over places with the unknown ones filled smoothly: the biharmonic surface through the known.

    Every shell must hold a known row. Rows stay at least 0 and keep a sum of 1.
    """
    unknown = np.flatnonzero(~known)
    if len(unknown) == 0:
        return values
    laplacian, mass = tufted_laplacian(mesh.points[weld(mesh).first], place_triangles(mesh))
    stiff = (laplacian @ sparse.diags(1.0 / np.maximum(mass, 1e-12 * mass.max())) @ laplacian).tocsr()
    known_rows = np.flatnonzero(known)
    inner = stiff[unknown][:, unknown].tocsc()
    inner = inner + sparse.identity(len(unknown), format="csc") * (1e-9 * max(inner.diagonal().mean(), 1e-30))
    active = np.flatnonzero(values[known_rows].max(axis=0) > 0)
    right = -(stiff[unknown][:, known_rows] @ values[known_rows][:, active])
    solved = np.clip(splu(inner, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(right), 0.0, None)
    total = solved.sum(axis=1, keepdims=True)
    result = values.copy()
    result[unknown] = 0.0
    nearest = values[unknown][:, active]
    result[np.ix_(unknown, active)] = np.where(total > 1e-6, solved / np.maximum(total, 1e-12), nearest)
    return np.asarray(result)
