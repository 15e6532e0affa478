"""The shape of a body for its finders: the solid, the ways inside it, its tips and the branches that end in them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from scipy import ndimage, sparse
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import FindError
from pegloom.core.geometry.mesh import bounds
from pegloom.core.geometry.solid import cell_graph, make_solid

CELLS_LONG = 110
SPECK = 0.002
"""A separate solid under this share of all cells is dust and is not joined to the body."""


@dataclass(frozen=True, slots=True, eq=False)
class Tip:
    """An end of the body. place (3,);.

    length : of its branch, metres.
    far : the way inside from the middle.
    cells : nodes of the branch.
    """

    node: int
    place: FloatArray
    length: float
    far: float
    cells: IntArray


@dataclass(frozen=True, slots=True, eq=False)
class Line:
    """A branch's centre line from its tip inward: places (m, 3), areas (m,), along (m,) metres from the tip."""

    places: FloatArray
    areas: FloatArray
    along: FloatArray

    def at(self, distance: float) -> FloatArray:
        """The place a distance from the tip."""
        return np.array([np.interp(distance, self.along, self.places[:, k]) for k in range(3)])


class Shape:
    """See the module. Points (n, 3) in metres, Y up; triangles (t, 3); middle: x of the mirror plane."""

    def __init__(
        self, points: FloatArray, triangles: IntArray, *, middle: float = 0.0, cells: int = CELLS_LONG
    ) -> None:
        self.low, self.high = bounds(points)
        self.size = self.high - self.low
        self.longest = float(self.size.max())
        if len(triangles) == 0 or self.longest <= 0:
            raise FindError("the mesh is empty, so no landmarks can be found; open a mesh with faces")
        self.points, self.triangles, self.middle = points, triangles, middle
        self.height = float(self.size[1])
        self.cell = self.longest / cells
        self.solid = make_solid(points, triangles, cell=self.cell, middle=middle)
        self.graph_cells = cell_graph(self.solid.filled, self.cell)
        self.centres = self.solid.centres(self.graph_cells.index)
        self.graph = self._bridged()

    def _bridged(self) -> sparse.csr_matrix:
        """The cells' graph with separate solids (eyes, plates, a puppet's pieces) tied to their nearest neighbour."""
        graph = self.graph_cells.graph
        _count, label = connected_components(graph, directed=False)
        sizes = np.bincount(label)
        rows, columns, lengths = [], [], []
        joined = label == int(np.argmax(sizes))
        left = [k for k in np.argsort(-sizes) if k != int(np.argmax(sizes)) and sizes[k] >= SPECK * len(label)]
        while left:
            tree = cKDTree(self.centres[joined])
            inside = np.flatnonzero(joined)
            options = []
            for k in left:
                mine = np.flatnonzero(label == k)
                found = tree.query(self.centres[mine])
                distance, nearest = np.asarray(found[0]), np.asarray(found[1])
                i = int(np.argmin(distance))
                options.append((float(distance[i]), k, int(mine[i]), int(inside[int(nearest[i])])))
            distance_, k, a, b = min(options)
            rows.append(a)
            columns.append(b)
            lengths.append(distance_)
            joined = joined | (label == k)
            left.remove(k)
        self.part: BoolArray = joined
        if not rows:
            return graph
        extra = sparse.csr_matrix((lengths, (rows, columns)), shape=graph.shape)
        return graph + extra

    @cached_property
    def depth(self) -> FloatArray:
        """Metres (m,) from each cell to the outside."""
        inside = ndimage.distance_transform_edt(self.solid.filled) * self.cell
        return np.asarray(inside[tuple(self.graph_cells.index.T)])

    @cached_property
    def core(self) -> int:
        """The cell in the thick of the body."""
        near = np.exp(-np.abs(self.centres[:, 0] - self.middle) / (0.05 * self.longest + 1e-12))
        return int(np.argmax(np.where(self.part, self.depth * (0.5 + near), -1.0)))

    def ways(self, source: int) -> FloatArray:
        """Shortest way inside (m,) from a cell; inf where none."""
        return np.asarray(dijkstra(self.graph, directed=False, indices=np.array([source]), min_only=True))

    @cached_property
    def far(self) -> FloatArray:
        """The way inside from the thick of the body; -1 for dust."""
        way = self.ways(self.core)
        return np.where(np.isfinite(way) & self.part, way, -1.0)

    def tips(self, least: float) -> list[Tip]:
        """Ends whose branch is at least `least` metres long, the longest branch first.

        Peaks of the way from the body's middle, by how far one must come back before a higher one can be reached
        (their persistence: H. Edelsbrunner, D. Letscher, A. Zomorodian, 2002).
        """
        graph = sparse.csr_matrix(self.graph + self.graph.T)
        order = np.argsort(-self.far, kind="stable")
        order = order[self.far[order] >= 0]
        peak, saddle = persistence(graph.indptr, graph.indices, self.far, order)
        found = []
        for top in np.flatnonzero(peak >= 0).tolist():
            length = float(self.far[top] - max(saddle[top], 0.0))
            if length >= least:
                found.append((length, int(top), float(saddle[top])))
        result = []
        for length, node, level in sorted(found, reverse=True):  # the longest first
            above = np.flatnonzero(self.far > level + 1e-9)
            _, label = connected_components(graph[above][:, above], directed=False)
            where = int(np.searchsorted(above, node))
            branch = above[label == label[where]]
            # The end's middle, not its outermost cell: a blunt end has many.
            near = np.linalg.norm(self.centres[branch] - self.centres[node], axis=1) < 5 * self.cell
            end = branch[near & (self.far[branch] > self.far[node] - 2.2 * self.cell)]
            place = self.centres[end].mean(axis=0)
            result.append(Tip(node, place, length, float(self.far[node]), branch))
        return result

    def line(self, tip: Tip, *, cells: IntArray | None = None, until: float = np.inf) -> Line:
        """Centre line of a tip's branch: middles of the sets of equal way from the tip, 1.5 cells thick."""
        chosen = tip.cells if cells is None else cells
        way = self.ways(tip.node)[chosen]
        keep = np.isfinite(way) & (way <= until)
        chosen, way = chosen[keep], way[keep]
        width = 1.5 * self.cell
        bins = (way / width).astype(np.int64)
        count = np.bincount(bins)
        full = np.flatnonzero(count > 0)
        middle = np.stack(
            [np.bincount(bins, weights=self.centres[chosen, a])[full] / count[full] for a in range(3)], axis=1
        )
        middle = ndimage.uniform_filter1d(middle, 3, axis=0, mode="nearest")
        area = count[full] * self.cell**3 / width
        return Line(middle, ndimage.uniform_filter1d(area, 3, mode="nearest"), np.asarray((full + 0.5) * width))

    def root(self, line: Line, length: float) -> float:
        """How far from its tip a branch begins: where its sections grow into the body, at most `length`."""
        outer = (line.along > 0.2 * length) & (line.along < 0.6 * length)
        if outer.sum() < 2:
            return min(length, float(line.along[-1]))
        usual = float(np.median(line.areas[outer]))
        grown = np.flatnonzero((line.along > 0.45 * length) & (line.areas > 3.2 * usual + 6 * self.cell**2))
        return float(min(length, line.along[grown[0]] if len(grown) else line.along[-1]))

    def span_y(self, x: float, z: float, *, reach: float | None = None) -> tuple[float, float] | None:
        """Lowest and highest filled y over a place, the longest unbroken run."""
        r = 1.5 * self.cell if reach is None else reach
        near = (np.abs(self.centres[:, 0] - x) <= r) & (np.abs(self.centres[:, 2] - z) <= r)
        ys = np.unique(self.graph_cells.index[near, 1])
        if len(ys) == 0:
            return None
        runs = np.split(ys, np.flatnonzero(np.diff(ys) > 2) + 1)
        run = max(runs, key=len)
        origin = self.solid.origin[1]
        return float(origin + run[0] * self.cell), float(origin + (run[-1] + 1) * self.cell)

    def inside(self, place: FloatArray) -> FloatArray:
        """The place itself if it lies inside, else the middle of the nearest filled cell."""
        if bool(self.solid.inside(place)[0]):
            return np.asarray(place)
        _, nearest = cKDTree(self.centres).query(place)
        return np.asarray(self.centres[int(nearest)])


@njit(cache=True, nogil=True)
def persistence(indptr, indices, height, order):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Peaks of a height (m,) on a graph, and how far each stands out.

    indptr, indices : the graph's rows, both ways written down.
    order : nodes from the highest down. Returns peak (m,), 1 at peaks and -1 elsewhere, and saddle (m,), the height
        to come down to before a higher peak can be reached.
    """
    n = len(height)
    parent = np.full(n, -1)
    top = np.full(n, -1)  # of a root: its component's peak
    peak = np.full(n, -1)
    saddle = np.full(n, -1.0)
    for node in order:
        parent[node] = node
        top[node] = node
        for k in range(indptr[node], indptr[node + 1]):
            other = indices[k]
            if parent[other] < 0:
                continue
            a = node
            while parent[a] != a:
                parent[a] = parent[parent[a]]
                a = parent[a]
            b = other
            while parent[b] != b:
                parent[b] = parent[parent[b]]
                b = parent[b]
            if a == b:
                continue
            if height[top[a]] > height[top[b]]:
                a, b = b, a
            # a's peak is the lower one: it ends here.
            if top[a] != node:
                peak[top[a]] = 1
                saddle[top[a]] = height[node]
            parent[a] = b
    for node in order:
        if parent[node] == node:
            peak[top[node]] = 1
            saddle[top[node]] = 0.0
    return peak, saddle
