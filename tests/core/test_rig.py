from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.curves import Run, curve
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip, moved_keys, sample, with_keys, without_keys
from pegloom.core.motion.trials import TRIALS, trial_amount, trial_pose
from pegloom.core.rig.channels import MOVE, ROTATE, TRANSFORM
from pegloom.core.rig.controls import ControlRig, Shape, with_values
from pegloom.core.rig.evaluate import evaluate_rig, joints_at
from pegloom.core.rig.kernels.limb import plane_normal, two_joint
from pegloom.core.rig.match import fk_values, ik_values, values_of_joints
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import build_rig
from pegloom.core.rig.refs import control_node
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.rig.use import out_of_use
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.joints import Skeleton
from pegloom.files.project import open_project
from tests.support.figures import DEMO, rigged_capsules, wick


def match_ik(skeleton, rig, pose, limb):
    return rig.slots.pose(ik_values(skeleton, rig, rig.slots.vector(pose)[None], limb)[0])


def match_fk(skeleton, rig, pose, limb):
    return rig.slots.pose(fk_values(skeleton, rig, rig.slots.vector(pose)[None], limb)[0])


def rig_of(document):
    character = document.character
    return character.skeleton, character.rig


@pytest.mark.parametrize("make", [wick, rigged_capsules])
def test_building_controls_moves_no_joint_and_every_control_reads_zero(make):
    skeleton, rig = rig_of(make())
    joints = evaluate_rig(skeleton, rig, Pose()).joints
    assert np.abs(joints - skeleton.world).max() < 1e-9
    for control in rig.controls:
        for channel in control.channels:
            if channel.key in TRANSFORM:
                assert channel.rest == (1.0 if channel.key == "scale" else 0.0)


@pytest.mark.parametrize("make", [wick, rigged_capsules])
@pytest.mark.parametrize("blend", [0.0, 0.35, 1.0])
def test_sliding_every_blend_at_rest_moves_no_joint(make, blend):
    skeleton, rig = rig_of(make())
    pose = Pose()
    for limb in rig.limbs:
        pose = with_values(rig, pose, limb.goal.id, blend=blend)
    joints = evaluate_rig(skeleton, rig, pose).joints
    assert np.abs(joints - skeleton.world).max() < 1e-6


@given(st.tuples(*[st.floats(-1.2, 1.2)] * 3), st.floats(0.2, 1.9))
@settings(max_examples=25)
def test_switching_an_fk_arm_to_ik_keeps_its_joints_in_place(turn, fold):
    skeleton, rig = rig_of(wick())
    limb = next(x for x in rig.limbs if x.id == "arm.l")
    pose = with_values(rig, Pose(), limb.fk[0], rotate_x=turn[0], rotate_y=turn[1], rotate_z=turn[2])
    pose = with_values(rig, pose, limb.fk[1], rotate_x=fold)
    before = evaluate_rig(skeleton, rig, pose).joints
    there = with_values(rig, match_ik(skeleton, rig, pose, limb), limb.goal.id, blend=1.0)
    after = evaluate_rig(skeleton, rig, there).joints
    ids = [skeleton.index[j] for j in limb.joints]
    assert np.abs(after[ids, :3, 3] - before[ids, :3, 3]).max() < 1e-6
    assert np.abs(after[ids] - before[ids]).max() < 1e-5, "turns stay as well: the fold is about the bend axis"


def test_switching_an_ik_leg_to_fk_keeps_every_joint():
    skeleton, rig = rig_of(wick())
    limb = next(x for x in rig.limbs if x.id == "leg.r")
    goal = rig.control(limb.goal.id)
    pose = with_values(rig, Pose(), goal.id, move_y=0.25, move_z=0.2, rotate_x=0.4)
    pose = with_values(rig, pose, "root", scale=1.5, rotate_y=1.0, move_x=2.0)
    before = evaluate_rig(skeleton, rig, pose).joints
    after = evaluate_rig(skeleton, rig, with_values(rig, match_fk(skeleton, rig, pose, limb), goal.id, blend=0.0)).joints
    assert np.abs(after - before).max() < 1e-6


def test_bones_keep_their_length_when_the_goal_is_out_of_reach():
    skeleton, rig = rig_of(wick())
    pose = with_values(rig, Pose(), "leg.l.goal", move_y=-3.0, move_x=1.0)
    joints = evaluate_rig(skeleton, rig, pose).joints
    upper, lower, end = (joints[skeleton.index[j]][:3, 3] for j in ("leg.l.upper", "leg.l.lower", "leg.l.end"))
    rest = skeleton.positions
    i, j, k = (skeleton.index[f"leg.l.{n}"] for n in ("upper", "lower", "end"))
    assert np.linalg.norm(lower - upper) == pytest.approx(np.linalg.norm(rest[j] - rest[i]), abs=1e-9)
    assert np.linalg.norm(end - lower) == pytest.approx(np.linalg.norm(rest[k] - rest[j]), abs=1e-9)


def test_two_joint_ik_reaches_and_bends_toward_the_pole():
    target, pole = np.array([0.0, -1.2, 0.1]), np.array([0.0, -0.5, 2.0])
    distance = float(np.linalg.norm(target))
    normal = plane_normal(target / distance, pole, np.array([1.0, 0, 0]))
    joint = two_joint(distance, target / distance, normal, 0.8, 0.7)
    assert np.linalg.norm(joint) == pytest.approx(0.8)
    assert np.linalg.norm(target - joint) == pytest.approx(0.7)
    assert joint[2] > 0.05
    assert abs(normal @ joint) < 1e-9


def crooked(seed):
    """The capsule figure with every knee and elbow moved a little aside of its line, and controls on that."""
    rng = np.random.default_rng(seed)
    document = rigged_capsules()
    skeleton = document.character.skeleton
    height = document.character.height
    moved = {}
    for limb in document.character.rig.limbs:
        upper, lower, end = (skeleton.joint(j) for j in limb.joints)
        line = np.array(end.position) - upper.position
        line /= np.linalg.norm(line)
        along = float((np.array(lower.position) - upper.position) @ line)
        aside = rng.normal(size=3)
        aside -= line * (aside @ line)
        # From hardly at all to a clear bend, to any side; one in four straight to the last digit.
        size = 0.0 if rng.random() < 0.25 else height * 10.0 ** rng.uniform(-6, -1.3)
        place = np.array(upper.position) + line * along + aside / np.linalg.norm(aside) * size
        moved[lower.id] = tuple(float(v) for v in place)
    joints = tuple(replace(j, position=moved.get(j.id, j.position)) for j in skeleton.joints)
    bent = Skeleton(joints)
    return bent, build_rig(bent, height, kits_in(document.character.pegs)), height


@pytest.mark.parametrize("seed", range(40))
def test_a_limb_bends_in_its_own_plane_and_every_goal_in_reach_is_met(seed):
    """Rest exact, goals met within a millionth of the height, bones of their length: wherever the middle joint stands."""
    skeleton, rig, height = crooked(seed)
    rng = np.random.default_rng(1000 + seed)
    pose = Pose()
    for limb in rig.limbs:
        pose = with_values(rig, pose, limb.goal.id, blend=1.0)
    assert np.abs(evaluate_rig(skeleton, rig, pose).joints - skeleton.world).max() < 1e-9
    index = skeleton.index
    for _ in range(12):
        shown = pose
        for limb in rig.limbs:
            move = rng.normal(scale=0.12 * height, size=3)
            goal = rig.control(limb.goal.id)
            shown = with_values(rig, shown, goal.id, **dict(zip(("move_x", "move_y", "move_z"), move, strict=True)),
                                rotate_x=float(rng.normal()))  # fmt: skip
        frame = evaluate_rig(skeleton, rig, shown)
        for limb in rig.limbs:
            i, j, k = (index[n] for n in limb.joints)
            start, middle, tip = (frame.joints[n, :3, 3] for n in (i, j, k))
            a, b = (float(np.linalg.norm(skeleton.positions[p] - skeleton.positions[q])) for p, q in ((j, i), (k, j)))
            assert np.linalg.norm(middle - start) == pytest.approx(a, abs=1e-9 * height)
            assert np.linalg.norm(tip - middle) == pytest.approx(b, abs=1e-9 * height)
            goal = frame.controls[rig.index[limb.goal.id]]
            wanted = (goal @ np.linalg.inv(rig.control(limb.goal.id).matrix) @ skeleton.world[k])[:3, 3]
            distance = float(np.linalg.norm(wanted - start))
            if abs(a - b) * 1.001 < distance < (a + b) * 0.9999:
                assert np.linalg.norm(tip - wanted) < 1e-6 * height
            # A bone runs along its joint's own bone, as it does at rest.
            for joint, far, of, to in ((i, middle, i, j), (j, tip, j, k)):
                own = skeleton.world[of][:3, :3].T @ (skeleton.positions[to] - skeleton.positions[of])
                way = frame.joints[joint, :3, :3].T @ (far - frame.joints[joint, :3, 3])
                assert np.abs(own - way).max() < 1e-9 * height


def test_a_knee_aside_of_its_line_comes_forward_before_the_limb_has_folded_far():
    """Whole at rest, faded out at ten degrees, without a jump on the way: the thigh does not spin about itself."""
    skeleton, rig = rig_of(rigged_capsules())
    i, j, k = (skeleton.index[f"leg.l.{n}"] for n in ("upper", "lower", "end"))
    knee = skeleton.joints[j]
    line = skeleton.positions[k] - skeleton.positions[i]
    middle = skeleton.positions[i] + line * (np.linalg.norm(skeleton.positions[j] - skeleton.positions[i]) / np.linalg.norm(line))
    joints = [replace(x, position=tuple(middle + [0.005, 0, 0])) if x is knee else x for x in skeleton.joints]
    skeleton = Skeleton(tuple(joints))
    rig = build_rig(skeleton, 1.7, kits_in(rigged_capsules().character.pegs))
    before, folds, sides, spins = None, [], [], []
    for lift in np.linspace(0.0, 0.05, 400):
        pose = with_values(rig, Pose(), "leg.l.goal", move_y=float(lift), blend=1.0)
        posed = evaluate_rig(skeleton, rig, pose).joints
        start, mid, tip = (posed[n, :3, 3] for n in (i, j, k))
        first, second = ((q - p) / np.linalg.norm(q - p) for p, q in ((start, mid), (mid, tip)))
        folds.append(np.degrees(np.arccos(min(first @ second, 1.0))))
        off = (mid - start) - (tip - start) * ((mid - start) @ (tip - start)) / ((tip - start) @ (tip - start))
        sides.append(np.degrees(np.arctan2(off[0], off[2])))
        if before is not None:
            spins.append(np.abs(posed[i] - before).max())
        before = posed[i]
    assert sides[0] == pytest.approx(90.0, abs=1.0)
    folded = np.array(folds) > folds[0] + 10.0
    assert folded.any()
    assert np.abs(np.array(sides)[folded]).max() < 1.0
    assert max(spins[1:]) < 0.02


@given(
    st.tuples(*[st.floats(-1.2, 1.2)] * 3), st.tuples(st.floats(-0.4, 2.0), st.floats(-0.8, 0.8), st.floats(-0.5, 0.5)),
    st.integers(0, 39), st.floats(0.0, 6.0),
)  # fmt: skip
@settings(max_examples=60)
def test_fk_to_ik_and_back_moves_no_joint_whatever_it_is_twisted_by(turn, fold, seed, about):
    """The forearm's twist, a side bend, a limb with its middle joint anywhere: the whole of every joint stays."""
    skeleton, rig, _ = crooked(seed)
    names = ("rotate_x", "rotate_y", "rotate_z")
    pose = with_values(rig, Pose(), "root", rotate_y=about, scale=1.4)
    for limb in rig.limbs:
        pose = with_values(rig, pose, limb.goal.id, blend=0.0)
        pose = with_values(rig, pose, limb.fk[0], **dict(zip(names, turn, strict=True)))
        pose = with_values(rig, pose, limb.fk[1], **dict(zip(names, fold, strict=True)))
        pose = with_values(rig, pose, limb.fk[2], rotate_y=turn[0])
    before = evaluate_rig(skeleton, rig, pose).joints
    there = pose
    for limb in rig.limbs:
        there = with_values(rig, match_ik(skeleton, rig, there, limb), limb.goal.id, blend=1.0)
    bones = [skeleton.index[j] for limb in rig.limbs for j in limb.joints]
    steps = [np.linalg.norm(before[skeleton.index[x.joints[k + 1]], :3, 3] - before[skeleton.index[x.joints[k]], :3, 3]) for x in rig.limbs for k in (0, 1)]  # fmt: skip
    assert min(steps) > 0
    straight = any(
        np.linalg.norm(np.cross(
            before[skeleton.index[x.joints[1]], :3, 3] - before[skeleton.index[x.joints[0]], :3, 3],
            before[skeleton.index[x.joints[2]], :3, 3] - before[skeleton.index[x.joints[1]], :3, 3],
        )) < 0.08 * steps[2 * k] * steps[2 * k + 1]
        for k, x in enumerate(rig.limbs)
    )  # fmt: skip
    after = evaluate_rig(skeleton, rig, there).joints
    # A straight limb has no plane to keep: there its upper's twist stays, and its middle joint moves hardly.
    assert np.abs(after[bones] - before[bones]).max() < (0.15 if straight else 1e-6)
    back = there
    for limb in rig.limbs:
        back = with_values(rig, match_fk(skeleton, rig, back, limb), limb.goal.id, blend=0.0)
    assert np.abs(evaluate_rig(skeleton, rig, back).joints - after).max() < 1e-6


def test_a_knee_never_flips_while_the_foot_walks():
    skeleton, rig = rig_of(wick())
    goal = rig.control("leg.l.goal")
    for along in np.linspace(-0.3, 0.3, 41):
        pose = with_values(rig, Pose(), goal.id, move_z=float(along), move_y=0.1)
        joints = evaluate_rig(skeleton, rig, pose).joints
        hip, knee, ankle = (joints[skeleton.index[f"leg.l.{n}"]][:3, 3] for n in ("upper", "lower", "end"))
        line = (ankle - hip) / np.linalg.norm(ankle - hip)
        off = (knee - hip) - line * ((knee - hip) @ line)
        assert off[2] > 0


def test_the_root_scales_everything_evenly_ik_included():
    skeleton, rig = rig_of(wick())
    pose = with_values(rig, Pose(), "leg.l.goal", move_z=0.2, move_y=0.1)
    small = evaluate_rig(skeleton, rig, pose).joints
    big = evaluate_rig(skeleton, rig, with_values(rig, pose, "root", scale=2.0)).joints
    assert np.allclose(big[:, :3, 3], 2 * small[:, :3, 3], atol=1e-7)


def test_a_loop_of_controls_is_named():
    skeleton, rig = rig_of(rigged_capsules())
    looped = tuple(replace(c, parent=control_node("body")) if c.id == "root" else c for c in rig.controls)
    with pytest.raises(EditError, match=r"loop.*(root control|inner root|body)"):
        evaluate_rig(skeleton, ControlRig(looped, rig.drives, rig.solvers), Pose())


def test_controls_out_of_use_are_told():
    _, rig = rig_of(wick())
    dim = out_of_use(rig, Pose())
    assert "leg.l.upper.fk" in dim
    assert "arm.l.goal" in dim
    assert "arm.l.upper.fk" not in dim


def test_every_shape_has_lines():
    _, rig = rig_of(wick())
    for shape in Shape:
        lines = shape_lines(replace(rig.controls[0], shape=shape))
        assert lines
        assert all(line.shape[1] == 3 and len(line) > 1 for line in lines)


def test_trial_arms_point_where_they_say():
    skeleton, _ = rig_of(wick())
    aims = {"arm_up": (1, 0.9), "arm_forward": (2, 0.95)}
    for trial, (axis, at_least) in aims.items():
        joints = evaluate_rig(skeleton, None, trial_pose(skeleton, trial)).joints
        for s in ("l", "r"):
            bone = joints[skeleton.index[f"arm.{s}.lower"]][:3, 3] - joints[skeleton.index[f"arm.{s}.upper"]][:3, 3]
            assert bone[axis] / np.linalg.norm(bone) > at_least
    down = evaluate_rig(skeleton, None, trial_pose(skeleton, "arm_down")).joints
    bone = down[skeleton.index["arm.l.lower"]][:3, 3] - down[skeleton.index["arm.l.upper"]][:3, 3]
    assert bone[1] / np.linalg.norm(bone) < -0.9


def test_trials_fold_the_right_way_and_mirror():
    skeleton, _ = rig_of(wick())
    elbow = evaluate_rig(skeleton, None, trial_pose(skeleton, "elbow")).joints
    knee = evaluate_rig(skeleton, None, trial_pose(skeleton, "knee")).joints
    rest = skeleton.positions
    i = skeleton.index
    assert elbow[i["arm.l.end"], 2, 3] > rest[i["arm.l.end"], 2] + 0.1, "the forearm comes forward"
    assert knee[i["leg.l.end"], 2, 3] < rest[i["leg.l.end"], 2] - 0.1, "the shin goes back"
    for trial in TRIALS:
        joints = evaluate_rig(skeleton, None, trial_amount(skeleton, trial.id, 0.7)).joints
        left, right = joints[i["arm.l.end"]][:3, 3], joints[i["arm.r.end"]][:3, 3]
        assert np.allclose(left * [-1, 1, 1], right, atol=1e-4)


def test_smooth_curves_pass_their_keys_and_never_overshoot():
    eased = curve((0.0, 1.0, 1.5, 3.0), (0.0, 2.0, 2.0, -1.0))
    assert [eased.at(t) for t in eased.times] == pytest.approx(eased.values)
    values = [eased.at(t) for t in np.linspace(0, 3, 200)]
    assert max(values) <= 2.0 + 1e-12
    assert min(values) >= -1.0 - 1e-12
    assert eased.with_runs(Run.STEP).at(0.99) == 0.0
    assert eased.with_runs(Run.LINEAR).at(0.5) == pytest.approx(1.0)


def test_keys_are_written_moved_and_removed():
    clip = with_keys(Clip("c", "c"), 0.5, "hand", {"move_x": 0.1, "rotate_x": 0.5})
    assert clip.key_times == (0.5,)
    assert sample(clip, 0.2).values["hand", "rotate_x"] == 0.5
    assert moved_keys(clip, 0.5, 1.25).key_times == (1.25,)
    assert without_keys(clip, 0.5).curves == {}


def test_channels_without_keys_keep_the_rest_of_the_rig():
    skeleton, rig = rig_of(wick())
    clip = with_keys(Clip("c", "c"), 0.0, "leg.l.goal", {"move_y": 0.1})
    pose = sample(clip, 0.0, skeleton, None, rig)
    assert rig.value(pose, ("leg.l.goal", "blend")) == 1.0


@pytest.mark.parametrize("name", ["wick", "dumble", "harl"])
@pytest.mark.parametrize("seed", range(3))
def test_back_solving_many_moments_shows_what_was_shown(name, seed):
    """evaluate(values_for(evaluate(v))) == evaluate(v): from the joints alone, for poses FK can show."""
    skeleton, rig = rig_of(open_project(DEMO / f"{name}.pegloom"))
    rng = np.random.default_rng(seed)
    pose = Pose()
    slots = rig.slots
    rows, index = slots.many(pose, 40), slots.index
    hinges = {limb.fk[1] for limb in rig.limbs}
    blends = [index[limb.amount] for limb in rig.limbs]
    angles = [slot for (_, key), slot in index.items() if key in ROTATE]
    rows[:, blends] = 0.0
    for control in rig.controls:
        for key in ROTATE:
            if key in control.free and control.id not in {limb.goal.id for limb in rig.limbs}:
                way = np.cumsum(rng.normal(scale=0.05, size=40))
                rows[:, index[control.id, key]] = np.abs(way) + 0.1 if control.id in hinges else way
    rows[:, [index["root", key] for key in MOVE]] = np.cumsum(rng.normal(scale=0.02, size=(40, 3)), axis=0)
    joints = joints_at(skeleton, rig, rows)
    found = values_of_joints(skeleton, rig, joints)
    assert np.abs(joints_at(skeleton, rig, found) - joints).max() < 2e-6
    fk = found.copy()
    fk[:, blends] = 0.0
    assert np.abs(joints_at(skeleton, rig, fk) - joints).max() < 1e-8, "both sides of every limb show it"
    assert np.abs(np.diff(found[:, angles], axis=0)).max() < 1.5, "angles run on from moment to moment"
    alone = values_of_joints(skeleton, rig, joints[7:8])
    assert np.abs(joints_at(skeleton, rig, alone) - joints[7:8]).max() < 2e-6


def test_angles_run_on_past_a_whole_turn():
    skeleton, rig = rig_of(wick())
    slots = rig.slots
    rows = slots.many(Pose(), 60)
    rows[:, slots.index["root", "rotate_y"]] = np.linspace(0.0, 9.0, 60)
    found = values_of_joints(skeleton, rig, joints_at(skeleton, rig, rows))
    angles = [slot for (_, key), slot in slots.index.items() if key in ROTATE]
    assert np.abs(np.diff(found[:, angles], axis=0)).max() < 0.5
