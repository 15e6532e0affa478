"""A clip on controls is right between its keys, too, in the file: read by other code, at twenty moments between frames."""

from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest

from pegloom.core.curves import Run, curve
from pegloom.core.motion.clips import Clip, sample, values_at
from pegloom.core.motion.tracks import Track
from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.evaluate import evaluate_rig, joints_at
from pegloom.document.baking import bake_clip
from pegloom.document.evaluate import evaluate
from pegloom.files.gltf_write import write_glb
from tests.support.figures import rigged_capsules, wick
from tests.support.outside import Outside

HELD = 5e-4
"""Of the height: how near the file keeps to the live rig."""


def clip_of(rig, rng, times, between=None):
    """Random keys of some controls at these times. Poles stay, and no FK limb is bent against its hinge: where a limb
    turns over there is a jump, which no sampling can follow."""
    curves = {}
    kept = {limb.pole.id for limb in rig.limbs} | {limb.fk[1] for limb in rig.limbs}
    free = [(c, ch) for c in rig.controls for ch in c.free if ch in (*MOVE, *ROTATE) and c.id not in kept]
    free += [(rig.control(limb.fk[1]), "rotate_x") for limb in rig.limbs]
    for limb in rig.limbs:
        curves[limb.amount] = curve((0.0,), (float(rng.integers(2)),))
    for number in rng.choice(len(free), 14, replace=False):
        control, channel = free[number]
        values = rng.normal(scale={"m": 0.08, "r": 0.5}[channel[0]], size=len(times))
        values = np.abs(values) if control.id in kept else values
        kind = Run(int(rng.integers(3))) if between is None else between
        curves[control.id, channel] = curve(times, values, kind)
    return Clip("c", "c", 30.0, float(times[-1]) + 0.05, curves=MappingProxyType(curves))


def worst(character, clip, path, spans):
    """Largest distance of a skinned point at twenty moments within each span, as a share of the height."""
    write_glb(path, replace(character, clips=(clip,)))
    file = Outside(path)
    part = character.parts[0]
    gaps = []
    for start, end in spans:
        for moment in np.linspace(start, end, 22)[1:-1]:
            live = evaluate(character, sample(clip, float(moment), character.skeleton, character.pose, character.rig))
            gaps.append(np.linalg.norm(file.skinned(part.name, float(moment)) - live.points[part.id], axis=1).max())
    return max(gaps) / character.height


@pytest.mark.each(3)
@pytest.mark.parametrize("seed", range(6))
def test_keys_at_any_distance(seed, tmp_path):
    rng = np.random.default_rng(seed)
    character = rigged_capsules().character
    gaps = 10.0 ** rng.uniform(-2.6, -0.5, size=5)
    times = np.concatenate([[0.0], np.cumsum(gaps)])
    clip = clip_of(character.rig, rng, times, between=(Run.SMOOTH, Run.LINEAR)[seed % 2])
    spans = [(times[k], times[k + 1]) for k in range(5)]
    assert worst(character, clip, tmp_path / "c.glb", spans) < HELD


@pytest.mark.parametrize("apart", [1 / 30, 1 / 90, 1 / 400])
def test_two_keys_a_frame_apart_or_nearer_with_an_ease_between_them(apart, tmp_path):
    """A symmetric ease is exact in its middle: looking only there, the file went wide of it."""
    character = rigged_capsules().character
    times = (0.5, 0.5 + apart)
    curves = {(c, ch): curve(times, (0.0, v)) for c, ch, v in (
        ("root", "rotate_y", 2.5), ("body", "move_y", -0.3), ("arm.l.upper.fk", "rotate_x", 2.0), ("arm.l.lower.fk", "rotate_x", 1.8),
    )}  # fmt: skip
    clip = Clip("c", "c", 30.0, 1.0, curves=MappingProxyType(curves))
    assert worst(character, clip, tmp_path / "c.glb", [times, (0.45, 0.5), (times[1], times[1] + 0.02)]) < HELD


def test_a_stepped_curve_jumps_in_the_file_as_it_does_here(tmp_path):
    character = rigged_capsules().character
    stepped = curve((0.0, 0.3333333, 0.7), (0.0, 0.4, -0.2), Run.STEP)
    clip = Clip("c", "c", 30.0, 1.0, curves=MappingProxyType({("body", "move_x"): stepped}))
    spans = [(a, b) for t in stepped.times[1:] for a, b in ((t - 0.05, t - 1e-6), (t + 1e-6, t + 0.05))]
    assert worst(character, clip, tmp_path / "c.glb", spans) < HELD


def test_a_still_clip_has_no_more_samples_than_frames():
    character = rigged_capsules().character
    still = curve((0.0, 1.0), (0.2, 0.2))
    clip = Clip("c", "c", 30.0, 1.0, curves=MappingProxyType({("body", "move_x"): still}))
    times, local = bake_clip(character, clip)
    assert len(times) == 31
    assert local.shape == (31, len(character.skeleton.joints), 10)


@pytest.mark.parametrize("seed", range(4))
def test_many_moments_at_once_are_each_moment_by_itself_to_the_bit(seed):
    rng = np.random.default_rng(seed)
    character = wick().character
    clip = clip_of(character.rig, rng, np.cumsum(rng.uniform(0.01, 0.4, 6)))
    times = np.concatenate([rng.uniform(-0.1, clip.length + 0.1, 30), clip.key_times])
    rows = values_at(clip, times, character.rig, character.pose)
    joints = joints_at(character.skeleton, character.rig, rows)
    for k, moment in enumerate(times):
        pose = sample(clip, float(moment), character.skeleton, character.pose, character.rig)
        one = character.rig.slots.vector(pose)
        assert np.allclose(rows[k], one, rtol=0, atol=1e-13)
        alone = evaluate_rig(character.skeleton, character.rig, pose).joints
        assert np.abs(joints[k] - alone).max() < 1e-12
    again = joints_at(character.skeleton, character.rig, rows)
    assert np.array_equal(again, joints)


@pytest.mark.parametrize("path", ["translation", "rotation", "scale"])
@pytest.mark.parametrize("step", [False, True])
def test_a_track_at_many_moments_is_the_track_at_each(path, step):
    rng = np.random.default_rng(1)
    times = np.cumsum(rng.uniform(0.01, 0.3, 9))
    values = rng.normal(size=(9, 4 if path == "rotation" else 3))
    values[4] = -values[3] if path == "rotation" else values[3]
    if path == "rotation":
        values /= np.linalg.norm(values, axis=1, keepdims=True)
    track = Track(path, times, values, step)
    at = np.concatenate([rng.uniform(-0.2, 3.0, 60), times])
    assert np.allclose(track.at_all(at), [track.at(t) for t in at], rtol=0, atol=1e-12)
