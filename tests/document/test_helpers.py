"""Helper joints: they turn half way in every pose, hold skin without a trial being worse, export as plain joints, and go again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from typer.testing import CliRunner

from pegloom.checks.trials import joint_trials
from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.weights import dense_over, row_sums_hold
from pegloom.document import edits
from pegloom.document.delivery.plain import made_plain
from pegloom.document.delivery.target import DeliveredRest, Target
from pegloom.document.edits.weaves import kept_as
from pegloom.document.evaluate import evaluate
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support.figures import rigged_capsules
from tests.support.outside import Outside


@pytest.fixture(scope="module")
def before():
    return rigged_capsules()


@pytest.fixture(scope="module")
def helped(before):
    return edits.add_helpers(before)


def turn_of(skeleton, worlds, joint):
    """How far a joint turned from rest against what it hangs on, in its own axes at rest; by SciPy."""
    i = skeleton.index[joint]
    p = int(skeleton.parents[i])
    rest = skeleton.world[p, :3, :3].T @ skeleton.world[i, :3, :3]
    now = np.linalg.inv(worlds[p, :3, :3]) @ worlds[i, :3, :3]
    return Rotation.from_matrix(rest.T @ now).as_rotvec()


def test_each_takes_half_of_the_turn_and_stands_at_its_joint(helped):
    skeleton = helped[0].character.skeleton
    assert len(helped[0].character.helpers) >= 4
    for trial in ("arm_up", "elbow", "crouch"):
        worlds = evaluate_rig(skeleton, None, trial_pose(skeleton, trial)).joints
        for one in helped[0].character.helpers:
            full, half = turn_of(skeleton, worlds, one.of), turn_of(skeleton, worlds, one.id)
            assert np.abs(half - 0.5 * full).max() < 1e-6, (trial, one.name)
            assert np.abs(worlds[skeleton.index[one.id], :3, 3] - worlds[skeleton.index[one.of], :3, 3]).max() < 1e-9


def test_on_controls_they_follow_as_well_and_have_no_control_of_their_own(helped):
    character = helped[0].character
    skeleton, rig = character.skeleton, character.rig
    ids = {h.id for h in character.helpers}
    assert not ids & {d.joint for d in rig.drives} and not ids & {c.id for c in rig.controls}
    bent = with_values(rig, Pose(), "arm.l.lower.fk", rotate_x=1.1) if "arm.l.lower.fk" in rig.index else Pose()
    worlds = evaluate_rig(skeleton, rig, bent).joints
    for one in character.helpers:
        assert np.abs(turn_of(skeleton, worlds, one.id) - 0.5 * turn_of(skeleton, worlds, one.of)).max() < 1e-6


def test_limbs_cave_in_less_and_no_region_is_thinner_than_it_was(before, helped):
    old = {(f.trial, f.joint): f for f in joint_trials(before.character)[0]}
    gains = {}
    for now in joint_trials(helped[0].character)[0]:
        was = old[now.trial, now.joint]
        for a, b in ((was.girth, now.girth), (was.area, now.area)):
            assert a is None or b is None or b >= a or abs(1 - b) <= abs(1 - a) + 0.0201 * a, now
        longer = max(1.0, min(now.area, 1.0) / was.area) ** 0.5 if was.area and now.area else 1.0
        assert now.stretch <= 1.0201 * longer * max(was.stretch, 1.0), now
        if was.area is not None:
            gains[now.trial, now.joint] = now.area - was.area
    assert max(gains.values()) > 0.05


def test_weights_are_whole_and_a_weave_keeps_what_was(before, helped):
    character = helped[0].character
    for part, weights in character.skin.weights.items():
        assert row_sums_hold(weights)
        assert np.diff(weights.indptr).max() <= character.skin.limit(part)
    assert [w.name for w in character.weaves][-1] == "with helper joints"
    kept = kept_as(replace(before.character, weaves=character.weaves))
    assert kept is not None, "what was in hand is a weave"
    taken = edits.take_weave(helped[0], kept.id)
    for part, weights in before.character.skin.weights.items():
        now = taken.character.skin.weights[part]
        assert np.array_equal(dense_over(now, weights.joint_ids), dense_over(weights, weights.joint_ids))


def test_taken_away_their_weights_go_back_to_both_sides(helped):
    character = helped[0].character
    after = edits.drop_helpers(helped[0]).character
    assert not after.helpers and len(after.skeleton.joints) == len(character.skeleton.joints) - len(character.helpers)
    gone = {h.id: h.of for h in character.helpers}
    for part, weights in after.skin.weights.items():
        assert row_sums_hold(weights) and not set(weights.joint_ids) & set(gone)
        was = character.skin.weights[part]
        # Where a helper held skin, what lies above and below its joint hold as much more.
        held = dense_over(was, list(dict.fromkeys((*was.joint_ids, *gone))))
        columns = {j: k for k, j in enumerate(dict.fromkeys((*was.joint_ids, *gone)))}
        moved = sum(held[:, columns[h]] for h in gone)
        same = [j for j in was.joint_ids if j not in gone]
        change = np.abs(dense_over(weights, list(dict.fromkeys((*weights.joint_ids, *same))))[:, : len(weights.joint_ids)].sum(axis=1) - 1.0)
        assert change.max() < 1e-6
        still = moved < 1e-9
        ids = list(dict.fromkeys((*was.joint_ids, *weights.joint_ids)))
        assert np.abs(dense_over(was, ids)[still] - dense_over(weights, ids)[still]).max(initial=0.0) < 1e-5
    with pytest.raises(EditError, match="no helper joints"):
        edits.drop_helpers(edits.drop_helpers(helped[0]))


def test_moving_a_joint_takes_its_helper_along_and_dropping_it_the_helper_waits(helped):
    document = helped[0]
    one = next(h for h in document.character.helpers if h.of == "arm.l.lower")
    moved = edits.move_joint(document, one.of, (0.0, 0.02, 0.0))
    skeleton = moved.character.skeleton
    assert np.allclose(skeleton.joint(one.id).position, skeleton.joint(one.of).position)
    dropped = edits.delete_joint(document, one.of).character
    assert one.id not in dropped.skeleton.index and one in dropped.helpers
    assert all(row_sums_hold(w) for w in dropped.skin.weights.values())


def test_a_saved_project_has_them_and_an_export_has_plain_joints_that_move_alike(helped, tmp_path):
    document, clip = edits.add_trial_clip(helped[0])
    character = document.character
    save_project(tmp_path / "a.pegloom", document)
    again = open_project(tmp_path / "a.pegloom").character
    assert again.helpers == character.helpers and again.skeleton.joints == character.skeleton.joints
    plain = made_plain(document, Target("file")).document
    assert not plain.character.helpers and all(j.halfway is None for j in plain.character.skeleton.joints)
    write_glb(tmp_path / "a.glb", plain.character)
    names = {n.name for n in Outside(tmp_path / "a.glb").gltf.nodes}
    assert {h.name for h in character.helpers} <= names
    outside, rig, part = Outside(tmp_path / "a.glb"), character.rig, character.parts[0]
    for time in (0.8, 1.6, 2.37):
        live = evaluate(character, sample(character.clip(clip), time, character.skeleton, Pose(), rig)).points[part.id]
        assert np.linalg.norm(outside.skinned(part.name, time) - live, axis=1).max() < 2e-4 * character.height


def test_what_cannot_have_one_is_refused(before):
    with pytest.raises(EditError, match="there is no joint"):
        edits.add_helpers(before, ["nobody"])
    root = before.character.skeleton.joints[0].id
    with pytest.raises(EditError, match="hangs on nothing"):
        edits.add_helpers(before, [root])
    with pytest.raises(EditError):
        edits.add_helpers(before.with_character(replace(before.character, skin=None)))


def test_from_the_command_line(before, tmp_path):
    save_project(tmp_path / "a.pegloom", before)
    done = CliRunner().invoke(app, ["helpers", str(tmp_path / "a.pegloom"), "-o", str(tmp_path / "b.pegloom"), "--joint", "l_forearm"])
    assert done.exit_code == 0, done.output
    assert [h.name for h in open_project(tmp_path / "b.pegloom").character.helpers] == ["l_forearm_half"]
    done = CliRunner().invoke(app, ["helpers", str(tmp_path / "b.pegloom"), "-o", str(tmp_path / "c.pegloom"), "--drop"])
    assert done.exit_code == 0 and not open_project(tmp_path / "c.pegloom").character.helpers


def test_a_helper_has_a_name_of_its_own_and_else_only_follows(helped):
    document = helped[0]
    one = next(h for h in document.character.helpers if h.of == "arm.l.lower")
    renamed = edits.rename_joint(document, one.id, "l_elbow_muscle").character
    assert renamed.skeleton.joint(one.id).name == "l_elbow_muscle"
    for change in (
        lambda: edits.move_joint(document, one.id, (0.0, 1.0, 0.0)),
        lambda: edits.reparent_joint(document, one.id, "spine.hips"),
        lambda: edits.draw_joint(document, (0.1, 0.1, 0.1), parent=one.id),
        lambda: edits.duplicate_joints(document, one.id),
    ):
        with pytest.raises(EditError, match="helper joint and follows"):
            change()
    gone = edits.delete_joint(document, one.id).character
    assert {h.of for h in document.character.helpers} - {h.of for h in gone.helpers} == {"arm.l.lower", "arm.r.lower"}
    assert all(row_sums_hold(w) and one.id not in w.joint_ids for w in gone.skin.weights.values())
    # Moved with all that hangs on it, a joint takes the helper along without a word.
    lower = document.character.skeleton.joint("arm.l.upper")
    moved = edits.move_joint(document, lower.id, tuple(np.array(lower.position) + [0.0, 0.01, 0.0]), with_children=True).character.skeleton
    assert np.allclose(moved.joint(one.id).position, moved.joint(one.of).position)


def test_bound_again_helpers_hold_skin_and_idle_ones_can_be_fitted_again(helped):
    document = helped[0]
    again = edits.bind(document)
    part = document.character.parts[0].id
    held = dense_over(again.character.skin.weights[part], again.character.skin.weights[part].joint_ids).sum(axis=0)
    assert any(j.startswith("half.") and h > 0.5 for j, h in zip(again.character.skin.weights[part].joint_ids, held, strict=True))
    first = edits.take_weave(document, next(w.id for w in document.character.weaves if w.name != "with helper joints"))
    assert not any(j.startswith("half.") for j in first.character.skin.weights[part].joint_ids)
    second = edits.add_helpers(first, ["arm.l.lower", "arm.r.lower"], fit=False)[0].character
    assert "half.arm.l.lower" in second.skin.weights[part].joint_ids
    assert len(second.helpers) == len(document.character.helpers), "the same ones, not twice"


def strays(document, path):
    """How far, of the height, a figure delivered in the T-pose is from itself in its own rest, at some moments."""
    document, clip = edits.add_trial_clip(document)
    character = document.character
    write_glb(path, made_plain(document, Target("file", rest=DeliveredRest.T_POSE)).document.character)
    outside, part = Outside(path), character.parts[0]
    gaps = []
    for time in (0.8, 1.6):
        live = evaluate(character, sample(character.clip(clip), time, character.skeleton, Pose(), character.rig)).points[part.id]
        gaps.append(np.linalg.norm(outside.skinned(part.name, time) - live, axis=1).mean())
    return max(gaps) / character.height


def test_delivered_in_another_rest_they_stray_no_farther_than_without(before, helped, tmp_path):
    # Blended skin is not the same from another rest; helpers must not add to that.
    assert strays(helped[0], tmp_path / "with.glb") < 1.3 * strays(before, tmp_path / "without.glb") + 1e-5
