"""Strays, reducing, transfer, cloth and hard parts."""

import numpy as np
import pytest

from pegloom.checks import find_snags
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import shells
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.strays import find_strays, reduced, without_strays
from pegloom.core.skin.weights import dense, from_dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.evaluate import part_points
from pegloom.document.model import PartKind
from pegloom.document.strays import judged_strays
from pegloom.files.project import open_project
from tests.support.figures import DEMO, rigged_capsules, wick


def with_stray():
    """Wick with a patch on his left foot still tied to his head."""
    document = wick()
    part = document.character.parts[0]
    weights = document.character.skin.weights[part.id]
    values = dense(weights).copy()
    foot = np.array(document.character.skeleton.joint("leg.l.end").position)
    patch = np.argsort(np.linalg.norm(part.mesh.points - foot, axis=1))[:6]
    head = weights.joint_ids.index("spine.head")
    values[patch] *= 0.4
    values[patch, head] += 0.6
    return edits.set_part_weights(document, part.id, from_dense(values, weights.joint_ids)), patch


def test_a_stray_is_found_shown_and_dropped():
    document, patch = with_stray()
    part = document.character.parts[0]
    strays = find_strays(part.mesh, document.character.skin.weights[part.id])
    assert strays[0].joint == "spine.head"
    assert set(strays[0].vertices) == set(patch)
    assert strays[0].largest == pytest.approx(0.6, abs=1e-6)
    (snag,) = [s for s in find_snags(document.character) if s.code == "stray-weights"]
    assert "head" in snag.message and "mm in the trials" in snag.message
    assert np.allclose(snag.where, part.mesh.points[strays[0].vertices[0]])
    clean, count = edits.drop_strays(document)
    assert count == len(patch)
    after = clean.character.skin.weights[part.id]
    assert row_sums_hold(after)
    assert after.column("spine.head")[patch].max() == 0
    assert not find_strays(part.mesh, after)


def test_a_vertex_of_nothing_but_strays_takes_its_neighbours():
    document, patch = with_stray()
    part = document.character.parts[0]
    weights = document.character.skin.weights[part.id]
    values = dense(weights).copy()
    values[patch] = 0.0
    values[patch, weights.joint_ids.index("spine.head")] = 1.0
    clean, _ = without_strays(part.mesh, from_dense(values, weights.joint_ids))
    assert row_sums_hold(clean)
    assert clean.column("leg.l.end")[patch].min() > 0.3


@pytest.mark.parametrize("demo", ["wick", "dumble", "harl", "winch", "lantern"])
def test_the_demos_have_no_strays(demo):
    character = open_project(DEMO / f"{demo}.pegloom").character
    for part in character.included:
        weights = character.skin.weights[part.id]
        assert not find_strays(part.mesh, weights), part.name
        assert not [s for s in judged_strays(part.mesh, weights, character.skeleton) if s.sure], part.name


def test_reducing_says_what_is_lost():
    document = edits.bind(rigged_capsules(), influences=8)
    weights = document.character.skin.weights["part0"]
    cut, lost = reduced(weights, 2)
    assert most_influences(cut) <= 2
    assert row_sums_hold(cut)
    held = np.sort(dense(weights), axis=1)[:, :-2].sum(axis=1)
    assert np.allclose(lost, held, atol=2e-3)
    less, worst, count = edits.reduce_influences(document, 2)
    assert less.character.skin.influences == 2
    assert worst == pytest.approx(lost.max())
    assert count == (lost > 1e-6).sum()


def test_cloth_reads_the_skin_under_it_and_hard_parts_stay_rigid():
    character = open_project(DEMO / "dumble.pegloom").character
    skeleton = character.skeleton
    hard = next(p for p in character.parts if p.kind is PartKind.HARD)
    weights = character.skin.weights[hard.id]
    assert set(np.unique(dense(weights))) == {0.0, 1.0}
    label = shells(hard.mesh)
    edges = np.stack([hard.mesh.corners[:-1], hard.mesh.corners[1:]], axis=1)
    edges = edges[label[edges[:, 0]] == label[edges[:, 1]]]
    rest = np.linalg.norm(hard.mesh.points[edges[:, 0]] - hard.mesh.points[edges[:, 1]], axis=1)
    keep = rest > 1e-6
    for trial in trials_of(skeleton):
        joints = evaluate_rig(skeleton, None, trial_pose(skeleton, trial.id)).joints
        points = part_points(character, hard, skin_matrices(skeleton, joints))
        now = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
        assert np.abs(now[keep] / rest[keep] - 1).max() < 1e-4
    cloth = next(p for p in character.parts if p.kind is PartKind.CLOTH)
    held = character.skin.weights[cloth.id]
    assert row_sums_hold(held)
    assert held.column("spine.spine").max() > 0.2


def test_weights_are_passed_from_part_to_part():
    document = edits.split_part(rigged_capsules(), "part0")
    first, second = document.character.parts[:2]
    moved, _ = edits.transfer(document, first.id, second.id)
    assert row_sums_hold(moved.character.skin.weights[second.id])
    with pytest.raises(Exception, match="another part"):
        edits.transfer(document, first.id, first.id)


PLANTED = [
    ("leg.l.end", (0.0, 1.6, 0.0), 0.03), ("spine.hips", (0.0, 1.6, 0.0), 0.03), ("spine.chest", (0.0, 1.6, 0.0), 0.03),
    ("arm.l.end", "leg.l.lower", 0.1), ("leg.l.upper", "arm.l.upper", 0.05), ("spine.head", "leg.l.end", 0.6),
]  # fmt: skip


def planted(joint, where, amount, count=6):
    document = wick()
    part = max(document.character.included, key=lambda p: p.mesh.vertex_count)
    weights = document.character.skin.weights[part.id]
    at = document.character.skeleton.joint(where).position if isinstance(where, str) else where
    patch = np.argsort(np.linalg.norm(part.mesh.points - np.array(at), axis=1))[:count]
    values = dense(weights).copy()
    values[patch] *= 1.0 - amount
    values[patch, weights.joint_ids.index(joint)] += amount
    return edits.set_part_weights(document, part.id, from_dense(values, weights.joint_ids)), part, patch


@pytest.mark.parametrize("joint, where, amount", PLANTED)
def test_a_little_weight_far_from_its_joint_is_surely_a_stray(joint, where, amount):
    document, part, patch = planted(joint, where, amount)
    character = document.character
    first, *_ = judged_strays(part.mesh, character.skin.weights[part.id], character.skeleton)
    assert first.sure and first.joint == joint and set(patch) <= set(first.vertices)
    assert first.moves > 0.008
    clean, _ = edits.drop_strays(document)
    before, after = wick().character.skin.weights[part.id], clean.character.skin.weights[part.id]
    assert after.column(joint)[patch].max() == 0.0
    assert np.abs(dense(after) - dense(before)).max() < 0.02, "as it was before it was planted"


def test_how_far_it_moves_is_what_the_trials_show():
    document, part, patch = planted("leg.l.end", (0.0, 1.6, 0.0), 0.03)
    character = document.character
    stray = judged_strays(part.mesh, character.skin.weights[part.id], character.skeleton)[0]
    clean = edits.drop_strays(document)[0].character
    most = 0.0
    for trial in trials_of(character.skeleton):
        joints = evaluate_rig(character.skeleton, None, trial_pose(character.skeleton, trial.id)).joints
        shown = [part_points(c, part, skin_matrices(c.skeleton, joints))[patch] for c in (character, clean)]
        most = max(most, float(np.linalg.norm(shown[0] - shown[1], axis=1).max()))
    assert most <= stray.moves + 1e-9
    assert most > 0.3 * stray.moves


@pytest.mark.parametrize("demo", ["wick", "dumble", "harl"])
def test_the_last_of_a_joints_weight_up_a_crease_is_cut_off_and_stays(demo):
    """As hands make them: a ring wiped in the middle of a falloff leaves its outer end by itself, and it is meant."""
    document = open_project(DEMO / f"{demo}.pegloom")
    suspects = 0
    for part in document.character.included:
        weights = document.character.skin.weights[part.id]
        values = dense(weights).copy()
        values[(values > 0.12) & (values < 0.2) & (values.max(axis=1, keepdims=True) > 0.3)] = 0.0
        document = edits.set_part_weights(document, part.id, from_dense(values, weights.joint_ids))
        suspects += len(find_strays(part.mesh, document.character.skin.weights[part.id]))
    assert suspects >= 8
    clean, count = edits.drop_strays(document)
    assert count == 0 and clean is document


def test_one_stray_is_dropped_by_itself():
    document, part, patch = planted("leg.l.end", (0.0, 1.6, 0.0), 0.03)
    weights = document.character.skin.weights[part.id]
    foot = np.argsort(np.linalg.norm(part.mesh.points - document.character.skeleton.joint("leg.r.end").position, axis=1))[:5]
    values = dense(weights).copy()
    values[foot] *= 0.5
    values[foot, weights.joint_ids.index("spine.head")] += 0.5
    document = edits.set_part_weights(document, part.id, from_dense(values, weights.joint_ids))
    snags = [s for s in find_snags(document.character) if s.code == "stray-weights"]
    assert len(snags) == 2
    one = next(s for s in snags if s.detail[0] == "spine.head")
    clean, count = edits.drop_stray(document, part.id, one.detail[0], int(one.detail[1]))
    after = clean.character.skin.weights[part.id]
    assert count == len(foot) and after.column("spine.head")[foot].max() == 0
    assert np.array_equal(after.column("leg.l.end")[patch], weights.column("leg.l.end")[patch])
    with pytest.raises(EditError, match="not there any more"):
        edits.drop_stray(clean, part.id, one.detail[0], int(one.detail[1]))
