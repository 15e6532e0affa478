"""The cells of a body: which hold together, which go along with a bone, and which carry each place of the skin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage, sparse
from scipy.sparse.linalg import SuperLU, splu
from scipy.spatial import cKDTree

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.solid import cell_graph, make_solid
from pegloom.core.skeleton.joints import Skeleton, bone_segments

FINEST, CELLS = 110, 14_000
"""Cells along the diagonal of the whole body, at most, and about how many there are of a broad one."""
CORE = 0.45
"""Share of the way from bone to skin up to which flesh goes along with the bone."""
FREE_AT_JOINTS = 0.9
"""Radii of the limb around a joint in which it does not, so that the bend spreads over the joint."""
REACH = 2.5
"""Depths under the skin, and cells beside them, from where two limbs' skins meet in which their flesh holds together: an arm that
hangs by the side is no part of it, nor one finger of the next."""
RIDES_ON = 8
"""Cells that carry a place of the skin."""
NEAREST = 4
"""Places of the skin that a cell's own weights are read from."""


@dataclass(frozen=True, slots=True, eq=False)
class Flesh:
    """columns : the joint in the skeleton of each column of the weights it was made of.
    rest (c, 3) : middles of the cells, metres.
    starts (c + 1,), others (e,), shares (e,) : for each cell its neighbours and how much each counts.
    rows (c, k), held (c, k) : columns of the weights a cell starts from, and their shares.
    bone (c,) : the joint's column a cell goes along with rigidly; -1 for free ones.
    free (f,) : the free cells; solved : the factor of their equations. onto (f, c) : what free cells take from held ones.
    rides (p, 8), carried (p, 8) : cells that carry each place, and their shares.
    """

    columns: tuple[int, ...]
    rest: FloatArray
    starts: IntArray
    others: IntArray
    shares: FloatArray
    rows: IntArray
    held: FloatArray
    bone: IntArray
    free: IntArray
    solved: SuperLU
    onto: sparse.csr_matrix
    rides: IntArray
    carried: FloatArray


def flesh_of(points: FloatArray, triangles: IntArray, values: FloatArray, skeleton: Skeleton, columns: list[int], *, middle: float = 0.0) -> Flesh:
    """Cells of a body at rest.

    Parameters
    ----------
    points (p, 3), triangles (t, 3) : its skin, welded; metres. values (p, j) : weights to start from. columns : the joint in the
    skeleton of each of the j columns. middle : of the mirror plane.
    """
    size = float(np.linalg.norm(np.ptp(points, axis=0)))
    solid = make_solid(points, triangles, cell=size / FINEST, middle=middle)
    coarser = (solid.filled.sum() / CELLS) ** (1 / 3)
    if coarser > 1.05:
        solid = make_solid(points, triangles, cell=coarser * size / FINEST, middle=middle)
    cells = cell_graph(solid.filled, solid.cell)
    rest = solid.centres(cells.index)
    tree = cKDTree(points)
    gaps, near = tree.query(rest, k=NEAREST)
    part = 1.0 / np.maximum(gaps, 0.25 * solid.cell)
    rows, held = _rows(np.einsum("ck,ckj->cj", part / part.sum(axis=1, keepdims=True), values[near]))
    starts, ends, owners = bone_segments(skeleton)
    own = {joint: k for k, joint in enumerate(columns)}
    kept = np.array([o in own for o in owners])
    starts, ends, owner = starts[kept], ends[kept], np.array([own[o] for o in owners[kept]])
    at, along, away = _nearest_bone(rest, starts, ends, owner, rows)
    nearest = rows[:, 0]
    skin = ndimage.distance_transform_edt(solid.filled)[tuple(cells.index.T)] * solid.cell
    borders = _Borders(points, triangles, values.argmax(axis=1), skeleton, columns, solid.cell)
    bone = _core(skin, starts, ends, owner, at, along, away, skeleton, columns)
    graph = _held_together(cells.graph.tocoo(), rest, nearest, skin, borders)
    laplace = (sparse.diags(np.asarray(graph.sum(axis=1)).ravel()) - graph).tocsr()
    loose = np.flatnonzero(bone < 0)
    if len(loose):
        # What no bone holds, through whatever cells, would have no place: it goes along with its nearest bone.
        _, label = sparse.csgraph.connected_components(graph, directed=False)
        anchored = np.isin(label, label[bone >= 0])
        bone = np.where(anchored, bone, owner[at])
    free = np.flatnonzero(bone < 0)
    inner = laplace[free][:, free].tocsc()
    factor = splu(inner, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    rides, carried = _riders(points, rest, nearest, values, borders, solid.cell)
    graph = graph.tocsr()
    return Flesh(
        tuple(columns), rest, graph.indptr.astype(np.int64), graph.indices.astype(np.int64), graph.data, rows, held, bone, free, factor,
        (-laplace[free]).tocsr(), rides, carried,
    )  # fmt: skip


def _rows(values: FloatArray, width: int = 8) -> tuple[IntArray, FloatArray]:
    order = np.argsort(-values, axis=1, kind="stable")[:, : min(width, values.shape[1])]
    held = np.take_along_axis(values, order, axis=1)
    return order, held / np.maximum(held.sum(axis=1, keepdims=True), 1e-12)


def _nearest_bone(rest: FloatArray, starts: FloatArray, ends: FloatArray, owner: IntArray, rows: IntArray) -> tuple[IntArray, FloatArray, FloatArray]:
    """For each cell the segment nearest of those whose joint its skin follows: its number, metres along it, metres away."""
    follows = np.zeros((len(rest), int(owner.max()) + 1), dtype=bool)
    for k in range(min(rows.shape[1], 4)):
        valid = rows[:, k] < follows.shape[1]
        follows[np.flatnonzero(valid), rows[valid, k]] = True
    at, along, away = np.zeros(len(rest), dtype=np.int64), np.zeros(len(rest)), np.zeros(len(rest))
    for first in range(0, len(rest), 2000):
        some = slice(first, first + 2000)
        places, gaps = closest_on_segments(rest[some], starts, ends)
        gaps = np.where(follows[some][:, owner], gaps, gaps + 1e3)
        best = gaps.argmin(axis=1)
        at[some] = best
        away[some] = np.take_along_axis(gaps, best[:, None], axis=1)[:, 0] % 1e3
        along[some] = np.linalg.norm(places[np.arange(len(best)), best] - starts[best], axis=1)
    return at, along, away


class _Borders:
    """Where on the skin one joint's region meets another's: there, and there alone, their flesh is one."""

    def __init__(self, points: FloatArray, triangles: IntArray, own: IntArray, skeleton: Skeleton, columns: list[int], cell: float) -> None:
        self.cell, self.count = cell, len(columns)
        edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
        a, b = np.sort(own[edges], axis=1).T
        meet = a != b
        key, middle = (a * self.count + b)[meet], points[edges[meet]].mean(axis=1)
        order = np.argsort(key, kind="stable")
        keys, first = np.unique(key[order], return_index=True)
        self.trees = {int(k): cKDTree(some) for k, some in zip(keys, np.split(middle[order], first[1:]) if len(keys) else (), strict=True)}
        above = [int(skeleton.parents[j]) for j in columns]
        number = {joint: k for k, joint in enumerate(columns)}
        # A bone and the one it hangs on are one flesh wherever they lie side by side.
        self.near = {min(k, number[j]) * self.count + max(k, number[j]) for k, j in enumerate(above) if j in number}

    def one_flesh(self, a: IntArray, b: IntArray, places: FloatArray, depth: FloatArray) -> BoolArray:
        """Whether flesh of joint a (m,) and of joint b (m,) at places (m, 3) hold together. depth (m,) : under the skin, metres."""
        low, high = np.minimum(a, b), np.maximum(a, b)
        key, result = low * self.count + high, a == b
        for one in np.unique(key[~result]).tolist():
            mine = np.flatnonzero((key == one) & ~result)
            if one in self.near:
                result[mine] = True
            elif one in self.trees:
                gaps, _ = self.trees[one].query(places[mine])
                result[mine] = gaps < REACH * (depth[mine] + self.cell)
        return np.asarray(result)


def _held_together(graph: sparse.coo_matrix, rest: FloatArray, nearest: IntArray, skin: FloatArray, borders: _Borders) -> sparse.csr_matrix:
    """The graph of cells (c, c) without the edges between flesh that only touches; each counts by one over its length."""
    middle = 0.5 * (rest[graph.row] + rest[graph.col])
    keep = borders.one_flesh(nearest[graph.row], nearest[graph.col], middle, np.maximum(skin[graph.row], skin[graph.col]))
    half = sparse.csr_matrix((1.0 / graph.data[keep], (graph.row[keep], graph.col[keep])), shape=graph.shape)
    return (half + half.T).tocsr()


def _core(
    skin: FloatArray, starts: FloatArray, ends: FloatArray, owner: IntArray, at: IntArray, along: FloatArray, away: FloatArray,
    skeleton: Skeleton, columns: list[int],
) -> IntArray:  # fmt: skip
    """The column each cell goes along with; -1 where it is free. skin (c,) : metres to it."""
    share = away / np.maximum(away + skin, 1e-9)
    length = np.linalg.norm(ends - starts, axis=1)
    # About how thick the limb is where a cell lies.
    radius = away + skin
    moves = np.zeros(len(starts), dtype=bool)
    for k, joint in enumerate(owner.tolist()):
        moves[k] = int(skeleton.parents[columns[joint]]) >= 0
    goes_on = np.array([any(np.linalg.norm(skeleton.positions[skeleton.index[c.id]] - e) < 1e-6 for c in skeleton.children(skeleton.joints[columns[o]].id)) for o, e in zip(owner.tolist(), ends, strict=True)])
    at_start = moves[at] & (along < FREE_AT_JOINTS * radius)
    at_end = goes_on[at] & (length[at] - along < FREE_AT_JOINTS * radius)
    held: BoolArray = (share < CORE) & ~at_start & ~at_end
    result = np.where(held, owner[at], -1)
    for joint in range(int(owner.max()) + 1):
        # A bone too short or thick for a core holds the cells nearest its middle: else nothing would turn its flesh.
        mine = np.flatnonzero(owner[at] == joint)
        if len(mine) and not (result[mine] == joint).any():
            middle = np.abs(along[mine] - 0.5 * length[at[mine]]) + 2.0 * away[mine]
            result[mine[np.argsort(middle)[: max(1, len(mine) // 12)]]] = joint
    return np.asarray(result)


def _riders(points: FloatArray, rest: FloatArray, nearest: IntArray, values: FloatArray, borders: _Borders, cell: float) -> tuple[IntArray, FloatArray]:
    """Cells that carry each place: the nearest of those that are one flesh with it."""
    tree = cKDTree(rest)
    gaps, near = tree.query(points, k=min(3 * RIDES_ON, len(rest)))
    own = np.repeat(values.argmax(axis=1), near.shape[1])
    places = np.repeat(points, near.shape[1], axis=0)
    alike = borders.one_flesh(own, nearest[near].ravel(), places, np.full(len(own), cell)).reshape(near.shape)
    alike[~alike.any(axis=1)] = True
    order = np.argsort(np.where(alike, gaps, gaps + 1e3), axis=1, kind="stable")[:, :RIDES_ON]
    share = np.where(alike, 1.0 / (gaps**2 + (0.5 * cell) ** 2), 0.0)
    share = np.take_along_axis(share, order, axis=1)
    return np.take_along_axis(near, order, axis=1), share / share.sum(axis=1, keepdims=True)
