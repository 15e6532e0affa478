"""Weights fitted to the elastic body: fitted row by row and eased along the skin in turn, so that no edge tears."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, weld
from pegloom.core.jobs import Progress, silent
from pegloom.core.skin.bake import candidates, fit_rows, limited, spread_columns
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.goals import Goals, squared
from pegloom.core.skin.weights import Weights, dense, packed

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

@dataclass(frozen=True, slots=True, eq=False)
class Fitted:
    """weights : fitted, at most as many joints a row as were allowed. error, error_before : metres, root mean square of the distance to
    the goals over all places and poses."""

    weights: Weights
    error: float
    error_before: float


def fit_weights(
    mesh: Mesh, weights: Weights, goals: Goals, *, influences: int, finish: Callable[[Weights], Weights] = lambda w: w, progress: Progress = silent
) -> Fitted:
    """Weights whose skinning comes nearest to some goals.

    Parameters
    ----------
    weights : where to start, those of the goals. finish : what is done to fitted weights at last, mirrored for example.

    Raises Cancelled from `progress`.
    """
    g = weld(mesh)
    rest = np.ascontiguousarray(mesh.points[g.first])
    tried, values, before = candidates(mesh, dense(weights)[g.first], SPREAD)
    # Over a long edge a neighbour says little: a coarse mesh is eased no wider than a fine one.
    near = nearness(mesh, np.full(g.count, float(np.linalg.norm(np.ptp(rest, axis=0))) / EASED))
    columns, shape = np.maximum(tried, 0), (g.count, len(weights.joint_ids))

    def eased(rows: FloatArray, passes: int) -> FloatArray:
        full = np.zeros(shape)
        np.add.at(full, (np.arange(g.count)[:, None], columns), np.where(tried >= 0, rows, 0.0))
        full = softened(full, near, passes, progress=progress)
        return limited(np.where(tried >= 0, np.take_along_axis(full, columns, axis=1), 0.0), influences)

    gram = _in_halves(rest, goals, tried)
    for number, hold in enumerate(HOLDS):
        progress(number / len(HOLDS), "fitting the weights")
        rows = np.zeros_like(before)
        fit_rows(gram, values, tried, before, max(AT_ONCE, influences), hold, rows)
        values = eased(rows, EASINGS)
    result = finish(spread_columns(eased(values, 1), tried, weights, g.group, influences))
    progress(1.0, "fitted")
    return Fitted(result, distance(mesh, goals, weights.joint_ids, result), float(np.sqrt(((goals.plain - goals.wanted) ** 2).sum(axis=2).mean())))


def distance(mesh: Mesh, goals: Goals, joint_ids: tuple[str, ...], weights: Weights) -> float:
    """Metres from what some weights do to the goals, root mean square over all places and poses. joint_ids : the goals' columns."""
    g, skin = weld(mesh), packed(weights)
    at = [joint_ids.index(j) for j in weights.joint_ids]
    now = (skin_linear(mesh.points, skin, m)[g.first] for m in squared(goals.poses[:, at]))
    return float(np.sqrt(np.mean([((a - b) ** 2).sum(axis=1).mean() for a, b in zip(now, goals.wanted, strict=True)])))


def _in_halves(rest: FloatArray, goals: Goals, tried: IntArray) -> FloatArray:
    """Products (p, c, c) of how far each joint tried takes a place from where it is wanted, summed over the poses."""
    gram = np.zeros((len(rest), tried.shape[1], tried.shape[1]))
    half = len(rest) // 2
    with ThreadPoolExecutor(2) as pool:
        for some in [pool.submit(_weigh, rest, goals.poses, goals.plain, goals.body, goals.follow, tried, a, b, gram) for a, b in ((0, half), (half, len(rest)))]:
            some.result()
    return gram


@njit(cache=True, nogil=True)
def _weigh(rest, poses, plain, body, follow, tried, first, last, gram):  # type: ignore[no-untyped-def]  # pragma: no cover
    most = tried.shape[1]
    away = np.empty((most, 3))
    for v in range(first, last):
        p = rest[v]
        for k in range(len(poses)):
            for a in range(most):
                j = tried[v, a]
                if j >= 0:
                    for d in range(3):
                        goal = plain[k, v, d] + follow[k, v] * (body[k, v, d] - plain[k, v, d])
                        away[a, d] = poses[k, j, d, 0] * p[0] + poses[k, j, d, 1] * p[1] + poses[k, j, d, 2] * p[2] + poses[k, j, d, 3] - goal
            for a in range(most):
                if tried[v, a] < 0:
                    continue
                for b in range(a + 1):
                    if tried[v, b] >= 0:
                        gram[v, a, b] += away[a, 0] * away[b, 0] + away[a, 1] * away[b, 1] + away[a, 2] * away[b, 2]
        for a in range(most):
            for b in range(a):
                gram[v, b, a] = gram[v, a, b]
