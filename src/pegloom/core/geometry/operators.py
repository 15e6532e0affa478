"""Differential operators of a surface."""

from __future__ import annotations

import numpy as np
import robust_laplacian
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray


def tufted_laplacian(points: FloatArray, triangles: IntArray) -> tuple[sparse.csc_matrix, FloatArray]:
    """Positive semi-definite Laplacian (n, n) and vertex masses (n,) of any triangles, manifold or not.

    N. Sharp and K. Crane, "A Laplacian for nonmanifold triangle meshes", SGP 2020. points (n, 3), triangles (t, 3);
    vertices without a triangle get empty rows and the mean mass.
    """
    n = len(points)
    if len(triangles) == 0:
        return sparse.csc_matrix((n, n)), np.ones(n)
    used = np.unique(triangles)
    number = np.full(n, -1)
    number[used] = np.arange(len(used))
    laplacian, mass = robust_laplacian.mesh_laplacian(np.array(points[used]), number[triangles])
    spread = sparse.csr_matrix((np.ones(len(used)), (used, np.arange(len(used)))), shape=(n, len(used)))
    masses = np.full(n, float(mass.diagonal().mean()))
    masses[used] = mass.diagonal()
    return (spread @ laplacian @ spread.T).tocsc(), masses
