"""From a character and a pose to what is seen: joints, controls, and each part's points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.pose import Shown
from pegloom.core.rig.use import shown_places
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.dual import skin_dual
from pegloom.core.skin.relax import relaxed
from pegloom.core.skin.weights import packed
from pegloom.document.model import Character, Part, Skin


@dataclass(frozen=True, slots=True, eq=False)
class PosedFrame:
    """joints (j, 4, 4), controls (c, 4, 4), the points (n, 3) of each included part by id, and where controls are shown
    (c, 4, 4): see `shown_places`."""

    joints: FloatArray
    controls: FloatArray
    points: dict[str, FloatArray]
    shown: FloatArray


def evaluate(character: Character, pose: Shown | None = None) -> PosedFrame:
    """Everything in one pose; the character's own when none is given. Parts without weights stay at rest."""
    shown = character.pose if pose is None else pose
    if character.skeleton is None:
        rest = {part.id: part.mesh.points for part in character.included}
        return PosedFrame(np.zeros((0, 4, 4)), np.zeros((0, 4, 4)), rest, np.zeros((0, 4, 4)))
    frame = evaluate_rig(character.skeleton, character.rig, shown)
    matrices = skin_matrices(character.skeleton, frame.joints)
    points = {part.id: part_points(character, part, matrices) for part in character.included}
    seen = frame.controls if character.rig is None else shown_places(character.skeleton, character.rig, shown, frame)
    return PosedFrame(frame.joints, frame.controls, points, seen)


def part_points(character: Character, part: Part, matrices: FloatArray) -> FloatArray:
    """Points (n, 3) of one part under skin matrices (j, 4, 4) in skeleton order."""
    weights = character.skin.weights.get(part.id) if character.skin else None
    if weights is None or character.skeleton is None:
        return part.mesh.points
    assert character.skin is not None
    return skinned(part, character.skin, character.skeleton, matrices)


def skinned(part: Part, skin: Skin, skeleton: Skeleton, matrices: FloatArray, *, relax: bool = True) -> FloatArray:
    """Points (n, 3) of a part bound in `skin`: blended, then relaxed where the part asks for it and `relax` is on."""
    weights = skin.weights[part.id]
    chosen = matrices[[skeleton.index[j] for j in weights.joint_ids]]
    share = skin.dual.get(part.id)
    rows = packed(weights)
    points = (
        skin_linear(part.mesh.points, rows, chosen)
        if share is None
        else skin_dual(part.mesh.points, rows, chosen, share)
    )
    asked = skin.relax.get(part.id) if relax else None
    return points if asked is None else relaxed(part.mesh, asked, points)
