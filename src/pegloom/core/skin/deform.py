"""Linear blend skinning, compiled.

Magnenat-Thalmann, Laperriere, Thalmann, "Joint-dependent local deformations", Graphics Interface 1988.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.skin.weights import Packed


def skin_linear(points: FloatArray, skin: Packed, matrices: FloatArray, *, out: FloatArray | None = None) -> FloatArray:
    """Carry rest points to a pose.

    Parameters
    ----------
    points : (n, 3) at rest. skin : packed weights of n vertices. matrices : (j, 4, 4) posed_from_rest of each column.
    out : (n, 3) to write into, or None for a new array.

    Raises ShapeError for another number of vertices.
    """
    if len(points) != len(skin.indices):
        raise ShapeError(f"skinning: {len(points)} points but weights for {len(skin.indices)}")
    result = np.empty((len(points), 3)) if out is None else out
    _skin_linear(points, skin.indices, skin.values, np.ascontiguousarray(matrices[:, :3, :]), result)
    return result


@njit(cache=True, nogil=True, fastmath=True)
def _skin_linear(points, indices, values, matrices, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    width = indices.shape[1]
    for v in range(len(points)):
        x, y, z = points[v, 0], points[v, 1], points[v, 2]
        a = b = c = 0.0
        for k in range(width):
            w = values[v, k]
            if w != 0.0:
                m = matrices[indices[v, k]]
                a += w * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3])
                b += w * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3])
                c += w * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3])
        out[v, 0], out[v, 1], out[v, 2] = a, b, c


@njit(cache=True, nogil=True)
def add_normals(points, triangles, group, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Unit vertex normals (n, 3) into out: area-weighted, summed over vertices of one place (group (n,))."""
    total = np.zeros((len(points), 3))
    for t in range(len(triangles)):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, az = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
        bx, by, bz = points[k, 0] - points[i, 0], points[k, 1] - points[i, 1], points[k, 2] - points[i, 2]
        nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        for corner in (i, j, k):
            g = group[corner]
            total[g, 0] += nx
            total[g, 1] += ny
            total[g, 2] += nz
    for v in range(len(points)):
        g = group[v]
        length = np.sqrt(total[g, 0] ** 2 + total[g, 1] ** 2 + total[g, 2] ** 2)
        if length > 1e-30:
            out[v, 0], out[v, 1], out[v, 2] = total[g, 0] / length, total[g, 1] / length, total[g, 2] / length
        else:
            out[v, 0], out[v, 1], out[v, 2] = 0.0, 1.0, 0.0
