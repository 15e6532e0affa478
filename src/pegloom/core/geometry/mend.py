"""Meshes mended: welded, loose and doubled things dropped, faces turned outward, edge rows put in.

Each gives the new mesh and its carry, a sparse (new vertices, old vertices) matrix of shares: points, morphs and
weights of the new mesh are carry @ old.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from scipy import sparse
from scipy.sparse.csgraph import connected_components

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, diagonal, make_mesh, triangle_normals, triangulate, used_vertices, weld
from pegloom.core.geometry.transforms import normalised

Mended = tuple[Mesh, sparse.csr_matrix]
NEAR_ROW = 0.04
"""A cut this near (share of the edge) to an existing row adds nothing."""


def _identity(count: int) -> sparse.csr_matrix:
    return sparse.csr_matrix(sparse.identity(count))


def _picked(rows: IntArray, count: int) -> sparse.csr_matrix:
    """Carry of vertices picked from the old ones."""
    return sparse.csr_matrix((np.ones(len(rows)), (np.arange(len(rows)), rows)), shape=(len(rows), count))


def _layers(mesh: Mesh, corners: IntArray | BoolArray) -> dict[str, FloatArray]:
    """A mesh's layers at some of its corners."""
    return {name: values[corners] for name, values in mesh.layers.items()}


def keep_faces(mesh: Mesh, keep: BoolArray) -> Mesh:
    """The mesh with some faces (f,) only; vertices stay."""
    sizes = np.diff(mesh.starts)
    corners = np.repeat(keep, sizes)
    return make_mesh(
        mesh.points, mesh.corners[corners], np.concatenate([[0], np.cumsum(sizes[keep])]),
        uvs=None if mesh.uvs is None else mesh.uvs[corners],
        normals=None if mesh.normals is None else mesh.normals[corners], materials=mesh.materials[keep],
        layers=_layers(mesh, corners),
    )  # fmt: skip


def keep_vertices(mesh: Mesh, keep: BoolArray) -> Mended:
    """The mesh without some vertices (n,), which no face may use."""
    number = np.cumsum(keep) - 1
    result = make_mesh(
        mesh.points[keep], number[mesh.corners], mesh.starts, uvs=mesh.uvs, normals=mesh.normals,
        materials=mesh.materials, layers=mesh.layers,
    )  # fmt: skip
    return result, _picked(np.flatnonzero(keep), mesh.vertex_count)


def drop_loose(mesh: Mesh) -> Mended:
    """Without vertices that belong to no face."""
    return keep_vertices(mesh, used_vertices(mesh))


def weld_vertices(mesh: Mesh) -> Mended:
    """Vertices at one place made one; UVs and normals stay with the corners. Faces that shrink to a line go."""
    g = weld(mesh)
    corners = g.group[mesh.corners]
    sizes = np.diff(mesh.starts)
    face = np.repeat(np.arange(mesh.face_count), sizes)
    following = np.arange(1, len(corners) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    # A corner that falls onto the next one is left out; a face of under three corners goes.
    distinct = corners != corners[following]
    left = np.bincount(face, weights=distinct, minlength=mesh.face_count)
    whole = left >= 3
    keep = distinct & whole[face]
    result = make_mesh(
        mesh.points[g.first], corners[keep], np.concatenate([[0], np.cumsum(left[whole].astype(np.int64))]),
        uvs=None if mesh.uvs is None else mesh.uvs[keep], normals=None if mesh.normals is None else mesh.normals[keep],
        materials=mesh.materials[whole], layers=_layers(mesh, keep),
    )  # fmt: skip
    return result, _picked(g.first, mesh.vertex_count)


def drop_doubles(mesh: Mesh) -> Mended:
    """Without faces that lie on another one (the same places), and without faces of no area."""
    g = weld(mesh)
    seen: set[tuple[int, ...]] = set()
    keep = np.ones(mesh.face_count, dtype=bool)
    places = g.group[mesh.corners]
    for f in range(mesh.face_count):
        key = tuple(sorted(places[mesh.starts[f] : mesh.starts[f + 1]].tolist()))
        if key in seen:
            keep[f] = False
        seen.add(key)
    tri = triangulate(mesh)
    area = np.bincount(
        tri.faces,
        weights=np.linalg.norm(triangle_normals(mesh.points, tri.vertices), axis=1),
        minlength=mesh.face_count,
    )
    keep &= area > 1e-14 * max(diagonal(mesh.points), 1e-12) ** 2
    return keep_faces(mesh, keep), _identity(mesh.vertex_count)


def second_sides(mesh: Mesh) -> BoolArray:
    """Faces (f,) that lie on one before them and look the other way: the second side of a surface that stands double."""
    g = weld(mesh)
    places = g.group[mesh.corners]
    seen: dict[tuple[int, ...], tuple[int, ...]] = {}
    found = np.zeros(mesh.face_count, dtype=bool)
    for f in range(mesh.face_count):
        face = places[mesh.starts[f] : mesh.starts[f + 1]].tolist()
        low = face.index(min(face))
        way = tuple(face[low:] + face[:low])
        key = tuple(sorted(face))
        first = seen.setdefault(key, way)
        found[f] = first is not way and first == (way[0], *reversed(way[1:])) and len(set(way)) == len(way)
    return found


def inward_faces(mesh: Mesh) -> BoolArray:
    """Which faces (f,) look the wrong way: against their neighbours, or a closed shell inside out.

    Neighbours agree where they run along their common edge in opposite directions.
    """
    g = weld(mesh)
    places = g.group[mesh.corners]
    sizes = np.diff(mesh.starts)
    face = np.repeat(np.arange(mesh.face_count), sizes)
    following = np.arange(1, len(places) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    a, b = places, places[following]
    low, high = np.minimum(a, b), np.maximum(a, b)
    key = low * np.int64(g.count) + high
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    # Only edges with exactly two faces say anything.
    third = np.zeros(len(same), dtype=bool)
    third[1:] |= same[:-1]
    third[:-1] |= same[1:]
    first = np.flatnonzero(same & ~third)
    left, right = order[first], order[first + 1]
    agree = a[left] != a[right]
    paired = np.zeros(len(places), dtype=bool)
    paired[left] = paired[right] = True
    open_face = np.bincount(face[~paired], minlength=mesh.face_count) > 0
    one, two = face[left], face[right]
    source = np.stack([one, two], axis=1).ravel()
    order = np.argsort(source, kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(source, minlength=mesh.face_count))])
    label, flipped = _flooded(starts, np.stack([two, one], axis=1).ravel()[order], np.repeat(agree, 2)[order])
    tri = triangulate(mesh)
    p = mesh.points - mesh.points.mean(axis=0) if mesh.vertex_count else mesh.points
    corners = p[tri.vertices]
    volume = np.einsum("td,td->t", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) / 6
    face_volume = np.bincount(tri.faces, weights=volume, minlength=mesh.face_count)
    size = np.bincount(label, minlength=mesh.face_count)
    # An open sheet has no inside: the side most of its faces show is its front.
    open_sheet = np.bincount(label, weights=open_face, minlength=mesh.face_count) > 0
    mostly = np.bincount(label, weights=flipped, minlength=mesh.face_count) > 0.5 * size
    total = np.bincount(label, weights=np.where(flipped, -face_volume, face_volume), minlength=mesh.face_count)
    return np.asarray(flipped != np.where(open_sheet, mostly, total < 0)[label])


@njit(cache=True, nogil=True)
def _flooded(starts, other, agree):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Faces joined to neighbours: the first face (f,) of each one's shell, and whether it is turned against that."""
    count = len(starts) - 1
    label = np.full(count, -1, dtype=np.int64)
    flipped = np.zeros(count, dtype=np.bool_)
    queue = np.empty(count, dtype=np.int64)
    for start in range(count):
        if label[start] >= 0:
            continue
        label[start] = start
        queue[0] = start
        head, tail = 0, 1
        while head < tail:
            f = queue[head]
            head += 1
            for e in range(starts[f], starts[f + 1]):
                k = other[e]
                if label[k] < 0:
                    label[k] = start
                    flipped[k] = flipped[f] != (not agree[e])
                    queue[tail] = k
                    tail += 1
    return label, flipped


def turn_faces(mesh: Mesh, faces: BoolArray) -> Mended:
    """Some faces (f,) turned over."""
    order = np.arange(len(mesh.corners))
    for f in np.flatnonzero(faces).tolist():
        a, b = int(mesh.starts[f]), int(mesh.starts[f + 1])
        order[a:b] = np.arange(b - 1, a - 1, -1)
    turned = np.repeat(faces, np.diff(mesh.starts))
    normals = None
    if mesh.normals is not None:
        normals = np.where(turned[:, None], -mesh.normals, mesh.normals)[order]
    result = make_mesh(
        mesh.points, mesh.corners[order], mesh.starts, uvs=None if mesh.uvs is None else mesh.uvs[order],
        normals=normals, materials=mesh.materials, layers=_layers(mesh, order),
    )  # fmt: skip
    return result, _identity(mesh.vertex_count)


def turn_outward(mesh: Mesh) -> Mended:
    """All faces looking outward."""
    return turn_faces(mesh, inward_faces(mesh))


def split_by_shell(mesh: Mesh) -> list[tuple[Mesh, sparse.csr_matrix]]:
    """One mesh per connected shell, in the order of their first face."""
    g = weld(mesh)
    places = g.group[mesh.corners]
    face = np.repeat(np.arange(mesh.face_count), np.diff(mesh.starts))
    graph = sparse.coo_matrix((np.ones(len(places)), (face, places)), shape=(mesh.face_count, g.count))
    both = sparse.bmat([[None, graph], [graph.T, None]])
    _, label = connected_components(both, directed=False)
    label = label[: mesh.face_count]
    result = []
    for shell in dict.fromkeys(label.tolist()):
        result.append(drop_loose(keep_faces(mesh, label == shell)))
    return result


def joined(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one, vertices and faces one after the other. UVs and layers stay only where all have them."""
    offsets = np.cumsum([0, *[m.vertex_count for m in meshes]])
    starts = [np.diff(m.starts) for m in meshes]
    uvs = None if any(m.uvs is None for m in meshes) else np.concatenate([m.uvs for m in meshes if m.uvs is not None])
    normals = None
    if all(m.normals is not None for m in meshes):
        normals = np.concatenate([m.normals for m in meshes if m.normals is not None])
    kept = [name for name in meshes[0].layers if all(name in m.layers for m in meshes)] if meshes else []
    return make_mesh(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.corners + o for m, o in zip(meshes, offsets, strict=False)]),
        np.concatenate([[0], np.cumsum(np.concatenate(starts))]), uvs=uvs, normals=normals,
        materials=np.concatenate([m.materials for m in meshes]),
        layers={name: np.concatenate([m.layers[name] for m in meshes]) for name in kept},
    )  # fmt: skip


def insert_row(mesh: Mesh, place: FloatArray, normal: FloatArray) -> Mended | None:
    """An edge row around the limb at `place`, in the plane square to `normal`. None where the plane meets no limb there.

    Every face the plane crosses twice, on the ring of faces around the place, is cut in two; UVs and normals of the
    new corners lie between their neighbours'. A row that is there already is not doubled (None).
    """
    n = normalised(normal)
    height = (mesh.points - place) @ n
    g = weld(mesh)
    height = height[g.first][g.group]
    following = np.arange(1, len(mesh.corners) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    va, vb = mesh.corners, mesh.corners[following]
    crossing = (height[va] >= 0) != (height[vb] >= 0)
    face = np.repeat(np.arange(mesh.face_count), np.diff(mesh.starts))
    count = np.bincount(face[crossing], minlength=mesh.face_count)
    ring = _ring_at(mesh, g.group, place, np.flatnonzero(crossing), va, vb, height, face, count)
    if ring is None:
        return None
    shares = np.zeros(len(mesh.corners))
    shares[crossing] = height[va[crossing]] / (height[va[crossing]] - height[vb[crossing]])
    chosen = crossing & ring[face]
    middle = np.minimum(shares[chosen], 1 - shares[chosen])
    if np.median(middle) < NEAR_ROW:
        return None
    pairs: dict[tuple[int, int], int] = {}
    rows: list[tuple[int, int, float]] = []
    total = mesh.vertex_count
    for c in np.flatnonzero(chosen).tolist():
        a, b, t = int(va[c]), int(vb[c]), float(shares[c])
        if (min(a, b), max(a, b)) not in pairs:
            pairs[min(a, b), max(a, b)] = total + len(rows)
            rows.append((a, b, t))
    corners: list[int] = []
    sizes: list[int] = []
    materials: list[int] = []
    blend: list[tuple[int, int, float]] = []  # each new corner between two old ones
    for f in range(mesh.face_count):
        span = list(range(int(mesh.starts[f]), int(mesh.starts[f + 1])))
        cuts = [k for k, c in enumerate(span) if chosen[c]]
        if not ring[f] or len(cuts) != 2:
            # A neighbour across a T-edge keeps its face but takes the new vertex into its outline.
            line: list[tuple[int, tuple[int, int, float]]] = []
            for c in span:
                line.append((int(mesh.corners[c]), (c, c, 0.0)))
                key = (min(int(va[c]), int(vb[c])), max(int(va[c]), int(vb[c])))
                if crossing[c] and key in pairs:
                    line.append((pairs[key], (c, int(following[c]), float(shares[c]))))
            polygons = [line]
        else:
            i, j = cuts
            new = []
            for k in (i, j):
                c = span[k]
                key = (min(int(va[c]), int(vb[c])), max(int(va[c]), int(vb[c])))
                new.append((pairs[key], (c, int(following[c]), float(shares[c]))))
            old = [(int(mesh.corners[c]), (c, c, 0.0)) for c in span]
            polygons = [[new[0], *old[i + 1 : j + 1], new[1]], [new[1], *old[j + 1 :], *old[: i + 1], new[0]]]
        for polygon in polygons:
            corners += [v for v, _ in polygon]
            blend += [mix for _, mix in polygon]
            sizes.append(len(polygon))
            materials.append(int(mesh.materials[f]))
    mix = np.array(blend)
    one, two, share = mix[:, 0].astype(np.int64), mix[:, 1].astype(np.int64), mix[:, 2:3]

    def between(values: FloatArray | None) -> FloatArray | None:
        return None if values is None else np.asarray(values[one] * (1 - share) + values[two] * share)

    normals = between(mesh.normals)
    a_, b_, t_ = (np.array([row[k] for row in rows]) for k in range(3))
    extra = sparse.csr_matrix(
        (np.concatenate([1 - t_, t_]), (np.tile(np.arange(len(rows)), 2), np.concatenate([a_, b_]))),
        shape=(len(rows), total),
    )
    carry = sparse.csr_matrix(sparse.vstack([_identity(total), extra]))
    result = make_mesh(
        carry @ mesh.points, np.array(corners), np.concatenate([[0], np.cumsum(sizes)]), uvs=between(mesh.uvs),
        normals=None if normals is None else normalised(normals), materials=np.array(materials),
        layers={name: layer for name, values in mesh.layers.items() if (layer := between(values)) is not None},
    )  # fmt: skip
    return result, carry


def _ring_at(
    mesh: Mesh, group: IntArray, place: FloatArray, crossing: IntArray, va: IntArray, vb: IntArray,
    height: FloatArray, face: IntArray, count: IntArray,
) -> BoolArray | None:  # fmt: skip
    """Faces (f,) of the ring around `place`: joined by crossed edges, the ring whose middle is nearest."""
    usable = crossing[count[face[crossing]] == 2]
    if len(usable) == 0:
        return None
    a, b = group[va[usable]], group[vb[usable]]
    key = np.minimum(a, b) * np.int64(group.max() + 1) + np.maximum(a, b)
    _, edge = np.unique(key, return_inverse=True)
    faces = face[usable]
    graph = sparse.coo_matrix(
        (np.ones(len(usable)), (faces, mesh.face_count + edge)), shape=(mesh.face_count + edge.max() + 1,) * 2
    )
    _, label = connected_components(graph, directed=False)
    t = height[va[usable]] / (height[va[usable]] - height[vb[usable]])
    points = mesh.points[va[usable]] + t[:, None] * (mesh.points[vb[usable]] - mesh.points[va[usable]])
    best, nearest = -1, np.inf
    for ring in np.unique(label[faces]):
        own = points[label[faces] == ring]
        middle = own.mean(axis=0)
        radius = float(np.linalg.norm(own - middle, axis=1).mean())
        distance = float(np.linalg.norm(middle - place))
        if distance < nearest and distance < 2.5 * radius:
            best, nearest = int(ring), distance
    if best < 0:
        return None
    chosen = np.zeros(mesh.face_count, dtype=bool)
    chosen[faces[label[faces] == best]] = True
    return chosen


def rows_near(mesh: Mesh, place: FloatArray, normal: FloatArray, reach: float) -> int:
    """About how many edge rows cross the limb within `reach` metres either side of `place`, along `normal`."""
    n = normalised(normal)
    away = mesh.points - place
    along = away @ n
    across = np.linalg.norm(away - np.outer(along, n), axis=1)
    near = (np.abs(along) < reach) & (across < 2.2 * reach)
    if near.sum() < 3:
        return 0
    if near.sum() < 40:
        values = np.sort(along[near])
        return 1 + int((np.diff(values) > 0.12 * reach).sum())
    # In a fine or uneven mesh rows are not level: their distance is that of the edges that run down the limb.
    following = np.arange(1, len(mesh.corners) + 1)
    following[mesh.starts[1:] - 1] = mesh.starts[:-1]
    a, b = mesh.corners, mesh.corners[following]
    both = near[a] & near[b]
    step = np.abs(along[a[both]] - along[b[both]])
    length = np.linalg.norm(mesh.points[a[both]] - mesh.points[b[both]], axis=1)
    down = step > 0.5 * length
    return int(2 * reach / max(float(np.median(step[down])), 1e-9)) if down.any() else 1
