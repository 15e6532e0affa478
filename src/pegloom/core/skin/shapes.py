"""Corrective shapes: morph targets that come in as a joint turns, and what of a skin's faults a few of them take away.

A shape comes in by how near its joint's turn is to the one it was made for, as pose-space deformation has it (Lewis, Cordner and
Fong, "Pose space deformation", SIGGRAPH 2000), with one turn a shape and nothing at rest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.skeleton.joints import Skeleton, Vector

RIDGE = 0.05
"""How much a shape's size counts against what it takes away, as a share of one whole pose."""


@dataclass(frozen=True, slots=True)
class ShapeDrive:
    """part, morph : the morph target, by part id and name. joint : whose turn brings it in, by id.

    turn : from rest, against what the joint hangs on, at which it is there wholly: a rotation vector in the character's axes at rest,
        radians.
    by_hand : whether it was sculpted.
    """

    id: str
    part: str
    morph: str
    joint: str
    turn: Vector
    by_hand: bool = False


def turn_from_rest(skeleton: Skeleton, joint: str, worlds: FloatArray) -> FloatArray:
    """How a joint turned (k, 3, 3) against what it hangs on, in the character's axes at rest. worlds (k, j, 4, 4)."""
    i, p = skeleton.index[joint], int(skeleton.parents[skeleton.index[joint]])
    now = _turns(worlds[:, i])
    if p >= 0:
        # What hangs on nothing turns in the world.
        now = skeleton.world[p, :3, :3] @ np.transpose(_turns(worlds[:, p]), (0, 2, 1)) @ now
    return np.asarray(now @ skeleton.world[i, :3, :3].T)


def shape_weights(skeleton: Skeleton, drives: Sequence[ShapeDrive], worlds: FloatArray) -> FloatArray:
    """Weights (k, s), 0 to 1, of shapes at k moments. worlds (k, j, 4, 4) : character_from_joint. A shape whose joint is gone stays out."""
    result = np.zeros((len(worlds), len(drives)))
    known: dict[str, FloatArray] = {}
    for s, drive in enumerate(drives):
        size = float(np.linalg.norm(drive.turn))
        if drive.joint not in skeleton.index or size < 1e-6:
            continue
        if drive.joint not in known:
            known[drive.joint] = turn_from_rest(skeleton, drive.joint, worlds)
        away = Rotation.from_matrix(Rotation.from_rotvec(drive.turn).inv().as_matrix() @ known[drive.joint]).magnitude()
        near = np.clip(1.0 - away / size, 0.0, 1.0)
        result[:, s] = near * near * (3.0 - 2.0 * near)
    return result


def unskinned(rest: FloatArray, matrices: FloatArray, wanted: FloatArray) -> FloatArray:
    """What has to be added to places at rest (p, 3) so that blended matrices (p, 3, 4) bring them to where they are wanted (p, 3). A place
    whose matrix has collapsed gets nothing."""
    gap = wanted - (np.einsum("pab,pb->pa", matrices[:, :, :3], rest) + matrices[:, :, 3])
    sound = np.abs(np.linalg.det(matrices[:, :, :3])) > COLLAPSED
    result = np.zeros_like(rest)
    result[sound] = np.linalg.solve(matrices[sound, :, :3], gap[sound, :, None])[:, :, 0]
    return result


COLLAPSED = 0.05
"""Share of its volume under which a place's blended matrix counts as collapsed."""


def solved_shapes(active: FloatArray, wanted: FloatArray, masks: FloatArray) -> FloatArray:
    """Shapes (s, p, 3) whose mix comes nearest to what is wanted in each pose.

    active (k, s) : weight of each shape in each pose. wanted (k, p, 3) : metres at rest. masks (s, p) : how much of each place is a shape's.
    """
    gram = active.T @ active
    shapes = np.linalg.solve(gram + RIDGE * np.eye(len(gram)), np.einsum("ks,kpd->spd", active, wanted).reshape(len(gram), -1))
    return np.asarray(shapes.reshape(len(gram), -1, 3) * masks[:, :, None])


def _turns(matrices: FloatArray) -> FloatArray:
    """Matrices (k, 3, 3) without their scale."""
    inner = matrices[:, :3, :3]
    return np.asarray(inner / np.maximum(np.linalg.norm(inner, axis=1, keepdims=True), 1e-12))
