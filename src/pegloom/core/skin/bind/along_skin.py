"""Bind along the skin: heat spreads over the surface from the bones each vertex sees.

I. Baran and J. Popovic, "Automatic rigging and animation of 3D characters", SIGGRAPH 2007, section 4. For each
joint i the paper solves  (-Laplacian + H) w_i = H p_i, where p_i is 1 where joint i's bone is the nearest in sight,
and H is c / d^2 there and 0 where no bone is in sight. Here:
- the Laplacian is the intrinsic, tufted one (N. Sharp and K. Crane, "A Laplacian for nonmanifold triangle meshes",
  SGP 2020), taken over welded places, so that seams, open borders and non-manifold edges do not stop the heat;
- sight is looked for inside the solid of all bound parts, not against single triangles;
- bones about equally near share p, so that a vertex does not jump from one to the next;
- a shell that sees no bone at all takes its nearest bones; a small shell moves as one piece.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours, place_triangles, weld
from pegloom.core.geometry.operators import tufted_laplacian
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.surface import small_shells, view_bones, weight_joints
from pegloom.core.skin.weights import Weights, from_dense

HEAT = 3.0
"""The paper's c: how strongly a bone in sight holds against spreading. The paper takes 1; at 3 a thick-set figure's
shoulder stretches a quarter less with the arm up and keeps 2 to 3 percent more volume in a crouch."""
NEARLY = 1.06
"""Bones up to this many times as far as the nearest count as equally near."""


def bind_along_skin(
    mesh: Mesh,
    skeleton: Skeleton,
    solid: Solid,
    *,
    influences: int = 4,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:
    """Weights of one part by heat along its surface.

    Raises
    ------
    Cancelled
        From `progress`.
    """
    joints = weight_joints(skeleton)
    g = weld(mesh)
    view = view_bones(mesh, skeleton, joints, solid, progress=part_of(progress, 0.0, 0.5))
    progress(0.5, "laying out the surface")
    heat, wanted = _sources(view.distance, view.in_sight)
    laplacian, mass = offload(tufted_laplacian, mesh.points[g.first], place_triangles(mesh))
    heat = _reach_every_shell(mesh, heat, view.distance)
    progress(0.6, "factorising")
    heat_terms = sparse.diags(mass * heat)
    system = (
        laplacian + heat_terms + sparse.diags(np.full(g.count, 1e-12 * float(mass.mean() * heat.max() + 1e-30)))
    ).tocsc()
    factor = splu(system, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}, diag_pivot_thresh=0.0)
    values = np.zeros((g.count, len(joints)))
    for column in range(len(joints)):
        if column % 4 == 0:
            progress(0.65 + 0.3 * column / len(joints), f"spreading {skeleton.joints[joints[column]].name}")
        right = mass * heat * wanted[:, column]
        if right.any():
            values[:, column] = factor.solve(right)
    values = np.clip(values, 0.0, None)
    _fill_empty(values, wanted)
    values /= values.sum(axis=1, keepdims=True)
    for shell in small_shells(mesh):
        row = values[shell].mean(axis=0)
        values[shell] = 0.0
        # A small hard thing on one joint stays whole; spread over several it would shear.
        values[shell, int(np.argmax(row))] = 1.0
    values = drop_islands(values, place_neighbours(mesh))
    progress(1.0, "weights done")
    return from_dense(values[g.group], [skeleton.joints[j].id for j in joints], influences=influences)


def _sources(distance: FloatArray, in_sight: np.ndarray) -> tuple[FloatArray, FloatArray]:
    """H (g,) and p (g, j)."""
    seen = np.where(in_sight, distance, np.inf)
    # Where nothing is seen, the nearest bone holds a little, so that hidden folds follow something near.
    nearest = seen.min(axis=1)
    blind = ~np.isfinite(nearest)
    base = np.where(blind, distance.min(axis=1), nearest)
    candidates = np.where(blind[:, None], distance, seen)
    close = candidates <= NEARLY * base[:, None] + 1e-12
    share = np.where(close, 1.0, 0.0)
    share /= share.sum(axis=1, keepdims=True)
    heat = HEAT / np.maximum(base, 1e-4) ** 2
    heat[blind] = 0.0
    return heat, share


def _reach_every_shell(mesh: Mesh, heat: FloatArray, distance: FloatArray) -> FloatArray:
    """A shell on which nothing sees a bone gets sources all the same, or the system has no answer there."""
    count, label = connected_components(place_neighbours(mesh), directed=False)
    warm = np.bincount(label, weights=heat > 0, minlength=count) > 0
    cold = ~warm[label]
    heat = heat.copy()
    heat[cold] = HEAT / np.maximum(distance[cold].min(axis=1), 1e-4) ** 2
    return heat


def _fill_empty(values: FloatArray, wanted: FloatArray) -> None:
    """Rows that came out empty (numerically lost) take their nearest bones."""
    empty = values.sum(axis=1) < 1e-9
    values[empty] = wanted[empty]


def drop_islands(values: FloatArray, neighbours: sparse.csr_matrix, *, share: float = 0.25) -> FloatArray:
    """Remove, per joint, regions of weight that are not joined to its main one and under `share` of it.

    values (g, j) rows adding to 1; neighbours (g, g). What is dropped goes to the row's other influences; a row
    that would lose everything keeps what it has.
    """
    result = values.copy()
    for column in range(values.shape[1]):
        region = np.flatnonzero(values[:, column] > 0.02)
        if len(region) < 2:
            continue
        count, label = connected_components(neighbours[region][:, region], directed=False)
        if count < 2:
            continue
        total = np.bincount(label, weights=values[region, column])
        loose = total < share * total.max()
        result[region[loose[label]], column] = 0.0
    lost = result.sum(axis=1) < 0.05
    result[lost] = values[lost]
    return np.asarray(result / result.sum(axis=1, keepdims=True))
