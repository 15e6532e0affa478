"""The compiled rig against a slow, plain one: every demo, its clips, and limbs that stand anyhow."""

from functools import cache
from pathlib import Path

import numpy as np
import pytest

from pegloom.core.motion.clips import sample
from pegloom.core.rig.channels import BLEND, TRANSFORM
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig, KitSolver, build_rig
from pegloom.core.skeleton.build import build_joints
from pegloom.core.skeleton.patterns import free_pegs, shipped_patterns
from pegloom.files.project import open_project
from tests.core.test_rig import crooked
from tests.support.plain_rig import evaluate_plainly

OLD = Path(__file__).parents[1] / "data" / "v1"


@cache
def demo(name):
    return open_project(OLD / f"{name}.pegloom").character


def plain(control):
    """Channels the plain rig knows; what eyes look at rests, as it knows no aims, and so do pivots that others drive."""
    some = () if control.helper or control.id == "eyes.goal" else (*TRANSFORM, BLEND)
    return [channel for channel in control.channels if channel.key in some]


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
    same(character.skeleton, character.rig, Pose(), 1e-12)
    for clip in character.clips:
        for time in np.linspace(0.013, clip.length, 7):
            pose = sample(clip, float(time), character.skeleton, character.pose, character.rig)
            same(character.skeleton, character.rig, pose, 1e-12)


@pytest.mark.parametrize("name", shipped_patterns())
def test_every_pattern_in_random_poses(name):
    pegs = free_pegs(shipped_patterns()[name])
    skeleton = build_joints(pegs)
    # The plain rig knows limbs of two bones alone, and nothing that follows.
    rig = build_rig(skeleton, 1.0, pegs.kits, {kit.id: KitRig(KitSolver.LIMB) for kit in pegs.kits})
    rng = np.random.default_rng(len(name))
    goals = {limb.goal.id for limb in rig.limbs} | {limb.pole.id for limb in rig.limbs}
    for _ in range(4):
        values = {}
        for control in rig.controls:
            for channel in plain(control):
                # Limbs are folded, not stretched: near straight a fold is the square root of what is rounded.
                size = {"length": 0.0 if control.id in goals else 0.02, "angle": 0.08, "factor": 0.2}.get(channel.quantity.value)
                value = rng.uniform(0, 1) if size is None else channel.rest + rng.normal(scale=size or 1e-9)
                values[control.id, channel.key] = value
        if "eyes.goal" in rig.index:
            values["eyes.goal", "lids_follow"] = 0.0
        for limb in rig.limbs:
            values |= {(fk, f"rotate_{a}"): rng.normal(scale=0.4) for fk in limb.fk for a in "xyz"}
            to = skeleton.world[skeleton.index[limb.joints[0]], :3, 3] - rig.control(limb.goal.id).matrix[:3, 3]
            values |= {(limb.goal.id, f"move_{a}"): 0.4 * float(v) for a, v in zip("xyz", to, strict=True)}
        same(skeleton, rig, Pose(values), 1e-12)


@pytest.mark.parametrize("seed", range(10))
def test_limbs_that_stand_anyhow_in_any_pose(seed):
    skeleton, rig, _ = crooked(seed)
    rng = np.random.default_rng(seed)
    values = {}
    for control in rig.controls:
        for channel in plain(control):
            size = {"length": 0.06, "angle": 0.4, "factor": 0.2, "share": 0.0}[channel.quantity.value]
            value = channel.rest + rng.normal(scale=size) if size else rng.uniform(-0.2, 1.2)
            values[control.id, channel.key] = value
    same(skeleton, rig, Pose(values), 1e-7)
    out = with_values(rig, Pose(values), "leg.l.goal", move_y=-2.0, blend=1.0)
    same(skeleton, rig, out, 1e-7)
