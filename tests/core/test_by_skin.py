"""Posing by the skin, on bodies of every kind: what is led comes, what is pinned stays, and it lands on the controls."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from pegloom.core.rig.by_skin import Grab, limb_end, obstacle, standing_ends
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kinds_of_joint import usual_limit
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton
from pegloom.document import edits
from pegloom.document.model import Document
from tests.support.figures import rigged_capsules, shipped

CASES = (
    ("wick", "l_hand", (0.05, 0.12, 0.2)), ("wick", "head", (0.06, -0.15, 0.15)), ("wick", "hips", (0.04, -0.15, 0.03)),
    ("wick", "r_foot", (-0.05, 0.2, 0.2)), ("wick", "l_index_2", (0.0, 0.05, 0.05)),
    ("dumble", "snout_3", (0.03, -0.12, 0.04)), ("dumble", "l_fore_paw", (0.0, 0.1, 0.08)), ("dumble", "head", (0.08, 0.02, 0.0)),
    ("harl", "l_wing_hand", (0.0, 0.15, -0.05)), ("harl", "head", (0.05, -0.1, 0.05)),
)  # fmt: skip
BODIES = {name: edits.set_pose(edits.build_controls(shipped(name)), Pose()).character for name in ("wick", "dumble", "harl", "winch", "lantern")}


def grabbed(character, joint, pose=None, pins=(), probes=None):
    skeleton, rig, pose = character.skeleton, character.rig, pose or Pose()
    one = skeleton.by_name(joint).id
    place = evaluate_rig(skeleton, rig, pose).joints[skeleton.index[one], :3, 3]
    return Grab(skeleton, rig, pose, one, place, standing_ends(rig, pose) | set(pins), probes=probes), place


def led(character, grab, place, way):
    """Pose, joints as the rig shows it, and where the point has come to."""
    pose = grab.led_to(place + np.array(way))
    joints = evaluate_rig(character.skeleton, character.rig, pose).joints
    i = character.skeleton.index[grab.joint]
    return pose, joints, (joints[i] @ np.linalg.inv(grab.start[i]) @ np.append(place, 1.0))[:3]


@pytest.mark.parametrize(("name", "joint", "way"), CASES)
def test_what_is_led_comes_and_what_is_held_stays(name, joint, way):
    character = BODIES[name]
    grab, place = grabbed(character, joint)
    pose, joints, came = led(character, grab, place, way)
    assert np.linalg.norm(came - place - way) < 1e-4 * character.height
    for pin in grab.pinned:
        i = character.skeleton.index[pin]
        assert np.abs(joints[i] - grab.start[i]).max() < 1e-4, pin
    assert pose.values and all(ref in character.rig.slots.index for ref in pose.values)
    # Bones keep their length.
    for i, one in enumerate(character.skeleton.joints):
        parent = int(character.skeleton.parents[i])
        if parent > 0:
            now = np.linalg.norm(joints[i, :3, 3] - joints[parent, :3, 3])
            assert now == pytest.approx(np.linalg.norm(grab.start[i, :3, 3] - grab.start[parent, :3, 3]), abs=1e-5), one.name


@pytest.mark.parametrize("name", list(BODIES))
def test_taking_hold_moves_nothing(name):
    character = BODIES[name]
    for joint in character.skeleton.joints[1::5]:
        grab, place = grabbed(character, joint.name)
        _, joints, _ = led(character, grab, place, (0.0, 0.0, 0.0))
        assert np.abs(joints - grab.start).max() < 1e-9, joint.name


def test_it_begins_from_a_pose_and_lands_on_ik_and_fk_as_they_are():
    character = BODIES["wick"]
    rig = character.rig
    pose = with_values(rig, Pose(), "arm.l.goal", blend=1.0, move_x=-0.1, move_y=0.1)
    pose = with_values(rig, pose, "spine.chest", rotate_y=0.3)
    grab, place = grabbed(character, "l_hand", pose)
    result, joints, came = led(character, grab, place, (0.0, 0.1, 0.1))
    assert np.linalg.norm(came - place - (0.0, 0.1, 0.1)) < 1e-4
    assert result.values["arm.l.goal", "blend"] == 1.0
    moved = np.array([result.values.get(("arm.l.goal", k), 0.0) for k in ("move_x", "move_y", "move_z")])
    assert np.linalg.norm(moved - [-0.1, 0.1, 0.0]) > 0.05, "its goal went along"
    assert np.abs(joints - grab.joints_at(place + np.array((0.0, 0.1, 0.1)))).max() < 1e-6


def test_a_hand_that_is_pinned_stays_while_the_elbow_or_the_hips_are_led():
    character = BODIES["wick"]
    hand = character.skeleton.by_name("l_hand").id
    for joint, way in (("l_forearm", (0.02, 0.06, -0.03)), ("hips", (-0.06, -0.1, 0.05))):
        grab, place = grabbed(character, joint, pins=(hand,))
        _, joints, _ = led(character, grab, place, way)
        i = character.skeleton.index[hand]
        # Pins come before what is led, where not both can be had.
        assert np.abs(joints[i] - grab.start[i]).max() < 2e-3, joint
    assert limb_end(character.skeleton, character.rig, character.skeleton.by_name("l_index_3").id) == hand


def test_limits_hold_and_a_locked_axis_does_not_give_way():
    character = BODIES["wick"]
    skeleton = character.skeleton
    grab, place = grabbed(character, "l_hand")
    upper, elbow, hand = (skeleton.by_name(n).id for n in ("l_upper_arm", "l_forearm", "l_hand"))
    limit = usual_limit(skeleton, elbow, (upper, elbow, hand))
    random = np.random.default_rng(5)
    for way in random.uniform(-0.5, 0.5, (8, 3)):
        _, joints, _ = led(character, grab, place, way)
        i, p = skeleton.index[elbow], skeleton.index[upper]
        rest = skeleton.world[p][:3, :3].T @ skeleton.world[i][:3, :3]
        turn = Rotation.from_matrix(rest.T @ (joints[p, :3, :3].T @ joints[i, :3, :3])).as_rotvec()
        assert (turn >= np.array(limit.low) - 0.02).all() and (turn <= np.array(limit.high) + 0.02).all()
    document = edits.set_pose(edits.build_controls(shipped("wick")), Pose())
    document = edits.switch_channels(document, ["arm.l.lower.fk"], ["rotate_x", "rotate_y", "rotate_z"], locked=True)
    stiff, place = grabbed(document.character, "l_hand")
    pose, _, _ = led(document.character, stiff, place, (0.0, 0.1, 0.1))
    assert not any(o == "arm.l.lower.fk" for o, _ in pose.values)


def test_out_of_reach_it_comes_as_near_as_it_can_without_a_jump():
    character = BODIES["wick"]
    grab, place = grabbed(character, "l_hand")
    before = None
    for k in range(1, 30):
        _, joints, _ = led(character, grab, place, (0.0, 0.05 * k, 0.04 * k))
        assert np.isfinite(joints).all()
        if before is not None:
            # Nothing goes farther than three times the pointer's own way.
            assert np.linalg.norm(joints[:, :3, 3] - before, axis=1).max() < 3.0 * np.hypot(0.05, 0.04), k
        before = joints[:, :3, 3]


def test_a_hand_stops_at_the_floor_and_at_the_body():
    character = BODIES["wick"]
    hand = character.skeleton.by_name("l_hand")
    probes = np.array(hand.position) + np.random.default_rng(2).normal(0, 0.02, (40, 3))
    grab, place = grabbed(character, "l_hand", probes=probes)
    nothing = np.zeros((0, 3))
    pose = grab.led_to(place - [0.1, place[1] + 0.3, -0.2], obstacle(nothing, nothing, 0.0))
    joints = evaluate_rig(character.skeleton, character.rig, pose).joints
    i = character.skeleton.index[hand.id]
    stood = (probes - grab.start[i, :3, 3]) @ np.linalg.inv(grab.start[i, :3, :3]).T @ joints[i, :3, :3].T + joints[i, :3, 3]
    assert stood[:, 1].min() > -0.01
    # A ball of radius 0.3 before the chest: the hand is led into its middle and stays outside.
    random = np.random.default_rng(4).normal(size=(6000, 3))
    normals = random / np.linalg.norm(random, axis=1, keepdims=True)
    middle = np.array([0.15, 1.1, 0.35])
    ball = obstacle(middle + 0.12 * normals, normals, 0.0)
    pose = grab.led_to(middle, ball)
    joints = evaluate_rig(character.skeleton, character.rig, pose).joints
    stood = (probes - grab.start[i, :3, 3]) @ np.linalg.inv(grab.start[i, :3, :3]).T @ joints[i, :3, :3].T + joints[i, :3, 3]
    assert np.linalg.norm(stood - middle, axis=1).min() > 0.1
    free = grab.led_to(middle)
    joints = evaluate_rig(character.skeleton, character.rig, free).joints
    assert np.linalg.norm(joints[i, :3, 3] - middle) < 0.05, "without the ball it goes there"


def test_a_hinge_turns_about_its_own_axis_alone():
    character = BODIES["winch"]
    grab, place = grabbed(character, "boom_hinge")
    tip = place + np.array([0.0, 0.1, 0.1])
    grab = Grab(character.skeleton, character.rig, Pose(), grab.joint, tip)
    pose = grab.led_to(tip + [0.1, 0.1, 0.1])
    free = {c.id: set(c.free) for c in character.rig.controls}
    assert all(key in free[owner] for owner, key in pose.values)


def test_a_body_of_capsules_without_ik_is_led_too():
    document = rigged_capsules()
    if document.character.rig is None:
        document = edits.build_controls(document)
    character = document.character
    joint = character.skeleton.joints[-1]
    grab, place = grabbed(character, joint.name)
    _, joints, came = led(character, grab, place, (0.02, 0.03, 0.02))
    assert np.isfinite(joints).all() and np.linalg.norm(came - place) < 0.2


def test_a_skeleton_that_came_from_a_file_is_led_without_set_up():
    """Names that tell nothing, axes turned anyhow."""
    rng = np.random.default_rng(11)
    old = BODIES["wick"].skeleton
    names = {j.id: f"node_{k:02d}" for k, j in enumerate(old.joints)}
    turns = {j.id: Rotation.random(random_state=int(rng.integers(1e6))) for j in old.joints}
    joints = []
    for j in old.joints:
        x, y, z, w = (Rotation.from_quat(j.rotation) * turns[j.id]).as_quat().tolist()
        joints.append(Joint(names[j.id], names[j.id], names.get(j.parent) if j.parent else None, j.side, j.position, (x, y, z, w), origin=Origin.FILE))
    skeleton = Skeleton(tuple(joints))
    part = BODIES["wick"].parts[0]
    document = edits.bring_in(Document(), (part,), name="foreign", skeleton=skeleton)
    document = edits.build_controls(document)
    character = document.character
    hand = character.skeleton.by_name(names[old.by_name("l_hand").id])
    place = np.array(hand.position)
    grab = Grab(character.skeleton, character.rig, Pose(), hand.id, place, standing_ends(character.rig, Pose()))
    way = np.array([0.0, 0.1, 0.15])
    pose = grab.led_to(place + way)
    came = evaluate_rig(character.skeleton, character.rig, pose).joints
    i = character.skeleton.index[hand.id]
    assert np.linalg.norm(came[i, :3, 3] - place - way) < 1e-3
    assert np.abs(evaluate_rig(character.skeleton, character.rig, grab.led_to(place)).joints - grab.start).max() < 1e-6
