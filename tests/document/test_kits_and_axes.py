"""Kits added, repeated, mirrored, rolled; joints copied to the other side; axes turned without moving anything."""

import numpy as np
import pytest

from pegloom.core.errors import EditError, ShapeError
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.axes import aim_of, crooked_axes, mirrored
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skin.weights import dense_over, row_sums_hold
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document
from tests.support.figures import rigged_capsules, wick


def skeleton(document):
    return document.character.skeleton


def axes(document, joint):
    return skeleton(document).joint(joint).matrix[:3, :3]


def points(document):
    return evaluate(document.character, Pose()).points["part0"]


def nothing_moved(before, after, joints=None):
    """Joints stand where they stood, and the skin at rest lies where it lay."""
    for joint in joints or skeleton(before).index:
        one, other = skeleton(before).joint(joint), skeleton(after).joint(joint)
        assert np.allclose(one.position, other.position, atol=1e-9), joint
    assert np.allclose(points(before), points(after), atol=1e-9)


def crooked():
    """The bound capsules with a forearm and a shin whose axes are turned away."""
    document = rigged_capsules()
    turn = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    from pegloom.document.edits.skeleton import turn_joints

    return turn_joints(document, {j: axes(document, j) @ turn for j in ("arm.l.lower", "leg.r.lower")})


# Axes


def test_crooked_axes_are_found_and_mended_and_nothing_moves():
    bad = crooked()
    found = {c.joint for c in crooked_axes(skeleton(bad))}
    assert {"arm.l.lower", "leg.r.lower"} <= found
    good = edits.mend_axes(bad)
    assert not crooked_axes(skeleton(good))
    nothing_moved(bad, good)
    assert edits.mend_axes(good) is good


def test_aiming_along_runs_y_down_the_bone_on_both_sides():
    bad = crooked()
    good = edits.aim_along(bad, ["arm.l.lower"])
    for joint in ("arm.l.lower", "arm.r.lower"):
        assert axes(good, joint)[:, 1] @ aim_of(skeleton(good), skeleton(good).joint(joint)) == pytest.approx(1.0)
    one = edits.aim_along(bad, ["leg.r.lower"], both_sides=False)
    assert np.allclose(axes(one, "leg.l.lower"), axes(bad, "leg.l.lower"))
    nothing_moved(bad, good)


def test_a_squared_bend_axis_stands_square_to_the_limbs_plane():
    good = edits.square_bend(crooked(), ["leg.r.lower"])
    for s in "lr":
        hip, knee, ankle = (np.array(skeleton(good).joint(f"leg.{s}.{b}").position) for b in ("upper", "lower", "end"))
        bend = axes(good, f"leg.{s}.lower")[:, 0]
        normal = np.cross(knee - hip, ankle - knee)
        assert abs(bend @ normal / np.linalg.norm(normal)) == pytest.approx(1.0, abs=1e-6)


def test_axes_are_matched_to_another_joint():
    good = edits.match_axes(rigged_capsules(), ["arm.l.lower", "arm.l.end", "arm.l.upper"], "arm.l.upper")
    assert np.allclose(axes(good, "arm.l.lower"), axes(good, "arm.l.upper"))
    assert np.allclose(axes(good, "arm.l.end"), axes(good, "arm.l.upper"))
    nothing_moved(rigged_capsules(), good)


def test_an_aligned_chain_carries_the_first_roll_down_without_a_twist():
    document = wick()
    chain = [j.id for j in skeleton(document).joints if j.id.startswith("hand.l.index.")]
    good = edits.align_chain(document, chain[0])
    for above, joint in zip(chain, chain[1:], strict=False):
        a, b = axes(good, above), axes(good, joint)
        turn = a.T @ b
        # The shortest turn from one aim to the next has no part about the aim itself.
        twist = turn[0, 2] - turn[2, 0]
        assert abs(twist) < 1e-6
    nothing_moved(document, good)


def test_mirrored_axes_fold_both_sides_alike():
    good = edits.mirror_axes(crooked(), ["arm.l.lower"])
    assert np.allclose(axes(good, "arm.r.lower"), mirrored(axes(good, "arm.l.lower")))
    with pytest.raises(EditError, match="no partner"):
        edits.mirror_axes(crooked(), ["spine.chest"])
    bare = Document((good.character,))
    with pytest.raises(EditError, match="no joints"):
        edits.mend_axes(edits.start_clean(bare))


# Joints copied


def test_a_copied_branch_stands_beside_and_a_mirrored_one_across():
    document, ear = edits.draw_joint(
        rigged_capsules(), (0.06, 1.72, 0.0), parent="spine.head", name="l_ear", tail=(0.1, 1.8, 0.0), both_sides=False
    )
    document, tip = edits.draw_joint(document, (0.1, 1.8, 0.0), parent=ear, name="l_ear_tip", both_sides=False)
    copied, twin = edits.duplicate_joints(document, ear, offset=(0.0, 0.0, 0.05))
    gap = np.array(skeleton(copied).joint(twin).position) - skeleton(copied).joint(ear).position
    assert np.allclose(gap, (0, 0, 0.05), atol=1e-9)
    assert len(skeleton(copied).joints) == len(skeleton(document).joints) + 2
    assert len({j.name for j in skeleton(copied).joints}) == len(skeleton(copied).joints)

    across, other = edits.mirror_joints(document, ear)
    assert skeleton(across).joint(other).name == "r_ear"
    for joint in (ear, tip):
        partner = skeleton(across).other_side(joint)
        x, y, z = skeleton(across).joint(joint).position
        assert np.allclose(skeleton(across).joint(partner).position, (-x, y, z), atol=1e-9)
        assert np.allclose(axes(across, partner), mirrored(axes(across, joint)), atol=1e-9)
    assert row_sums_hold(across.character.skin.weights["part0"])
    horned, horn = edits.draw_joint(document, (0.05, 1.7, 0.08), parent="spine.head", name="horn", both_sides=False)
    paired, twin = edits.mirror_joints(horned, horn)
    assert (skeleton(paired).joint(horn).name, skeleton(paired).joint(twin).name) == ("l_horn", "r_horn")
    assert skeleton(paired).other_side(horn) == twin
    assert skeleton(paired).other_side(twin) == horn
    with pytest.raises(EditError, match="partner already"):
        edits.mirror_joints(across, ear)
    with pytest.raises(EditError, match="on the middle"):
        edits.mirror_joints(document, "spine.chest")


def test_names_are_previewed_before_they_are_given():
    document = rigged_capsules()
    seen = edits.rename_preview(document, find="*_thigh", put="*_femur")
    assert seen["l_thigh"] == "l_femur"
    assert skeleton(document).by_name("l_thigh") is not None, "looking changes nothing"
    done = edits.rename_joints(document, find="*_thigh", put="*_femur")
    assert {j.name for j in skeleton(done).joints} == set(seen.values())
    with pytest.raises((EditError, ShapeError), match="called"):
        edits.rename_preview(document, ["leg.l.upper"], find="l_thigh", put="r_thigh")


# Kits


def test_a_kit_is_hung_repeated_mirrored_and_taken_away_and_weights_add_up():
    document = rigged_capsules()
    before = dense_over(document.character.skin.weights["part0"], [j.id for j in skeleton(document).joints])
    document, first = edits.add_kit(document, "tail", "spine.hips", count=4)
    document, second = edits.add_kit(document, "tail", "spine.hips", count=3)
    assert first != second
    kits = {k.id: k for k in kits_in(document.character.pegs)}
    assert len(kits[first].joints) == 4
    assert len(kits[second].joints) == 3
    assert all(j in skeleton(document).index for k in (first, second) for j in kits[k].joints)
    assert row_sums_hold(document.character.skin.weights["part0"])
    rig = document.character.rig
    assert all(any(d.joint == j for d in rig.drives) for j in kits[first].joints), "each new joint has a control"
    gone = edits.remove_kit(edits.remove_kit(document, first), second)
    after = dense_over(gone.character.skin.weights["part0"], [j.id for j in skeleton(gone).joints])
    assert [j.id for j in skeleton(gone).joints] == [j.id for j in skeleton(rigged_capsules()).joints]
    moved = np.abs(after - before).sum(axis=1)
    assert np.allclose(after.sum(axis=1), 1.0)
    hips = [j.id for j in skeleton(gone).joints].index("spine.hips")
    assert (after[moved > 1e-9, hips] >= before[moved > 1e-9, hips] - 1e-4).all(), "what the tail held went to the hips"
    with pytest.raises(EditError, match="the root stays"):
        edits.remove_kit(document, "root")
    with pytest.raises(EditError, match="there is no kit"):
        edits.add_kit(document, "propeller", "spine.hips")


def test_a_one_sided_kit_gets_its_partner_across():
    document, ear = edits.add_kit(rigged_capsules(), "ear", "spine.head", both_sides=True)
    assert ear.endswith(".l")
    lone = edits.remove_kit(document, ear.replace(".l", ".r"), both_sides=False)
    for joint in kits_in(lone.character.pegs):
        assert joint.id != ear.replace(".l", ".r")
    moved = edits.place_peg(
        lone, next(p.name for p in lone.character.pegs.pegs if p.name.startswith("l_ear")), (0.1, 1.7, 0.02)
    )
    both = edits.mirror_kit(moved, ear)
    kits = {k.id: k for k in kits_in(both.character.pegs)}
    mine, theirs = kits[ear], kits[ear.replace(".l", ".r")]
    for a, b in zip(mine.pegs, theirs.pegs, strict=True):
        x, y, z = both.character.pegs.position(a)
        assert both.character.pegs.position(b) == pytest.approx((-x, y, z))
    for a, b in zip(mine.joints, theirs.joints, strict=True):
        assert np.allclose(axes(both, b), mirrored(axes(both, a)), atol=1e-6)
    with pytest.raises(EditError, match="no side"):
        edits.mirror_kit(both, "spine")


def test_a_rolled_thumb_turns_its_bend_axis_by_so_much_and_no_joint_moves():
    document = wick()
    thumb = next(k for k in kits_in(document.character.pegs) if k.id == "hand.l.thumb")
    rolled = edits.set_roll(document, thumb.id, thumb.roll + 0.3)
    for joint in thumb.joints:
        a, b = axes(document, joint), axes(rolled, joint)
        assert np.allclose(a[:, 1], b[:, 1], atol=1e-9), "the aim stays"
        assert np.arccos(np.clip(a[:, 0] @ b[:, 0], -1, 1)) == pytest.approx(0.3, abs=1e-6)
    partner = thumb.joints[0].replace(".l.", ".r.")
    assert np.allclose(axes(rolled, partner), mirrored(axes(rolled, thumb.joints[0])), atol=1e-2)
    nothing_moved(document, rolled)


def test_sides_are_compared_in_figures_and_made_even():
    document = edits.place_peg(wick(), "l_knee", (0.13, 0.47, 0.03), both_sides=False)
    gaps = edits.side_gaps(document.character.pegs)
    assert max(gaps, key=gaps.get) == "l_knee"
    x, y, z = document.character.pegs.position("r_knee")
    assert gaps["l_knee"] == pytest.approx(np.linalg.norm(np.array([0.13, 0.47, 0.03]) - [-x, y, z]))
    even = edits.even_pegs(document)
    assert max(edits.side_gaps(even.character.pegs).values()) < 1e-12
    assert even.character.pegs.position("r_knee") == pytest.approx((-0.13, 0.47, 0.03))


def test_proposed_depths_move_nothing_and_centring_does_just_that():
    document = wick()
    x, y, z = document.character.pegs.position("l_elbow")
    off = edits.place_peg(document, "l_elbow", (x, y, z + 0.05))
    proposed = {m.peg: m.place for m in edits.proposed_depths(off)}
    assert "l_elbow" in proposed
    assert off.character.pegs.position("l_elbow") == pytest.approx((x, y, z + 0.05))
    done = edits.centre_in_mesh(off)
    assert done.character.pegs.position("l_elbow") == pytest.approx(proposed["l_elbow"], abs=1e-9)
    assert not edits.proposed_depths(done, ("l_elbow",))
    assert np.linalg.norm(np.array(done.character.pegs.position("l_elbow")) - (x, y, z)) < 0.02


def test_a_kit_hung_elsewhere_keeps_its_place_and_follows_its_new_parent():
    document, tail = edits.add_kit(rigged_capsules(), "tail", "spine.hips", count=3)
    kit = next(k for k in kits_in(document.character.pegs) if k.id == tail)
    moved = edits.attach_kit(document, tail, "spine.chest")
    assert skeleton(moved).joint(kit.joints[0]).parent == "spine.chest"
    for joint in kit.joints:
        assert np.allclose(skeleton(moved).joint(joint).position, skeleton(document).joint(joint).position, atol=1e-9)
    bent = evaluate(moved.character, trial_pose(skeleton(moved), "bend")).joints
    still = skeleton(moved).world
    assert np.linalg.norm((bent - still)[skeleton(moved).index[kit.joints[0]], :3, 3]) > 0.01
    with pytest.raises(EditError, match="own branch"):
        edits.attach_kit(document, tail, kit.joints[-1])


def test_a_joint_floats_without_moving_and_is_connected_again():
    document = rigged_capsules()
    floating = edits.float_joint(document, "arm.l.lower", True)
    assert skeleton(floating).joint("arm.l.lower").floating
    assert skeleton(floating).joint("arm.r.lower").floating, "both sides"
    assert skeleton(floating).joint("arm.l.lower").parent == "arm.l.upper"
    nothing_moved(document, floating)
    back = edits.float_joint(floating, "arm.l.lower", False)
    assert not skeleton(back).joint("arm.l.lower").floating


@pytest.mark.parametrize("count", [0, 1, 2, 5])
def test_another_number_of_fingers_keeps_the_hand_bound(count):
    document = edits.set_fingers(wick(), count)
    weights = document.character.skin.weights["part0"]
    assert row_sums_hold(weights)
    fingers = {j.id.split(".")[2] for j in skeleton(document).joints if j.id.startswith("hand.l.")}
    assert len(fingers) == count
    assert set(weights.joint_ids) <= set(skeleton(document).index)
    again = edits.set_fingers(document, 5)
    for peg in wick().character.pegs.pegs:
        assert again.character.pegs.position(peg.name) == pytest.approx(peg.position), "pegs come back where they were"
