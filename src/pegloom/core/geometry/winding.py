"""How often a surface goes round a point: inside and outside for meshes of many shells, with holes and overlaps.

The generalised winding number (A. Jacobson, L. Kavan, O. Sorkine-Hornung, "Robust Inside-Outside Segmentation using
Generalized Winding Numbers", SIGGRAPH 2013): the solid angles of all triangles (A. van Oosterom, J. Strackee, 1983).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.arrays import FloatArray, IntArray


def winding_numbers(places: FloatArray, points: FloatArray, triangles: IntArray) -> FloatArray:
    """Winding number (m,) of a surface about places (m, 3): about 1 inside, 0 outside, more where shells overlap.

    points (n, 3), triangles (t, 3). Of a surface whose faces look inward it is negative inside.
    """
    return np.asarray(
        _winding(np.ascontiguousarray(places, dtype=np.float64), np.ascontiguousarray(points), np.ascontiguousarray(triangles))
    )


@njit(cache=True, nogil=True)
def _winding(places, points, triangles):  # type: ignore[no-untyped-def]  # pragma: no cover
    result = np.zeros(len(places))
    for m in range(len(places)):
        total = 0.0
        for t in range(len(triangles)):
            ax = points[triangles[t, 0], 0] - places[m, 0]
            ay = points[triangles[t, 0], 1] - places[m, 1]
            az = points[triangles[t, 0], 2] - places[m, 2]
            bx = points[triangles[t, 1], 0] - places[m, 0]
            by = points[triangles[t, 1], 1] - places[m, 1]
            bz = points[triangles[t, 1], 2] - places[m, 2]
            cx = points[triangles[t, 2], 0] - places[m, 0]
            cy = points[triangles[t, 2], 1] - places[m, 1]
            cz = points[triangles[t, 2], 2] - places[m, 2]
            la = np.sqrt(ax * ax + ay * ay + az * az)
            lb = np.sqrt(bx * bx + by * by + bz * bz)
            lc = np.sqrt(cx * cx + cy * cy + cz * cz)
            volume = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
            bottom = la * lb * lc + (ax * bx + ay * by + az * bz) * lc
            bottom += (bx * cx + by * cy + bz * cz) * la + (cx * ax + cy * ay + cz * az) * lb
            total += np.arctan2(volume, bottom)
        result[m] = total / (2.0 * np.pi)
    return result
