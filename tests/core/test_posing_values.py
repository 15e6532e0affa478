"""Poses put together: toward another by an amount, seen in a mirror, swapped, a branch."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation, Slerp

from pegloom.core.rig.channels import MOVE, ROTATE
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.posing import across, branch, copied_across, swapped, toward, values_of
from pegloom.document import edits
from tests.support.figures import shipped


@pytest.fixture(scope="module")
def wick():
    return edits.set_pose(edits.build_controls(shipped("wick")), Pose()).character


ANGLE = st.floats(-2.5, 2.5)


@settings(max_examples=60, deadline=None)
@given(st.tuples(ANGLE, ANGLE, ANGLE), st.tuples(ANGLE, ANGLE, ANGLE), st.floats(0.02, 0.98))
def test_a_turn_goes_the_shortest_way_as_scipy_has_it(wick, here, there, amount):
    rig, control = wick.rig, "spine.chest"
    start = Pose({(control, k): v for k, v in zip(ROTATE, here, strict=True)})
    result = toward(rig, start, {(control, k): v for k, v in zip(ROTATE, there, strict=True)}, amount)
    came = Rotation.from_euler("xyz", [rig.value(result, (control, k)) for k in ROTATE])
    ends = Rotation.from_euler("xyz", [here, there])
    if (ends[0].inv() * ends[1]).magnitude() > 3.1:
        return
    assert (Slerp([0, 1], ends)(amount).inv() * came).magnitude() < 1e-6


def test_amounts_limits_switches_and_locked_channels(wick):
    rig = wick.rig
    values = {("arm.l.goal", "move_x"): 0.4, ("arm.l.goal", "blend"): 1.0, ("arm.l.goal", "soft"): 9.0, ("nobody", "move_x"): 1.0}
    half = toward(rig, Pose(), values, 0.5)
    assert half.values["arm.l.goal", "move_x"] == pytest.approx(0.2)
    assert half.values["arm.l.goal", "blend"] == 0.5
    assert half.values["arm.l.goal", "soft"] == 0.5, "its upper limit"
    assert ("nobody", "move_x") not in half.values
    assert toward(rig, half, values, 0.0).values == half.values
    assert toward(rig, Pose(), values, 1.0, ["arm.r.goal"]).values == {}
    locked = next(c.id for c in rig.handles for x in c.channels if x.locked)
    key = next(x.key for x in rig.control(locked).channels if x.locked)
    assert toward(rig, Pose(), {(locked, key): 0.3}).values == {}


def posed(wick, seed):
    random = np.random.default_rng(seed)
    values = {}
    for control in wick.rig.handles:
        for channel in control.channels:
            if channel.locked or channel.key not in (*MOVE, *ROTATE):
                continue
            values[control.id, channel.key] = float(random.uniform(-0.25, 0.25)) * (0.2 if channel.key in MOVE else 1.0)
    return Pose(values)


@pytest.mark.parametrize("seed", [1, 2])
def test_swapping_sides_is_the_figure_in_a_mirror_and_twice_nothing(wick, seed):
    rig, skeleton, pose = wick.rig, wick.skeleton, posed(wick, seed)
    mirrored = swapped(rig, pose)
    one, other = (evaluate_rig(skeleton, rig, p).joints for p in (pose, mirrored))
    for joint in skeleton.joints:
        partner = skeleton.other_side(joint.id) or joint.id
        here, there = one[skeleton.index[joint.id], :3, 3], other[skeleton.index[partner], :3, 3]
        # Wick's own two sides differ by what the generator's mesh does.
        assert np.linalg.norm(here * [-1, 1, 1] - there) < 4e-3, joint.name
    again = swapped(rig, mirrored)
    assert all(again.values.get(k, 0.0) == pytest.approx(v, abs=1e-9) for k, v in pose.values.items())


def test_some_are_swapped_with_their_partners_alone(wick):
    rig = wick.rig
    pose = Pose({("arm.l.upper.fk", "rotate_x"): 0.5, ("spine.chest", "rotate_z"): 0.3, ("leg.l.goal", "move_y"): 0.2})
    result = swapped(rig, pose, ["arm.l.upper.fk"])
    assert result.values["arm.r.upper.fk", "rotate_x"] == pytest.approx(0.5)
    assert ("arm.l.upper.fk", "rotate_x") not in result.values
    assert result.values["spine.chest", "rotate_z"] == 0.3 and result.values["leg.l.goal", "move_y"] == 0.2


def test_copied_across_leaves_the_source_and_the_middle(wick):
    rig = wick.rig
    pose = Pose({("leg.l.goal", "move_x"): 0.1, ("leg.l.goal", "move_z"): 0.2, ("body", "move_x"): 0.05})
    result = copied_across(rig, pose, ["leg.l.goal", "body"])
    assert result.values["leg.r.goal", "move_x"] == pytest.approx(-0.1)
    assert result.values["leg.r.goal", "move_z"] == pytest.approx(0.2)
    assert all(result.values[k] == v for k, v in pose.values.items())


def test_values_tell_all_free_channels_at_rest_too(wick):
    values = values_of(wick.rig, Pose(), ["arm.l.goal"])
    assert {k for _, k in values} == set(wick.rig.control("arm.l.goal").free)
    every = values_of(wick.rig, Pose())
    assert not any(o in wick.rig.index and wick.rig.control(o).helper for o, _ in every)
    twice = across(wick.rig, across(wick.rig, values))
    assert all(twice[k] == pytest.approx(v, abs=1e-12) for k, v in values.items())


def test_a_branch_is_a_control_and_all_a_person_finds_below_it(wick):
    rig = wick.rig
    found = branch(rig, ["arm.l.clavicle"])
    assert {"arm.l.upper.fk", "arm.l.lower.fk", "arm.l.end.fk"} <= set(found)
    assert not {"arm.r.upper.fk", "spine.chest", "arm.l.goal"} & set(found)
    assert branch(rig, ["nobody"]) == ()
    assert set(branch(rig, ["root"])) >= {c.id for c in rig.handles if c.side.value == "left"} - {"nobody"}
