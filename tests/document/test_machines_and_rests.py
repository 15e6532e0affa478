"""Wheels that roll, pins that turn about one axis, and where channels rest: nothing moves at rest, all survives a rebuild."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig
from pegloom.document import edits
from pegloom.document.edits.rebuild import kits_of
from pegloom.files.project import open_project
from tests.support.figures import DEMO


def frame(document, values=None):
    character = document.require_character()
    return evaluate_rig(character.require_skeleton(), character.require_rig(), Pose(values or {}))


@pytest.fixture(scope="module")
def winch():
    document = edits.build_controls(open_project(DEMO / "winch.pegloom"))
    return edits.set_pose(document, Pose())


@pytest.fixture(scope="module")
def wick():
    return edits.set_pose(edits.build_controls(open_project(DEMO / "wick.pegloom")), Pose())


def test_a_wheel_that_rolls_turns_by_its_way_over_its_radius_in_any_size(winch):
    kit = next(k for k in kits_of(winch.require_character()) if k.kind == "wheel")
    rolling = edits.set_kit_rig(winch, kit.id, KitRig(rolls=True, one_axis=True))
    character = rolling.require_character()
    rig, skeleton = character.require_rig(), character.require_skeleton()
    control = rig.control(kit.joints[0])
    number = skeleton.index[kit.joints[0]]
    assert [c.key for c in control.channels] == ["rotate_x", "rolls"]
    assert np.abs(frame(rolling).joints - frame(winch).joints).max() < 1e-9
    joint = skeleton.joint(kit.joints[0])
    radius = float(np.linalg.norm(np.array(joint.tail) - np.array(joint.position)))
    ahead = np.cross(control.matrix[:3, 0], rotation_matrix(character.front) @ [0.0, 1.0, 0.0])
    ahead /= np.linalg.norm(ahead)
    for size, way in ((1.0, 0.4 * radius), (2.5, -0.7 * radius)):
        x, y, z = (way * ahead).tolist()
        moved = frame(rolling, {("root", "move_x"): x, ("root", "move_y"): y, ("root", "move_z"): z, ("root", "scale"): size})
        still = frame(winch, {("root", "move_x"): x, ("root", "move_y"): y, ("root", "move_z"): z, ("root", "scale"): size})
        turn = np.linalg.solve(still.joints[number][:3, :3], moved.joints[number][:3, :3])
        # A point at the bottom of the wheel stands still on the ground: its way by the turn undoes the way of the hub.
        angle = np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1))
        assert angle == pytest.approx(abs(way) / (radius * size), abs=1e-6)
        up = rotation_matrix(character.front) @ np.array([0.0, 1.0, 0.0])
        spin = moved.joints[number][:3, :3] @ np.linalg.inv(still.joints[number][:3, :3])
        top = spin @ (up * radius) - up * radius
        assert np.sign(top @ ahead) == np.sign(way)
    off = frame(rolling, {("root", "move_z"): 0.3, ("root", "move_x"): 0.2, (control.id, "rolls"): 0.0})
    plain = frame(winch, {("root", "move_z"): 0.3, ("root", "move_x"): 0.2})
    assert np.abs(off.joints - plain.joints).max() < 1e-9


def test_a_channel_rests_where_it_is_told_through_rebuilds_and_across(wick):
    document = edits.rest_channel(wick, "l_foot_goal", "stretch", 1.0)
    document = edits.rest_channel(document, "l_knee_pole", "swivel", 0.0)
    rig = document.require_character().require_rig()
    assert rig.value(Pose(), ("leg.l.goal", "stretch")) == 1.0
    assert np.abs(frame(document).joints - frame(wick).joints).max() < 1e-9
    far = {("leg.l.goal", "move_y"): -0.2}
    assert np.abs(frame(document, far).joints - frame(wick, far).joints).max() > 0.05
    both, _ = edits.mirror_rig(edits.build_controls(document), "left")
    rig = both.require_character().require_rig()
    assert rig.value(Pose(), ("leg.l.goal", "stretch")) == rig.value(Pose(), ("leg.r.goal", "stretch")) == 1.0


def test_what_would_move_the_rest_is_refused(wick):
    with pytest.raises(EditError, match="would not rest where they are"):
        edits.rest_channel(wick, "l_knee_pole", "swivel", 0.5)
    with pytest.raises(EditError, match="rests where its control was built"):
        edits.rest_channel(wick, "body", "move_y", 0.1)
    with pytest.raises(EditError, match="goes from 0 to 1"):
        edits.rest_channel(wick, "l_foot_goal", "stretch", 1.5)


def test_shares_and_offsets_of_a_constraint_are_changed_afterwards(wick):
    document, hold = edits.constrain(wick, "l_hand_goal", ["r_hand_goal"])
    document = edits.add_target(document, hold, "head_fk")
    rig = document.require_character().require_rig()
    one = rig.constraint(hold)
    for share, target in ((0.25, one.targets[0]), (0.75, one.targets[1])):
        document = edits.rest_channel(document, target.weight.owner, target.weight.key, share)
    rig = document.require_character().require_rig()
    lift = {("arm.r.goal", "move_y"): 0.2}
    number = rig.index["arm.l.goal"]
    gone = frame(document, lift).controls[number][:3, 3] - frame(document).controls[number][:3, 3]
    assert gone == pytest.approx([0.0, 0.05, 0.0], abs=1e-9)
    posed = edits.set_pose(document, Pose(lift))
    kept = edits.change_constraint(posed, hold, offset="posed")
    again = frame(kept, lift).controls[number]
    assert np.abs(again - frame(document, lift).controls[number]).max() < 1e-9
    alone = edits.drop_target(document, hold, "head_fk")
    alone = edits.rest_channel(alone, one.targets[0].weight.owner, one.targets[0].weight.key, 1.0)
    stood = frame(edits.change_constraint(alone, hold, offset="none"), lift)
    assert np.abs(stood.controls[number][:3, 3] - stood.controls[rig.index["arm.r.goal"]][:3, 3]).max() < 1e-9
    with pytest.raises(EditError, match="an offset is kept"):
        edits.change_constraint(document, hold, offset="sideways")
