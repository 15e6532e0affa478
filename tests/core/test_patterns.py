"""Patterns, kits, names and axes."""

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import build_rig
from pegloom.core.skeleton.axes import crooked_axes, mirrored
from pegloom.core.skeleton.build import build_joints, kits_in
from pegloom.core.skeleton.kits import Kit, kits_of, other_kit_id, resized
from pegloom.core.skeleton.names import Side, SideStyle, in_style, other_side_name, renamed, side_of_name
from pegloom.core.skeleton.patterns import free_pegs, kit_library, pattern_from_data, sentence, shipped_patterns
from pegloom.core.skeleton.roles import guess_kits
from pegloom.files.patterns import known_patterns, read_pattern
from pegloom.scene.sketch import sketch
from tests.support.figures import wick

SHIPPED = Path(__file__).parents[2] / "src/pegloom/assets/patterns"


@pytest.mark.parametrize("name", shipped_patterns())
def test_every_pattern_stands_alone_and_takes_controls(name):
    pegs = free_pegs(shipped_patterns()[name])
    skeleton = build_joints(pegs)
    rig = build_rig(skeleton, 1.0, pegs.kits)
    frame = evaluate_rig(skeleton, rig, Pose())
    assert np.allclose(frame.joints, skeleton.world, atol=1e-9)
    assert not crooked_axes(skeleton)
    for peg in pegs.pegs:
        words = sentence(peg.name, name)
        assert words.endswith(".")
        assert len(words) > 8
        assert "<circle" in sketch(shipped_patterns()[name], pegs.kits, peg.name)


@pytest.mark.parametrize("name", [name for name in shipped_patterns() if name != "hand"])  # it has one side
def test_sides_are_mirrored_to_the_last_digit(name):
    skeleton = build_joints(free_pegs(shipped_patterns()[name]))
    for joint in skeleton.joints:
        if joint.side is not Side.LEFT:
            continue
        other = skeleton.joint(skeleton.other_side(joint.id))
        assert np.allclose(np.array(joint.position) * [-1, 1, 1], other.position, atol=1e-12)
        # Equal turns about the bend axis fold both sides alike.
        flip = np.diag([-1.0, 1.0, 1.0])
        bend, there = (rotation_matrix(j.rotation)[:, 0] for j in (joint, other))
        assert np.allclose(-(flip @ bend), there, atol=1e-9)


@pytest.mark.parametrize("name", ["human", "four-legged", "winged", "serpent", "rope", "many-legged"])
def test_kits_take_any_number_of_joints_they_allow(name):
    for kit in [k for k in shipped_patterns()[name].kits() if k.kind != "root" and k.joints]:
        for count in range(kit.least, min(kit.most, 14) + 1):
            new = resized(kit, count)
            assert len(new.joints) == len(new.names) == len(new.at) == count
            assert len(set(new.joints)) == count
            assert new.joints[0] == kit.joints[0]
            assert list(new.at) == sorted(new.at)
            assert max(new.at) <= len(kit.pegs) - 1
            if count > 1 and len(kit.joints) > 1 and not kit.joints[-1].rsplit(".", 1)[-1].isdigit():
                assert new.joints[-1] == kit.joints[-1]
        with pytest.raises(ShapeError):
            resized(kit, kit.most + 1)


def test_a_pattern_of_ones_own_is_read_and_a_wrong_one_refused(tmp_path):
    data = json.loads((SHIPPED / "serpent.json").read_text())
    data["pattern"], data["title"] = "eel", "Eel"
    (tmp_path / "eel.json").write_text(json.dumps(data))
    (tmp_path / "broken.json").write_text("{")
    assert read_pattern(tmp_path / "eel.json").title == "Eel"
    assert "eel" in known_patterns(tmp_path)
    assert "broken" not in known_patterns(tmp_path)
    wrong = [
        {}, {"pattern": "x"}, {"pattern": "x", "kits": [{"kit": "leg"}]},
        {"pattern": "x", "kits": [{"kit": "chain", "id": "a", "attach": "nowhere", "pegs": ["p", "q"], "joints": ["1"]}]},
        {"pattern": "x", "kits": [{"kit": "root"}, {"kit": "root"}]},
        {"pattern": "x", "kits": [{"kit": "chain", "id": "a", "pegs": ["p"], "joints": ["1"], "at": [3]}]},
        {"pattern": "x", "kits": [], "places": {"p": [0, float("nan"), 0]}},
    ]  # fmt: skip
    for number, entry in enumerate(wrong):
        (tmp_path / "w.json").write_text(json.dumps(entry))
        with pytest.raises(MeshFileError, match=r"w\.json"):
            read_pattern(tmp_path / "w.json")
        with pytest.raises(ShapeError):
            pattern_from_data(entry)
        assert number >= 0


def test_the_library_says_what_each_kit_is():
    for kind, entry in kit_library().items():
        assert entry["title"]
        assert entry["say"].endswith(".")
        assert len(entry["reach"]) == 3
        # How many fingers and toes there are the mesh says; they are hung on a limb by edits of their own.
        if kind != "toes":
            made = kits_of([dict(entry) | {"id": "x"}])
            assert all(isinstance(k, Kit) for k in made), kind
    assert other_kit_id("arm.l") == "arm.r"
    assert other_kit_id("tail") is None


@pytest.mark.parametrize(
    ("name", "other"),
    [
        ("l_upper_arm", "r_upper_arm"), ("R_foot", "L_foot"), ("arm.L", "arm.R"), ("LeftHandIndex1", "RightHandIndex1"),
        ("post:RightArm", "post:LeftArm"), ("arm_left_01", "arm_right_01"), ("thigh_r", "thigh_l"), ("ear.l.001", "ear.r.001"),
        ("lArm", "rArm"), ("armL", "armR"), ("leg_LT_2", "leg_RT_2"),
    ],
)  # fmt: skip
def test_sides_are_known_in_every_common_style(name, other):
    assert other_side_name(name) == other
    assert other_side_name(other) == name
    assert side_of_name(name) is side_of_name(other).other
    assert side_of_name(name) is not Side.CENTRE


@pytest.mark.parametrize("name", ["pelvis", "c_head", "upper_arm", "tail", "control", "Ring", "world", "roll"])
def test_a_name_without_a_side_has_none(name):
    assert other_side_name(name) is None
    assert side_of_name(name) is Side.CENTRE


@given(
    st.sampled_from(["l", "r"]),
    st.sampled_from(["thigh", "upper_arm", "index_2", "paw"]),
    st.sampled_from(list(SideStyle)),
)
def test_translated_names_keep_their_side(s, stem, style):
    name = f"{s}_{stem}"
    new = in_style(name, style)
    assert side_of_name(new) is side_of_name(name)
    assert in_style(in_style(new, style), style) == in_style(new, style)
    assert other_side_name(new) == in_style(other_side_name(name), style)


def test_renaming_by_pattern():
    names = ["l_arm", "r_arm", "c_head"]
    assert renamed(names, find="*_arm", put="*_wing") == {"l_arm": "l_wing", "r_arm": "r_wing", "c_head": "c_head"}
    assert renamed(names, prefix="post_")["c_head"] == "post_c_head"
    with pytest.raises(ShapeError, match="would be called"):
        renamed(names, find="l_", put="r_")
    with pytest.raises(ShapeError, match="without a name"):
        renamed(["a"], find="a", put="")


def test_mirrored_axes_are_a_rotation_and_mirror_back():
    generator = np.random.default_rng(3)
    q = generator.normal(size=(20, 4))
    for one in q / np.linalg.norm(q, axis=1, keepdims=True):
        axes = rotation_matrix(one)
        assert np.linalg.det(mirrored(axes)) == pytest.approx(1.0)
        assert np.allclose(mirrored(mirrored(axes)), axes)


def test_limbs_are_told_by_the_names_of_a_foreign_skeleton():
    skeleton = wick().character.skeleton
    kits = {k.id: k for k in guess_kits(skeleton)}
    assert set(kits) == {"arm.l", "arm.r", "leg.l", "leg.r"}
    assert kits["leg.r"].ik == ("leg.r.upper", "leg.r.lower", "leg.r.end")
    assert kits_in(wick().character.pegs)
