"""What every bind starts from: welded places, shells, bones in sight inside the solid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.mesh import Mesh, bounds, place_triangles, shells, vertex_normals, weld
from pegloom.core.geometry.solid import Solid, make_solid, sight_inside
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.joints import Skeleton, bone_segments

SIGHT = 0.9
"""Share of the straight line to a bone that must lie inside the solid to count as in sight (cells are coarse)."""
CELLS_TALL = 110
SMALL_SHELL = 0.22
"""A shell of its own smaller than this share of the part's largest shell (by diagonal) moves as one piece."""


@dataclass(frozen=True, slots=True, eq=False)
class BoneView:
    """Per place and joint: distance (g, j) to the joint's nearest bone, in_sight (g, j) whether inside all the way."""

    distance: FloatArray
    in_sight: np.ndarray


def body_solid(meshes: list[Mesh], *, middle: float = 0.0) -> Solid:
    """The solid of several parts together, at the bind's resolution."""
    points = np.concatenate([m.points for m in meshes])
    offsets = np.cumsum([0, *[weld(m).count for m in meshes]])
    places = np.concatenate([m.points[weld(m).first] for m in meshes])
    triangles = np.concatenate([place_triangles(m) + o for m, o in zip(meshes, offsets, strict=False)])
    low, high = bounds(points)
    cell = float((high - low).max()) / CELLS_TALL
    return make_solid(places, triangles, cell=cell, middle=middle)


def view_bones(
    mesh: Mesh, skeleton: Skeleton, joints: list[int], solid: Solid, *, progress: Progress = silent
) -> BoneView:
    """How far each place is from each joint's bones, and whether it sees them through the inside.

    joints : indices of the joints that may hold weight. Only each place's nearest bones are looked at for sight.
    """
    g = weld(mesh)
    places = mesh.points[g.first]
    normals = vertex_normals(mesh)[g.first]
    starts, ends, owner = bone_segments(skeleton)
    distance = np.full((g.count, len(joints)), np.inf)
    in_sight = np.zeros((g.count, len(joints)), dtype=bool)
    # Begin a little under the skin, so that a surface cell's neighbours outside do not block the first step.
    under = places - normals * (0.75 * solid.cell)
    for column, joint in enumerate(joints):
        if column % 4 == 0:
            progress(column / len(joints), f"sight of {skeleton.joints[joint].name}")
        segments = np.flatnonzero(owner == joint)
        nearest, d = closest_on_segments(places, starts[segments], ends[segments])
        best = np.argmin(d, axis=1)
        rows = np.arange(g.count)
        distance[:, column] = d[rows, best]
        target = nearest[rows, best]
        close = np.flatnonzero(d[rows, best] < np.inf)
        share = sight_inside(solid.filled, solid.origin, solid.cell, under[close], target[close])
        in_sight[close, column] = share >= SIGHT
    return BoneView(distance, in_sight)


def weight_joints(skeleton: Skeleton) -> list[int]:
    """Joints that may hold weight: all but a root that only carries."""
    chosen = [
        i
        for i, joint in enumerate(skeleton.joints)
        if not (joint.parent is None and joint.id == "root" and len(skeleton.joints) > 1)
    ]
    return chosen or list(range(len(skeleton.joints)))


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
