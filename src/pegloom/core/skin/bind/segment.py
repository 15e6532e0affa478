"""Our default bind: first decide whose a vertex is, then soften.

What costs quality is whole regions given to the wrong joint (a trunk vertex to an arm buried in it), not the falloff.
So distances through the body are judged by the skeleton's own tree:
1. Distance to every joint's bones through the body (distances.py).
2. Siblings: what is about equally far from two limbs belongs to what both hang from: their distances grow up to
   fourfold, faded in from 1.25 to 2 limb radii. The trunk running on from its root is no limb in this.
3. Thickness: farther than 1.5 limb radii distance grows with its square, by one factor along an unbranched chain.
4. Down the tree, each joint's own bone against its children's branches: shares exp(-sqrt(d^2 - m^2) / (0.35 m)),
   m the least distance, so that the blend is as wide as the limb is thick.
5. Four half passes of smoothing along the surface, the strongest few kept and islands dropped before the last ones;
   jumps where the few change eased; small shells whole; strays dropped.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.core.skin.bind.along_skin import drop_islands
from pegloom.core.skin.bind.distances import body_distances
from pegloom.core.skin.bind.surface import finished, weight_joints
from pegloom.core.skin.weights import Weights, cut

SIBLING = 3.0
FADE_FROM, FADE_TO = 1.25, 2.0
THICK = 1.5
SUNK = 1.6
AS_NEAR = 0.15
CLIFF = 0.8
EASINGS = 12
WIDTH = 0.35
PASSES = 4


def bind_segment(
    mesh: Mesh,
    skeleton: Skeleton,
    solid: Solid,
    *,
    influences: int = 4,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:
    """Weights of one part by segmenting, then softening. Raises Cancelled from `progress`."""
    joints = weight_joints(skeleton)
    body = body_distances(mesh, skeleton, joints, solid, progress=part_of(progress, 0.0, 0.7))
    tree = _Tree(skeleton, joints)
    distance = np.maximum(body.distance, 0.25 * solid.cell)
    progress(0.72, "deciding whose each vertex is")
    distance = _thickened(distance, body.radius, tree)
    distance = _siblings(distance, body.radius, tree)
    values = _split(distance, tree)
    progress(0.85, "softening")
    neighbours = place_neighbours(mesh)
    values = softened(values, neighbours, PASSES - 2)
    for _ in range(2):
        # Where limbs tie, neighbours keep different few; softening what was kept closes the step between them.
        values = drop_islands(cut(softened(values, neighbours, 1), influences), neighbours)
    values = _without_cliffs(values, neighbours, influences)
    progress(1.0, "weights done")
    return finished(values, mesh, skeleton, joints, solid, influences)


class _Tree:
    """The weight joints as a tree. children, parent by row; order: parents first; subtree rows of each."""

    def __init__(self, skeleton: Skeleton, joints: list[int]) -> None:
        row = {joint: k for k, joint in enumerate(joints)}
        self.parent = np.full(len(joints), -1)
        for k, joint in enumerate(joints):
            above = int(skeleton.parents[joint])
            while above >= 0 and above not in row:
                above = int(skeleton.parents[above])
            self.parent[k] = row.get(above, -1)
        self.side = [skeleton.joints[joint].side for joint in joints]
        self.children: list[list[int]] = [[] for _ in joints]
        for k, above in enumerate(self.parent.tolist()):
            if above >= 0:
                self.children[above].append(k)
        self.roots = np.flatnonzero(self.parent < 0).tolist()
        self.order: list[int] = []
        waiting = list(self.roots)
        while waiting:
            k = waiting.pop(0)
            self.order.append(k)
            waiting += self.children[k]
        self.below: list[list[int]] = [[k] for k in range(len(joints))]
        for k in reversed(self.order):
            if self.parent[k] >= 0:
                self.below[self.parent[k]] += self.below[k]

    def is_chain(self, k: int) -> bool:
        """Whether nothing branches from a joint on."""
        return all(len(self.children[b]) < 2 for b in self.below[k])

    def chains(self) -> list[list[int]]:
        """Unbranched runs of joints."""
        made: list[list[int]] = []
        for k in self.order:
            above = int(self.parent[k])
            if above >= 0 and len(self.children[above]) == 1:
                next(chain for chain in made if chain[-1] == above).append(k)
            else:
                made.append([k])
        return made


def _thickened(distance: FloatArray, radius: FloatArray, tree: _Tree) -> FloatArray:
    """Distances with what lies beyond a limb's own thickness pushed away."""
    result = distance.copy()
    rows = np.arange(len(distance))
    for chain in tree.chains():
        inner = [k for k in chain if tree.children[k]]
        if not inner:
            continue
        own = distance[:, inner]
        nearest = np.argmin(own, axis=1)
        factor = np.maximum(own[rows, nearest] / (THICK * radius[inner][nearest]), 1.0)
        result[:, inner] = own * factor[:, None]
    return result


def _siblings(distance: FloatArray, radius: FloatArray, tree: _Tree) -> FloatArray:
    """Distances with what lies between sibling limbs given back to what they hang from."""
    result = distance.copy()
    radius = radius.copy()
    for k in reversed(tree.order):
        # Where a limb is sunk in the trunk the ways out are the trunk's: the next bone knows the limb better.
        if len(tree.children[k]) == 1 and tree.parent[k] >= 0:
            radius[k] = min(radius[k], SUNK * radius[tree.children[k][0]])
    for joint in tree.order:
        limbs = tree.children[joint]
        if len(limbs) < 2:
            continue
        nearest = np.stack([distance[:, tree.below[k]].min(axis=1) for k in limbs], axis=1)
        thick = np.stack(
            [_thickness(distance, nearest[:, i], radius, tree.below[k]) for i, k in enumerate(limbs)], axis=1
        )
        for i, limb in enumerate(limbs):
            if joint in tree.roots and tree.side[limb] is Side.CENTRE and not tree.is_chain(limb):
                continue  # the trunk runs on from its root: no limb among limbs
            rival = np.delete(nearest, i, axis=1).min(axis=1)
            tie = np.clip((3.0 - rival / nearest[:, i]) / 2.0, 0.0, 1.0)
            t = np.clip((nearest[:, i] / thick[:, i] - FADE_FROM) / (FADE_TO - FADE_FROM), 0.0, 1.0)
            factor = 1.0 + SIBLING * tie * t * t * (3.0 - 2.0 * t)
            result[:, tree.below[limb]] *= factor[:, None]
    return result


def _thickness(distance: FloatArray, nearest: FloatArray, radius: FloatArray, limb: list[int]) -> FloatArray:
    """How thick (g,) a limb is nearest to each place: at a knee both bones are as near and the thinner one rules."""
    as_near = np.clip(1.0 - (distance[:, limb] / nearest[:, None] - 1.0) / AS_NEAR, 1e-3, 1.0)
    return np.asarray((radius[limb] / as_near).min(axis=1))


def _split(distance: FloatArray, tree: _Tree) -> FloatArray:
    """Weights (g, j) by splitting each joint's share between its own bone and its branches."""
    branch = distance.copy()
    for k in reversed(tree.order):
        for child in tree.children[k]:
            branch[:, k] = np.minimum(branch[:, k], branch[:, child])
    mass = np.zeros_like(distance)
    mass[:, tree.roots] = _shares(branch[:, tree.roots])
    values = np.zeros_like(distance)
    for k in tree.order:
        options = np.concatenate([distance[:, [k]], branch[:, tree.children[k]]], axis=1)
        share = _shares(options) * mass[:, [k]]
        values[:, k] = share[:, 0]
        for i, child in enumerate(tree.children[k]):
            mass[:, child] = share[:, i + 1]
    return values


def _shares(options: FloatArray) -> FloatArray:
    least = options.min(axis=1, keepdims=True)
    share = np.exp(-np.sqrt(np.maximum(options**2 - least**2, 0.0)) / (WIDTH * least))
    return np.asarray(share / share.sum(axis=1, keepdims=True))


def _without_cliffs(values: FloatArray, neighbours: sparse.csr_matrix, influences: int) -> FloatArray:
    """Rows that differ from a neighbour's by more than CLIFF (0 to 2) eased toward their neighbours.

    Where more limbs tie than a row may hold, which few are kept can change from one place to the next.
    """
    edges = sparse.triu(neighbours, k=1).tocoo()
    degree = np.maximum(np.asarray(neighbours.sum(axis=1)).ravel(), 1.0)
    values = values.copy()
    for _ in range(EASINGS):
        step = np.abs(values[edges.row] - values[edges.col]).sum(axis=1) > CLIFF
        if not step.any():
            break
        places = np.unique(np.concatenate([edges.row[step], edges.col[step]]))
        mean = np.asarray(neighbours[places] @ values) / degree[places, None]
        values[places] = cut(0.5 * (values[places] + mean), influences)
    return values


def softened(values: FloatArray, neighbours: sparse.csr_matrix, passes: int) -> FloatArray:
    """Half way toward the neighbours' mean, some times over; places without neighbours stay."""
    degree = np.asarray(neighbours.sum(axis=1)).ravel()
    mean = sparse.diags(1.0 / np.maximum(degree, 1.0)) @ neighbours
    alone = degree == 0
    for _ in range(passes):
        blurred = mean @ values
        blurred[alone] = values[alone]
        values = 0.5 * (values + blurred)
    return values
