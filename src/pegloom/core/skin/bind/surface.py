"""What every bind starts from: welded places, shells, bones in sight inside the solid."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.mesh import Mesh, bounds, place_triangles, shells, vertex_normals, weld
from pegloom.core.geometry.solid import Solid, make_solid, sight_inside
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skeleton.joints import Skeleton, bone_segments
from pegloom.core.skeleton.uses import SAY_NOTHING, shared_words, words
from pegloom.core.skin.strays import without_strays
from pegloom.core.skin.weights import Weights, from_dense, limited_rows

SIGHT = 0.9
"""Share of the straight line to a bone that must lie inside the solid to count as in sight (cells are coarse)."""
CELLS_TALL = 110
RIVAL = 1.1
"""How many times as far as the nearest bone in sight another may be and still be looked for."""
SMALL_SHELL = 0.22
"""A shell of its own smaller than this share of the part's largest shell (by diagonal) moves as one piece."""


@dataclass(frozen=True, slots=True, eq=False)
class BoneView:
    """Per place and joint: distance (g, j) to the joint's nearest bone, in_sight (g, j) whether inside all the way."""

    distance: FloatArray
    in_sight: np.ndarray


def body_solid(meshes: list[Mesh], *, middle: float = 0.0, detail: float = 1.0) -> Solid:
    """The solid of several parts together, at the bind's resolution; detail : factor on the cells along a side."""
    points = np.concatenate([m.points for m in meshes])
    offsets = np.cumsum([0, *[weld(m).count for m in meshes]])
    places = np.concatenate([m.points[weld(m).first] for m in meshes])
    triangles = np.concatenate([place_triangles(m) + o for m, o in zip(meshes, offsets, strict=False)])
    low, high = bounds(points)
    cell = float((high - low).max()) / (CELLS_TALL * detail)
    return make_solid(places, triangles, cell=cell, middle=middle)


def view_bones(
    mesh: Mesh, skeleton: Skeleton, joints: list[int], solid: Solid, *, progress: Progress = silent
) -> BoneView:
    """How far each place is from each joint's bones, and whether it sees them through the inside.

    joints : indices of the joints that may hold weight. Bones farther than RIVAL times the nearest one in sight are
    not looked at and count as out of sight.
    """
    g = weld(mesh)
    places = mesh.points[g.first]
    normals = vertex_normals(mesh)[g.first]
    starts, ends, owner = bone_segments(skeleton)
    distance = np.empty((g.count, len(joints)))
    target = np.empty((g.count, len(joints), 3))
    rows = np.arange(g.count)
    for column, joint in enumerate(joints):
        segments = np.flatnonzero(owner == joint)
        nearest, d = closest_on_segments(places, starts[segments], ends[segments])
        best = np.argmin(d, axis=1)
        distance[:, column], target[:, column] = d[rows, best], nearest[rows, best]
    # Begin a little under the skin, so that a surface cell's neighbours outside do not block the first step.
    under = places - normals * (0.75 * solid.cell)
    order = np.argsort(distance, axis=1, kind="stable")
    in_sight = np.zeros((g.count, len(joints)), dtype=bool)
    open_rows, reach = rows, np.full(g.count, np.inf)
    for rank in range(len(joints)):
        progress(min(0.1 + 0.12 * rank, 1.0), "looking for the bones in sight")
        column = order[open_rows, rank]
        # Once a bone is seen, only those about as near still matter.
        keep = distance[open_rows, column] <= reach[open_rows]
        open_rows, column = open_rows[keep], column[keep]
        if len(open_rows) == 0:
            break
        share = sight_inside(solid.filled, solid.origin, solid.cell, under[open_rows], target[open_rows, column])
        seen = share >= SIGHT
        in_sight[open_rows, column] = seen
        first = seen & ~np.isfinite(reach[open_rows])
        reach[open_rows[first]] = RIVAL * distance[open_rows[first], column[first]]
    return BoneView(distance, in_sight)


CARRIERS = frozenset({"root", "origin", "world", "reference", "carrier", "global"})
"""Words that say of a joint above all others that it only carries them."""


def weight_joints(skeleton: Skeleton) -> list[int]:
    """Joints that may hold weight: all but those above the body that only carry it.

    A joint only carries when all others hang from its one child and its name says so, and nothing else (CARRIERS).
    A word that nearly all names share is the character's and says nothing; of a lone chain (tail_root, tail_tip) it is
    the chain's, whose root holds skin.
    """
    chosen = list(range(len(skeleton.joints)))
    silent = SAY_NOTHING
    if max(Counter(joint.parent for joint in skeleton.joints).values(), default=0) > 1:
        silent = SAY_NOTHING | shared_words(skeleton)
    while len(chosen) > 1:
        first = skeleton.joints[chosen[0]]
        others = [skeleton.joints[i] for i in chosen[1:]]
        told = words(first.name)
        alone = sum(joint.parent == first.id for joint in others) == 1 and all(joint.parent for joint in others)
        if first.id != "root" and not (alone and told & CARRIERS and told <= CARRIERS | silent):
            break
        chosen = chosen[1:]
    return chosen


def small_shells(mesh: Mesh) -> list[IntArray]:
    """Places of each small shell (eyes, buttons) that moves as one piece. A mesh of one shell has none."""
    g = weld(mesh)
    label = shells(mesh)[g.first]
    places = mesh.points[g.first]
    sizes = []
    for shell in range(int(label.max()) + 1 if len(label) else 0):
        mine = np.flatnonzero(label == shell)
        low, high = bounds(places[mine])
        sizes.append((float(np.linalg.norm(high - low)), mine))
    if len(sizes) < 2:
        return []
    largest = max(size for size, _ in sizes)
    return [mine for size, mine in sizes if size < SMALL_SHELL * largest]


WHOLE_OF_SIZE = 0.12
"""A shell of its own smaller than this share of the whole body, with no joint inside, moves as one piece."""
RULES = 0.6
"""A shell whose mean row gives one joint this much is rigid with it; another takes the mean row everywhere."""


def whole_shells(mesh: Mesh, skeleton: Skeleton, joints: list[int], size: float) -> list[IntArray]:
    """Places of each shell that moves as one piece: eyes, teeth, buttons, also where they are a part of their own.

    size : the whole body's bounding diagonal, metres.
    """
    g = weld(mesh)
    label = shells(mesh)[g.first]
    places = mesh.points[g.first]
    small = {tuple(s.tolist()) for s in small_shells(mesh)}
    found = [np.array(s) for s in small]
    if size <= 0:
        return found
    inside = skeleton.positions[joints]
    for shell in range(int(label.max()) + 1 if len(label) else 0):
        mine = np.flatnonzero(label == shell)
        low, high = bounds(places[mine])
        if float(np.linalg.norm(high - low)) >= WHOLE_OF_SIZE * size or tuple(mine.tolist()) in small:
            continue
        if not ((inside > low) & (inside < high)).all(axis=1).any():
            found.append(mine)
    return found


def one_row(values: FloatArray) -> FloatArray:
    """The row (j,) a shell that moves as one piece takes, from its places' rows (m, j)."""
    row = values.mean(axis=0)
    if row.max() >= RULES * row.sum():
        whole = np.zeros_like(row)
        whole[int(np.argmax(row))] = 1.0
        return np.asarray(whole)
    return np.asarray(row / row.sum())


CRUMB = 0.005
"""Weights under this are left out of a bind."""


def finished(
    values: FloatArray, mesh: Mesh, skeleton: Skeleton, joints: list[int], solid: Solid, influences: int, *,
    progress: Progress = silent,
) -> Weights:  # fmt: skip
    """Weights of every vertex from rows (g, j) of welded places: small shells whole, strays dropped."""
    for shell in whole_shells(mesh, skeleton, joints, solid.diagonal):
        values[shell] = limited_rows(one_row(values[shell])[None], influences)
    # Crumbs move nothing one can see; a row keeps at least what it holds most.
    values[(values < CRUMB) & (values.max(axis=1, keepdims=True) >= CRUMB)] = 0.0
    ids = [skeleton.joints[j].id for j in joints]
    ask(progress)
    weights = from_dense(values[weld(mesh).group], ids, influences=influences)
    return without_strays(mesh, weights, progress=progress)[0]
