"""Hard bind: every vertex wholly to its nearest bone in sight; small shells as one piece. For things that do not bend."""

from __future__ import annotations

import numpy as np

from pegloom.core.geometry.mesh import Mesh, weld
from pegloom.core.geometry.solid import Solid
from pegloom.core.jobs import Offload, Progress, directly, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.surface import small_shells, view_bones, weight_joints
from pegloom.core.skin.weights import Weights, from_dense


def bind_hard(
    mesh: Mesh,
    skeleton: Skeleton,
    solid: Solid,
    *,
    influences: int = 1,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Weights:
    """Weights 0 or 1. Raises Cancelled from `progress`."""
    joints = weight_joints(skeleton)
    g = weld(mesh)
    view = view_bones(mesh, skeleton, joints, solid, progress=progress)
    # Out of sight counts as much farther, not as never: every vertex needs a holder.
    cost = np.where(view.in_sight, view.distance, 4.0 * view.distance + solid.cell)
    choice = np.argmin(cost, axis=1)
    for shell in small_shells(mesh):
        choice[shell] = np.bincount(choice[shell]).argmax()
    values = np.zeros((g.count, len(joints)))
    values[np.arange(g.count), choice] = 1.0
    progress(1.0, "weights done")
    return from_dense(values[g.group], [skeleton.joints[j].id for j in joints])
