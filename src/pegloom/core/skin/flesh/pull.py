"""Skin led where it belongs in one pose: what surface that makes, and weights that come there, other poses as they are as far as they can.

Around the handle the skin takes the shape that bends and stretches least between where it is led and what lies beyond its reach (Sorkine
and Alexa, "As-rigid-as-possible surface modeling", SGP 2007): so a tear is drawn together by leading what is torn. The weights then settle
with that surface as a wish beside all trials.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra
from scipy.sparse.linalg import splu

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_lengths, weld
from pegloom.core.jobs import Progress, silent
from pegloom.core.skin.flesh.judge import Judge
from pegloom.core.skin.flesh.settle import Settling, Wish
from pegloom.core.skin.strays import without_strays
from pegloom.core.skin.weights import Weights, dense, dense_over, from_dense

TURNINGS = 12
"""Rounds of turning and placing in which the surface around the handle settles."""
ASKED = 1500.0
"""What a wish costs that is not met, beside what each trial costs."""
WIDER = 1.5
"""Reaches of the handle within which weights may change: what is around it makes room."""
STEPS, LOOKS = 90, 40
"""Steps the weights settle in, and between two looks at what is worse elsewhere."""


def around(mesh: Mesh, at: int, radius: float) -> FloatArray:
    """How much (g,) each welded place goes along with the one led: 1 there, 0 from `radius` metres along the skin on."""
    away = np.asarray(dijkstra(sparse.csr_matrix(place_lengths(mesh)), indices=np.array([at]), limit=radius)).ravel()
    return np.where(np.isfinite(away), np.clip(1.0 - (np.where(np.isfinite(away), away, radius) / radius) ** 2, 0.0, 1.0) ** 2, 0.0)


def drawn_surface(mesh: Mesh, posed: FloatArray, at: int, share: FloatArray, by: FloatArray) -> FloatArray:
    """Welded places (g, 3) of a posed surface (g, 3) with one of them led.

    share (g,) : what goes along, as of `around`; the rest stays. by (3,) : metres the place `at` is led."""
    rows = np.flatnonzero(share > 0.0)
    rest = mesh.points[weld(mesh).first]
    inner = np.full(len(rest), -1)
    inner[rows] = np.arange(len(rows))
    edges = sparse.csr_matrix(place_lengths(mesh))[rows].tocoo()
    stiff = 1.0 / np.maximum(edges.data, 1e-9)
    before = rest[rows][edges.row] - rest[edges.col]
    other = inner[edges.col]
    inside = other >= 0
    still = np.where(inside[:, None], 0.0, posed[edges.col])
    total = np.bincount(edges.row, stiff, len(rows))
    grip = 1e3 * float(total.max(initial=1.0))
    handle = int(inner[at])
    total[handle] += grip
    laplace = sparse.diags(total) - sparse.csr_matrix((stiff[inside], (edges.row[inside], other[inside])), shape=(len(rows), len(rows)))
    solved = splu(sparse.csc_matrix(laplace))
    here = posed[rows] + share[rows][:, None] * by
    for _ in range(TURNINGS):
        ends = np.where(inside[:, None], here[np.maximum(other, 0)], still)
        spread = np.zeros((len(rows), 3, 3))
        np.add.at(spread, edges.row, stiff[:, None, None] * (here[edges.row] - ends)[:, :, None] * before[:, None, :])
        u, _, v = np.linalg.svd(spread)
        u[:, :, 2] *= np.sign(np.linalg.det(u @ v))[:, None]
        turns = u @ v
        # Beyond the border nothing turns any more than what lies before it.
        both = 0.5 * (turns[edges.row] + turns[np.where(inside, other, edges.row)])
        side = np.zeros(here.shape)
        np.add.at(side, edges.row, stiff[:, None] * (np.einsum("eab,eb->ea", both, before) + still))
        side[handle] += grip * (posed[at] + by)
        here = solved.solve(side)
    result = posed.copy()
    result[rows] = here
    return result


def pulled(
    judge: Judge, weights: Weights, pose: FloatArray, surface: FloatArray, share: FloatArray, *, influences: int, wide: FloatArray,
    still: IntArray | None = None, across: IntArray | None = None, partner: IntArray | None = None, keeps: Sequence[str] = (), progress: Progress = silent,
) -> Weights:  # fmt: skip
    """Weights that bring a part's skin to a surface in one pose.

    Parameters
    ----------
    judge : of the part, held against these weights. pose (s, 4, 4) : joint matrices of the whole skeleton. surface (g, 3) : wanted, where share
    (g,) is more than 0. wide (g,) : places whose rows may change, where more than 0. still : places whose rows stay. across, partner : as of
    `Settling`. keeps : joints whose sections keep their width in this pose. Raises Cancelled from `progress`.
    """
    moving = wide > 0.0
    if across is not None:
        moving |= (across >= 0) & moving[np.maximum(across, 0)]
    if still is not None:
        moving[still] = False
        if across is not None:
            twins = across[still]
            moving[twins[twins >= 0]] = False
    asked = np.flatnonzero(share > 0.0)
    heavy = ASKED * share[asked] / np.maximum(judge.size[asked], 1e-3) ** 2
    wish = Wish(pose, asked, surface[asked], heavy, tuple(keeps))
    # A stray joint is no candidate: what is pulled sheds it, and its neighbours do not take it up.
    taught = without_strays(judge.mesh, weights)[0]
    run = Settling(judge, weights, taught=taught, influences=influences, moving=np.flatnonzero(moving), across=across, partner=partner, wishes=(wish,))
    new = run.weights(run.settled(run.rows, STEPS, looks=LOOKS, progress=progress))
    # What crept in apart from its joint's region goes; strays that were there elsewhere are not this edit's.
    was, values = dense(weights), dense(new)
    changed = np.asarray(np.abs(values - was).max(axis=1) > 0.0)
    return from_dense(np.where(changed[:, None], dense_over(without_strays(judge.mesh, new)[0], new.joint_ids), values), new.joint_ids)
