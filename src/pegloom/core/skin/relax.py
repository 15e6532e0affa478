"""Surface relax: a smoothing deformer that keeps what is fine at rest and irons out what skinning crumples.

The smoothing deformer of Mancewicz, Derksen, Rijpkema and Wilson, "Smoothing deformations while preserving detail",
DigiPro 2014. The rest surface is smoothed and each place's way back is kept in its own frame; a posed surface is smoothed alike and
the ways back are added again. The frames here are the turn that carries the smoothed ring of neighbours at rest to
the posed one, so that they do not hang on one edge.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numba import njit
from numpy.typing import NDArray

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, edge_use, place_neighbours, weld
from pegloom.core.memo import by_identity

SmallInts: TypeAlias = NDArray[np.int32]


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Relax:
    """Surface relax of one part.

    steps : of smoothing.
    strength : 0 to 1.
    mask (n,) : a painted share of it, or None.
    """

    steps: int = 12
    strength: float = 1.0
    mask: FloatArray | None = None


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Prepared:
    """What does not change with the pose: neighbours to smooth over and to take frames from, ways back (g, 3)."""

    starts: SmallInts
    ends: SmallInts
    ring_starts: SmallInts
    ring: SmallInts
    along: FloatArray
    across: FloatArray
    back: FloatArray


@by_identity
def prepared(mesh: Mesh, steps: int) -> Prepared:
    """The rest surface's side of the deformer."""
    g = weld(mesh)
    rest = np.ascontiguousarray(mesh.points[g.first])
    ring = place_neighbours(mesh).tocsr()
    use = edge_use(mesh)
    open_edges = use[use[:, 2] == 1][:, :2]
    at_rim = np.zeros(g.count, dtype=bool)
    at_rim[open_edges.ravel()] = True
    # A rim is smoothed along itself only, else open cloth shrinks.
    rows = np.repeat(np.arange(g.count), np.diff(ring.indptr))
    pair = np.sort(np.stack([rows, ring.indices], axis=1), axis=1)
    rim_keys = np.sort(open_edges, axis=1) @ np.array([g.count, 1])
    is_rim_edge = np.isin(pair @ np.array([g.count, 1]), rim_keys)
    kept = ~at_rim[rows] | is_rim_edge
    starts = np.concatenate([[0], np.cumsum(np.bincount(rows[kept], minlength=g.count))])
    starts, ends = starts.astype(np.int32), ring.indices[kept].astype(np.int32)
    smooth = _smoothed(rest, starts, ends, steps)
    ring_starts, ring_ends = ring.indptr.astype(np.int32), ring.indices.astype(np.int32)
    along, across = _frame_factors(smooth, ring_ends, rows)
    frames = np.zeros((g.count, 3, 3))
    _frames(smooth, ring_starts, ring_ends, along, across, frames)
    back = np.einsum("nik,ni->nk", frames, rest - smooth)
    return Prepared(starts, ends, ring_starts, ring_ends, along, across, back)


def _frame_factors(smooth: FloatArray, ends: SmallInts, rows: IntArray) -> tuple[FloatArray, FloatArray]:
    """Factors (w,) of each ring edge so that their sums are what the ring's best linear map does to two tangents."""
    edge = smooth[ends] - smooth[rows]
    n = len(smooth)
    # A tangent plane from the ring's own spread: its two widest ways.
    spread = np.zeros((n, 3, 3))
    np.add.at(spread, rows, edge[:, :, None] * edge[:, None, :])
    _, vectors = np.linalg.eigh(spread)
    t, b = vectors[:, :, 2], vectors[:, :, 1]
    u, v = np.einsum("ed,ed->e", edge, t[rows]), np.einsum("ed,ed->e", edge, b[rows])
    uu = np.bincount(rows, u * u, n)
    uv = np.bincount(rows, u * v, n)
    vv = np.bincount(rows, v * v, n)
    # A ring that lies in a line (a lone strip) gets a little isotropic spread, else its plane flips.
    loose = 1e-3 * (uu + vv) + 1e-30
    uu, vv = uu + loose, vv + loose
    det = (uu * vv - uv * uv)[rows]
    return (vv[rows] * u - uv[rows] * v) / det, (uu[rows] * v - uv[rows] * u) / det


def relaxed(mesh: Mesh, relax: Relax, posed: FloatArray) -> FloatArray:
    """Posed points (n, 3) with the surface relaxed; vertices at one place stay together."""
    if relax.strength <= 0.0 or relax.steps <= 0:
        return posed
    g = weld(mesh)
    p = prepared(mesh, relax.steps)
    smooth = _smoothed(posed[g.first], p.starts, p.ends, relax.steps)
    result = np.empty_like(smooth)
    _put_back(smooth, p.ring_starts, p.ring, p.along, p.across, p.back, result)
    amount = np.full(len(posed), relax.strength) if relax.mask is None else relax.strength * relax.mask
    return np.asarray(posed + amount[:, None] * (result[g.group] - posed))


def _smoothed(points: FloatArray, starts: SmallInts, ends: SmallInts, steps: int) -> FloatArray:
    """Points (g, 3) after so many steps, each halfway to the mean of the neighbours."""
    a, b = np.ascontiguousarray(points), np.empty_like(points)
    for _ in range(steps):
        _smooth_once(a, starts, ends, b)
        a, b = b, (np.empty_like(points) if a is points else a)
    return a


@njit(cache=True, nogil=True, fastmath=True)
def _smooth_once(points, starts, ends, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for v in range(len(points)):
        a, b = starts[v], starts[v + 1]
        if b - a == 4:
            # Nearly every place of a quad mesh; told plainly it runs twice as fast.
            i, j, k, m = ends[a], ends[a + 1], ends[a + 2], ends[a + 3]
            for d in range(3):
                near = points[i, d] + points[j, d] + points[k, d] + points[m, d]
                out[v, d] = 0.5 * points[v, d] + 0.125 * near
            continue
        x = y = z = 0.0
        for k in range(a, b):
            q = ends[k]
            x += points[q, 0]
            y += points[q, 1]
            z += points[q, 2]
        keep, share = (0.5, 0.5 / (b - a)) if b > a else (1.0, 0.0)
        out[v, 0] = keep * points[v, 0] + share * x
        out[v, 1] = keep * points[v, 1] + share * y
        out[v, 2] = keep * points[v, 2] + share * z


@njit(cache=True, nogil=True, fastmath=True)
def _frame(points, v, starts, ends, along, across):  # type: ignore[no-untyped-def]  # pragma: no cover
    """The orthonormal frame nearest the ring's map, as nine numbers by columns; zeros where there is no ring."""
    tx = ty = tz = bx = by = bz = 0.0
    for k in range(starts[v], starts[v + 1]):
        q = ends[k]
        ex, ey, ez = points[q, 0] - points[v, 0], points[q, 1] - points[v, 1], points[q, 2] - points[v, 2]
        tx += along[k] * ex
        ty += along[k] * ey
        tz += along[k] * ez
        bx += across[k] * ex
        by += across[k] * ey
        bz += across[k] * ez
    nx, ny, nz = ty * bz - tz * by, tz * bx - tx * bz, tx * by - ty * bx
    n = np.sqrt(nx * nx + ny * ny + nz * nz)
    t = np.sqrt(tx * tx + ty * ty + tz * tz)
    if n < 1e-12 or t < 1e-12:
        return 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    nx, ny, nz = nx / n, ny / n, nz / n
    ux, uy, uz = tx / t, ty / t, tz / t
    wx, wy, wz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    # In the plane the nearest turn to the map, whichever tangent was taken first.
    c, s = t + bx * wx + by * wy + bz * wz, -(bx * ux + by * uy + bz * uz)
    size = np.sqrt(c * c + s * s)
    if size < 1e-12:
        c, s, size = 1.0, 0.0, 1.0
    c, s = c / size, s / size
    return (
        c * ux + s * wx, c * uy + s * wy, c * uz + s * wz,
        c * wx - s * ux, c * wy - s * uy, c * wz - s * uz,
        nx, ny, nz,
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _frames(points, starts, ends, along, across, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for v in range(len(points)):
        f = _frame(points, v, starts, ends, along, across)
        for k in range(3):
            out[v, 0, k], out[v, 1, k], out[v, 2, k] = f[3 * k], f[3 * k + 1], f[3 * k + 2]


@njit(cache=True, nogil=True, fastmath=True)
def _put_back(points, starts, ends, along, across, back, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for v in range(len(points)):
        f = _frame(points, v, starts, ends, along, across)
        a, b, c = back[v, 0], back[v, 1], back[v, 2]
        out[v, 0] = points[v, 0] + f[0] * a + f[3] * b + f[6] * c
        out[v, 1] = points[v, 1] + f[1] * a + f[4] * b + f[7] * c
        out[v, 2] = points[v, 2] + f[2] * a + f[5] * b + f[8] * c
