"""Binds by distance alone: by reach (straight, in sight), and through the body (the way inside).

Weights fall with the fourth power of the distance, so that the nearest bone rules and the blend stays short.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.along_skin import drop_islands
from pegloom.core.skin.bind.distances import body_distances
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.bind.surface import finished, weight_joints
from pegloom.core.skin.weights import Weights, limited_rows

POWER = 4.0
MUCH_NEARER = 2.0
"""How many times as far as the nearest bone of all the nearest one in sight may be."""
NONE: Mapping[str, float] = MappingProxyType({})


def _by_distance(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, influences: int, progress: Progress, *, only_in_sight: bool,
    reaches: Mapping[str, float], own_branch: bool,
) -> Weights:  # fmt: skip
    joints = weight_joints(skeleton)
    body = body_distances(mesh, skeleton, joints, solid, progress=part_of(progress, 0.0, 0.8))
    distance = np.maximum(body.distance, 0.25 * solid.cell)
    if only_in_sight:
        # A thin brim may see a far arm through the head and yet not the head: what is much nearer inside counts.
        seen = np.where(body.in_sight, distance, np.inf).min(axis=1, keepdims=True)
        sees = seen <= MUCH_NEARER * distance.min(axis=1, keepdims=True)
        distance = np.where(body.in_sight | ~sees, distance, 1e6)
    progress(0.85, "weighing")
    # A joint of twice the reach counts as half as far.
    distance = distance / np.array([max(reaches.get(skeleton.joints[j].id, 1.0), 1e-3) for j in joints])
    nearest = distance.min(axis=1, keepdims=True)
    values = (nearest / distance) ** POWER
    values /= values.sum(axis=1, keepdims=True)
    values = softened(values, nearness(mesh), 2)
    if own_branch:
        # After softening, which would bring the other limb's joints back where limbs part.
        values *= _same_branch(skeleton, joints)[distance.argmin(axis=1)]
    values = limited_rows(values, influences)
    values = drop_islands(values, place_neighbours(mesh))
    progress(1.0, "weights done")
    return finished(values, mesh, skeleton, joints, solid, influences)


def _same_branch(skeleton: Skeleton, joints: list[int]) -> FloatArray:
    """1 where one joint hangs from the other, however far down, 0 where they are in different limbs. (j, j)"""
    above = np.eye(len(joints))
    row = {joint: k for k, joint in enumerate(joints)}
    for k, joint in enumerate(joints):
        parent = int(skeleton.parents[joint])
        while parent >= 0:
            if parent in row:
                above[k, row[parent]] = 1.0
            parent = int(skeleton.parents[parent])
    return np.asarray(np.maximum(above, above.T))


def bind_by_reach(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, *, influences: int = 4, progress: Progress = silent,
    offload: Offload = directly, reaches: Mapping[str, float] = NONE, own_branch: bool = False,
    in_sight: bool = True,
) -> Weights:  # fmt: skip
    """Weights by straight distance to the bones. Raises Cancelled from `progress`.

    reaches : factor by joint id, 1 where none is given: a joint of reach 2 counts as half as far.
    own_branch : a vertex follows its nearest joint and those above and below it only.
    in_sight : only bones it sees.
    """
    return _by_distance(
        mesh, skeleton, solid, influences, progress, only_in_sight=in_sight, reaches=reaches, own_branch=own_branch
    )


def bind_through_body(
    mesh: Mesh, skeleton: Skeleton, solid: Solid, *, influences: int = 4, progress: Progress = silent,
    offload: Offload = directly, reaches: Mapping[str, float] = NONE, own_branch: bool = False,
) -> Weights:  # fmt: skip
    """Weights by the way through the inside of the body; options as in `bind_by_reach`."""
    return _by_distance(
        mesh, skeleton, solid, influences, progress, only_in_sight=False, reaches=reaches, own_branch=own_branch
    )
