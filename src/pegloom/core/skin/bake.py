"""Any deformation baked into plain weights: for each place the few joints and shares that follow it best.

Over sampled poses k, with joint matrices M_kj and wanted places x_k, each row solves
    min_w  sum_k | sum_j w_j (M_kj p - x_k) |^2 + r |w - w0|^2,   w >= 0,  sum w = 1,  at most N not zero,
the skinning decomposition of Le and Deng, "Smooth skinning decomposition with rigid bones" (ACM Transactions on
Graphics 31(6), 2012), with the joints given. Because the shares add up to 1, distances to the wanted place replace
places, which keeps the products small. Pairs of shares are exchanged until none pays (sequential minimal
optimisation, Platt 1998); surplus joints leave one at a time, the cheapest first.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours, weld
from pegloom.core.jobs import Progress, silent
from pegloom.core.skin.strays import find_strays, without_strays
from pegloom.core.skin.weights import Weights, dense, from_dense

CANDIDATES = 12
"""Joints tried for a row, at most."""
BARRINGS = 5
"""How often joints that crept in are barred and their rows fitted anew, and then sent back."""
HOLD = 2e-4
"""r above as a share of how far the joints disagree: it settles what the poses leave open."""


@dataclass(frozen=True, slots=True, eq=False)
class Baked:
    """weights : the result.
    error, error_before (n,) : metres, root mean square over the poses, after and before.
    """

    weights: Weights
    error: FloatArray
    error_before: FloatArray


def bake_weights(
    mesh: Mesh, weights: Weights, poses: Iterable[tuple[FloatArray, FloatArray]], count: int, *,
    influences: int, spread: int = 12, progress: Progress = silent,
) -> Baked:  # fmt: skip
    """Weights of at most `influences` a vertex that follow a deformation.

    Parameters
    ----------
    weights : where to start. poses : for each, joint matrices (j, 4, 4) in the columns' order and wanted points (n, 3);
    count : how many. spread : rings around a place whose joints are tried.

    No row is worse than before: where the search does not better it, the old one stays (cut to the limit).
    Raises Cancelled from `progress`.
    """
    g = weld(mesh)
    rest = np.ascontiguousarray(mesh.points[g.first])
    start = dense(weights)[g.first]
    tried, reference, before = candidates(mesh, start, spread)
    gram = np.zeros((g.count, tried.shape[1], tried.shape[1]))
    wasted = np.zeros(g.count)
    packed_start = packed_rows(start)
    for number, (matrices, points) in enumerate(poses):
        progress(0.9 * number / max(count, 1), f"following pose {number + 1} of {count}")
        wanted = np.ascontiguousarray(points[g.first])
        rows = np.ascontiguousarray(matrices[:, :3, :])
        gather(rest, rows, wanted, tried, gram, *packed_start, wasted)
    progress(0.9, "fitting the weights")
    old = limited(before, influences)
    values = np.zeros_like(before)
    fit_rows(gram, reference, tried, old, influences, HOLD, values)
    result = spread_columns(values, tried, weights, g.group, influences)
    # A joint that crept in far from its own region follows well here and surprises everywhere else: it is barred
    # there and the row fitted anew from the others; what stays stubborn goes back.
    ring = place_neighbours(mesh)
    known = {(s.joint, int(v)) for s in find_strays(mesh, weights) for v in s.vertices}
    for attempt in range(2 * BARRINGS):
        crept = [
            (s.joint, int(v)) for s in find_strays(mesh, result) for v in s.vertices if (s.joint, int(v)) not in known
        ]
        if not crept:
            break
        rows = np.unique(g.group[[v for _, v in crept]])
        if attempt >= BARRINGS:
            # A region that always was one is cut off where its surroundings lost the joint: those go back with it.
            for _ in range(attempt - BARRINGS + 1):
                rows = np.unique(np.concatenate([rows, ring[rows.tolist()].indices]))
        again = old[rows]
        if attempt < BARRINGS:
            # What the row held before cannot be barred; such a row goes back at once.
            free = _bar(tried, reference, old, [(int(g.group[v]), weights.joint_ids.index(j)) for j, v in crept])
            open_rows = np.flatnonzero(np.isin(rows, free))
            fitted = np.zeros((len(open_rows), tried.shape[1]))
            some = rows[open_rows]
            fit_rows(gram[some], reference[some], tried[some], old[some], influences, HOLD, fitted)
            again[open_rows] = fitted
        values[rows] = again
        result = spread_columns(values, tried, weights, g.group, influences)
    if find_strays(mesh, result) and not known:
        result = without_strays(mesh, result)[0]
    # The figure is that of the weights as they are kept.
    kept = dense(result)[g.first]
    names = {j: c for c, j in enumerate(result.joint_ids)}
    at = np.array([names[j] for j in weights.joint_ids])
    values = np.where(tried >= 0, np.take_along_axis(kept, at[np.maximum(tried, 0)], axis=1), 0.0)
    rms = np.sqrt(np.maximum(np.einsum("ni,nij,nj->n", values, gram, values), 0.0) / max(count, 1))
    progress(1.0, "baked")
    return Baked(result, rms[g.group], np.sqrt(wasted / max(count, 1))[g.group])


def _bar(tried: IntArray, reference: FloatArray, old: FloatArray, strays: list[tuple[int, int]]) -> list[int]:
    """Joints taken, in place, from what is tried for some rows. The rows that may be fitted anew without them."""
    free, fixed = set(), set()
    for row, joint in set(strays):
        at = np.flatnonzero(tried[row] == joint)
        if old[row, at].any():
            fixed.add(row)
            continue
        tried[row, at] = -1
        reference[row, at] = 0.0
        left = reference[row].sum()
        reference[row] = reference[row] / left if left > 0 else old[row]
        free.add(row)
    return sorted(free - fixed)


def spread_columns(values: FloatArray, tried: IntArray, weights: Weights, group: IntArray, influences: int) -> Weights:
    """Shares of the joints tried as weights of every vertex."""
    full = np.zeros((len(values), len(weights.joint_ids)))
    np.add.at(full, (np.arange(len(values))[:, None], np.maximum(tried, 0)), values)
    return from_dense(full[group], weights.joint_ids, influences=influences)


def packed_rows(values: FloatArray) -> tuple[IntArray, FloatArray]:
    width = max(int((values > 0).sum(axis=1).max(initial=1)), 1)
    order = np.argsort(-values, axis=1, kind="stable")[:, :width]
    return np.ascontiguousarray(order), np.ascontiguousarray(np.take_along_axis(values, order, axis=1))


def candidates(mesh: Mesh, start: FloatArray, spread: int) -> tuple[IntArray, FloatArray, FloatArray]:
    """Joints tried (g, c), -1 for none; their shares after smoothing (g, c), and as they stand (g, c)."""
    ring = place_neighbours(mesh)
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)
    smooth = start
    for _ in range(spread):
        smooth = 0.5 * smooth + 0.5 * np.asarray(ring @ smooth) / degree[:, None]
    # A row's own joints first, then those its surroundings hold most.
    rank = smooth + 10.0 * (start > 0)
    order = np.argsort(-rank, axis=1, kind="stable")[:, : min(CANDIDATES, start.shape[1])]
    near = np.take_along_axis(smooth, order, axis=1)
    own = np.take_along_axis(start, order, axis=1)
    tried = np.where((near > 1e-5) | (own > 0), order, -1)
    near = np.where(tried >= 0, near, 0.0)
    total = np.maximum(near.sum(axis=1, keepdims=True), 1e-12)
    return np.ascontiguousarray(tried), near / total, np.where(tried >= 0, own, 0.0)


def limited(rows: FloatArray, influences: int) -> FloatArray:
    cut = rows.copy()
    if influences < rows.shape[1]:
        order = np.argsort(-rows, axis=1, kind="stable")
        np.put_along_axis(cut, order[:, influences:], 0.0, axis=1)
    return np.asarray(cut / np.maximum(cut.sum(axis=1, keepdims=True), 1e-12))


@njit(cache=True, nogil=True)
def gather(rest, matrices, wanted, tried, gram, own, share, wasted):  # type: ignore[no-untyped-def]  # pragma: no cover
    most = tried.shape[1]
    for v in range(len(rest)):
        p = rest[v]
        away = np.zeros((most, 3))
        for a in range(most):
            j = tried[v, a]
            if j >= 0:
                m = matrices[j]
                for d in range(3):
                    away[a, d] = m[d, 0] * p[0] + m[d, 1] * p[1] + m[d, 2] * p[2] + m[d, 3] - wanted[v, d]
        for a in range(most):
            if tried[v, a] < 0:
                continue
            for b in range(a + 1):
                if tried[v, b] >= 0:
                    s = away[a, 0] * away[b, 0] + away[a, 1] * away[b, 1] + away[a, 2] * away[b, 2]
                    gram[v, a, b] += s
                    if a != b:
                        gram[v, b, a] += s
        x = y = z = 0.0
        for k in range(own.shape[1]):
            w = share[v, k]
            if w != 0.0:
                m = matrices[own[v, k]]
                x += w * (m[0, 0] * p[0] + m[0, 1] * p[1] + m[0, 2] * p[2] + m[0, 3])
                y += w * (m[1, 0] * p[0] + m[1, 1] * p[1] + m[1, 2] * p[2] + m[1, 3])
                z += w * (m[2, 0] * p[0] + m[2, 1] * p[1] + m[2, 2] * p[2] + m[2, 3])
        wasted[v] += (x - wanted[v, 0]) ** 2 + (y - wanted[v, 1]) ** 2 + (z - wanted[v, 2]) ** 2


@njit(cache=True, nogil=True)
def _solve(q, h, live, w):  # type: ignore[no-untyped-def]  # pragma: no cover
    """min w q w - 2 h w over the shares of the live joints; w is the start and the result."""
    n = len(w)
    grad = np.empty(n)
    for i in range(n):
        s = -h[i]
        for k in range(n):
            s += q[i, k] * w[k]
        grad[i] = s
    for _ in range(400):
        low, high = -1, -1
        for i in range(n):
            if not live[i]:
                continue
            if low < 0 or grad[i] < grad[low]:
                low = i
            if w[i] > 0.0 and (high < 0 or grad[i] > grad[high]):
                high = i
        if low < 0 or high < 0 or low == high:
            return
        gain = grad[high] - grad[low]
        bend = q[low, low] + q[high, high] - 2.0 * q[low, high]
        if gain <= 1e-9 * (abs(q[low, low]) + abs(q[high, high])) + 1e-18:
            return
        step = w[high] if bend <= 1e-18 else min(gain / bend, w[high])
        w[low] += step
        w[high] -= step
        if w[high] < 1e-12:
            w[low] += w[high]
            w[high] = 0.0
        for i in range(n):
            grad[i] += step * (q[i, low] - q[i, high])


@njit(cache=True, nogil=True)
def fit_rows(gram, reference, tried, old, most, hold, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    count = tried.shape[1]
    for v in range(len(gram)):
        live = tried[v] >= 0
        # How far the joints disagree here: the mean squared distance between their places and the wanted one.
        scale = 0.0
        number = 0
        for i in range(count):
            if live[i]:
                scale += gram[v, i, i]
                number += 1
        scale = hold * scale / max(number, 1) + 1e-15
        q = gram[v].copy()
        h = np.zeros(count)
        for i in range(count):
            q[i, i] += scale
            h[i] = scale * reference[v, i]
        w = reference[v].copy()
        _solve(q, h, live, w)
        while True:
            used = 0
            for i in range(count):
                if w[i] > 0.0:
                    used += 1
            if used <= most:
                break
            # The joint whose share costs least when it goes to one of the others.
            best, cheapest, heir = 1e300, -1, -1
            for i in range(count):
                if w[i] <= 0.0:
                    continue
                for k in range(count):
                    if k == i or w[k] <= 0.0:
                        continue
                    gi = -h[i]
                    gk = -h[k]
                    for m in range(count):
                        gi += q[i, m] * w[m]
                        gk += q[k, m] * w[m]
                    cost = 2.0 * w[i] * (gk - gi) + w[i] * w[i] * (q[i, i] + q[k, k] - 2.0 * q[i, k])
                    if cost < best:
                        best, cheapest, heir = cost, i, k
            w[heir] += w[cheapest]
            w[cheapest] = 0.0
            live[cheapest] = False
            # Only those that stay may share, once the limit is in sight.
            _solve(q, h, live, w)
        new = 0.0
        kept = 0.0
        for i in range(count):
            for k in range(count):
                new += w[i] * gram[v, i, k] * w[k]
                kept += old[v, i] * gram[v, i, k] * old[v, k]
        for i in range(count):
            out[v, i] = w[i] if new <= kept else old[v, i]
