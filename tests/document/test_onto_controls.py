"""Sampled motion brought onto controls and baked back: the same at every frame."""

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from tests.support.figures import shipped

NEAR = 1e-4


def frames(clip):
    return np.arange(int(clip.length * clip.rate + 1e-6) + 1) / clip.rate


def joints(document, clip_id, times):
    one = document.character
    clip = one.clip(clip_id)
    return np.array([evaluate(one, sample(clip, float(t), one.skeleton, one.pose, one.rig)).joints for t in times])


@pytest.fixture(scope="module", params=["wick", "dumble", "harl"])
def baked(request):
    document = shipped(request.param)
    clip = document.character.clips[0].id
    document = edits.set_pose(document, type(document.character.pose)())
    return edits.to_joints(document, clip), clip


@pytest.mark.parametrize("side", ["as built", "on IK", "on FK"])
def test_onto_the_controls_every_joint_is_where_it_was_at_every_frame(baked, side):
    document, clip = baked
    one = document.character
    limbs = {"as built": None, "on IK": tuple(s.id for s in one.rig.limbs), "on FK": ()}[side]
    after, told = edits.to_controls(document, clip, on_ik=limbs)
    made = after.character.clip(clip)
    assert not made.tracks
    assert made.curves
    times = frames(made)
    was, now = joints(document, clip, times), joints(after, clip, times)
    gap = np.linalg.norm(now[..., :3, 3] - was[..., :3, 3], axis=-1)
    assert gap.max() < NEAR * one.height
    assert told.gaps.max() < NEAR * one.height
    turn = np.linalg.norm(now[..., :3, :3] - was[..., :3, :3], axis=(-2, -1)).max()
    assert turn < 1e-3
    on = {s.id: after.character.rig.value(sample(made, 1.0, one.skeleton, one.pose, one.rig), s.amount) for s in one.rig.limbs}
    if limbs is not None:
        assert {s for s, amount in on.items() if amount > 0.5} == set(limbs) - set(told.on_fk)


def test_a_goal_leads_what_was_captured(baked):
    document, clip = baked
    one = document.character
    limb = next(s for s in one.rig.limbs if "leg" in s.id)
    after, told = edits.to_controls(document, clip, on_ik=(limb.id,))
    assert told.on_fk == ()
    after, layer = edits.add_layer(after, clip)
    made = after.character.clip(clip)
    pose = sample(made, 1.0, one.skeleton, one.pose, one.rig)
    lifted = type(pose)({**pose.values, (limb.goal.id, "move_y"): pose.values.get((limb.goal.id, "move_y"), 0.0) + 0.03 * one.height})
    after = edits.key_layer(after, clip, layer, 1.0, (limb.goal.id,), lifted)
    end = one.skeleton.index[limb.joints[-1]]
    before = joints(document, clip, [1.0, 0.5])[:, end, :3, 3]
    now = joints(after, clip, [1.0, 0.5])[:, end, :3, 3]
    moved = np.linalg.norm(now - before, axis=-1)
    assert (moved > 0.01 * one.height).all(), "a layer with one key corrects every frame"


def test_morph_weights_come_onto_their_channels():
    document = shipped("wick")
    clip = next(c for c in document.character.clips if c.name == "faces")
    baked = edits.to_joints(document, clip.id)
    assert baked.character.clip(clip.id).morphs
    after, told = edits.to_controls(baked, clip.id)
    one, made = after.character, after.character.clip(clip.id)
    for time in frames(made)[::15]:
        was = evaluate(document.character, sample(clip, float(time), one.skeleton, one.pose, one.rig))
        now = evaluate(one, sample(made, float(time), one.skeleton, one.pose, one.rig))
        for part, points in was.points.items():
            assert np.abs(points - now.points[part]).max() < 1e-3 * one.height, (time, told.morphs)


def test_what_cannot_be_brought_is_said():
    document = shipped("wick")
    clip = document.character.clips[0].id
    with pytest.raises(EditError, match="on controls already"):
        edits.to_controls(document, clip)
    baked = edits.to_joints(document, clip)
    with pytest.raises(EditError, match="on joints already"):
        edits.to_joints(baked, clip)
    with pytest.raises(EditError, match="there is no IK limb"):
        edits.to_controls(baked, clip, on_ik=("nothing",))
