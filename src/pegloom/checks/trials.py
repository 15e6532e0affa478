"""What the trial poses do to the skin, in figures: stretch, faces turned over, volume kept."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.checks.quality import Crossing, crossing_of, doubtful, joint_figures
from pegloom.core.geometry.mesh import is_watertight, place_edges, place_triangles, weld
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.measures import edge_stretch, enclosed_volume, folded_faces
from pegloom.document.evaluate import evaluate, part_points, weights_of, with_shapes
from pegloom.document.model import Character


@dataclass(frozen=True, slots=True)
class TrialFigures:
    """One part in one trial pose.

    stretch : 99th percentile, stretch_most : largest, of the edges' length posed / rest.
    folded : faces lying on their back against a neighbour they lay flat with at rest.
    volume : posed / rest; None where a part is open.
    """

    trial: str
    part: str
    stretch: float
    stretch_most: float
    folded: int
    volume: float | None


def trial_figures(character: Character) -> tuple[TrialFigures, ...]:
    """Figures of every included, bound part in every trial pose the skeleton can take. Empty when not bound."""
    if character.skeleton is None or character.skin is None:
        return ()
    found = []
    for trial in trials_of(character.skeleton):
        frame = evaluate_rig(character.skeleton, None, trial_pose(character.skeleton, trial.id))
        matrices = skin_matrices(character.skeleton, frame.joints)
        weights = with_shapes(character, {}, frame.joints) if character.shapes else {}
        for part in character.included:
            if part.id not in character.skin.weights:
                continue
            first = weld(part.mesh).first
            rest, posed = part.mesh.points[first], part_points(character, part, matrices, weights_of(part, weights))[first]
            triangles = place_triangles(part.mesh)
            stretch = edge_stretch(rest, posed, place_edges(part.mesh))
            volume = None
            if is_watertight(part.mesh) and (whole := enclosed_volume(rest, triangles)) != 0:
                volume = enclosed_volume(posed, triangles) / whole
            found.append(
                TrialFigures(
                    trial.id,
                    part.name,
                    float(np.quantile(stretch, 0.99)) if len(stretch) else 1.0,
                    float(stretch.max(initial=1.0)),
                    len(folded_faces(rest, posed, triangles)),
                    volume,
                )
            )
    return tuple(found)


@dataclass(frozen=True, slots=True)
class JointFigures:
    """One joint's region in one trial pose; see core/skin/quality.Figures. doubtful: past the limit of its kind."""

    trial: str
    joint: str
    girth: float | None
    area: float | None
    stretch: float
    folded: int
    doubtful: bool


def joint_trials(character: Character) -> tuple[tuple[JointFigures, ...], dict[str, Crossing]]:
    """Figures around every joint in every trial pose, and where faces cross in each."""
    if character.skeleton is None or character.skin is None:
        return (), {}
    found, crossing = [], {}
    ids = [j.id for j in character.skeleton.joints]
    for trial in trials_of(character.skeleton):
        points = evaluate(character, trial_pose(character.skeleton, trial.id)).points
        for joint, f in joint_figures(character, points, ids).items():
            if f is not None:
                name = character.skeleton.joint(joint).name
                found.append(
                    JointFigures(
                        trial.id, name, f.girth, f.area, f.stretch, f.folded, doubtful(character.skeleton, joint, f)
                    )
                )
        crossing[trial.id] = crossing_of(character, points)
    return tuple(found), crossing
