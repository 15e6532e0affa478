"""The figures of all regions of a part in one pose, at once: what `quality.measured` says of each, compiled."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numba import njit

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.skin.quality import Figures, Gauge


@dataclass(frozen=True, slots=True, eq=False)
class Regions:
    """Sections and regions of a part, one after the other.

    joints : ids, as the regions follow. starts (r + 1,) : first point of each ring; ends (n, 2), shares (n,) : the edge each point lies on and how
    far along; closed, girth, area (r,) : of the rings at rest. of_joint (r,) : the region each ring belongs to. edge_starts (j + 1,), edges (m,),
    pair_starts (j + 1,), pairs (k,) : numbers of the edges, and of the pairs of triangles, of each region.
    """

    joints: tuple[str, ...]
    starts: IntArray
    ends: IntArray
    shares: FloatArray
    closed: BoolArray
    girth: FloatArray
    area: FloatArray
    of_joint: IntArray
    edge_starts: IntArray
    edges: IntArray
    pair_starts: IntArray
    pairs: IntArray


def regions_of(gauges: Mapping[str, Gauge], inside: Mapping[str, tuple[IntArray, IntArray]]) -> Regions:
    """Gauges, and the numbers of the edges and of the pairs of triangles in their joints' regions, made ready."""
    rings = [(number, *ring) for number, gauge in enumerate(gauges.values()) for ring in gauge.rings]
    edges, pairs = ([inside[j][k] for j in gauges] for k in (0, 1))
    return Regions(
        tuple(gauges),
        np.cumsum([0, *(len(r[1].points) for r in rings)]),
        np.concatenate([r[1].edges for r in rings]) if rings else np.zeros((0, 2), dtype=np.int64),
        np.concatenate([r[1].shares for r in rings]) if rings else np.zeros(0),
        np.array([r[1].closed for r in rings], dtype=bool),
        np.array([r[2] for r in rings], dtype=float),
        np.array([r[3] for r in rings], dtype=float),
        np.array([r[0] for r in rings], dtype=np.int64),
        np.cumsum([0, *(len(e) for e in edges)]),
        np.concatenate(edges) if edges else np.zeros(0, dtype=np.int64),
        np.cumsum([0, *(len(p) for p in pairs)]),
        np.concatenate(pairs) if pairs else np.zeros(0, dtype=np.int64),
    )


def figures_of(regions: Regions, places: FloatArray, stretch: FloatArray, triangles: IntArray, pairs: IntArray) -> tuple[dict[str, Figures], BoolArray]:
    """Figures by joint of places (g, 3), and which pairs (p, 2) of triangles lie folded. stretch (e,) : of all edges."""
    back = _folded_back(places, triangles, pairs)
    kept = _kept(places, regions.starts, regions.ends, regions.shares, regions.closed, regions.girth, regions.area, regions.of_joint, len(regions.joints))
    usual = _usual(stretch, regions.edge_starts, regions.edges)
    folded = _folded(back, pairs, regions.pair_starts, regions.pairs, len(triangles))
    sections = [[None if np.isnan(v) else float(v) for v in row] for row in kept]
    return {joint: Figures(sections[k][0], sections[k][1], float(usual[k]), int(folded[k])) for k, joint in enumerate(regions.joints)}, back


@njit(cache=True, nogil=True)
def stretched(x, edges, inverse):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Length now over length at rest (e,) of edges (e, 2) between places (g, 3). inverse (e,) : one over the length at rest, 0 where there is none."""
    result = np.ones(len(edges))
    for i in range(len(edges)):
        a, b = edges[i, 0], edges[i, 1]
        if inverse[i] > 0.0:
            result[i] = inverse[i] * np.sqrt((x[a, 0] - x[b, 0]) ** 2 + (x[a, 1] - x[b, 1]) ** 2 + (x[a, 2] - x[b, 2]) ** 2)
    return result


@njit(cache=True, nogil=True)
def _folded_back(x, triangles, pairs):  # type: ignore[no-untyped-def]  # pragma: no cover
    unit = np.empty((len(triangles), 3))
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
        size = max(np.sqrt(n0 * n0 + n1 * n1 + n2 * n2), 1e-30)
        unit[t, 0] = n0 / size
        unit[t, 1] = n1 / size
        unit[t, 2] = n2 / size
    result = np.zeros(len(pairs), dtype=np.bool_)
    for i in range(len(pairs)):
        s, t = pairs[i, 0], pairs[i, 1]
        result[i] = unit[s, 0] * unit[t, 0] + unit[s, 1] * unit[t, 1] + unit[s, 2] * unit[t, 2] < -0.5
    return result


@njit(cache=True, nogil=True)
def _kept(x, starts, ends, shares, closed, girth, area, of_joint, count):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Least share of girth and of area (j, 2) the sections of each region keep; nan where it has none."""
    result = np.full((count, 2), np.nan)
    for k in range(len(of_joint)):
        first, n = starts[k], starts[k + 1] - starts[k]
        p = np.empty((n, 3))
        for i in range(n):
            u, v, t = ends[first + i, 0], ends[first + i, 1], shares[first + i]
            for d in range(3):
                p[i, d] = x[u, d] + t * (x[v, d] - x[u, d])
        total = s0 = s1 = s2 = 0.0
        for i in range(n):
            j = (i + 1) % n
            if closed[k] or i < n - 1:
                total += np.sqrt((p[j, 0] - p[i, 0]) ** 2 + (p[j, 1] - p[i, 1]) ** 2 + (p[j, 2] - p[i, 2]) ** 2)
            s0 += p[i, 1] * p[j, 2] - p[i, 2] * p[j, 1]
            s1 += p[i, 2] * p[j, 0] - p[i, 0] * p[j, 2]
            s2 += p[i, 0] * p[j, 1] - p[i, 1] * p[j, 0]
        joint = of_joint[k]
        if girth[k] > 0.0:
            share = total / girth[k]
            result[joint, 0] = share if np.isnan(result[joint, 0]) else min(result[joint, 0], share)
        if closed[k] and area[k] > 0.0:
            share = 0.5 * np.sqrt(s0 * s0 + s1 * s1 + s2 * s2) / area[k]
            result[joint, 1] = share if np.isnan(result[joint, 1]) else min(result[joint, 1], share)
    return result


@njit(cache=True, nogil=True)
def _usual(stretch, starts, edges):  # type: ignore[no-untyped-def]  # pragma: no cover
    """99th percentile (j,) of the stretch of each region's edges, between its neighbours; 1 without edges."""
    result = np.ones(len(starts) - 1)
    for k in range(len(result)):
        n = starts[k + 1] - starts[k]
        if n > 0:
            some = np.sort(stretch[edges[starts[k] : starts[k + 1]]])
            at = 0.99 * (n - 1)
            low = int(at)
            result[k] = some[low] + (at - low) * (some[min(low + 1, n - 1)] - some[low])
    return result


@njit(cache=True, nogil=True)
def _folded(back, pairs, starts, numbers, triangles):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How many triangles (j,) of each region lie folded back on a neighbour."""
    result, seen = np.zeros(len(starts) - 1, dtype=np.int64), np.full(triangles, -1)
    for k in range(len(result)):
        for i in range(starts[k], starts[k + 1]):
            if back[numbers[i]]:
                for side in range(2):
                    t = pairs[numbers[i], side]
                    if seen[t] != k:
                        seen[t] = k
                        result[k] += 1
    return result
