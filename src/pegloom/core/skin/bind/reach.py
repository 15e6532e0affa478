"""Binds by distance alone: by reach (straight, in sight), and through the body (the way inside).

Weights fall with the fourth power of the distance, so that the nearest bone rules and the blend stays short.
"""

from __future__ import annotations

import numpy as np

from pegloom.core.geometry.mesh import Mesh, place_neighbours
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.along_skin import drop_islands
from pegloom.core.skin.bind.distances import body_distances
from pegloom.core.skin.bind.segment import softened
from pegloom.core.skin.bind.surface import finished, weight_joints
from pegloom.core.skin.weights import Weights, cut

POWER = 4.0


def _by_distance(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, influences: int, progress: Progress, *, only_in_sight: bool
) -> Weights:
    joints = weight_joints(skeleton)
    body = body_distances(mesh, skeleton, joints, solid, progress=part_of(progress, 0.0, 0.8))
    distance = np.maximum(body.distance, 0.25 * solid.cell)
    if only_in_sight:
        seen = body.in_sight.any(axis=1, keepdims=True)
        distance = np.where(body.in_sight | ~seen, distance, 1e6)
    progress(0.85, "weighing")
    nearest = distance.min(axis=1, keepdims=True)
    values = (nearest / distance) ** POWER
    values /= values.sum(axis=1, keepdims=True)
    values = cut(softened(values, place_neighbours(mesh), 2), influences)
    values = drop_islands(values, place_neighbours(mesh))
    progress(1.0, "weights done")
    return finished(values, mesh, skeleton, joints, solid, influences)


def bind_by_reach(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, *, influences: int = 4, progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:  # fmt: skip
    """Weights by straight distance to the bones a vertex sees. Raises Cancelled from `progress`."""
    return _by_distance(mesh, skeleton, solid, influences, progress, only_in_sight=True)


def bind_through_body(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, *, influences: int = 4, progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:  # fmt: skip
    """Weights by the way through the inside of the body. Raises Cancelled from `progress`."""
    return _by_distance(mesh, skeleton, solid, influences, progress, only_in_sight=False)
