"""Skeletons that come from files, by whatever names: their limbs are known, and the range test moves them."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from pegloom.core.errors import ShapeError
from pegloom.core.geometry.transforms import matrix_quaternion, rotation_matrix
from pegloom.core.motion.stances import a_pose, t_pose
from pegloom.core.motion.trials import TRIALS, rest_rows, trial_amount, trial_pose, trials_of, turns_of
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joint_depth import joint_depth_moves
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton
from pegloom.core.skeleton.roles import guess_kits
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project
from tests.support.figures import DEMO, rigged_capsules


@lru_cache
def own(name):
    return open_project(DEMO / f"{name}.pegloom").character if name != "capsules" else rigged_capsules().character


@pytest.fixture(scope="module")
def there_and_back(tmp_path_factory):
    """A character written as GLB and read again: what anyone else's program would hand over."""
    folder = tmp_path_factory.mktemp("foreign")

    @lru_cache
    def read(name):
        path = folder / f"{name}.glb"
        write_glb(path, replace(own(name), clips=()))
        got = read_gltf(path)
        document = edits.bring_in(Document(), got.parts, name=name, skeleton=got.skeleton, weights=got.weights)
        return document.character

    return read


def called(skeleton, style):
    """The skeleton with other names and other axes: each joint's axes turned somehow, as every program likes."""
    rng = np.random.default_rng(5)
    joints = []
    for i, joint in enumerate(skeleton.joints):
        side, word = (joint.name[0], joint.name[2:]) if joint.name[:2] in ("l_", "r_") else ("", joint.name)
        camel = "".join(w.capitalize() for w in word.split("_"))
        name = {
            "words": {"l": "Left", "r": "Right"}.get(side, "") + camel,
            "after": f"{word}_{side}" if side else word,
            "numbers": f"b{i}",
        }[style]
        axes = rotation_matrix(joint.rotation) @ Rotation.random(random_state=rng).as_matrix()
        joints.append(replace(joint, name=name, rotation=tuple(matrix_quaternion(axes).tolist()), side=Side.CENTRE))
    return Skeleton(tuple(joints))


@pytest.mark.parametrize("name", ["wick", "dumble", "harl", "capsules"])
@pytest.mark.parametrize("style", ["words", "after", "numbers"])
def test_a_foreign_skeleton_has_the_range_test_its_body_has(there_and_back, name, style):
    mine, foreign = own(name), there_and_back(name)
    skeleton = called(foreign.skeleton, style)
    wanted = {t.id for t in trials_of(mine.skeleton)}
    got = {t.id for t in trials_of(skeleton)}
    # Of a tail or a snout without a name it is not known that it curls.
    unsure = {"curl"} if style == "numbers" else set()
    assert wanted - got <= unsure
    changed = replace(foreign, skeleton=skeleton, adopted=skeleton)
    rest = np.concatenate([p.mesh.points for p in mine.included])
    near = cKDTree(rest).query(np.concatenate([p.mesh.points for p in foreign.included]))[1]
    for trial in (wanted & got) - unsure:
        one = evaluate(mine, trial_pose(mine.skeleton, trial)).points
        other = evaluate(changed, trial_pose(skeleton, trial)).points
        a = np.concatenate([one[p.id] for p in mine.included])[near]
        b = np.concatenate([other[p.id] for p in foreign.included])
        assert np.abs(a - rest[near]).max() > 0.02 * mine.height, "the trial moves something"
        # Fingers fold about axes a file does not tell; all else goes the same way to the last digit.
        fine = 0.05 if trial in ("fist", "wrist", "curl", "nod", "head_turn", "neck_down") else 1e-4
        assert np.abs(a - b).max() < fine * mine.height, trial


def test_joints_put_into_a_foreign_skeleton_do_not_hide_its_limbs(there_and_back):
    foreign = there_and_back("wick")
    document = Document((foreign,))
    forearm = body_of(foreign.skeleton).joint_of["arm.l.lower"]
    document, _ = edits.insert_joint(document, forearm)
    document, _ = edits.draw_joint(document, (0.08, 1.6, 0.0), parent=body_of(foreign.skeleton).joint_of["spine.head"])
    body = body_of(document.character.skeleton)
    assert body.joint_of["arm.l.lower"] == forearm
    assert body.joint_of["arm.l.end"] == body_of(foreign.skeleton).joint_of["arm.l.end"]
    rigged = edits.build_controls(document)
    assert {"arm.l", "arm.r", "leg.l", "leg.r"} <= {limb.id for limb in rigged.character.rig.limbs}


@pytest.mark.parametrize("name", ["wick", "capsules"])
def test_limbs_without_names_get_ik(there_and_back, name):
    skeleton = called(there_and_back(name).skeleton, "numbers")
    kits = {k.id: k for k in guess_kits(skeleton)}
    assert set(kits) == {"arm.l", "arm.r", "leg.l", "leg.r"}
    for kit_id, kit in kits.items():
        names = {"upper": 0, "lower": 1, "end": 2}
        for bone, k in names.items():
            mine = own(name).skeleton.joint(f"{kit_id}.{bone}")
            assert np.allclose(skeleton.joint(kit.ik[k]).position, mine.position, atol=1e-5)


def test_an_arm_close_to_the_middle_and_a_short_clavicle_are_the_arms():
    def joint(i, parent, at, name=""):
        return Joint(f"file.{i}", name or f"b{i}", parent, Side.CENTRE, at, origin=Origin.FILE)

    joints = [
        joint(0, None, (0, 1.0, 0)),
        joint(1, "file.0", (0, 1.2, 0)),
        joint(2, "file.1", (0, 1.4, 0)),
        joint(3, "file.2", (0, 1.55, 0)),
    ]
    number = 4
    for side in (1, -1):
        for k, at in enumerate(
            [(0.012, 1.38, 0), (0.17, 1.42, 0), (0.45, 1.42, -0.01), (0.7, 1.42, 0), (0.8, 1.42, 0)]
        ):
            parent = "file.2" if k == 0 else f"file.{number - 1}"
            joints.append(joint(number, parent, (at[0] * side, *at[1:])))
            number += 1
        for k, at in enumerate([(0.09, 0.95, 0), (0.1, 0.5, 0.01), (0.1, 0.08, 0)]):
            parent = "file.0" if k == 0 else f"file.{number - 1}"
            joints.append(joint(number, parent, (at[0] * side, *at[1:])))
            number += 1
    roles = body_of(Skeleton(tuple(joints))).joint_of
    assert roles["arm.l.clavicle"] == "file.4"
    assert (roles["arm.l.upper"], roles["arm.l.lower"], roles["arm.l.end"]) == ("file.5", "file.6", "file.7")
    assert roles["spine.chest"] == "file.2"
    assert roles["spine.head"] == "file.3"
    assert (roles["leg.r.upper"], roles["leg.r.end"]) == ("file.17", "file.19")


def test_a_rope_and_a_heap_of_joints_are_tried_as_well():
    rope = [Joint("file.0", "a", None, Side.CENTRE, (0.0, 1.0, 0.0), origin=Origin.FILE)]
    rope += [Joint(f"file.{k}", f"j{k}", f"file.{k - 1}", Side.CENTRE, (0.0, 1.0 - 0.1 * k, 0.0), origin=Origin.FILE) for k in range(1, 8)]
    assert [t.id for t in trials_of(Skeleton(tuple(rope)))] == ["curl"]
    heap = [Joint("file.0", "a", None, Side.CENTRE, (0.0, 0.0, 0.0), origin=Origin.FILE)]
    heap += [Joint(f"file.{k}", f"j{k}", "file.0", Side.CENTRE, (0.3 * k, 0.5, 0.1 * k), origin=Origin.FILE) for k in range(1, 4)]
    trials = trials_of(Skeleton(tuple(heap)))
    assert [t.id for t in trials] == ["every"]
    assert len(turns_of(Skeleton(tuple(heap)), "every").turns) == 3


@pytest.mark.parametrize("name", ["wick", "capsules"])
def test_in_a_crouch_the_feet_stay_on_the_floor_and_the_hips_come_down(name):
    skeleton = own(name).skeleton
    feet = [skeleton.index[f"leg.{s}.end"] for s in "lr"]
    hips = skeleton.index["spine.hips"]
    before = 0.0
    for amount in (0.25, 0.5, 1.0):
        posed = evaluate_rig(skeleton, None, trial_amount(skeleton, "crouch", amount)).joints
        sunk = float(skeleton.world[hips, 1, 3] - posed[hips, 1, 3])
        assert sunk > before
        before = sunk
    assert np.allclose(posed[feet, :3, 3].mean(axis=0), skeleton.world[feet, :3, 3].mean(axis=0), atol=1e-9)
    assert before > 0.2 * own(name).height
    lowest = min(p[:, 1].min() for p in evaluate(own(name), trial_pose(skeleton, "crouch")).points.values())
    assert abs(lowest) < 0.06 * own(name).height


def test_a_hand_bends_towards_its_palm():
    character = own("wick")
    skeleton = character.skeleton
    posed = evaluate_rig(skeleton, None, trial_pose(skeleton, "wrist")).joints
    for s in "lr":
        hand, lower = skeleton.index[f"arm.{s}.end"], skeleton.index[f"arm.{s}.lower"]
        thumb, little = (skeleton.index[f"hand.{s}.{f}.1"] for f in ("thumb", "little"))
        across = skeleton.world[little, :3, 3] - skeleton.world[thumb, :3, 3]
        tip = skeleton.index[f"hand.{s}.middle.2"]
        way = (posed[tip, :3, 3] - posed[hand, :3, 3]) - (skeleton.world[tip, :3, 3] - skeleton.world[hand, :3, 3])
        assert abs(way @ across) < 0.4 * np.linalg.norm(way) * np.linalg.norm(across), "not towards thumb or little"
        assert way @ np.array([-1.0 if s == "l" else 1.0, -1.0, 0.0]) > 0, "inwards and down"
        assert np.allclose(posed[[hand, lower], :3, 3], skeleton.world[[hand, lower], :3, 3], atol=1e-9)


def test_half_a_trial_is_half_the_turn():
    skeleton = own("capsules").skeleton
    for trial in TRIALS:
        full = turns_of(skeleton, trial.id).turns
        made = trial_amount(skeleton, trial.id, 0.5)
        rest = rest_rows(skeleton)
        half = {
            j: (Rotation.from_quat(rest[skeleton.index[j], 3:7]).inv() * Rotation.from_quat(row[3:7])).as_quat()
            for j, row in zip(made.joints, made.rows, strict=True)
        }
        for joint, q in full.items():
            whole = Rotation.from_quat(q)
            part = Rotation.from_quat(half[joint])
            assert (part * part).approx_equal(whole, atol=1e-6)


@st.composite
def heaps(draw):
    """Any skeleton at all: some tree of joints anywhere, some at one place, some with names that tell lies."""
    count = draw(st.integers(1, 24))
    names = ["hips", "LeftArm", "arm_R", "head", "tail", "thumb", "twist", "helper", "wing_l", "rope", "Spine1", "toe"]
    place = st.sampled_from([-0.7, -0.2, -0.01, 0.0, 0.0, 0.01, 0.2, 0.7, 1.5])
    joints = []
    for i in range(count):
        parent = None if i == 0 else draw(st.one_of(st.none(), st.integers(0, i - 1)))
        at = (draw(place), draw(place), draw(place))
        own = draw(st.booleans()) and i > 0
        kind = "own" if own else "file"
        joints.append(
            Joint(
                f"{kind}.{i}",
                f"{draw(st.sampled_from(names))}.{i}",
                None if parent is None else joints[parent].id,
                Side.CENTRE,
                at,
                tail=(at[0], at[1] + 0.1, at[2]) if draw(st.booleans()) else None,
            )
        )
    return Skeleton(tuple(joints))


@settings(max_examples=150)
@given(heaps())
def test_no_skeleton_is_too_odd_to_be_tried(skeleton):
    body = body_of(skeleton)
    assert set(body.joint_of.values()) == set(skeleton.index), "each joint has one role"
    assert np.allclose(body.skeleton.positions, skeleton.positions)
    for joint in body.skeleton.joints:
        axes = joint.matrix[:3, :3]
        assert np.allclose(axes @ axes.T, np.eye(3), atol=1e-9)
    for trial in trials_of(skeleton):
        for amount in (0.4, 1.0):
            posed = evaluate_rig(skeleton, None, trial_amount(skeleton, trial.id, amount)).joints
            assert np.isfinite(posed).all()
    for kit in guess_kits(skeleton):
        assert len(set(kit.ik)) == 3
    for make in (t_pose, a_pose):
        try:
            assert np.isfinite(evaluate_rig(skeleton, None, make(skeleton)).joints).all()
        except ShapeError as error:
            assert "no two arms" in str(error)
    points, triangles = box()
    for move in joint_depth_moves(points, triangles, skeleton, set(skeleton.index)):
        assert np.isfinite(move.place).all()


def box():
    made = trimesh.creation.box([0.6, 1.6, 0.4]).subdivide().subdivide()
    return np.asarray(made.vertices) + [0, 0.5, 0], np.asarray(made.faces)
