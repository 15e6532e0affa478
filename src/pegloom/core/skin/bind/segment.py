"""Our default bind: first decide whose a vertex is, then soften.

What costs quality is whole regions given to the wrong joint (a trunk vertex to an arm buried in it), not the falloff.
So distances through the body are judged by the skeleton's own tree:
1. Distance to every joint's bones through the body (distances.py).
   Cloth that hangs round a limb, with no bone of its own, measures through the air under it; a limb that is only held
   close to a place is as far as the way along the skin (held_close.py).
2. Siblings: what is about equally far from two limbs belongs to what both hang from: their distances grow up to
   fourfold, faded in from 1.25 to 2 limb radii, and out again where what they hang from is much farther than they
   are. The trunk running on from its root is no limb in this.
3. Thickness: farther than 1.5 limb radii (2 for a trunk) distance grows with its square, by one factor a chain. A
   limb's end, whose thickness is not known, is spared where it is nearest; hanging cloth has no thickness to exceed.
4. Down the tree, each joint's own bone against its children's branches: shares exp(-sqrt(d^2 - m^2) / (0.35 m)),
   m the least distance, so that the blend is as wide as the limb is thick.
   A face's joint (one of several without a chain on a head) holds what is near it alone; the head has the rest.
5. Half passes of smoothing along the surface, each as far as a blend is wide there however the mesh is cut; the strongest
   few kept and islands dropped before the last ones; jumps where the few change eased; small shells whole; strays dropped.
6. What would tear is eased (easing.py), and what limbs share there (a crotch, a belly) goes to the trunk, as far as that is
   near.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, make_mesh, place_neighbours, weld
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, ask, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.along_skin import drop_islands
from pegloom.core.skin.bind.branches import THICK_TRUNK, Hold, Spread, Tree, Trunk
from pegloom.core.skin.bind.distances import body_distances
from pegloom.core.skin.bind.easing import eased, nearness, softened, without_cliffs
from pegloom.core.skin.bind.held_close import held_apart
from pegloom.core.skin.bind.surface import finished, weight_joints
from pegloom.core.skin.weights import Weights, limited_rows

NONE: Mapping[str, float] = MappingProxyType({})
SIBLING = 3.0
FADE_FROM, FADE_TO = 1.25, 2.0
THICK = 1.5
AS_NEAR = 0.15
FACE = (0.4, 0.7)
"""Shares of its way from the head up to which a face's joint keeps its weight, and by which it has faded out."""
BESIDE = (1.7, 2.5)
"""How many times as far as a face's joint the head may be to be given anything, fading out."""
WIDTH = 0.35
PASSES = 6


def bind_segment(
    mesh: Mesh,
    skeleton: Skeleton,
    solid: Solid,
    *,
    influences: int = 4,
    reaches: Mapping[str, float] = NONE,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:
    """Weights of one part by segmenting, then softening. Raises Cancelled from `progress`.

    reaches : factor by joint id, 1 where none is given: a joint of reach 2 counts as half as far.
    """
    joints = weight_joints(skeleton)
    part = _segmented(mesh, skeleton, joints, solid, influences, reaches, part_of(progress, 0.0, 0.9))
    values = _eased(part, skeleton, joints, influences, part_of(progress, 0.9, 1.0))
    progress(1.0, "weights done")
    return finished(values, mesh, skeleton, joints, solid, influences, progress=progress)


def bind_segment_together(
    meshes: Sequence[Mesh],
    same: Sequence[IntArray],
    skeleton: Skeleton,
    solid: Solid,
    *,
    influences: int = 4,
    reaches: Mapping[str, float] = NONE,
    progress: Progress = silent,
) -> list[Weights]:
    """Weights of parts that meet: segmented each by itself, eased as one surface.

    Segmented as one they would be worse: what stands apart tells limbs apart. Eased apart, each would end in a step at its
    border.

    same : for each mesh a number (g,) for each of its welded places; places of several parts that lie on each other have
        the same one. Other arguments as of `bind_segment`.
    """
    joints = weight_joints(skeleton)
    total = max(sum(mesh.vertex_count for mesh in meshes), 1)
    parts, done = [], 0
    for mesh in meshes:
        share = part_of(progress, 0.85 * done / total, 0.85 * (done + mesh.vertex_count) / total)
        parts.append(_segmented(mesh, skeleton, joints, solid, influences, reaches, share))
        done += mesh.vertex_count
    whole, places = _joined(parts, same)
    values = _eased(whole, skeleton, joints, influences, part_of(progress, 0.85, 0.97))
    result = [
        finished(values[at], part.mesh, skeleton, joints, solid, influences, progress=progress)
        for part, at in zip(parts, places, strict=True)
    ]
    progress(1.0, "weights done")
    return result


@dataclass(frozen=True, slots=True, eq=False)
class _Segmented:
    """A part before it is eased.

    values (g, j) : of its welded places. near (g, g) : as of `nearness` by scale. through (g, j), radius (j,), hangs (g,) : as of
    `body_distances`. scale (g,) : about how wide a blend is there, metres.
    """

    mesh: Mesh
    values: FloatArray
    through: FloatArray
    radius: FloatArray
    hangs: FloatArray
    scale: FloatArray
    near: sparse.csr_matrix
    tree: Tree


def _segmented(
    mesh: Mesh, skeleton: Skeleton, joints: list[int], solid: Solid, influences: int, reaches: Mapping[str, float],
    progress: Progress,
) -> _Segmented:  # fmt: skip
    body = body_distances(mesh, skeleton, joints, solid, progress=part_of(progress, 0.0, 0.72))
    tree = Tree(skeleton, joints)
    through = np.maximum(body.distance, 0.25 * solid.cell)
    factors = np.array([max(reaches.get(skeleton.joints[j].id, 1.0), 1e-3) for j in joints])
    through = held_apart(mesh, through, body.radius, body.hangs, tree, progress=part_of(progress, 0.72, 0.8))
    through = through / factors
    progress(0.8, "deciding whose each vertex is")
    distance = _thickened(through, body.radius, body.hangs, tree, progress)
    distance = _siblings(distance, body.radius, tree, progress)
    values = _given_to_the_head(_split(distance, tree, progress), through, skeleton, joints, tree)
    progress(0.94, "softening")
    neighbours = place_neighbours(mesh)
    scale = distance.min(axis=1)
    near = nearness(mesh, scale)
    values = softened(values, near, PASSES - 2, progress=progress)
    for _ in range(2):
        ask(progress)
        # Where limbs tie, neighbours keep different few; softening what was kept closes the step between them.
        values = limited_rows(softened(values, near, 1), influences)
        ask(progress)
        values = drop_islands(values, neighbours)
    return _Segmented(mesh, values, through, body.radius, body.hangs, scale, near, tree)


def _eased(part: _Segmented, skeleton: Skeleton, joints: list[int], influences: int, progress: Progress) -> FloatArray:
    """Values (g, j) of a part's places with steps and tears eased."""
    ask(progress)
    trunk = Trunk(part.through, part.radius, part.tree)
    values = without_cliffs(part.values, part.near, influences, progress=progress)
    spread = Spread(values, part.through, part.radius, part.hangs, part.tree, progress=progress)
    return eased(values, part.mesh, skeleton.positions[joints], trunk, spread, influences, progress=progress)


def _joined(parts: Sequence[_Segmented], same: Sequence[IntArray]) -> tuple[_Segmented, list[IntArray]]:
    """Several parts as one, what lies on each other a mean; and where (g,) each one's places are in it."""
    number = np.unique(np.concatenate(same), return_inverse=True)[1]
    cuts = np.cumsum([len(part) for part in same])[:-1]
    count = int(number.max()) + 1
    points = np.zeros((count, 3))
    corners, sizes = [], []
    for part, mine in zip(parts, np.split(number, cuts), strict=True):
        g = weld(part.mesh)
        points[mine] = part.mesh.points[g.first]
        # The faces as they are: which places are neighbours counts.
        corners.append(mine[g.group[part.mesh.corners]])
        sizes.append(np.diff(part.mesh.starts))
    mesh = make_mesh(points, np.concatenate(corners), np.concatenate([[0], np.cumsum(np.concatenate(sizes))]))
    group = weld(mesh).group[number]
    share = 1.0 / np.maximum(np.bincount(group, minlength=weld(mesh).count), 1)
    merge = sparse.csr_matrix((share[group], (group, np.arange(len(group)))), shape=(len(share), len(group)))

    def mean(rows: list[FloatArray]) -> FloatArray:
        return np.asarray(merge @ np.concatenate(rows))

    scale = mean([p.scale for p in parts])
    one = _Segmented(
        mesh, mean([p.values for p in parts]), mean([p.through for p in parts]), parts[0].radius,
        mean([p.hangs for p in parts]), scale, nearness(mesh, scale), parts[0].tree,
    )  # fmt: skip
    return one, np.split(group, cuts)


def _thickened(
    distance: FloatArray, radius: FloatArray, hangs: FloatArray, tree: Tree, progress: Progress
) -> FloatArray:
    """Distances with what lies beyond a limb's own thickness pushed away, as far as it does not hang round it."""
    result = distance.copy()
    rows = np.arange(len(distance))
    for chain in tree.chains():
        inner = [k for k in chain if not tree.ends[k]]
        if not inner:
            continue
        ask(progress)
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


def _siblings(distance: FloatArray, radius: FloatArray, tree: Tree, progress: Progress) -> FloatArray:
    """Distances with what lies between sibling limbs given back to what they hang from."""
    result = distance.copy()
    for joint in tree.order:
        limbs = tree.children[joint]
        if len(limbs) < 2:
            continue
        ask(progress)
        hold = Hold(distance, radius, tree, joint)
        ask(progress)
        nearest = np.stack([distance[:, tree.below[k]].min(axis=1) for k in limbs], axis=1)
        ask(progress)
        thick = np.stack(
            [_thickness(distance, nearest[:, i], radius, tree.below[k]) for i, k in enumerate(limbs)], axis=1
        )
        for i, limb in enumerate(limbs):
            if tree.is_trunk(limb):
                continue
            ask(progress)
            rival = np.delete(nearest, i, axis=1).min(axis=1)
            tie = np.clip((3.0 - rival / nearest[:, i]) / 2.0, 0.0, 1.0)
            t = np.clip((nearest[:, i] / thick[:, i] - FADE_FROM) / (FADE_TO - FADE_FROM), 0.0, 1.0)
            factor = 1.0 + SIBLING * tie * t * t * (3.0 - 2.0 * t) * hold.ties
            result[:, tree.below[limb]] *= factor[:, None]
    return result


def _thickness(distance: FloatArray, nearest: FloatArray, radius: FloatArray, limb: list[int]) -> FloatArray:
    """How thick (g,) a limb is nearest to each place: at a knee both bones are as near and the thinner one rules."""
    as_near = np.clip(1.0 - (distance[:, limb] / nearest[:, None] - 1.0) / AS_NEAR, 1e-3, 1.0)
    return np.asarray((radius[limb] / as_near).min(axis=1))


def _split(distance: FloatArray, tree: Tree, progress: Progress) -> FloatArray:
    """Weights (g, j) by splitting each joint's share between its own bone and its branches."""
    branch = distance.copy()
    for k in reversed(tree.order):
        for child in tree.children[k]:
            branch[:, k] = np.minimum(branch[:, k], branch[:, child])
    mass = np.zeros_like(distance)
    mass[:, tree.roots] = _shares(branch[:, tree.roots])
    values = np.zeros_like(distance)
    for k in tree.order:
        ask(progress)
        options = np.concatenate([distance[:, [k]], branch[:, tree.children[k]]], axis=1)
        share = _shares(options) * mass[:, [k]]
        values[:, k] = share[:, 0]
        for i, child in enumerate(tree.children[k]):
            mass[:, child] = share[:, i + 1]
    return values


def _given_to_the_head(
    values: FloatArray, distance: FloatArray, skeleton: Skeleton, joints: list[int], tree: Tree
) -> FloatArray:
    """Values (g, j) with what a face's joint holds far from itself given to the head.

    A brow, a lid, a lip has no sibling where the cheek, the temple or the skull begins, and would hold all of them up
    to the next one. distance (g, j) : through the body to each joint's bones.
    """
    result = values.copy()
    places = skeleton.positions[joints]
    for face, head in tree.face_joints():
        own = skeleton.joints[joints[face]]
        length = 0.0 if own.tail is None else float(np.linalg.norm(np.array(own.tail) - places[face]))
        arm = max(float(np.linalg.norm(places[face] - places[head])), length)
        full, none = FACE
        t = np.clip((distance[:, face] / max(arm, 1e-12) - full) / (none - full), 0.0, 1.0)
        # A toy's arm of one bone sits on its trunk as well; what lies far out along it is none of the trunk's.
        full, none = BESIDE
        beside = np.clip((none - distance[:, head] / distance[:, face]) / (none - full), 0.0, 1.0)
        gone = result[:, face] * t * t * (3.0 - 2.0 * t) * beside
        result[:, face] -= gone
        result[:, head] += gone
    return result


def _shares(options: FloatArray) -> FloatArray:
    least = options.min(axis=1, keepdims=True)
    share = np.exp(-np.sqrt(np.maximum(options**2 - least**2, 0.0)) / (WIDTH * least))
    return np.asarray(share / share.sum(axis=1, keepdims=True))
