"""A character handed over in another rest than the one it is worked on in."""

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import ShapeError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.body import body_of
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.delivery import Target
from pegloom.document.edits import DeliveredRest
from pegloom.document.evaluate import evaluate
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project
from pegloom.files.proof import prove
from tests.support.figures import DEMO, wick


def arm_angle(skeleton):
    """How far the left arm points under the level, degrees, upper arm and forearm."""
    roles = body_of(skeleton).joint_of
    at = [np.array(skeleton.joint(roles[f"arm.l.{b}"]).position) for b in ("upper", "lower", "end")]
    return [np.degrees(np.arctan2(a[1] - b[1], b[0] - a[0])) for a, b in zip(at, at[1:], strict=False)]


@pytest.mark.parametrize(("rest", "angle"), [(DeliveredRest.T_POSE, 0.0), (DeliveredRest.A_POSE, 45.0)])
def test_the_file_rests_in_the_chosen_pose_and_its_clip_is_the_live_one(tmp_path, rest, angle):
    live = wick().character
    handed = edits.delivered(wick(), rest).character
    write_glb(tmp_path / "wick.glb", handed)
    back = read_gltf(tmp_path / "wick.glb")
    assert arm_angle(back.skeleton) == pytest.approx([angle, angle], abs=0.1)
    assert abs(arm_angle(live.skeleton)[0] - angle) > 4, "he is not worked on in it"
    names = {j.name: i for i, j in enumerate(back.skeleton.joints)}
    clip, told = live.clips[0], back.clips[0]
    for time in np.linspace(0.0, clip.length, 23):
        was = evaluate(live, sample(clip, time, live.skeleton, None, live.rig)).joints
        now = evaluate_rig(back.skeleton, None, sample(told, time, back.skeleton)).joints
        for i, joint in enumerate(live.skeleton.joints):
            gap = np.linalg.norm(was[i][:3, 3] - now[names[joint.name]][:3, 3])
            assert gap < 2e-3 * live.height, (joint.name, time)


def test_the_document_is_not_touched_and_as_it_stands_is_itself():
    document = wick()
    assert edits.delivered(document, DeliveredRest.AS_IT_STANDS) is document
    before = document.character.skeleton
    edits.delivered(document, DeliveredRest.T_POSE)
    assert document.character.skeleton is before


def test_the_pose_in_hand_is_delivered_as_the_rest():
    document = edits.set_channels(wick(), "spine.chest", rotate_y=0.5)
    posed = evaluate(document.character).points["part0"]
    handed = edits.delivered(document, DeliveredRest.IN_HAND).character
    assert np.abs(handed.parts[0].mesh.points - posed).max() < 1e-9
    assert np.abs(posed - document.character.parts[0].mesh.points).max() > 0.02


def test_a_baked_clip_moves_every_joint_as_its_controls_do():
    character = wick().character
    clip = character.clips[0]
    baked = baked_clip(character, clip)
    assert baked.tracks
    assert not baked.curves
    assert baked_clip(character, baked) is baked
    for time in np.linspace(0.0, clip.length, 31):
        live = evaluate(character, sample(clip, time, character.skeleton, character.pose, character.rig)).joints
        made = evaluate(character, sample(baked, time, character.skeleton)).joints
        assert np.abs(live[:, :3, 3] - made[:, :3, 3]).max() < 1e-4 * character.height


def test_the_proof_measures_the_file_against_the_live_rig():
    proof = prove(wick(), Target("arms down", rest=DeliveredRest.A_POSE))
    assert proof.samples > 20
    # Skin blended linearly from another rest lies a little otherwise in the folds; nowhere more than this.
    assert proof.worst < 0.02 * wick().character.height


@pytest.mark.parametrize("controls", [True, False])
def test_sampled_clips_and_trials_of_joints_show_the_same_pose_from_a_new_rest(controls):
    character = wick().character
    clip = baked_clip(character, character.clips[0])
    document = wick().with_character(replace(character, clips=(clip,)))
    document, _ = edits.keep_trial(document, "up", trial_pose(character.skeleton, "arm_up"))
    if not controls:
        document = edits.start_clean(document, skeleton=False, weights=False, clips=False)
    old = document.character
    new = edits.rest_in_t(document).character
    assert arm_angle(new.skeleton) == pytest.approx([0.0, 0.0], abs=0.1)
    pairs = [(sample(clip, t, old.skeleton), sample(new.clips[0], t, new.skeleton)) for t in (0.0, 0.7, 1.9)]
    pairs.append((old.trials[0].pose, new.trials[0].pose))
    for was, now in pairs:
        one, other = evaluate(old, was).joints, evaluate(new, now).joints
        assert np.abs(one[:, :3, 3] - other[:, :3, 3]).max() < 1e-6


def test_a_body_without_two_arms_says_so():
    with pytest.raises(ShapeError, match="no two arms"):
        edits.delivered(open_project(DEMO / "dumble.pegloom"), DeliveredRest.T_POSE)
