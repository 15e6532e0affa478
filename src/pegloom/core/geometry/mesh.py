"""A polygon mesh as arrays, and what follows from it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components

from pegloom.core.arrays import BoolArray, FloatArray, IntArray, frozen, owned_floats, owned_ints
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.near import near_groups
from pegloom.core.memo import by_identity
from pegloom.core.tolerances import FARTHEST, WELD_OF_SIZE

NO_LAYERS: Mapping[str, FloatArray] = MappingProxyType({})
SECOND_UVS, COLOURS = "uv2", "colour"
"""Names of what layers files bring: (c, 2), v up, and (c, 4), linear red, green, blue, alpha."""
LAYER_WIDTHS = {SECOND_UVS: 2, COLOURS: 4}


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Mesh:
    """Polygons over vertices, in the order of the file they came from.

    points : (n, 3) metres.
    corners : (c,) the vertex of each face corner, face after face.
    starts : (f + 1,) where each face's corners begin.
    uvs : (c, 2), v up, or None.
    normals : (c, 3) unit, or None.
    materials : (f,) index into the character's materials.
    layers : what else a file told of each corner, (c, w) by name (LAYER_WIDTHS). It is kept, and handed over again;
        nothing here is worked out from it.
    """

    points: FloatArray
    corners: IntArray
    starts: IntArray
    uvs: FloatArray | None
    normals: FloatArray | None
    materials: IntArray
    layers: Mapping[str, FloatArray] = field(default_factory=lambda: NO_LAYERS)

    @property
    def vertex_count(self) -> int:
        return len(self.points)

    @property
    def face_count(self) -> int:
        return len(self.starts) - 1


def make_mesh(
    points: object,
    corners: object,
    starts: object,
    *,
    uvs: object | None = None,
    normals: object | None = None,
    materials: object | None = None,
    layers: Mapping[str, FloatArray] = NO_LAYERS,
) -> Mesh:
    """Check and copy arrays into a Mesh.

    Raises
    ------
    ShapeError
        A face has under three corners, names a missing vertex, or an array's length disagrees.
    """
    p = owned_floats(points, columns=3, name="points")  # type: ignore[arg-type]
    if np.abs(p).max(initial=0.0) > FARTHEST:
        wild = int(np.argmax(np.abs(p).max(axis=1)))
        raise ShapeError(f"vertex {wild + 1} lies at {np.abs(p[wild]).max():.0e}, farther off than anything is")
    c = owned_ints(corners)  # type: ignore[arg-type]
    s = owned_ints(starts)  # type: ignore[arg-type]
    if len(c) and (c.min() < 0 or c.max() >= len(p)):
        raise ShapeError(f"a face names vertex {int(c.max())}, but there are {len(p)} vertices")
    if len(s) == 0 or s[0] != 0 or s[-1] != len(c) or (np.diff(s) < 3).any():
        raise ShapeError("each face needs at least three corners")
    faces = len(s) - 1
    u = None if uvs is None else owned_floats(uvs, columns=2, name="uvs")  # type: ignore[arg-type]
    nrm = None if normals is None else owned_floats(normals, columns=3, name="normals")  # type: ignore[arg-type]
    for name, array in (("uvs", u), ("normals", nrm)):
        if array is not None and len(array) != len(c):
            raise ShapeError(f"{name}: expected one per corner ({len(c)}), got {len(array)}")
    m = owned_ints(np.zeros(faces) if materials is None else materials)  # type: ignore[arg-type]
    if len(m) != faces:
        raise ShapeError(f"materials: expected one per face ({faces}), got {len(m)}")
    own = {name: owned_floats(values, columns=LAYER_WIDTHS[name], name=name) for name, values in layers.items()}
    for name, values in own.items():
        if len(values) != len(c):
            raise ShapeError(f"{name}: expected one per corner ({len(c)}), got {len(values)}")
    return Mesh(p, c, s, u, nrm, m, MappingProxyType(own) if own else NO_LAYERS)


def from_faces(points: object, faces: list[list[int]] | IntArray) -> Mesh:
    """A mesh from a list of faces of any size."""
    sizes = np.array([len(face) for face in faces], dtype=np.int64)
    corners = np.concatenate([np.asarray(face, dtype=np.int64) for face in faces]) if len(sizes) else np.zeros(0)
    return make_mesh(points, corners, np.concatenate([[0], np.cumsum(sizes)]))


def with_points(mesh: Mesh, points: object, *, normals: FloatArray | None = None) -> Mesh:
    """The same mesh with other points (and corner normals, dropped when not given)."""
    p = owned_floats(points, columns=3, name="points")  # type: ignore[arg-type]
    if len(p) != mesh.vertex_count:
        raise ShapeError(f"points: expected {mesh.vertex_count}, got {len(p)}")
    return Mesh(p, mesh.corners, mesh.starts, mesh.uvs, normals, mesh.materials, mesh.layers)


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Triangles:
    """vertices (t, 3) vertex ids, corners (t, 3) corner ids, faces (t,) the polygon each came from."""

    vertices: IntArray
    corners: IntArray
    faces: IntArray


@by_identity
def triangulate(mesh: Mesh) -> Triangles:
    """Cut each polygon into a fan; quads along their shorter diagonal, so that a concave quad does not fold."""
    sizes = np.diff(mesh.starts)
    pieces: list[IntArray] = []
    owners: list[IntArray] = []
    for size in np.unique(sizes):
        faces = np.flatnonzero(sizes == size)
        base = mesh.starts[faces][:, None] + np.arange(size)
        if size == 4:
            p = mesh.points[mesh.corners[base]]
            flip = np.linalg.norm(p[:, 0] - p[:, 2], axis=1) > np.linalg.norm(p[:, 1] - p[:, 3], axis=1) * 1.0001
            base = np.where(flip[:, None], np.roll(base, -1, axis=1), base)
        fan = np.stack([np.repeat(base[:, :1], size - 2, axis=1), base[:, 1:-1], base[:, 2:]], axis=-1)
        pieces.append(fan.reshape(-1, 3))
        owners.append(np.repeat(faces, size - 2))
    if not pieces:
        empty = np.zeros((0, 3), dtype=np.int64)
        return Triangles(empty, empty, np.zeros(0, dtype=np.int64))
    corners, faces = np.concatenate(pieces), np.concatenate(owners)
    order = np.argsort(faces, kind="stable")
    corners, faces = corners[order], faces[order]
    return Triangles(frozen(mesh.corners[corners]), frozen(corners), frozen(faces))


def sample_surface(points: FloatArray, triangles: IntArray, *, count: int = 12_000) -> FloatArray:
    """About `count` points (m, 3) spread evenly over a surface, the same each time: a mesh of few, long faces is
    seen as well as a fine one. Golden-ratio sequence (M. Roberts, "The unreasonable effectiveness of quasirandom
    sequences", 2018), folded into each triangle.
    """
    return sample_surface_normals(points, triangles, count=count)[0]


def sample_surface_normals(
    points: FloatArray, triangles: IntArray, *, count: int = 12_000
) -> tuple[FloatArray, FloatArray]:
    """The points of `sample_surface` and the unit normals (m, 3) of their faces.

    Without a face that has an area, the mesh's own points and zeros.
    """
    if len(triangles) == 0:
        return points, np.zeros_like(points)
    spread = _spread(points, triangles, count)
    if spread is None:
        return points, np.zeros_like(points)
    chosen, shares, normals, area = spread
    places = np.einsum("ki,kij->kj", shares, points[triangles[chosen]])
    return places, normals[chosen] / np.maximum(area[chosen], 1e-300)[:, None]


def _spread(
    points: FloatArray, triangles: IntArray, count: int
) -> tuple[IntArray, FloatArray, FloatArray, FloatArray] | None:
    """Triangles (m,) and corner shares (m, 3) of evenly spread places, and all triangles' normals and lengths of them."""
    normals = triangle_normals(points, triangles)
    area = np.linalg.norm(normals, axis=1)
    total = np.cumsum(area)
    if total[-1] <= 0:
        return None
    chosen = np.minimum(np.searchsorted(total, (np.arange(count) + 0.5) / count * total[-1]), len(triangles) - 1)
    k = np.arange(count)
    u, v = (0.5 + k * 0.7548776662466927) % 1.0, (0.5 + k * 0.5698402909980532) % 1.0
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    return chosen, np.stack([1 - u - v, u, v], axis=1), normals, area


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Spots:
    """Places spread evenly over a mesh, told by its vertices so that they go along with a pose.

    vertices (m, 3), shares (m, 3) : a place is its vertices' mean by these. area : square metres each stands for.
    """

    vertices: IntArray
    shares: FloatArray
    area: float

    def at(self, points: FloatArray) -> FloatArray:
        """Where they are (m, 3) when the mesh's vertices are at points (n, 3)."""
        return np.asarray(np.einsum("ki,kij->kj", self.shares, points[self.vertices]))


@by_identity
def spots_on(mesh: Mesh, count: int) -> Spots:
    """About `count` places spread evenly over a mesh; none on one without a surface."""
    triangles = triangulate(mesh).vertices
    spread = _spread(mesh.points, triangles, count) if len(triangles) else None
    if spread is None:
        return Spots(np.zeros((0, 3), dtype=np.int64), np.zeros((0, 3)), 0.0)
    chosen, shares, _, area = spread
    return Spots(triangles[chosen], shares, float(area.sum()) / 2 / count)


def bounds(points: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Least and greatest corner of the box around points (n, 3); zeros for none."""
    if len(points) == 0:
        return np.zeros(3), np.zeros(3)
    return points.min(axis=0), points.max(axis=0)


def diagonal(points: FloatArray) -> float:
    """Length of the bounding box's diagonal, the program's measure of size; vertices far off do not count."""
    low, high = bounds(points[~far_off(points)])
    return float(np.linalg.norm(high - low))


FAR = 100.0
"""Times the distance that nine in ten vertices keep to the middle: beyond, a vertex may be a stray."""
FAR_GAP = 10.0
"""Times the farthest of the others: what lies nearer than this is the end of something long."""


def far_off(points: FloatArray) -> BoolArray:
    """Which points (n,) lie so far from all others that they say nothing of the size: few, and past a wide gap."""
    none = np.zeros(len(points), dtype=bool)
    if len(points) < 5:
        return none
    # Halved first, so that the largest of all numbers do not overflow.
    distance = np.abs(0.5 * points - 0.5 * np.median(points, axis=0)).max(axis=1)
    most = int(0.9 * (len(points) - 1))
    core = float(np.partition(distance, most)[most])
    far = distance > min(FAR * core, 1e300)
    count = int(far.sum())
    if core <= 0.0 or not 0 < count <= max(8, len(points) // 1000):
        return none
    return far if distance[far].min() > FAR_GAP * distance[~far].max() else none


@by_identity
def upright(mesh: Mesh) -> tuple[float, float]:
    """Lowest and highest y of a mesh, metres; vertices far off do not count. Zeros for an empty one."""
    low, high = bounds(mesh.points[~far_off(mesh.points)])
    return float(low[1]), float(high[1])


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Weld:
    """Vertices at one place taken as one. group (n,) place of each vertex; first (g,) one vertex of each place."""

    group: IntArray
    first: IntArray

    @property
    def count(self) -> int:
        return len(self.first)


@by_identity
def weld(mesh: Mesh) -> Weld:
    """Places of the mesh: vertices within WELD_OF_SIZE of the diagonal of each other share one."""
    return weld_points(mesh.points)


def weld_points(points: FloatArray) -> Weld:
    """Places of loose points (n, 3)."""
    label = near_groups(points, max(diagonal(points) * WELD_OF_SIZE, 1e-12))
    # Number the places in the order of their first vertex, so that results do not depend on the labelling.
    _, first = np.unique(label, return_index=True)
    order = np.argsort(first)
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    return Weld(frozen(rank[label].astype(np.int64)), frozen(np.sort(first).astype(np.int64)))


def unique_rows(rows: IntArray, size: int) -> tuple[IntArray, IntArray]:
    """Different rows (n, k) of numbers from 0 to size - 1, sorted, and how often each stands there."""
    order = np.lexsort(rows.T[::-1]) if rows.shape[1] > 2 else np.argsort(rows[:, 0] * np.int64(size) + rows[:, 1])
    ordered = rows[order]
    fresh = np.ones(len(rows), dtype=bool)
    fresh[1:] = (ordered[1:] != ordered[:-1]).any(axis=1)
    starts = np.flatnonzero(fresh)
    return ordered[starts], np.diff(np.append(starts, len(rows)))


@by_identity
def place_triangles(mesh: Mesh) -> IntArray:
    """Triangles (t, 3) over welded places, degenerate ones dropped."""
    tri = weld(mesh).group[triangulate(mesh).vertices]
    keep = (tri[:, 0] != tri[:, 1]) & (tri[:, 1] != tri[:, 2]) & (tri[:, 2] != tri[:, 0])
    return np.asarray(frozen(tri[keep]))


@by_identity
def place_edges(mesh: Mesh) -> IntArray:
    """Polygon edges (e, 2) over welded places, each once, lower index first."""
    places = weld(mesh).group[mesh.corners]
    following = np.arange(1, len(places) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    pairs = np.sort(np.stack([places, places[following]], axis=1), axis=1)
    pairs = pairs[pairs[:, 0] != pairs[:, 1]]
    if len(pairs) == 0:
        return np.zeros((0, 2), dtype=np.int64)
    return np.asarray(frozen(unique_rows(pairs, weld(mesh).count)[0]))


@by_identity
def edge_use(mesh: Mesh) -> IntArray:
    """How many triangles use each triangle edge: columns low place, high place, count. (e, 3)."""
    tri = place_triangles(mesh)
    edges = np.sort(np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]]), axis=1)
    if len(edges) == 0:
        return np.zeros((0, 3), dtype=np.int64)
    unique, count = unique_rows(edges, weld(mesh).count)
    return np.asarray(frozen(np.column_stack([unique, count])))


def is_watertight(mesh: Mesh) -> bool:
    """Every edge is used by exactly two triangles."""
    use = edge_use(mesh)
    return bool(len(use) and (use[:, 2] == 2).all())


@by_identity
def shells(mesh: Mesh) -> IntArray:
    """Connected shell (n,) of each vertex, over welded places; a vertex without faces is a shell of its own."""
    g = weld(mesh)
    edges = place_edges(mesh)
    graph = sparse.coo_matrix((np.ones(len(edges)), (edges[:, 0], edges[:, 1])), shape=(g.count, g.count))
    _, label = connected_components(graph, directed=False)
    return np.asarray(frozen(label[g.group].astype(np.int64)))


def used_vertices(mesh: Mesh) -> BoolArray:
    """Which vertices (n,) belong to a face."""
    used = np.zeros(mesh.vertex_count, dtype=bool)
    used[mesh.corners] = True
    return used


def triangle_normals(points: FloatArray, triangles: IntArray) -> FloatArray:
    """Normals (t, 3) with length twice the area."""
    a, b, c = (points[triangles[:, i]] for i in range(3))
    return np.asarray(np.cross(b - a, c - a))


OPPOSED = -0.5
"""Cosine of the angle between two vertices' own faces past which they do not share a normal though at one place."""


@by_identity
def normal_groups(mesh: Mesh) -> IntArray:
    """Which vertices (n,) share a normal: those at one place that face alike at rest.

    Cloth whose two sides are modelled as faces back to back would otherwise have normals of nothing.
    """
    g, tri = weld(mesh), triangulate(mesh).vertices
    own = _summed(triangle_normals(mesh.points, tri), tri, mesh.vertex_count)
    size = np.linalg.norm(own, axis=1)
    # The largest at each place is what the others are held against.
    order = np.argsort(size, kind="stable")
    largest = np.zeros(g.count, dtype=np.int64)
    largest[g.group[order]] = order
    best = largest[g.group]
    against = np.einsum("nd,nd->n", own, own[best]) < OPPOSED * size * size[best]
    _, group = np.unique(2 * g.group + against, return_inverse=True)
    return np.asarray(frozen(group.astype(np.int64)))


def vertex_normals(mesh: Mesh, points: FloatArray | None = None) -> FloatArray:
    """Unit normals (n, 3), area-weighted, shared by vertices at one place that face alike, so that seams do not show."""
    p = mesh.points if points is None else points
    tri = triangulate(mesh).vertices
    group = normal_groups(mesh)
    total = _summed(triangle_normals(p, tri), group[tri], int(group.max()) + 1 if len(group) else 0)
    length = np.linalg.norm(total, axis=1, keepdims=True)
    unit = np.where(length > 1e-30, total / np.maximum(length, 1e-30), [0.0, 1.0, 0.0])
    return np.asarray(unit[group])


def _summed(values: FloatArray, triangles: IntArray, count: int) -> FloatArray:
    """Per-triangle values (t, 3) summed over what the triangles' corners name, (count, 3)."""
    total = np.zeros((count, 3))
    for corner in range(3):
        for axis in range(3):
            total[:, axis] += np.bincount(triangles[:, corner], weights=values[:, axis], minlength=count)
    return total


def adjacency(count: int, edges: IntArray) -> sparse.csr_matrix:
    """Symmetric 0/1 matrix (count, count) of edges (e, 2)."""
    both = np.concatenate([edges, edges[:, ::-1]])
    return sparse.csr_matrix((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(count, count))


@by_identity
def place_neighbours(mesh: Mesh) -> sparse.csr_matrix:
    """Adjacency of welded places."""
    return adjacency(weld(mesh).count, place_edges(mesh))


@by_identity
def place_lengths(mesh: Mesh) -> sparse.csr_matrix:
    """Edge lengths (g, g) in metres at rest between welded places; no edge is shorter than a nanometre."""
    g = weld(mesh)
    places, edges = mesh.points[g.first], place_edges(mesh)
    length = np.linalg.norm(places[edges[:, 0]] - places[edges[:, 1]], axis=1) + 1e-9
    both = np.concatenate([edges, edges[:, ::-1]])
    return sparse.csr_matrix((np.tile(length, 2), (both[:, 0], both[:, 1])), shape=(g.count, g.count))
