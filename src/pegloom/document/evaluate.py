"""From a character and a pose to what is seen: joints, controls, and each part's points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import Pose
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.weights import packed
from pegloom.document.model import Character, Part


@dataclass(frozen=True, slots=True, eq=False)
class PosedFrame:
    """joints (j, 4, 4), controls (c, 4, 4), and the points (n, 3) of each included part by id."""

    joints: FloatArray
    controls: FloatArray
    points: dict[str, FloatArray]


def evaluate(character: Character, pose: Pose | None = None) -> PosedFrame:
    """Everything in one pose; the character's own when none is given. Parts without weights stay at rest."""
    shown = character.pose if pose is None else pose
    if character.skeleton is None:
        rest = {part.id: part.mesh.points for part in character.included}
        return PosedFrame(np.zeros((0, 4, 4)), np.zeros((0, 4, 4)), rest)
    frame = evaluate_rig(character.skeleton, character.rig, shown)
    matrices = skin_matrices(character.skeleton, frame.joints)
    points = {part.id: part_points(character, part, matrices) for part in character.included}
    return PosedFrame(frame.joints, frame.controls, points)


def part_points(character: Character, part: Part, matrices: FloatArray) -> FloatArray:
    """Points (n, 3) of one part under skin matrices (j, 4, 4) in skeleton order."""
    weights = character.skin.weights.get(part.id) if character.skin else None
    if weights is None or character.skeleton is None:
        return part.mesh.points
    columns = np.array([character.skeleton.index[j] for j in weights.joint_ids])
    return skin_linear(part.mesh.points, packed(weights), matrices[columns])
