"""What some poses of a skin cost, and which way each place would have to go to cost less: kernels over welded places.

Each adds to `pull` (p, 3), the gradient over the places, and to `bend` (p,), about how fast that changes; each returns the cost. Lengths and
girths are told as shares of what they are at rest, so that all costs have no unit.
"""

from __future__ import annotations

import numpy as np
from numba import njit

TINY = 1e-15


@njit(cache=True, nogil=True, fastmath=True)
def place(rest, matrices, tried, rows, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Where linear skinning brings places (p, 3). matrices (j, 3, 4), tried (p, c) : columns, -1 for none; rows (p, c)."""
    for v in range(len(rest)):
        x = y = z = 0.0
        for a in range(tried.shape[1]):
            share = rows[v, a]
            if share > 0.0 and tried[v, a] >= 0:
                m = matrices[tried[v, a]]
                x += share * (m[0, 0] * rest[v, 0] + m[0, 1] * rest[v, 1] + m[0, 2] * rest[v, 2] + m[0, 3])
                y += share * (m[1, 0] * rest[v, 0] + m[1, 1] * rest[v, 1] + m[1, 2] * rest[v, 2] + m[1, 3])
                z += share * (m[2, 0] * rest[v, 0] + m[2, 1] * rest[v, 1] + m[2, 2] * rest[v, 2] + m[2, 3])
        out[v, 0] = x
        out[v, 1] = y
        out[v, 2] = z


@njit(cache=True, nogil=True, fastmath=True)
def edges_cost(x, edges, inverse, wanted, limit, much, shape, over, long, long_from, pull, bend):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Edges (e, 2) that do not lie as between the places wanted (p, 3), by `shape`; that are longer than their limit (e,), by
    `over` times `much` (e,); and longer than long_from, by `long`. inverse (e,) : one over the length at rest."""
    cost = 0.0
    for i in range(len(edges)):
        a, b, short = edges[i, 0], edges[i, 1], inverse[i]
        d0, d1, d2 = (x[a, 0] - x[b, 0]) * short, (x[a, 1] - x[b, 1]) * short, (x[a, 2] - x[b, 2]) * short
        length = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2)
        r0, r1, r2 = d0 - (wanted[a, 0] - wanted[b, 0]) * short, d1 - (wanted[a, 1] - wanted[b, 1]) * short, d2 - (wanted[a, 2] - wanted[b, 2]) * short
        cost += shape * (r0 * r0 + r1 * r1 + r2 * r2)
        along, stiff = 0.0, shape
        if length > limit[i]:
            some, more = over * much[i], length - limit[i]
            cost += some * more * more
            along += 2.0 * some * more / length
            stiff += some
        if length > long_from:
            more = length - long_from
            cost += long * more * more
            along += 2.0 * long * more / length
            stiff += long
        q0, q1, q2 = (2.0 * shape * r0 + along * d0) * short, (2.0 * shape * r1 + along * d1) * short, (2.0 * shape * r2 + along * d2) * short
        pull[a, 0] += q0
        pull[a, 1] += q1
        pull[a, 2] += q2
        pull[b, 0] -= q0
        pull[b, 1] -= q1
        pull[b, 2] -= q2
        bend[a] += 4.0 * stiff * short * short
        bend[b] += 4.0 * stiff * short * short
    return cost


@njit(cache=True, nogil=True, fastmath=True)
def places_cost(x, wanted, heavy, pull, bend):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Places away from where they are wanted, by heavy (p,), 1 / metre^2."""
    cost = 0.0
    for v in range(len(x)):
        h = heavy[v]
        if h > 0.0:
            bend[v] += 2.0 * h
            for d in range(3):
                r = x[v, d] - wanted[v, d]
                cost += h * r * r
                pull[v, d] += 2.0 * h * r
    return cost


@njit(cache=True, nogil=True, fastmath=True)
def rings_cost(x, starts, ends, shares, closed, girth, area, least_girth, least_area, much, pull, bend):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Sections that keep less of their girth or area (r,) than the least (r,), by much (r,). Ring k has the points starts[k] to starts[k + 1],
    each on the edge between its ends (n, 2), by its share (n,)."""
    cost = 0.0
    for k in range(len(starts) - 1):
        if much[k] <= 0.0:
            continue
        first, n = starts[k], starts[k + 1] - starts[k]
        p, back = np.empty((n, 3)), np.zeros((n, 3))
        for i in range(n):
            u, v, t = ends[first + i, 0], ends[first + i, 1], shares[first + i]
            for d in range(3):
                p[i, d] = x[u, d] + t * (x[v, d] - x[u, d])
        last = n if closed[k] else n - 1
        if girth[k] > 0.0:
            total = 0.0
            for i in range(last):
                j = (i + 1) % n
                total += np.sqrt((p[j, 0] - p[i, 0]) ** 2 + (p[j, 1] - p[i, 1]) ** 2 + (p[j, 2] - p[i, 2]) ** 2)
            short = least_girth[k] - total / girth[k]
            if short > 0.0:
                cost += much[k] * short * short
                for i in range(last):
                    j = (i + 1) % n
                    step = max(np.sqrt((p[j, 0] - p[i, 0]) ** 2 + (p[j, 1] - p[i, 1]) ** 2 + (p[j, 2] - p[i, 2]) ** 2), TINY)
                    for d in range(3):
                        q = -2.0 * much[k] * short / girth[k] * (p[j, d] - p[i, d]) / step
                        back[j, d] += q
                        back[i, d] -= q
        if closed[k] and area[k] > 0.0:
            s0 = s1 = s2 = 0.0
            for i in range(n):
                j = (i + 1) % n
                s0 += p[i, 1] * p[j, 2] - p[i, 2] * p[j, 1]
                s1 += p[i, 2] * p[j, 0] - p[i, 0] * p[j, 2]
                s2 += p[i, 0] * p[j, 1] - p[i, 1] * p[j, 0]
            twice = max(np.sqrt(s0 * s0 + s1 * s1 + s2 * s2), TINY)
            short = least_area[k] - 0.5 * twice / area[k]
            if short > 0.0:
                cost += much[k] * short * short
                f = -much[k] * short / area[k] / twice
                for i in range(n):
                    j, h = (i + 1) % n, (i - 1) % n
                    y0, y1, y2 = p[j, 0] - p[h, 0], p[j, 1] - p[h, 1], p[j, 2] - p[h, 2]
                    back[i, 0] += f * (y1 * s2 - y2 * s1)
                    back[i, 1] += f * (y2 * s0 - y0 * s2)
                    back[i, 2] += f * (y0 * s1 - y1 * s0)
        stiff = 8.0 * much[k] / max(girth[k] * girth[k], TINY)
        for i in range(n):
            if back[i, 0] != 0.0 or back[i, 1] != 0.0 or back[i, 2] != 0.0:
                u, v, t = ends[first + i, 0], ends[first + i, 1], shares[first + i]
                bend[u] += stiff * (1.0 - t)
                bend[v] += stiff * t
                for d in range(3):
                    pull[u, d] += (1.0 - t) * back[i, d]
                    pull[v, d] += t * back[i, d]
    return cost


@njit(cache=True, nogil=True, fastmath=True)
def folds_cost(x, triangles, least_size, pairs, lies, fold, pull, bend):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Pairs (f, 2) of triangles whose normals' cosine is less than `lies` (f,), by `fold`. least_size (t,) : twice the area under which a
    triangle turns no faster."""
    cost = 0.0
    count = len(triangles)
    unit, size, back = np.empty((count, 3)), np.empty(count), np.zeros((count, 3))
    for t in range(count):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
        size[t] = max(np.sqrt(n0 * n0 + n1 * n1 + n2 * n2), TINY)
        unit[t, 0] = n0 / size[t]
        unit[t, 1] = n1 / size[t]
        unit[t, 2] = n2 / size[t]
    for i in range(len(pairs)):
        s, t = pairs[i, 0], pairs[i, 1]
        more = lies[i] - (unit[s, 0] * unit[t, 0] + unit[s, 1] * unit[t, 1] + unit[s, 2] * unit[t, 2])
        if more > 0.0:
            cost += fold * more * more
            for d in range(3):
                back[s, d] -= 2.0 * fold * more * unit[t, d]
                back[t, d] -= 2.0 * fold * more * unit[s, d]
    for t in range(count):
        q = back[t]
        if q[0] == 0.0 and q[1] == 0.0 and q[2] == 0.0:
            continue
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        wide = max(size[t], least_size[t])
        dot = q[0] * unit[t, 0] + q[1] * unit[t, 1] + q[2] * unit[t, 2]
        q0, q1, q2 = (q[0] - dot * unit[t, 0]) / wide, (q[1] - dot * unit[t, 1]) / wide, (q[2] - dot * unit[t, 2]) / wide
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        b0, b1, b2 = v1 * q2 - v2 * q1, v2 * q0 - v0 * q2, v0 * q1 - v1 * q0
        c0, c1, c2 = q1 * u2 - q2 * u1, q2 * u0 - q0 * u2, q0 * u1 - q1 * u0
        pull[b, 0] += b0
        pull[b, 1] += b1
        pull[b, 2] += b2
        pull[c, 0] += c0
        pull[c, 1] += c1
        pull[c, 2] += c2
        pull[a, 0] -= b0 + c0
        pull[a, 1] -= b1 + c1
        pull[a, 2] -= b2 + c2
        bend[a] += fold / wide
        bend[b] += fold / wide
        bend[c] += fold / wide
    return cost


@njit(cache=True, nogil=True, fastmath=True)
def onto_rows(rest, matrices, tried, x, pull, bend, slope, stiff):  # type: ignore[no-untyped-def]  # pragma: no cover
    """What a pull on places means for their rows: adds to slope (p, c) and stiff (p, c)."""
    for v in range(len(rest)):
        for a in range(tried.shape[1]):
            j = tried[v, a]
            if j >= 0:
                m = matrices[j]
                s = c = 0.0
                for d in range(3):
                    t = m[d, 0] * rest[v, 0] + m[d, 1] * rest[v, 1] + m[d, 2] * rest[v, 2] + m[d, 3] - x[v, d]
                    s += t * pull[v, d]
                    c += t * t
                slope[v, a] += s
                stiff[v, a] += c * bend[v]


@njit(cache=True, nogil=True)
def onto_simplex(rows, live):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Each row (p, c), in place, onto the nearest whose live shares add up to 1 and are not negative (Duchi and others, "Efficient projections
    onto the l1-ball", ICML 2008). Rows with nothing live stay."""
    count = rows.shape[1]
    some = np.empty(count)
    for v in range(len(rows)):
        m = 0
        for a in range(count):
            if live[v, a]:
                some[m] = rows[v, a]
                m += 1
        if m == 0:
            continue
        for i in range(1, m):  # largest first; of a dozen, nothing is sorted faster
            one, k = some[i], i - 1
            while k >= 0 and some[k] < one:
                some[k + 1] = some[k]
                k -= 1
            some[k + 1] = one
        total, off = 0.0, 0.0
        for i in range(m):
            total += some[i]
            t = (total - 1.0) / (i + 1)
            if some[i] > t:
                off = t
        for a in range(count):
            rows[v, a] = max(rows[v, a] - off, 0.0) if live[v, a] else 0.0
