"""The solid a mesh encloses, as a grid of cells that holes, seams, flips and inner shells do not break."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy import ndimage, sparse
from scipy.sparse.csgraph import dijkstra

from pegloom.core.arrays import BoolArray, FloatArray, IntArray, frozen
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.mesh import bounds

MOST_CELLS = 24_000_000


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Solid:
    """filled (nx, ny, nz) bool; cell (i, j, k) spans origin + cell * (i..i+1, ...). Metres."""

    origin: FloatArray
    cell: float
    filled: BoolArray

    @property
    def diagonal(self) -> float:
        """Metres across the whole grid."""
        return float(np.linalg.norm(np.array(self.filled.shape) * self.cell))

    def centres(self, index: IntArray) -> FloatArray:
        """Middle of cells (m, 3) given by index (m, 3)."""
        return np.asarray(self.origin + (np.asarray(index) + 0.5) * self.cell)

    def index_of(self, points: FloatArray) -> IntArray:
        """Cell index (m, 3) of points, clipped to the grid."""
        index = np.floor((np.asarray(points) - self.origin) / self.cell).astype(np.int64)
        return np.clip(index, 0, np.array(self.filled.shape) - 1)

    def inside(self, points: FloatArray) -> BoolArray:
        """Whether points (m, 3) lie in a filled cell."""
        i = self.index_of(np.atleast_2d(points))
        return np.asarray(self.filled[i[:, 0], i[:, 1], i[:, 2]])


def make_solid(points: FloatArray, triangles: IntArray, *, cell: float, middle: float = 0.0) -> Solid:
    """Fill a mesh.

    Surface cells, plus all the outside cannot reach, plus cells with surface on all six sides (which closes holes
    wider than a cell). Cells lie mirrored about x = middle, so a symmetric mesh gives a symmetric solid.

    Raises
    ------
    ShapeError
        The cell is not positive, or the grid would hold over MOST_CELLS cells.
    """
    if not cell > 0:
        raise ShapeError(f"cell size must be positive, got {cell}")
    low, high = bounds(points)
    half = max(abs(low[0] - middle), abs(high[0] - middle))
    cells_x = 2 * (int(np.ceil(half / cell)) + 2)
    origin = np.array([middle - cells_x / 2 * cell, low[1] - 2 * cell, low[2] - 2 * cell])
    cells_y, cells_z = (int(np.ceil((high[a] - low[a]) / cell)) + 4 for a in (1, 2))
    if cells_x * cells_y * cells_z > MOST_CELLS:
        raise ShapeError(f"a grid of {cells_x} x {cells_y} x {cells_z} cells is too fine; use larger cells")
    surface = np.zeros((cells_x, cells_y, cells_z), dtype=np.bool_)
    _mark_surface(np.ascontiguousarray(points), np.ascontiguousarray(triangles), origin, cell, surface)
    outside, _ = ndimage.label(~surface)
    filled = surface | (outside != outside[0, 0, 0]) | _closed_in(surface)
    return Solid(np.asarray(frozen(origin)), cell, np.asarray(frozen(filled)))


def _closed_in(surface: BoolArray) -> BoolArray:
    """Cells that see a surface cell in each of the six grid directions."""
    closed = np.ones_like(surface)
    for axis in range(3):
        closed &= np.logical_or.accumulate(surface, axis=axis)
        closed &= np.flip(np.logical_or.accumulate(np.flip(surface, axis), axis=axis), axis)
    return closed


@njit(cache=True, nogil=True)
def _mark_surface(points, triangles, origin, cell, surface):  # type: ignore[no-untyped-def]  # pragma: no cover
    for t in range(len(triangles)):
        a = (points[triangles[t, 0]] - origin) / cell
        b = (points[triangles[t, 1]] - origin) / cell
        c = (points[triangles[t, 2]] - origin) / cell
        longest = max(np.sqrt(np.sum((b - a) ** 2)), np.sqrt(np.sum((c - a) ** 2)), np.sqrt(np.sum((c - b) ** 2)))
        steps = int(longest * 2.0) + 1
        for i in range(steps + 1):
            u = i / steps
            for j in range(steps + 1 - i):
                v = j / steps
                x = int(a[0] + u * (b[0] - a[0]) + v * (c[0] - a[0]))
                y = int(a[1] + u * (b[1] - a[1]) + v * (c[1] - a[1]))
                z = int(a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2]))
                surface[x, y, z] = True


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class CellGraph:
    """Filled cells as a graph. index (m, 3), graph: 26 neighbours with lengths in metres, number: grid of node ids."""

    index: IntArray
    graph: sparse.csr_matrix
    number: IntArray


def cell_graph(filled: BoolArray, cell: float) -> CellGraph:
    """Graph over the filled cells of a grid."""
    index = np.argwhere(filled)
    number = np.full(filled.shape, -1, dtype=np.int64)
    number[tuple(index.T)] = np.arange(len(index))
    rows, columns, lengths = [], [], []
    offsets = [(i, j, k) for i in (-1, 0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if (i, j, k) > (0, 0, 0)]
    padded = np.pad(number, 1, constant_values=-1)
    for offset in offsets:
        other = padded[tuple((index + 1 + offset).T)]
        inside = other >= 0
        rows.append(np.flatnonzero(inside))
        columns.append(other[inside])
        lengths.append(np.full(int(inside.sum()), cell * float(np.linalg.norm(offset))))
    graph = sparse.csr_matrix(
        (np.concatenate(lengths), (np.concatenate(rows), np.concatenate(columns))), shape=(len(index), len(index))
    )
    return CellGraph(index, graph, number)


def reach(cells: CellGraph, sources: IntArray) -> FloatArray:
    """Shortest way (m,) inside the solid from any of the source nodes; inf where there is none."""
    return np.asarray(dijkstra(cells.graph, directed=False, indices=sources, min_only=True))


@njit(cache=True, nogil=True)
def sight_inside(filled, origin, cell, starts, ends):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Share (m,) of the straight line start -> end, sampled twice a cell, that lies in filled cells."""
    result = np.empty(len(starts))
    nx, ny, nz = filled.shape
    for m in range(len(starts)):
        delta = ends[m] - starts[m]
        length = np.sqrt(np.sum(delta * delta))
        steps = max(int(2.0 * length / cell), 1)
        hits = 0
        for s in range(steps + 1):
            t = s / steps
            x = int(np.floor((starts[m, 0] + t * delta[0] - origin[0]) / cell))
            y = int(np.floor((starts[m, 1] + t * delta[1] - origin[1]) / cell))
            z = int(np.floor((starts[m, 2] + t * delta[2] - origin[2]) / cell))
            if 0 <= x < nx and 0 <= y < ny and 0 <= z < nz and filled[x, y, z]:
                hits += 1
        result[m] = hits / (steps + 1)
    return result
