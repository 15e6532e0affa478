"""IK, constraints, spaces and limits made by hand: nothing moves, rebuilds keep them, the other side gets them."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.rig.across import Across
from pegloom.core.rig.changes import RigChanges
from pegloom.core.rig.channels import MOVE
from pegloom.core.rig.constraints import Follow
from pegloom.core.rig.controls import RECIPE, with_values
from pegloom.core.rig.evaluate import NOTHING, evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig, KitSolver, build_rig
from pegloom.core.rig.solvers import BendIk, BodyIk, SplineIk
from pegloom.core.skeleton.build import build_joints
from pegloom.core.skeleton.patterns import free_pegs, shipped_patterns
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.told.account import account
from pegloom.document.told.poses import played, read_frames
from pegloom.document.told.verbs import listed, run_steps, verbs
from pegloom.files.project import open_project, save_project
from tests.support.figures import DEMO, rigged_capsules


def demo(name):
    """A demo's controls built by today's recipe, nothing on them by hand."""
    document = open_project(DEMO / f"{name}.pegloom")
    bare = replace(document.character, rig_changes=RigChanges(), rig_recipe={}, rig=None, pose=Pose())
    return edits.build_controls(document.with_character(bare))


def joints_of(document, pose=NOTHING):
    character = document.character
    return evaluate_rig(character.skeleton, character.rig, pose).joints


def at_rest(document, tolerance=1e-9):
    """Nothing moves at rest, whatever solver is in use."""
    character = document.character
    rig = character.rig
    for blend in (0.0, 0.5, 1.0):
        values = {solver.amount: blend for solver in rig.solvers}
        assert np.abs(joints_of(document, Pose(values)) - character.skeleton.world).max() < tolerance, blend
    pose = Pose()
    for constraint in rig.constraints:
        assert rig.value(pose, constraint.amount) in (0.0, 1.0)


SETS = {
    "wick": [{"edit": "add_ik", "first": "hand.l.index.1", "last": "hand.l.index.3", "kind": "chain"}, {"edit": "add_body"}],
    "dumble": [
        {"edit": "add_ik", "first": "snout.1", "last": "snout.4", "kind": "chain"},
        {"edit": "add_ik", "first": "tail.1", "last": "tail.4", "kind": "curve"}, {"edit": "add_body"},
    ],
    "harl": [{"edit": "add_ik", "first": "neck.1", "last": "spine.head", "kind": "curve"}, {"edit": "add_body"}],
    "winch": [{"edit": "add_ik", "first": "rope.1", "last": "rope.6", "kind": "curve", "points": 5}],
}  # fmt: skip


@pytest.mark.parametrize("name", SETS)
def test_what_is_added_by_hand_moves_nothing_and_survives_saving_and_rebuilding(name, tmp_path):
    document, _ = run_steps(demo(name), SETS[name])
    at_rest(document)
    save_project(tmp_path / "a.pegloom", document)
    again = open_project(tmp_path / "a.pegloom")
    rig, other = document.character.rig, again.character.rig
    assert other.solvers == rig.solvers and other.constraints == rig.constraints and other.limits == rig.limits
    rebuilt = edits.build_controls(again)
    assert {s.id for s in rebuilt.character.rig.solvers} == {s.id for s in rig.solvers}
    at_rest(rebuilt)


def test_a_hind_leg_is_built_with_a_hock_and_meets_its_goals():
    document = demo("dumble")
    rig, skeleton = document.character.rig, document.character.skeleton
    legs = [s for s in rig.solvers if isinstance(s, BendIk)]
    assert [s.id for s in legs] == ["leg.l", "leg.r"] and len(legs[0].joints) == 4
    rng = np.random.default_rng(3)
    places = np.array([skeleton.joint(j).position for j in legs[0].joints])
    whole = np.linalg.norm(np.diff(places, axis=0), axis=1).sum()
    for _ in range(40):
        d = rng.normal(size=3)
        wanted = places[0] + d / np.linalg.norm(d) * whole * rng.uniform(0.35, 0.98)
        pose = with_values(rig, NOTHING, "leg.l.goal", **dict(zip(MOVE, wanted - places[-1], strict=True)))
        found = joints_of(document, pose)
        assert np.linalg.norm(found[skeleton.index[legs[0].joints[-1]], :3, 3] - wanted) < 1e-6 * document.character.height
    plain = edits.set_kit_rig(document, "leg.l", KitRig(KitSolver.LIMB))
    assert not isinstance(plain.character.rig.solver("leg.l"), BendIk)
    curved = edits.set_kit_rig(document, "tail", KitRig(KitSolver.CURVE))
    assert isinstance(curved.character.rig.solver("tail"), SplineIk)
    at_rest(curved)
    chained = edits.set_kit_rig(document, "snout", KitRig(KitSolver.CHAIN))
    at_rest(chained)
    without = edits.set_kit_rig(document, "leg.l", KitRig(KitSolver.NONE))
    assert all(s.id != "leg.l" for s in without.character.rig.solvers)


@pytest.mark.parametrize("follow", list(Follow))
@pytest.mark.parametrize("held", ["arm.l.goal", "spine.chest", "hand.l.index.1"])
def test_a_constraint_moves_nothing_when_made_and_follows_then(follow, held):
    document = demo("wick")
    before = joints_of(document)
    document, made = edits.constrain(document, held, ["l_foot_goal" if follow is not Follow.SCALE else "root control", "r_foot_goal"], follow)
    assert np.abs(joints_of(document) - before).max() < 1e-9
    rig, skeleton = document.character.rig, document.character.skeleton
    constraint = rig.constraint(made)
    full = with_values(rig, NOTHING, constraint.targets[1].weight.owner, **{t.weight.key: float(k == 1) for k, t in enumerate(constraint.targets)})
    pose = with_values(rig, full, "leg.r.goal", move_x=-0.1, move_y=0.3, move_z=0.25, rotate_y=0.7)
    frame = evaluate_rig(skeleton, rig, pose)
    base, rest = frame.bases[rig.index[held]], rig.control(held).matrix
    target = frame.controls[rig.index["leg.r.goal"]]
    carrier = rig.control(held).parent
    assert carrier is not None
    if follow is Follow.PARENT:
        expected = target @ np.linalg.inv(rig.control("leg.r.goal").matrix) @ rest
        assert np.abs(base - expected).max() < 1e-9
    elif follow is Follow.POSITION:
        assert np.abs(base[:3, 3] - rest[:3, 3] - (-0.1, 0.3, 0.25)).max() < 1e-9
    elif follow is Follow.ROTATION:
        expected = target[:3, :3] @ rig.control("leg.r.goal").matrix[:3, :3].T @ rest[:3, :3]
        assert np.abs(base[:3, :3] - expected).max() < 1e-9 and np.abs(base[:3, 3] - rest[:3, 3]).max() < 1e-9
    elif follow is Follow.AIM:
        to = target[:3, 3] - base[:3, 3]
        # At rest it aimed between its two targets; aimed at one alone the same axis points there.
        middle = (rig.control("leg.l.goal").matrix[:3, 3] + rig.control("leg.r.goal").matrix[:3, 3]) / 2 - rest[:3, 3]
        now = base[:3, :3] @ (rest[:3, :3].T @ middle / np.linalg.norm(middle))
        assert np.abs(now - to / np.linalg.norm(to)).max() < 1e-9
    off = with_values(rig, pose, constraint.amount.owner, **{constraint.amount.key: 0.0})
    assert np.abs(evaluate_rig(skeleton, rig, off).bases[rig.index[held]] - rest).max() < 1e-9


def test_axes_weights_and_order_count():
    document = demo("wick")
    document, rise = edits.constrain(document, "l_hand_goal", ["body"], Follow.POSITION, axes="y")
    rig = document.character.rig
    pose = with_values(rig, NOTHING, "body", move_x=0.2, move_y=0.3, move_z=-0.1)
    frame = evaluate_rig(document.character.skeleton, rig, pose)
    moved = frame.controls[rig.index["arm.l.goal"], :3, 3] - rig.control("arm.l.goal").matrix[:3, 3]
    assert np.abs(moved - (0.0, 0.3, 0.0)).max() < 1e-9
    half = with_values(rig, pose, "arm.l.goal", **{rig.constraint(rise).targets[0].weight.key: 0.5})
    frame = evaluate_rig(document.character.skeleton, rig, half)
    assert abs(frame.controls[rig.index["arm.l.goal"], 1, 3] - rig.control("arm.l.goal").matrix[1, 3] - 0.15) < 1e-9
    # The lower order first: the second starts from what the first gave.
    document, _ = edits.constrain(document, "l_hand_goal", ["r_foot_goal"], Follow.POSITION, axes="x")
    frame = evaluate_rig(document.character.skeleton, document.character.rig, with_values(document.character.rig, pose, "leg.r.goal", move_x=0.4))
    moved = frame.controls[rig.index["arm.l.goal"], :3, 3] - rig.control("arm.l.goal").matrix[:3, 3]
    assert np.abs(moved - (0.4, 0.3, 0.0)).max() < 1e-9


def test_a_loop_is_refused_by_the_edit_that_closes_it_and_named():
    document = demo("wick")
    document, _ = edits.constrain(document, "l_hand_goal", ["r_hand_goal"])
    with pytest.raises(EditError, match=r"loop: .*l_hand_goal.*r_hand_goal|loop: .*r_hand_goal.*l_hand_goal"):
        edits.constrain(document, "r_hand_goal", ["l_hand_goal"])
    with pytest.raises(EditError, match=r"loop: .*body"):
        edits.constrain(document, "body", ["head_fk"])
    with pytest.raises(EditError, match="follow itself"):
        edits.constrain(document, "body", ["body"])
    with pytest.raises(EditError, match="hold its goal instead"):
        edits.constrain(document, "l_forearm", ["body"])
    with pytest.raises(EditError, match="near it are"):
        edits.constrain(document, "l_hand_gaol", ["body"])


@pytest.mark.parametrize("space", ["world", "body", "chest", "head"])
def test_spaces_are_switched_without_a_jump_in_a_pose_and_at_a_key(space):
    document = demo("wick")
    rig, skeleton = document.character.rig, document.character.skeleton
    pose = Pose({("body", "move_y"): -0.2, ("body", "rotate_z"): 0.4, ("arm.l.goal", "move_x"): -0.2, ("arm.l.goal", "blend"): 1.0,
                 ("spine.head", "rotate_y"): 0.5, ("root", "rotate_y"): 0.8, ("root", "move_z"): 0.5})  # fmt: skip
    document = edits.set_pose(document, pose)
    before = joints_of(document, pose)
    switched = edits.switch_space(document, "l_hand_goal", space)
    assert np.abs(joints_of(switched, switched.character.pose) - before).max() < 1e-6
    # It follows from then on.
    other = with_values(rig, switched.character.pose, "body", move_x=0.3)
    hand = skeleton.index["arm.l.end"]
    moves = np.linalg.norm(joints_of(switched, other)[hand, :3, 3] - before[hand, :3, 3])
    assert (moves > 0.05) == (space != "world")
    document, clip = edits.add_clip(edits.set_pose(document, Pose()), "walk")
    for time, x in ((0.0, 0.0), (2.0, 0.4)):
        document = edits.set_pose(document, Pose({("body", "move_x"): x, ("arm.l.goal", "blend"): 1.0}))
        document = edits.key_controls(document, clip, time, ("body", "arm.l.goal") if time == 0.0 else ("body",))
    document = edits.set_pose(document, Pose())
    keyed = edits.switch_space_at(document, "l_hand_goal", space, clip, 1.0)

    def hand_at(which, time):
        character = which.character
        found = sample(character.clip(clip), time, character.skeleton, Pose(), character.rig)
        return joints_of(which, found)[hand, :3, 3]

    for frame in range(31):
        assert np.abs(hand_at(keyed, frame / 30) - hand_at(document, frame / 30)).max() < 1e-6, frame
    after = np.linalg.norm(hand_at(keyed, 2.0) - hand_at(document, 2.0))
    assert (after > 0.05) == (space != "world")


def test_rebuilding_after_a_joint_edit_keeps_what_was_made_and_nothing_moves():
    document, _ = run_steps(demo("dumble"), SETS["dumble"])
    document, hold = edits.constrain(document, "jaw_fk", ["snout_2_fk"], Follow.ROTATION)
    document = edits.set_limit(document, "snout_2", low=(-0.2, -0.2, -0.2), high=(0.3, 0.3, 0.3))
    document = edits.move_joint(document, "snout.3", (0.0, 0.05, 0.02)) if hasattr(edits, "move_joint") else document
    at_rest(document)
    rig = document.character.rig
    assert rig.constraint(hold) and rig.limit_of["snout.2"].high[0] == 0.3
    tip = rig.solver(rig.solvers[-2].id)
    assert tip is not None
    gone = edits.delete_joint(document, "snout.4")
    assert any("snout" in said for said in edits.waiting_changes(gone.character)), "what lost its joint waits, and is told"
    assert all("snout" not in s.name for s in gone.character.rig.solvers)


def test_everything_is_mirrored_in_one_step_and_poses_mirror_then():
    document = demo("wick")
    height = document.character.height
    steps = [
        {"edit": "set_kit_rig", "kit_id": "arm.l", "how": {"ik_at_rest": True}},
        {"edit": "shape_controls", "control_ids": ["l_hand_goal"], "shape": "sphere", "size": 1.6},
        {"edit": "place_rest", "control_id": "l_clavicle_fk", "move": [0.01, 0.03, 0.0], "turn": [0.0, 0.2, 0.1]},
        {"edit": "change_channel", "control_id": "l_upper_arm_fk", "key": "rotate_z", "change": {"limits": [-0.5, 1.0]}},
        {"edit": "constrain", "held": "l_clavicle_fk", "targets": ["l_hand_goal", "head_fk"], "follow": "aim", "weights": [0.7, 0.2]},
        {"edit": "constrain", "held": "l_ring_1_fk", "targets": ["l_middle_1_fk"], "follow": "rotation", "axes": "xz"},
        {"edit": "add_ik", "first": "l_index_1", "last": "l_index_3", "kind": "chain"},
        {"edit": "set_limit", "joint": "l_index_2", "low": [-0.1, -0.05, -0.2], "high": [1.5, 0.05, 0.3]},
        {"edit": "set_spaces", "control": "l_knee_pole", "spaces": {"hand": "r_hand_goal"}},
    ]  # fmt: skip
    document, _ = run_steps(document, steps)
    document, said = edits.mirror_rig(document, "left")
    assert "without a partner" not in said
    at_rest(document)
    character = document.character
    rig, skeleton = character.rig, character.skeleton
    right = rig.control(rig.other_side("arm.l.goal"))
    assert right.shape.value == "sphere" and rig.value(Pose(), ("arm.r.goal", "blend")) == 1.0
    assert len([c for c in rig.constraints if c.id.startswith("hold.")]) == 6
    own = [s for s in rig.solvers if s.id.startswith("own.")]
    assert {tuple(s.joints) for s in own} == {tuple(f"hand.{x}.index.{k}" for k in (1, 2, 3)) for x in "lr"}
    rng = np.random.default_rng(4)
    flip = np.diag([-1.0, 1, 1])
    for _ in range(5):
        values = {}
        for control in rig.controls:
            for channel in control.channels:
                if channel.key in control.free and control.id.split(".")[0] not in ("root",):
                    size = {"length": 0.05, "angle": 0.25}.get(channel.quantity.value)
                    value = rng.normal(scale=size) if size else rng.uniform(0, 1) if channel.quantity.value == "share" else channel.rest
                    values[control.id, channel.key] = value
        for limb in rig.limbs:
            # Bent backwards on FK, a plane and its pole may be half a turn apart: then either way between them is right.
            values[limb.fk[1], "rotate_x"] = abs(values[limb.fk[1], "rotate_x"])
        pose = Pose(values)
        one = joints_of(document, pose)
        other = joints_of(document, edits.mirror_pose(edits.set_pose(document, pose)).character.pose)
        for joint in skeleton.joints:
            across = skeleton.other_side(joint.id)
            gap = one[skeleton.index[joint.id], :3, 3] @ flip - other[skeleton.index[across], :3, 3]
            assert np.abs(gap).max() < 1e-6 * height, joint.id
    # Mirroring twice adds nothing.
    twice, _ = edits.mirror_rig(document, "left")
    assert len(twice.character.rig.controls) == len(rig.controls)
    assert len(twice.character.rig.constraints) == len(rig.constraints)
    back, _ = edits.mirror_rig(twice, "right")
    assert len(back.character.rig.constraints) == len(rig.constraints)


def test_a_whole_body_brings_the_hips_along_and_says_what_it_lacks():
    document = demo("wick")
    document, _ = edits.add_body(document)
    rig, skeleton = document.character.rig, document.character.skeleton
    assert isinstance(rig.solvers[0], BodyIk)
    reach = with_values(rig, NOTHING, "arm.l.goal", blend=1.0, move_x=0.25, move_y=-0.5, move_z=0.6)
    short, long = joints_of(document, reach), joints_of(document, with_values(rig, reach, "rig", whole_body=1.0))
    hand, foot, hips = (skeleton.index[j] for j in ("arm.l.end", "leg.l.end", "spine.hips"))
    wanted = np.array(skeleton.joint("arm.l.end").position) + (0.25, -0.5, 0.6)
    assert np.linalg.norm(short[hand, :3, 3] - wanted) > 0.1 > 1e-3 > np.linalg.norm(long[hand, :3, 3] - wanted)
    assert np.linalg.norm(long[foot, :3, 3] - skeleton.positions[foot]) < 1e-3
    assert np.linalg.norm(long[hips, :3, 3] - skeleton.positions[hips]) > 0.02
    with pytest.raises(EditError, match="already"):
        edits.add_body(document)
    bare = edits.set_kit_rig(demo("winch"), "rope", KitRig())
    with pytest.raises(EditError, match="needs goals"):
        edits.add_body(bare)
    dropped = edits.drop_solver(document, rig.solvers[0].id)
    at_rest(dropped)
    assert not any(isinstance(s, BodyIk) for s in dropped.character.rig.solvers)


def test_two_set_ups_stand_beside_each_other_on_one_limb():
    document = demo("wick")
    document, made = edits.add_ik(document, "l_upper_arm", "l_hand", "chain", name="rubber arm")
    at_rest(document)
    rig = document.character.rig
    goal = rig.solver(made).goal.id
    both = with_values(rig, with_values(rig, NOTHING, "arm.l.goal", blend=1.0, move_y=0.2), goal, move_y=-0.2)
    first = joints_of(document, both)
    second = joints_of(document, with_values(rig, both, goal, blend=1.0))
    hand = document.character.skeleton.index["arm.l.end"]
    assert abs(first[hand, 1, 3] - second[hand, 1, 3]) > 0.2
    document = edits.drop_solver(document, made)
    assert made not in {s.id for s in document.character.rig.solvers} and goal not in document.character.rig.index
    at_rest(document)


def test_edits_by_name_are_listed_checked_and_numbered():
    document = rigged_capsules()
    rows = {row["edit"]: row for row in listed()}
    assert set(rows) == set(verbs()) and len(rows) > 100
    assert {"constrain", "add_ik", "mirror_rig", "set_spaces", "build_controls"} <= set(rows)
    json.dumps(list(rows.values()))
    for steps, words in (
        ([{"edit": "nonsense"}], r"steps\[0\]: there is no edit nonsense"),
        ([{"edit": "build_controls"}, {"edit": "add_ik", "first": "l_upper_arm"}], r"steps\[1\]: add_ik needs last"),
        ([{"edit": "add_ik", "first": "a", "last": "b", "colour": 3}], "takes no colour"),
        ([{"edit": "set_limit", "joint": "l_hand", "low": [1, 2]}], "list of 3"),
        ([{"edit": "constrain", "held": "body", "targets": "head"}], "list of text"),
        ([{"edit": "constrain", "held": "body", "targets": ["root"], "follow": "sideways"}], "one of position"),
        ("x", "steps are a list"),
    ):
        with pytest.raises(EditError, match=words):
            run_steps(document, steps)


def test_frames_by_name_are_played_and_what_is_wrong_in_them_is_told():
    document = demo("wick")
    told = account(document.character)
    names = [c["name"] for c in told["controls"]]
    assert len(set(names)) == len(names)
    limb = next(x for x in told["limbs"] if x["id"] == "arm.l")
    blend = limb["blend"]
    frames = {"rate": 24, "frames": [{}, {blend["control"]: {blend["channel"]: 1.0, "move_x": -0.1}, "body": {"move_y": -0.05}}]}
    rate, read = read_frames(document.character, frames)
    result = played(document.character, read)
    assert rate == 24 and len(result["frames"]) == 2 and result["joints"][0] == document.character.skeleton.joints[0].name
    assert np.allclose(result["frames"][0]["world"], result["rest"])
    goal = np.array(result["frames"][1]["controls"][limb["goal"]]).reshape(4, 4)
    hand = result["joints"].index(limb["joints"][-1])
    assert np.allclose(np.array(result["frames"][1]["world"][hand]).reshape(4, 4)[:3, 3], goal[:3, 3])
    json.dumps(result)
    for wrong, words in (
        ({"frames": [{"bodi": {}}]}, "near it are body"), ({"frames": [{"body": {"move": 1}}]}, "has no channel move"),
        ({"frames": [{"body": {"move_x": "1"}}]}, "is no number of usable size"), ([], "frames are told as"), ({"frames": [], "rate": 0}, "rate"),
    ):  # fmt: skip
        with pytest.raises(EditError, match=words):
            read_frames(document.character, wrong)


def test_every_side_of_a_control_is_told_across():
    document = demo("wick")
    across = Across(document.character.skeleton, document.character.rig)
    assert not across.one_sided
    assert replace(across.node(document.character.rig.solver("arm.l").goal)).id == "arm.r.goal"


def test_what_bends_a_limb_may_change_under_a_whole_body():
    document, _ = edits.add_body(demo("dumble"))
    changed = edits.set_kit_rig(document, "leg.l", KitRig(KitSolver.LIMB))
    body = changed.character.rig.solvers[0]
    assert isinstance(body, BodyIk) and "leg.l.toes" not in body.joints and "leg.r.toes" in body.joints
    at_rest(changed)


def test_a_limb_is_switched_at_a_key_and_nothing_jumps():
    document = demo("wick")
    document, clip = edits.add_clip(document, "wave")
    fk = ("arm.l.upper.fk", "arm.l.lower.fk", "arm.l.end.fk")
    rng = np.random.default_rng(6)
    for time in (0.0, 0.7, 1.6, 2.0):
        values = {(c, f"rotate_{a}"): rng.uniform(-0.5, 0.5) for c in fk for a in "xyz"}
        document = edits.key_controls(edits.set_pose(document, Pose(values)), clip, time, fk)
    document = edits.set_pose(document, Pose())
    keyed = edits.switch_limb_at(document, "arm.l", 1.0, clip, 1.0)

    def at(which, time):
        character = which.character
        return joints_of(which, sample(character.clip(clip), time, character.skeleton, Pose(), character.rig))

    assert keyed.character.rig.value(sample(keyed.character.clip(clip), 1.5, None, Pose(), keyed.character.rig), ("arm.l.goal", "blend")) == 1.0
    gaps = [np.abs(at(keyed, t) - at(document, t)).max() for t in (0.0, 0.5, 29 / 30, 1.0, 1.6, 2.0)]
    assert max(gaps) < 1e-6
    with pytest.raises(EditError, match="no IK limb"):
        edits.switch_limb_at(document, "tentacle", 1.0, clip, 1.0)


def test_a_part_and_a_character_are_duplicated_to_try_another_way(tmp_path):
    document = demo("wick")
    document, made = edits.duplicate_part(document, document.character.parts[0].id)
    one, other = document.character.parts[0], document.character.part(made)
    assert other.name != one.name and other.mesh is one.mesh
    assert document.character.skin.weights[made] is document.character.skin.weights[one.id]
    document, copy = edits.duplicate_character(document)
    assert document.character.id == copy and len(document.characters) == 2
    changed = edits.set_kit_rig(document, "arm.l", KitRig(KitSolver.NONE))
    save_project(tmp_path / "two.pegloom", changed)
    again = open_project(tmp_path / "two.pegloom")
    assert again.character.id == copy and all(s.id != "arm.l" for s in again.character.rig.solvers)
    first = edits.take_character(again, again.characters[0].name)
    assert any(s.id == "arm.l" for s in first.character.rig.solvers)
    left = edits.drop_character(first, copy)
    assert len(left.characters) == 1
    with pytest.raises(EditError, match="last character"):
        edits.drop_character(left, left.character.id)


def test_eyes_look_at_one_control_and_a_spine_may_be_a_curve():
    pegs = free_pegs(shipped_patterns()["face"])
    skeleton = build_joints(pegs)
    rig = build_rig(skeleton, 0.3, pegs.kits)
    assert np.abs(evaluate_rig(skeleton, rig, NOTHING).joints - skeleton.world).max() < 1e-9
    eyes = [c.held.id for c in rig.constraints if c.follow is Follow.AIM]
    assert len(eyes) == 2
    pose = with_values(rig, NOTHING, "eyes.goal", move_x=0.1, move_y=-0.05)
    frame = evaluate_rig(skeleton, rig, pose)
    goal = rig.control("eyes.goal").matrix[:3, 3]
    for eye in eyes:
        place = skeleton.joint(eye).matrix[:3, 3]
        was, to = goal - place, frame.controls[rig.index["eyes.goal"], :3, 3] - place
        looked = frame.joints[skeleton.index[eye], :3, :3] @ skeleton.joint(eye).matrix[:3, :3].T @ (was / np.linalg.norm(was))
        assert np.abs(looked - to / np.linalg.norm(to)).max() < 1e-9
    curved = edits.set_kit_rig(demo("wick"), "spine", KitRig(KitSolver.CURVE))
    at_rest(curved)
    assert isinstance(curved.character.rig.solver("spine"), SplineIk)


def test_what_would_close_a_loop_on_the_other_side_is_told_and_the_rest_is_mirrored():
    document, _ = edits.constrain(demo("wick"), "l_hand_goal", ["r_hand_goal"])
    document, _ = edits.constrain(document, "l_elbow_pole", ["chest_fk"])
    document, said = edits.mirror_rig(document, "left")
    assert "close a loop" in said
    held = {c.held.id for c in document.character.rig.constraints if c.id.startswith("hold.")}
    assert held == {"arm.l.goal", "arm.l.pole", "arm.r.pole"}
    at_rest(document)


def test_controls_an_older_peg_loom_built_take_what_is_made_by_hand():
    document = open_project(Path(__file__).parents[1] / "data" / "v1" / "wick.pegloom")
    count = len(document.character.rig.controls)
    document, hold = edits.constrain(document, "l_elbow_pole", ["r_hand_goal"])
    document, ik = edits.add_ik(document, "l_index_1", "l_index_3", "chain")
    document, body = edits.add_body(document)
    at_rest(document)
    document, _ = edits.mirror_rig(document, "left")
    at_rest(document)
    assert document.character.rig.built_by == 1, "it stays as it was built"
    for solver in (ik, f"{ik}.across", body):
        document = edits.drop_solver(document, solver)
    for constraint in [c.id for c in document.character.rig.constraints]:
        document = edits.drop_constraint(document, constraint)
    assert len(document.character.rig.controls) == count and hold not in {c.id for c in document.character.rig.constraints}
    at_rest(document)
    assert edits.build_controls(document).character.rig.built_by == RECIPE


@pytest.mark.parametrize("name", ["wick", "dumble", "harl", "winch"])
def test_all_of_a_rig_goes_along_with_its_root_scaled_evenly_too(name):
    document = open_project(DEMO / f"{name}.pegloom")
    rig, skeleton = document.character.rig, document.character.skeleton
    rng = np.random.default_rng(8)
    values = {}
    for control in rig.controls:
        for channel in control.channels:
            if control.id == "root" or channel.key not in control.free or channel.key.startswith("follow_world"):
                continue
            size = {"length": 0.02, "angle": 0.15}.get(channel.quantity.value)
            value = rng.normal(scale=size) if size else rng.uniform(0, 1) if channel.quantity.value == "share" else channel.rest
            values[control.id, channel.key] = value
    values[("rig", "whole_body")] = 1.0
    pose = Pose(values)
    before = evaluate_rig(skeleton, rig, pose).joints
    frame = evaluate_rig(skeleton, rig, with_values(rig, pose, "root", move_x=1.5, rotate_y=0.9, rotate_z=0.2, scale=2.2))
    root = frame.controls[rig.index["root"]] @ np.linalg.inv(rig.control("root").matrix)
    assert np.abs(frame.joints - root @ before).max() < 1e-5 * document.character.height


@pytest.mark.parametrize("name", ["wick", "dumble", "harl", "winch"])
def test_no_pose_however_odd_gives_anything_but_numbers(name):
    document = open_project(DEMO / f"{name}.pegloom")
    rig, skeleton = document.character.rig, document.character.skeleton
    rng = np.random.default_rng(9)
    goals = [limb.goal.id for limb in rig.limbs]
    for k in range(30):
        values = {}
        for control in rig.controls:
            for channel in control.channels:
                size = {"length": 3.0, "angle": 6.0}.get(channel.quantity.value, 1.0)
                values[control.id, channel.key] = rng.choice([0.0, channel.rest, rng.normal(scale=size), 1e3 * rng.normal()])
        values[("rig", "whole_body")] = float(k % 2)
        for limb in rig.limbs if k % 3 == 0 else ():
            # The goal on the limb's start, and the pole on the goal.
            to = skeleton.joint(limb.joints[0]).matrix[:3, 3] - rig.control(limb.goal.id).matrix[:3, 3]
            values |= {(limb.goal.id, key): float(v) for key, v in zip(MOVE, to, strict=True)}
            to = skeleton.joint(limb.joints[0]).matrix[:3, 3] - rig.control(limb.pole.id).matrix[:3, 3]
            values |= {(limb.pole.id, key): float(v) for key, v in zip(MOVE, to, strict=True)}
        frame = evaluate_rig(skeleton, rig, Pose(values))
        assert np.isfinite(frame.joints).all() and np.isfinite(frame.controls).all(), (k, goals)


def test_turners_out_of_use_are_shown_where_their_joints_are():
    document = demo("wick")
    rig, skeleton = document.character.rig, document.character.skeleton
    pose = with_values(rig, NOTHING, "arm.l.goal", blend=1.0, move_y=0.25, move_z=0.2)
    shown = evaluate(document.character, pose)
    for joint, fk in zip(rig.solver("arm.l").joints, rig.solver("arm.l").fk, strict=True):
        number = skeleton.index[joint]
        wanted = shown.joints[number] @ skeleton.inverse_world[number] @ rig.control(fk).matrix
        assert np.abs(shown.shown[rig.index[fk]] - wanted).max() < 1e-12
    plain = evaluate_rig(skeleton, rig, pose)
    others = [i for c, i in rig.index.items() if c not in {fk for s in rig.solvers for fk in s.fk}]
    assert np.array_equal(shown.shown[others], plain.controls[others])
