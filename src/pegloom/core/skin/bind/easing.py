"""Softening of weights along the surface, and the steps and tears that are left eased."""

from __future__ import annotations

import numpy as np
from numba import njit
from scipy import sparse

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, place_lengths, place_neighbours, weld
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skin.bind.branches import Spread, Trunk
from pegloom.core.skin.weights import limited_rows

CLIFF = 0.8
EASINGS = 12
STRETCH = 1.5
STEPS = 140
GIVES_BACK_AFTER = 10
"""Steps of easing alone before the middle is given back: only what still tears then is."""
CUTS_AFTER = 60
"""Steps in which a row may hold more than its influences: cut at each, rows where limbs tie would go round in circles."""


def nearness(mesh: Mesh, scale: FloatArray | None = None) -> sparse.csr_matrix:
    """How much (g, g) each welded place takes of its neighbours' in one pass of `softened`.

    Where a `scale` (g,) is given, about how wide a blend is there, a neighbour counts less the farther it lies in
    measures of that: on a coarse mesh as on a fine one no pass carries weight farther. Without, all count alike.
    """
    lengths = place_lengths(mesh).tocoo()
    share = np.ones(len(lengths.data))
    if scale is not None:
        wide = 0.5 * (scale[lengths.row] + scale[lengths.col])
        share = 1.0 / (1.0 + (lengths.data / np.maximum(wide, 1e-12)) ** 2)
    degree = np.bincount(lengths.row, minlength=lengths.shape[0])
    return sparse.csr_matrix((share / degree[lengths.row], (lengths.row, lengths.col)), shape=lengths.shape)


def softened(
    values: FloatArray, near: sparse.csr_matrix, passes: int, *, progress: Progress = silent
) -> FloatArray:
    """Values (g, j) half way toward their neighbours', as far as these are near (g, g), some times over."""
    own = 1.0 - 0.5 * np.asarray(near.sum(axis=1))
    for _ in range(passes):
        ask(progress)
        values = own * values + 0.5 * (near @ values)
    return values


def without_cliffs(
    values: FloatArray, near: sparse.csr_matrix, influences: int, *, progress: Progress = silent
) -> FloatArray:
    """Rows (g, j) that differ from a near neighbour's by more than CLIFF (0 to 2) eased toward their neighbours'.

    near (g, g) as of `nearness`: over a long edge a large difference is no step.
    Where more limbs tie than a row may hold, which few are kept can change from one place to the next.
    """
    share = sparse.triu(near, k=1).tocoo()
    degree = np.maximum(np.bincount(near.tocoo().row, minlength=len(values)), 1)
    ends = np.stack([share.row, share.col], axis=1)
    closeness = np.minimum(share.data * degree[share.row], 1.0)
    total = np.maximum(np.asarray(near.sum(axis=1)).ravel(), 1e-12)
    values = values.copy()
    steep = np.zeros(len(ends), dtype=bool)
    again = np.arange(len(ends))
    for _ in range(EASINGS):
        ask(progress)
        steep[again] = (np.abs(values[ends[again, 0]] - values[ends[again, 1]]).sum(axis=1) * closeness[again]) > CLIFF
        if not steep.any():
            break
        places = np.unique(ends[steep])
        mean = np.asarray(near[places] @ values) / total[places, None]
        values[places] = limited_rows(0.5 * (values[places] + mean), influences)
        changed = np.zeros(len(values), dtype=bool)
        changed[places] = True
        again = np.flatnonzero(changed[ends].any(axis=1))
    return values


def eased(
    values: FloatArray, mesh: Mesh, origins: FloatArray, trunk: Trunk, spread: Spread, influences: int,
    *, progress: Progress = silent,
) -> FloatArray:  # fmt: skip
    """Rows (g, j) eased toward their neighbours' where an edge would stretch by more than STRETCH when a joint turns.

    origins (j, 3) : the joints. An edge whose ends follow a joint's branch by shares that differ by s opens, for a small
    turn, by s times its way from that joint, per radian; that over its length is what is held down. Crotch and armpit,
    far from their joints and finely meshed, get wider blends than a finger's web.
    """
    g, neighbours, tree = weld(mesh), place_neighbours(mesh), trunk.tree
    places = mesh.points[g.first]
    edges = sparse.triu(neighbours, k=1).tocoo()
    ends = np.stack([edges.row, edges.col], axis=1).astype(np.int64)
    below = np.zeros((len(origins), len(origins)))
    for k, rows in enumerate(tree.below):
        below[rows, k] = 1.0
    # A neighbour at the far end of a long edge says little of what is here.
    weight = 1.0 / np.maximum(np.linalg.norm(places[edges.row] - places[edges.col], axis=1), 1e-12)
    ring = sparse.csr_matrix((weight, (edges.row, edges.col)), shape=neighbours.shape)
    ring = (ring + ring.T).tocsr()
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1e-12)
    ask(progress)
    values = values.copy()
    follow = values @ below
    changed = np.ones(len(values), dtype=bool)
    steep = np.zeros(len(ends), dtype=bool)
    for step in range(STEPS):
        progress(step / STEPS, "easing what would tear")
        again = np.flatnonzero(changed[ends].any(axis=1))
        steep[again] = opening(follow, places, origins, ends[again]) > STRETCH
        if not steep.any():
            break
        touched = np.unique(ends[steep])
        mean = np.asarray(ring[touched] @ values) / degree[touched, None]
        mixed = 0.5 * (values[touched] + mean)
        if step >= GIVES_BACK_AFTER:
            mixed = trunk.given_back(mixed, touched)
        mixed = spread.held_in(mixed, touched)
        values[touched] = limited_rows(mixed, influences if step >= CUTS_AFTER else None)
        follow[touched] = values[touched] @ below
        changed[:] = False
        changed[touched] = True
    ask(progress)
    return limited_rows(values, influences)


@njit(cache=True, nogil=True)
def opening(follow, places, origins, ends):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Most (e,) that each edge opens per radian of any one joint, in shares of its length."""
    result = np.zeros(len(ends))
    for e in range(len(ends)):
        a, b = ends[e, 0], ends[e, 1]
        length = 0.0
        for k in range(3):
            length += (places[a, k] - places[b, k]) ** 2
        length = max(np.sqrt(length), 1e-12)
        for j in range(follow.shape[1]):
            step = abs(follow[a, j] - follow[b, j])
            if step < 0.01:
                continue
            lever = 0.0
            for k in range(3):
                lever += (0.5 * (places[a, k] + places[b, k]) - origins[j, k]) ** 2
            result[e] = max(result[e], step * np.sqrt(lever) / length)
    return result
