"""The compiled rig against a slow, plain one: every demo, its clips, and limbs that stand anyhow."""

from functools import cache

import numpy as np
import pytest

from pegloom.core.motion.clips import sample
from pegloom.core.rig.controls import CHANNELS, Pose, channel_rows, pose_of, with_values
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.files.project import open_project
from tests.core.test_rig import crooked
from tests.support.figures import DEMO
from tests.support.plain_rig import evaluate_plainly


@cache
def demo(name):
    return open_project(DEMO / f"{name}.pegloom").character


def same(skeleton, rig, pose, tolerance):
    frame = evaluate_rig(skeleton, rig, pose)
    controls, joints = evaluate_plainly(skeleton, rig, pose)
    for i, control in enumerate(rig.controls):
        assert np.abs(frame.controls[i] - controls[control.id]).max() < tolerance, control.id
    for i, joint in enumerate(skeleton.joints):
        assert np.abs(frame.joints[i] - joints[joint.id]).max() < tolerance, joint.id


@pytest.mark.parametrize("name", ["wick", "oilskin", "lesson", "dumble", "harl", "winch", "lantern"])
def test_every_demo_and_its_clips(name):
    character = demo(name)
    if character.rig is None:
        pytest.fail(f"{name} has no controls")
    same(character.skeleton, character.rig, Pose(), 1e-9)
    for clip in character.clips:
        for time in np.linspace(0.013, clip.length, 7):
            pose = sample(clip, float(time), character.skeleton, character.pose, character.rig)
            # Near straight the fold is the square root of what distances are rounded by.
            same(character.skeleton, character.rig, pose, 1e-9)


@pytest.mark.parametrize("seed", range(10))
def test_limbs_that_stand_anyhow_in_any_pose(seed):
    skeleton, rig, _ = crooked(seed)
    rng = np.random.default_rng(seed)
    rows = channel_rows(rig, Pose()).copy()
    for i, control in enumerate(rig.controls):
        for k, channel in enumerate(CHANNELS):
            if channel in control.free:
                size = {"m": 0.06, "t": 0.4, "g": 0.2, "b": 0.0}[channel[0]]
                rows[i, k] += rng.normal(scale=size) if size else rng.uniform(0, 1)
    same(skeleton, rig, pose_of(rig, rows), 1e-7)
    out = with_values(pose_of(rig, rows), rig.control("leg.l.goal"), move_y=-2.0, blend=1.0)
    same(skeleton, rig, out, 1e-7)
