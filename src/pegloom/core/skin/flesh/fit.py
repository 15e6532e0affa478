"""Weights fitted to the elastic body: fitted row by row and eased along the skin in turn, so that no edge tears."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_neighbours, weld
from pegloom.core.jobs import Progress, ask, part_of, silent
from pegloom.core.skin.bake import candidates, fit_rows, gather, limited, packed_rows, spread_columns
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.body import Flesh
from pegloom.core.skin.flesh.elastic import posed_flesh
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.weights import Weights, dense, from_dense, packed

AT_ONCE = 8
"""Joints of a row while it is fitted; it is cut to what is allowed after each easing."""
SPREAD = 8
"""Rings around a place whose joints are tried."""
HOLDS = (2e-4, 5e-3, 2e-2, 5e-2)
"""How much each round holds on to what the one before left eased, as a share of how far the joints disagree."""
EASED = 110
"""Shares of the diagonal: how long an edge may be for its ends to be eased as one."""
EASINGS = 4
"""Half-passes of the umbrella operator after each round."""


STRAINED = (0.02, 0.12)
"""Strain of a place's edges from which weights begin to follow the body, and from which they do so wholly."""
WIDER = 6
"""Rings over which what is strained spreads."""


@dataclass(frozen=True, slots=True, eq=False)
class Fitted:
    """weights : fitted, at most as many joints a row as were allowed. error, error_before : metres, root mean square of the distance to
    the elastic body over all places and poses."""

    weights: Weights
    error: float
    error_before: float


def fit_weights(
    mesh: Mesh, weights: Weights, flesh: Flesh, poses: Sequence[FloatArray], *, influences: int, progress: Progress = silent
) -> Fitted:
    """Weights whose skinning comes nearest to the elastic body over some poses.

    Parameters
    ----------
    weights : where to start. flesh : of the mesh's welded places. poses : joint matrices (j, 4, 4) of each, in the weights' columns.

    Raises Cancelled from `progress`.
    """
    g = weld(mesh)
    rest = np.ascontiguousarray(mesh.points[g.first])
    start = dense(weights)[g.first]
    tried, reference, before = candidates(mesh, start, SPREAD)
    gram = np.zeros((g.count, tried.shape[1], tried.shape[1]))
    wasted, first = np.zeros(g.count), packed_rows(start)
    ring = place_neighbours(mesh)
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)[:, None]
    # Over a long edge a neighbour says little: a coarse mesh is eased no wider than a fine one.
    near = nearness(mesh, np.full(g.count, float(np.linalg.norm(np.ptp(rest, axis=0))) / EASED))
    edges, skin = place_edges(mesh), packed(from_dense(start, weights.joint_ids))
    for number, matrices in enumerate(poses):
        progress(0.85 * number / len(poses), f"bending the body, pose {number + 1} of {len(poses)}")
        body = posed_flesh(flesh, matrices, rest, progress=part_of(progress, 0.85 * number / len(poses), 0.85 * (number + 1) / len(poses)))
        plain = skin_linear(rest, skin, matrices)
        share = _strained(rest, plain, edges, ring, degree)
        wanted = plain + share[:, None] * (body - plain)
        gather(rest, np.ascontiguousarray(matrices[:, :3, :]), wanted, tried, gram, *first, wasted)
    columns = np.maximum(tried, 0)
    values = reference

    def eased(rows: FloatArray, passes: int) -> FloatArray:
        full = np.zeros((g.count, len(weights.joint_ids)))
        np.add.at(full, (np.arange(g.count)[:, None], columns), np.where(tried >= 0, rows, 0.0))
        full = softened(full, near, passes, progress=progress)
        cut = np.where(tried >= 0, np.take_along_axis(full, columns, axis=1), 0.0)
        return limited(cut, influences)

    for number, hold in enumerate(HOLDS):
        ask(progress)
        progress(0.85 + 0.15 * number / len(HOLDS), "fitting the weights")
        fitted = np.zeros_like(before)
        fit_rows(gram, values, tried, before, max(AT_ONCE, influences), hold, fitted)
        values = eased(fitted, EASINGS)
    values = eased(values, 1)
    error = float(np.sqrt(np.einsum("ni,nij,nj->n", values, gram, values).mean() / max(len(poses), 1)))
    progress(1.0, "fitted")
    return Fitted(spread_columns(values, tried, weights, g.group, influences), error, float(np.sqrt(wasted.mean() / max(len(poses), 1))))


def _strained(rest: FloatArray, plain: FloatArray, edges: IntArray, ring: sparse.csr_matrix, degree: FloatArray) -> FloatArray:
    """How far (p,), 0 to 1, each place is to follow the body: not where the weights bend it well already, so that a pose that is
    sound is not given up for one that is not."""
    bent = np.abs(edge_stretch(rest, plain, edges) - 1.0)
    strain = np.zeros(len(rest))
    for side in (0, 1):
        np.maximum.at(strain, edges[:, side], bent)
    for _ in range(WIDER):
        strain = np.maximum(strain, np.asarray(ring @ strain) / degree[:, 0])
    low, high = STRAINED
    return np.asarray(np.clip((strain - low) / (high - low), 0.0, 1.0))
