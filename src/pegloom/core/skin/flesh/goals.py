"""Where the elastic body's skin is in some poses, and how far plain weights are to follow it there."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_neighbours, weld
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.body import Flesh
from pegloom.core.skin.flesh.elastic import posed_flesh
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.weights import Weights, dense, from_dense, packed

STRAINED = (0.02, 0.12)
"""Strain of a place's edges from which weights begin to follow the body, and from which they do so wholly."""
WIDER = 6
"""Rings over which what is strained spreads."""


@dataclass(frozen=True, slots=True, eq=False)
class Goals:
    """poses (k, j, 3, 4) : joint matrices, in the columns of the weights to be fitted. plain, body (k, p, 3) : places skinned by the weights there were, and of
    the elastic body, metres. follow (k, p) : how far, 0 to 1, each place is to go from one to the other: not where the weights bend it
    well already, so that a pose that is sound is not given up for one that is not.
    """

    poses: FloatArray
    plain: FloatArray
    body: FloatArray
    follow: FloatArray

    @property
    def wanted(self) -> FloatArray:
        """(k, p, 3), metres."""
        return np.asarray(self.plain + self.follow[:, :, None] * (self.body - self.plain))


def goals(
    mesh: Mesh, skeleton: Skeleton, weights: Weights, flesh: Flesh, poses: Sequence[FloatArray], *, ids: Sequence[str] = (), progress: Progress = silent
) -> Goals:
    """Bend the body of a mesh's welded places by joint matrices (s, 4, 4) of a whole skeleton.

    ids : columns of the weights that are to be fitted, where those are more. Raises Cancelled from `progress`."""
    columns = [skeleton.index[j] for j in weights.joint_ids]
    g = weld(mesh)
    rest = np.ascontiguousarray(mesh.points[g.first])
    skin = packed(from_dense(dense(weights)[g.first], weights.joint_ids))
    edges, ring = place_edges(mesh), place_neighbours(mesh)
    degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)
    plain, body, follow = np.empty((len(poses), g.count, 3)), np.empty((len(poses), g.count, 3)), np.empty((len(poses), g.count))

    def bend(k: int) -> None:
        body[k] = posed_flesh(flesh, poses[k][list(flesh.columns)], rest)
        plain[k] = skin_linear(rest, skin, poses[k][columns])
        follow[k] = _strained(rest, plain[k], edges, ring, degree)

    # The kernels let go of the interpreter, so two poses are bent at once; cancelling waits for two at most.
    with ThreadPoolExecutor(2) as pool:
        for first in range(0, len(poses), 2):
            progress(first / len(poses), f"bending the body, pose {first + 1} of {len(poses)}")
            list(pool.map(bend, range(first, min(first + 2, len(poses)))))
    ask(progress)
    told = [skeleton.index[j] for j in ids or weights.joint_ids]
    return Goals(np.ascontiguousarray(np.stack(poses)[:, told, :3, :]), plain, body, follow)


def _strained(rest: FloatArray, plain: FloatArray, edges: IntArray, ring: sparse.csr_matrix, degree: FloatArray) -> FloatArray:
    bent = np.abs(edge_stretch(rest, plain, edges) - 1.0)
    strain = np.zeros(len(rest))
    for side in (0, 1):
        np.maximum.at(strain, edges[:, side], bent)
    for _ in range(WIDER):
        strain = np.maximum(strain, np.asarray(ring @ strain) / degree)
    low, high = STRAINED
    return np.asarray(np.clip((strain - low) / (high - low), 0.0, 1.0))


def squared(poses: FloatArray) -> FloatArray:
    """Matrices (..., 3, 4) as (..., 4, 4)."""
    return np.concatenate([poses, np.broadcast_to([0.0, 0.0, 0.0, 1.0], (*poses.shape[:-2], 1, 4))], axis=-2)
