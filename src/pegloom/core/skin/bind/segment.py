"""Our default bind: first decide whose a vertex is, then soften.

What costs quality is whole regions given to the wrong joint (a trunk vertex to an arm buried in it), not the falloff.
So distances through the body are judged by the skeleton's own tree:
1. Distance to every joint's bones through the body (distances.py).
   Cloth that hangs round a limb, with no bone of its own, measures through the air under it.
2. Siblings: what is about equally far from two limbs belongs to what both hang from: their distances grow up to
   fourfold, faded in from 1.25 to 2 limb radii, and out again where what they hang from is much farther than they
   are. The trunk running on from its root is no limb in this.
3. Thickness: farther than 1.5 limb radii (2 for a trunk) distance grows with its square, by one factor a chain. A
   limb's end, whose thickness is not known, is spared where it is nearest; hanging cloth has no thickness to exceed.
4. Down the tree, each joint's own bone against its children's branches: shares exp(-sqrt(d^2 - m^2) / (0.35 m)),
   m the least distance, so that the blend is as wide as the limb is thick.
5. Four half passes of smoothing along the surface, the strongest few kept and islands dropped before the last ones;
   jumps where the few change eased; small shells whole; strays dropped.
6. What would tear is eased: edges that open by more than STRETCH of their length per radian of a joint, and what a left and
   a right limb would share there (a crotch, a belly) goes to what both hang from, as far as that is near.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours, weld
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.core.skin.bind.along_skin import drop_islands
from pegloom.core.skin.bind.distances import body_distances, ends_here
from pegloom.core.skin.bind.surface import finished, weight_joints
from pegloom.core.skin.weights import Weights, cut

SIBLING = 3.0
FADE_FROM, FADE_TO = 1.25, 2.0
THICK, THICK_TRUNK = 1.5, 2.0
TAKES = (1.2, 2.0)
"""How many times as far as its limbs a joint's own bones, or its trunk's, may be to be given what ties between them,
fading out."""
WITHIN = (0.8, 1.2)
"""How many trunk's thicknesses from the trunk a place may be to be the trunk's all the same. Beyond both, as in a skirt's
hem, the limbs share it."""
GIVES_BACK_AFTER = 10
"""Steps of easing alone before the middle is given back: only what still tears then is."""
SUNK = 1.6
AS_NEAR = 0.15
CLIFF = 0.8
EASINGS = 12
STRETCH = 1.5
STEPS = 140
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
    held = {joint: _Hold(distance, body.radius, tree, joint) for joint, _, _ in tree.pairs()}
    progress(0.72, "deciding whose each vertex is")
    distance = _thickened(distance, body.radius, body.hangs, tree)
    distance = _siblings(distance, body.radius, tree)
    values = _split(distance, tree)
    progress(0.85, "softening")
    neighbours = place_neighbours(mesh)
    values = softened(values, neighbours, PASSES - 2)
    for _ in range(2):
        # Where limbs tie, neighbours keep different few; softening what was kept closes the step between them.
        values = drop_islands(cut(softened(values, neighbours, 1), influences), neighbours)
    values = _without_cliffs(values, neighbours, influences)
    g = weld(mesh)
    origins = skeleton.positions[joints]
    values = _eased(
        values, mesh.points[g.first], neighbours, origins, tree, influences, held, progress=part_of(progress, 0.9, 1.0)
    )
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
        self.ends = [ends_here(skeleton, joint, joints) for joint in joints]
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

    def pairs(self) -> list[tuple[int, int, int]]:
        """Every joint with a child on either side: (joint, left, right)."""
        return [
            (k, left, right)
            for k in self.order
            for left in self.children[k]
            for right in self.children[k]
            if self.side[left] is Side.LEFT and self.side[right] is Side.RIGHT
        ]

    def trunk_to(self, k: int) -> list[int]:
        """A joint and, on the middle, the joints on the middle it hangs from, up to the root."""
        found = [k]
        while self.side[k] is Side.CENTRE and self.parent[k] >= 0 and self.side[self.parent[k]] is Side.CENTRE:
            k = int(self.parent[k])
            found.append(k)
        return found

    def is_trunk(self, k: int) -> bool:
        """Whether a trunk runs on through a joint from the root: no limb among limbs."""
        return int(self.parent[k]) in self.roots and self.side[k] is Side.CENTRE and not self.is_chain(k)

    def chains(self) -> list[list[int]]:
        """Unbranched runs of joints; a trunk is one from its root on, whatever legs branch off."""
        made: list[list[int]] = []
        for k in self.order:
            above = int(self.parent[k])
            if above >= 0 and (len(self.children[above]) == 1 or self.is_trunk(k)):
                next(chain for chain in made if above in chain).append(k)
            else:
                made.append([k])
        return made


def _thickened(distance: FloatArray, radius: FloatArray, hangs: FloatArray, tree: _Tree) -> FloatArray:
    """Distances with what lies beyond a limb's own thickness pushed away, as far as it does not hang round it."""
    result = distance.copy()
    rows = np.arange(len(distance))
    for chain in tree.chains():
        inner = [k for k in chain if not tree.ends[k]]
        if not inner:
            continue
        own = distance[:, inner]
        nearest = np.argmin(own, axis=1)
        allowed = (THICK_TRUNK if any(tree.is_trunk(k) for k in chain) else THICK) * radius[inner]
        factor = 1.0 + (1.0 - hangs) * np.maximum(own[rows, nearest] / allowed[nearest] - 1.0, 0.0)
        result[:, inner] = own * factor[:, None]
        for end in (k for k in chain if tree.ends[k]):
            # An end's own thickness is not known: it is spared where it is nearest, and no farther.
            past = np.clip((distance[:, end] / own[rows, nearest] - 1.0) / 0.6, 0.0, 1.0)
            result[:, end] *= 1.0 + (factor - 1.0) * past
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
        hold = _Hold(distance, radius, tree, joint)
        nearest = np.stack([distance[:, tree.below[k]].min(axis=1) for k in limbs], axis=1)
        thick = np.stack(
            [_thickness(distance, nearest[:, i], radius, tree.below[k]) for i, k in enumerate(limbs)], axis=1
        )
        for i, limb in enumerate(limbs):
            if tree.is_trunk(limb):
                continue
            rival = np.delete(nearest, i, axis=1).min(axis=1)
            tie = np.clip((3.0 - rival / nearest[:, i]) / 2.0, 0.0, 1.0)
            t = np.clip((nearest[:, i] / thick[:, i] - FADE_FROM) / (FADE_TO - FADE_FROM), 0.0, 1.0)
            factor = 1.0 + SIBLING * tie * t * t * (3.0 - 2.0 * t) * hold.ties
            result[:, tree.below[limb]] *= factor[:, None]
    return result


class _Hold:
    """How far what a joint's limbs hang from holds what ties between them.

    ties (g,): 1 where the joint's own bones are about as near as its limbs, 0 where they are much farther. close (g,):
    1 where that is so of the trunk it ends, too, or the place lies within the trunk's own thickness, 0 well beyond both.
    nearest (g,): the row of the trunk's joint whose bones are nearest.
    """

    def __init__(self, distance: FloatArray, radius: FloatArray, tree: _Tree, joint: int) -> None:
        trunk = np.array(tree.trunk_to(joint))
        own = distance[:, trunk]
        k = np.argmin(own, axis=1)
        self.nearest = trunk[k]
        least = own[np.arange(len(own)), k]
        full, none = TAKES
        limb = distance[:, [b for b in tree.below[joint] if b != joint]].min(axis=1)
        self.ties = np.clip((none - distance[:, joint] / limb) / (none - full), 0.0, 1.0)
        self.close = np.clip((none - least / limb) / (none - full), 0.0, 1.0)
        if len(trunk) > 1 or joint in tree.roots:
            full, none = WITHIN
            depth = least / (THICK_TRUNK * radius[self.nearest])
            self.close = np.maximum(self.close, np.clip((none - depth) / (none - full), 0.0, 1.0))


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
    ends = np.stack([edges.row, edges.col], axis=1)
    degree = np.maximum(np.asarray(neighbours.sum(axis=1)).ravel(), 1.0)
    values = values.copy()
    steep = np.zeros(len(ends), dtype=bool)
    again = np.arange(len(ends))
    for _ in range(EASINGS):
        steep[again] = np.abs(values[ends[again, 0]] - values[ends[again, 1]]).sum(axis=1) > CLIFF
        if not steep.any():
            break
        places = np.unique(ends[steep])
        mean = np.asarray(neighbours[places] @ values) / degree[places, None]
        values[places] = cut(0.5 * (values[places] + mean), influences)
        changed = np.zeros(len(values), dtype=bool)
        changed[places] = True
        again = np.flatnonzero(changed[ends].any(axis=1))
    return values


def _eased(
    values: FloatArray, places: FloatArray, neighbours: sparse.csr_matrix, origins: FloatArray, tree: _Tree,
    influences: int, held: dict[int, _Hold], *, progress: Progress = silent,
) -> FloatArray:  # fmt: skip
    """Rows (g, j) eased toward their neighbours' where an edge would stretch by more than STRETCH when a joint turns.

    An edge whose ends follow a joint's branch by shares that differ by s opens, for a small turn, by s times its way
    from that joint, per radian; that over its length is what is held down. Crotch and armpit, far from their joints
    and finely meshed, get wider blends than a finger's web.
    """
    edges = sparse.triu(neighbours, k=1).tocoo()
    ends = np.stack([edges.row, edges.col], axis=1).astype(np.int64)
    below = np.zeros((len(origins), len(origins)))
    for k, rows in enumerate(tree.below):
        below[rows, k] = 1.0
    # A neighbour at the far end of a long edge says little of what is here.
    weight = 1.0 / np.maximum(np.linalg.norm(places[edges.row] - places[edges.col], axis=1), 1e-12)
    ring = sparse.csr_matrix((weight, (edges.row, edges.col)), shape=neighbours.shape)
    ring = (ring + ring.T).tocsr()
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1e-12)
    values = values.copy()
    follow = values @ below
    changed = np.ones(len(values), dtype=bool)
    steep = np.zeros(len(ends), dtype=bool)
    for step in range(STEPS):
        progress(step / STEPS, "easing what would tear")
        again = np.flatnonzero(changed[ends].any(axis=1))
        steep[again] = opening(follow, places, origins, ends[again]) > STRETCH
        if not steep.any():
            break
        touched = np.unique(ends[steep])
        mean = np.asarray(ring[touched] @ values) / degree[touched, None]
        mixed = 0.5 * (values[touched] + mean)
        if step >= GIVES_BACK_AFTER:
            mixed = _middle_given_back(mixed, tree, held, touched)
        values[touched] = cut(mixed, influences)
        follow[touched] = values[touched] @ below
        changed[:] = False
        changed[touched] = True
    return values


def _middle_given_back(values: FloatArray, tree: _Tree, held: dict[int, _Hold], places: IntArray) -> FloatArray:
    """What a left and a right limb of one joint both hold in some places, given to what they hang from as far as that
    is close: a crotch is the hips', a belly the spine's. Doing it again gives no more: of what they hold together
    either limb may keep half of what is not close."""
    values = values.copy()
    for joint, left, right in tree.pairs():
        close, trunk = held[joint].close[places], held[joint].nearest[places]
        one, other = values[:, tree.below[left]].sum(axis=1), values[:, tree.below[right]].sum(axis=1)
        kept = 0.5 * (1.0 - close) * (one + other + values[np.arange(len(values)), trunk])
        both = np.maximum(np.minimum(one, other) - kept, 0.0)
        rows = np.flatnonzero(both > 0)
        if len(rows):
            for limb, share in ((left, one), (right, other)):
                values[np.ix_(rows, np.array(tree.below[limb]))] *= (1.0 - both[rows] / share[rows])[:, None]
            values[rows, trunk[rows]] += 2.0 * both[rows]
    return values


@njit(cache=True, nogil=True)
def opening(follow, places, origins, ends):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Most (e,) that each edge opens per radian of any one joint, in shares of its length."""
    result = np.zeros(len(ends))
    for e in range(len(ends)):
        a, b = ends[e, 0], ends[e, 1]
        length = 0.0
        for k in range(3):
            length += (places[a, k] - places[b, k]) ** 2
        length = max(np.sqrt(length), 1e-12)
        for j in range(follow.shape[1]):
            step = abs(follow[a, j] - follow[b, j])
            if step < 0.01:
                continue
            lever = 0.0
            for k in range(3):
                lever += (0.5 * (places[a, k] + places[b, k]) - origins[j, k]) ** 2
            result[e] = max(result[e], step * np.sqrt(lever) / length)
    return result


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
