"""From a character and a pose to what is seen: joints, controls, and each part's points."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.memo import of_the_latest
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.kernels.walk import SETTLED
from pegloom.core.rig.outputs import hidden_things, morph_weights, widths_of
from pegloom.core.rig.pose import JointPose, Shown
from pegloom.core.rig.use import shown_places
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.dual import skin_dual
from pegloom.core.skin.relax import relaxed
from pegloom.core.skin.shapes import shape_weights
from pegloom.core.skin.weights import packed
from pegloom.document.model import Character, Part, Skin

NO_BASES = frozen(np.zeros((0, 4, 4)))


@dataclass(frozen=True, slots=True, eq=False)
class PosedFrame:
    """joints (j, 4, 4), controls (c, 4, 4), the points (n, 3) of each included part by id, and where controls are shown
    (c, 4, 4): see `shown_places`.

    values (v,) : of the channels, as they were driven and limited.
    unseen : parts and controls that a channel hides, `part:` or `control:` and their ids.
    bases (c, 4, 4) : the controls without their own channels.
    """

    joints: FloatArray
    controls: FloatArray
    points: dict[str, FloatArray]
    shown: FloatArray
    values: FloatArray
    unseen: frozenset[str] = frozenset()
    bases: FloatArray = field(default_factory=lambda: NO_BASES)

    @property
    def places(self) -> list[FloatArray]:
        """Arrays (n, 3) of what shows where it is: its parts' points, its joints where it is joints alone."""
        return [p for p in self.points.values() if len(p)] or [self.joints[:, :3, 3]]


def evaluate(character: Character, pose: Shown | None = None, state: FloatArray = SETTLED) -> PosedFrame:
    """Everything in one pose; the character's own when none is given. Parts without weights stay at rest.

    state : of what follows through, see `core/motion/follow_through`; empty: it hangs still.
    """
    shown = character.pose if pose is None else pose
    if character.skeleton is None:
        rest = {part.id: part.mesh.points for part in character.included}
        return PosedFrame(np.zeros((0, 4, 4)), np.zeros((0, 4, 4)), rest, np.zeros((0, 4, 4)), np.zeros(0))
    rig = character.rig
    frame = evaluate_rig(character.skeleton, rig, shown, state)
    matrices = skin_matrices(character.skeleton, frame.joints)
    if rig is not None and rig.widths:
        matrices = widened(character.skeleton, frame.joints, matrices, widths_of(rig.widths, rig.slots, frame.values))
    weights = morph_weights(rig.morphs, rig.slots, frame.values) if rig is not None and rig.morphs else {}
    told = isinstance(shown, JointPose) and bool(shown.morphs)
    if isinstance(shown, JointPose) and told:
        weights = _told(character, shown)
    if character.shapes:
        weights = with_shapes(character, weights, frame.joints, told=told)
    unseen = hidden_things(rig.shows, rig.slots, frame.values) if rig is not None and rig.shows else frozenset()
    points = {part.id: part_points(character, part, matrices, weights_of(part, weights)) for part in character.included}
    seen = frame.controls if character.rig is None else shown_places(character.skeleton, character.rig, shown, frame)
    return PosedFrame(frame.joints, frame.controls, points, seen, frame.values, unseen, frame.bases)


def _told(character: Character, pose: JointPose) -> Mapping[tuple[str, str], float]:
    """Weights by part ("" for all) and name, of a pose that names parts; one that is not here means every part."""
    ids = {p.name: p.id for p in character.parts}
    return {(ids.get(part, ""), name): weight for part, name, weight in pose.morphs}


def with_shapes(
    character: Character, weights: Mapping[tuple[str, str], float], joints: FloatArray, *, told: bool = False
) -> Mapping[tuple[str, str], float]:
    """Weights of morph targets with those that the joints (j, 4, 4) bring in. told : a shape that is among the weights has its weight
    there already."""
    skeleton = character.require_skeleton()
    result = dict(weights)
    for drive, weight in zip(character.shapes, shape_weights(skeleton, character.shapes, joints[None])[0].tolist(), strict=True):
        if weight and not (told and (drive.part, drive.morph) in weights):
            result[drive.part, drive.morph] = result.get((drive.part, drive.morph), 0.0) + weight
    return result


def widened(
    skeleton: Skeleton, joints: FloatArray, matrices: FloatArray, widths: Mapping[str, tuple[float, float]]
) -> FloatArray:
    """Skin matrices (j, 4, 4) with some joints' own skin made wider along their x and z axes (see `WidthDrive`)."""
    result = matrices.copy()
    for joint, (x, z) in widths.items():
        i = skeleton.index[joint]
        result[i] = joints[i] @ np.diag([x, 1.0, z, 1.0]) @ skeleton.inverse_world[i]
    return result


def weights_of(part: Part, weights: Mapping[tuple[str, str], float]) -> tuple[tuple[str, float], ...]:
    """Weights of a part's morph targets that are not 0, of weights by part ("" for all) and name."""
    if not weights or not part.morphs:
        return ()
    found = ((m.name, weights.get((part.id, m.name), 0.0) + weights.get(("", m.name), 0.0)) for m in part.morphs)
    return tuple((name, weight) for name, weight in found if weight != 0.0)


@of_the_latest(64)
def morphed(part: Part, weights: tuple[tuple[str, float], ...]) -> FloatArray:
    """A part's points (n, 3) at rest with morph targets at some weights."""
    by_name = {m.name: m.deltas for m in part.morphs}
    points = part.mesh.points.copy()
    for name, weight in weights:
        points += weight * by_name[name]
    return np.asarray(frozen(points))


def part_points(
    character: Character, part: Part, matrices: FloatArray, morphs: tuple[tuple[str, float], ...] = ()
) -> FloatArray:
    """Points (n, 3) of one part under skin matrices (j, 4, 4) in skeleton order. morphs : weights of its targets."""
    weights = character.skin.weights.get(part.id) if character.skin else None
    if weights is None or character.skeleton is None:
        return morphed(part, morphs) if morphs else part.mesh.points
    assert character.skin is not None
    return skinned(part, character.skin, character.skeleton, matrices, morphs=morphs)


def skinned(
    part: Part, skin: Skin, skeleton: Skeleton, matrices: FloatArray, *, relax: bool = True,
    morphs: tuple[tuple[str, float], ...] = (),
) -> FloatArray:  # fmt: skip
    """Points (n, 3) of a part bound in `skin`: morphed, blended, then relaxed where the part asks for it and `relax` is on."""
    weights = skin.weights[part.id]
    chosen = matrices[[skeleton.index[j] for j in weights.joint_ids]]
    share = skin.dual.get(part.id)
    rows, rest = packed(weights), morphed(part, morphs) if morphs else part.mesh.points
    points = skin_linear(rest, rows, chosen) if share is None else skin_dual(rest, rows, chosen, share)
    asked = skin.relax.get(part.id) if relax else None
    return points if asked is None else relaxed(part.mesh, asked, points)
