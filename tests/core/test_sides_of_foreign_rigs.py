"""Mirroring on other people's rigs: sides told by place and by every common style."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton, with_sides
from pegloom.core.skeleton.names import other_side_name, other_side_names, side_of_name
from pegloom.core.skin.mirror import Way, joints_across
from pegloom.core.skin.weights import dense, from_dense, row_sums_hold
from pegloom.document import edits
from pegloom.document.model import Document, Part
from tests.support.figures import as_mesh, human

STYLES = {
    "l_arm": "r_arm", "L_arm": "R_arm", "arm_L": "arm_R", "arm.l": "arm.r", "left_arm": "right_arm", "ArmLeft": "ArmRight",
    "lf_leg": "rf_leg", "lr_leg": "rr_leg", "LF_Leg_2": "RF_Leg_2", "leg_lr_01": "leg_rr_01", "lt_arm": "rt_arm",
}  # fmt: skip


@pytest.mark.parametrize("left, right", STYLES.items())
def test_every_common_style_pairs_up(left, right):
    assert side_of_name(left) is Side.LEFT and side_of_name(right) is Side.RIGHT
    assert right in other_side_names(left) and left in other_side_names(right)
    joints = [
        Joint("0", "root", None, Side.CENTRE, (0, 1, 0), origin=Origin.FILE),
        *(Joint(n, n, "0", side_of_name(n), (x, 1.2, 0), origin=Origin.FILE) for n, x in ((left, 0.3), (right, -0.3))),
    ]
    skeleton = with_sides(Skeleton(tuple(joints)))
    assert skeleton.other_side(left) == right and skeleton.other_side(right) == left


def test_a_left_front_is_across_from_whichever_name_there_is():
    assert other_side_name("lf_leg") == "rf_leg"
    assert other_side_names("lf_arm") == ("rf_arm", "rt_arm")


def rig(rename):
    """A human bound here, as a file's: its own names through `rename`."""
    document = edits.stand_up(edits.bring_in(Document(), (Part("part0", "body", as_mesh(human(down=0.6)[0])),), name="b"))
    built = edits.bind(edits.build_joints(edits.find_pegs_again(document, fingers=0))).character
    names = {j.id: rename(j) for j in built.skeleton.joints}
    joints = tuple(replace(j, name=names[j.id], origin=Origin.FILE, role="", side=side_of_name(names[j.id])) for j in built.skeleton.joints)
    return edits.bring_in(
        Document(), built.parts, name="foreign", skeleton=Skeleton(joints), weights=dict(built.skin.weights)
    )


def numbered(joint):
    return f"bone{abs(hash(joint.id)) % 100000}"


def mirrored_well(document, way=Way.LEFT_TO_RIGHT):
    """The right half thrown over, then mirrored back from the left: how far off it is from the start."""
    part = "part0"
    weights = document.character.skin.weights[part]
    values = dense(weights).copy()
    right = document.character.parts[0].mesh.points[:, 0] < -0.02
    values[right] = 0.0
    values[right, 0] = 1.0
    spoilt = edits.set_part_weights(document, part, from_dense(values, weights.joint_ids))
    after, missing = edits.mirror_weights(spoilt, part, way)
    # (Some of the head's own points have none across.)
    assert len(missing) < 0.06 * right.sum()
    off = np.abs(dense(after.character.skin.weights[part]) - dense(weights)).max(axis=1)
    off[missing] = 0.0
    return float(np.quantile(off, 0.98))


@pytest.mark.parametrize("rename", [numbered, lambda j: j.name.replace("l_", "lt_").replace("r_", "rt_") if j.name[:2] in ("l_", "r_") else j.name])
def test_weights_are_mirrored_between_joints_that_stand_across_whatever_they_are_called(rename):
    assert mirrored_well(rig(rename)) < 0.02


def test_a_joint_on_the_middle_is_a_middle_one_though_its_name_ends_in_a_side():
    document = rig(lambda j: "spine_l" if j.id == "spine.spine" else j.name)
    skeleton = document.character.skeleton
    middle = next(j for j in skeleton.joints if j.name == "spine_l")
    assert middle.side is Side.CENTRE and skeleton.other_side(middle.id) == middle.id
    assert joints_across(skeleton, 0.0)[middle.id] == middle.id
    assert mirrored_well(document) < 0.02


def with_a_pouch():
    """A joint on one side alone, holding what hangs there."""
    document = rig(lambda j: j.name)
    document, pouch = edits.draw_joint(document, (0.14, 0.95, 0.08), parent="spine.hips", name="pouch", both_sides=False)
    points = document.character.parts[0].mesh.points
    near = np.flatnonzero(np.linalg.norm(points - [0.14, 0.95, 0.08], axis=1) < 0.07)
    assert len(near) > 5
    return edits.fill_weight(document, "part0", pouch, near, 0.6, both_sides=False), pouch


def test_a_joint_without_a_partner_is_named_and_left_and_the_rest_is_mirrored():
    document, pouch = with_a_pouch()
    assert edits.unmatched_joints(document, "part0") == ("pouch",)
    before = document.character.skin.weights["part0"]
    for way in (Way.LEFT_TO_RIGHT, Way.RIGHT_TO_LEFT):
        after = edits.mirror_weights(document, "part0", way)[0].character.skin.weights["part0"]
        assert row_sums_hold(after)
        np.testing.assert_allclose(after.column(pouch), before.column(pouch), atol=2e-4)
        thigh = [after.column(f"leg.{s}.upper").sum() for s in "lr"]
        assert abs(thigh[0] - thigh[1]) < 0.06 * thigh[0]


def test_with_no_pair_at_all_the_error_names_the_joints():
    skeleton = Skeleton((
        Joint("a", "trunk", None, Side.CENTRE, (0.2, 0, 0), origin=Origin.FILE),
        Joint("b", "branch", "a", Side.CENTRE, (0.4, 1, 0), origin=Origin.FILE),
    ))  # fmt: skip
    mesh = as_mesh(human()[0])
    values = np.full((mesh.vertex_count, 2), 0.5)
    document = edits.bring_in(
        Document(), (Part("part0", "tree", mesh),), name="t", skeleton=skeleton, weights={"part0": from_dense(values, ("a", "b"))}
    )
    with pytest.raises(EditError, match="trunk, branch"):
        edits.mirror_weights(document, "part0")
