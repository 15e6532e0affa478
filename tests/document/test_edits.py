"""The promise: go back, change, and keep what came after. Each early edit against each later work."""

import tracemalloc

import numpy as np
import pytest

from pegloom.core.errors import EditError, ShapeError
from pegloom.core.geometry.mesh import weld
from pegloom.core.geometry.standing import Direction
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.history import History
from pegloom.document.model import Document, PartKind
from tests.support.figures import as_mesh, capsule_figure, document_of, rigged_capsules, unrigged_wick, wick


def worked() -> Document:
    """A finished character with hand-made changes in every area."""
    document = wick()
    document = edits.move_joint(document, "arm.l.clavicle", (0.05, 1.16, 0.03))
    document = edits.rename_joint(document, "spine.chest", "c_ribcage")
    document = edits.shape_controls(document, ("spine.head",), shape=Shape.CUBE, size=1.5)
    vertices = np.flatnonzero(document.character.parts[0].mesh.points[:, 0] > 0.5)
    return edits.fill_weight(document, "part0", "arm.l.lower", vertices, 0.8)


def fewer_fingers(document):
    return edits.set_pegs(document, edits.find_pegs(document, fingers=2))


EARLY = {
    "move a peg": lambda d: edits.place_peg(d, "l_elbow", (0.37, 1.0, -0.06)),
    "build joints again": edits.build_joints,
    "fewer fingers": fewer_fingers,
    "move a joint": lambda d: edits.move_joint(d, "leg.l.lower", (0.1, 0.42, 0.03)),
    "rename a joint": lambda d: edits.rename_joint(d, "arm.l.upper", "l_humerus"),
    "leave out a part": lambda d: edits.include_part(d, "part2", False),
    "change a kind": lambda d: edits.set_part_kind(d, "part2", PartKind.HARD),
    "build controls again": edits.build_controls,
}


@pytest.mark.parametrize("early", sorted(EARLY))
def test_going_back_keeps_what_came_after(early):
    before = worked()
    after = EARLY[early](before)
    was, now = before.character, after.character
    assert now.skeleton.joint("spine.chest").name == "c_ribcage"
    override = now.joint_overrides["arm.l.clavicle"]
    assert override.move == was.joint_overrides["arm.l.clavicle"].move
    assert now.rig.control("spine.head").shape is Shape.CUBE
    assert now.clips == was.clips
    assert now.pose is was.pose
    weights = now.skin.weights["part0"]
    assert row_sums_hold(weights)
    if early != "fewer fingers":
        assert weights is was.skin.weights["part0"]
    else:
        assert np.allclose(weights.column("arm.l.lower"), was.skin.weights["part0"].column("arm.l.lower"), atol=1e-6)
    joints = evaluate_rig(now.skeleton, now.rig, Pose()).joints
    assert np.abs(joints - now.skeleton.world).max() < 1e-9
    assert np.isfinite(evaluate(now).points["part0"]).all()


def test_removed_joints_leave_their_weight_to_their_parents():
    before = wick()
    after = edits.set_pegs(before, edits.find_pegs(before, fingers=0))
    old, new = before.character.skin.weights["part0"], after.character.skin.weights["part0"]
    fingers = [j for j in old.joint_ids if j.startswith("hand.l.")]
    wanted = old.column("arm.l.end") + sum(old.column(j) for j in fingers)
    assert fingers
    assert np.allclose(new.column("arm.l.end"), wanted, atol=1e-4)


def test_an_override_follows_its_peg():
    document = edits.move_joint(wick(), "arm.l.lower", (0.36, 1.02, -0.05))
    offset = np.array(document.character.skeleton.joint("arm.l.lower").position) - wick().character.pegs.position(
        "l_elbow"
    )
    x, y, z = wick().character.pegs.position("l_elbow")
    moved = edits.place_peg(document, "l_elbow", (x, y + 0.05, z))
    again = np.array(moved.character.skeleton.joint("arm.l.lower").position) - moved.character.pegs.position("l_elbow")
    assert np.linalg.norm(again) == pytest.approx(np.linalg.norm(offset), rel=1e-6)


@pytest.mark.parametrize("make", [wick, rigged_capsules])
def test_a_bind_is_sound(make):
    character = make().character
    for part in character.included:
        weights = character.skin.weights[part.id]
        assert row_sums_hold(weights)
        assert most_influences(weights) <= 4
        rows, g = dense(weights), weld(part.mesh)
        assert (rows == rows[g.first][g.group]).all()


@pytest.mark.parametrize("make", [wick, rigged_capsules])
def test_a_bind_does_not_leak_across_the_body(make):
    character = make().character
    part = character.parts[0]
    weights, x = character.skin.weights[part.id], part.mesh.points[:, 0]
    assert weights.column("arm.l.lower")[x < 0].max() == 0
    assert weights.column("leg.l.lower")[x < -0.03].max() == 0
    top = part.mesh.points[:, 1] > 0.96 * character.height
    assert weights.column("spine.head")[top].min() > 0.9


def test_the_limbs_follow_their_joints():
    character = wick().character
    part = character.parts[0]
    weights, points = character.skin.weights[part.id], part.mesh.points
    pegs = character.pegs
    for joint, a, b in (("arm.l.lower", "l_elbow", "l_wrist"), ("leg.r.lower", "r_knee", "r_ankle")):
        middle = (np.array(pegs.position(a)) + pegs.position(b)) / 2
        near = np.linalg.norm(points - middle, axis=1) < 0.08
        assert near.sum() > 20
        assert weights.column(joint)[near].mean() > 0.8


def test_eyes_and_brim_stay_whole():
    character = wick().character
    for part_id in ("part1", "part2"):
        assert set(np.unique(dense(character.skin.weights[part_id]))) == {0.0, 1.0} or part_id == "part2"
    eyes = evaluate(character).points["part1"]
    rest = character.parts[1].mesh.points
    assert np.linalg.norm(eyes[0] - eyes[40]) == pytest.approx(np.linalg.norm(rest[0] - rest[40]), abs=1e-9)


@pytest.mark.parametrize("both", [True, False])
def test_filling_reaches_the_other_side_only_when_asked(both):
    document = wick()
    points = document.character.parts[0].mesh.points
    left = np.flatnonzero((points[:, 0] > 0.3) & (points[:, 0] < 0.4))
    after = edits.fill_weight(document, "part0", "arm.l.upper", left, 0.5, both_sides=both).character
    weights, was = after.skin.weights["part0"], document.character.skin.weights["part0"]
    assert np.allclose(weights.column("arm.l.upper")[left], 0.5, atol=1e-4)
    changed = np.abs(weights.column("arm.r.upper") - was.column("arm.r.upper")) > 1e-3
    assert changed.any() == both
    assert row_sums_hold(weights)
    assert most_influences(weights) <= 4


def test_mirroring_weights_makes_both_halves_alike():
    document = wick()
    points = document.character.parts[0].mesh.points
    left = np.flatnonzero(points[:, 0] > 0.25)
    lopsided = edits.fill_weight(document, "part0", "arm.l.upper", left, 0.9, both_sides=False)
    even, lost = edits.mirror_weights(lopsided, "part0")
    weights = even.character.skin.weights["part0"]
    from pegloom.core.geometry.symmetry import partners

    across = partners(even.character.parts[0].mesh, 0.0)
    has = across >= 0
    assert has.mean() > 0.98
    assert np.allclose(weights.column("arm.l.upper")[has], weights.column("arm.r.upper")[across[has]], atol=1e-6)
    assert len(lost) < 0.02 * len(points)


def test_standing_up_settles_size_and_floor():
    document = edits.stand_up(document_of(as_mesh(capsule_figure())), height=2.0)
    character = document.character
    assert character.height == pytest.approx(2.0)
    assert character.parts[0].mesh.points[:, 1].min() == pytest.approx(0, abs=1e-12)
    assert character.standing.up == "+Y"
    turned = edits.stand_up(document_of(as_mesh(capsule_figure())), up=Direction.PLUS_Z, facing=Direction.PLUS_Z)
    assert np.isfinite(turned.character.parts[0].mesh.points).all()


def test_each_edit_out_of_order_says_what_is_missing():
    empty, fresh = Document(), unrigged_wick()
    for edit, document, says in (
        (edits.stand_up, empty, "open a mesh"),
        (edits.build_joints, fresh, "find pegs"),
        (edits.bind, fresh, "build joints"),
        (edits.build_controls, fresh, "build joints"),
        (edits.add_trial_clip, fresh, "build controls"),
        (edits.rest_controls, fresh, "build controls"),
    ):
        with pytest.raises(EditError, match=says):
            edit(document)
    with pytest.raises(EditError, match="not bound"):
        edits.smooth_weights(edits.build_joints(edits.set_pegs(fresh, wick().character.pegs)), "part0", np.array([1]))
    with pytest.raises(EditError, match="no vertex"):
        edits.smooth_weights(wick(), "part0", np.zeros(0, dtype=int))


def test_a_mirrored_pose_is_the_mirror_image():
    document = edits.rest_controls(wick())
    document = edits.set_channels(document, "arm.l.upper.fk", rotate_x=0.4, rotate_y=0.3, rotate_z=-0.5)
    document = edits.set_channels(document, "leg.l.goal", move_x=0.1, move_y=0.2, move_z=0.15, rotate_y=0.3)
    document = edits.set_channels(document, "spine.chest", rotate_z=0.3, rotate_y=0.2)
    before = evaluate(document.character).joints
    after = evaluate(edits.mirror_pose(document).character).joints
    skeleton = document.character.skeleton
    for i, joint in enumerate(skeleton.joints):
        other = skeleton.index[skeleton.other_side(joint.id)]
        assert np.allclose(after[other][:3, 3], before[i][:3, 3] * [-1, 1, 1], atol=2e-5), joint.name


def test_switching_limbs_moves_no_joint():
    document = wick()
    before = evaluate(document.character).joints
    for limb in ("arm.l", "arm.r", "leg.l", "leg.r"):
        goal = f"{limb}.goal"
        blend = document.character.rig.value(document.character.pose, (goal, "blend"))
        switched = edits.switch_limb(document, limb, 1.0 - blend)
        gap = np.linalg.norm(evaluate(switched.character).joints[:, :3, 3] - before[:, :3, 3], axis=1)
        assert gap.max() < 1e-6, limb


def test_undo_returns_the_identical_document_and_forgets_nothing():
    history = History(wick())
    first = history.present
    history.commit("Pose", edits.rest_controls(first))
    second = history.present
    assert history.undo_name == "Pose"
    assert history.undo() is first
    assert history.redo_name == "Pose"
    assert history.redo() is second
    history.undo()
    history.commit("Other", edits.build_controls(first))
    assert history.redo_name is None


def test_history_is_bounded(monkeypatch):
    from pegloom.document import history as module

    monkeypatch.setattr(module, "MOST_STEPS", 5)
    history = History(wick())
    for number in range(9):
        history.commit(str(number), edits.set_channels(wick(), "body", move_x=0.01 * number))
    assert len(history.steps) == 5
    assert history.undo_name == "8"


def test_two_hundred_versions_of_the_weights_do_not_keep_two_hundred_matrices():
    """What is derived from the weights of each step is let go; the history keeps the steps' own arrays."""
    document = wick()
    part = document.character.parts[0]
    history = History(document)
    whole = dense(document.character.skin.weights[part.id]).nbytes
    tracemalloc.start()
    for k in range(24):
        history.commit(
            "fill", edits.fill_weight(history.present, part.id, "arm.l.upper", np.arange(40 * k, 40 * k + 40), 0.5)
        )
        dense(history.present.character.skin.weights[part.id])
    kept = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    own = sum(step.own_bytes for step in history.steps)
    assert len(history.steps) == 25
    assert kept < own + 10 * whole


def test_a_step_counts_what_it_changed_and_nothing_more():
    document = wick()
    part = document.character.parts[0]
    history = History(document)
    changed = edits.fill_weight(document, part.id, "arm.l.upper", np.arange(10), 0.5)
    history.commit("fill", changed)
    made = changed.character.skin.weights[part.id]
    # The document before is kept as a weave by reference, which costs nothing.
    assert history.steps[1].own_bytes <= made.indptr.nbytes + made.indices.nbytes + made.values.nbytes
    history.commit("rename", edits.rename_part(changed, part.id, "other name"))
    assert history.steps[2].own_bytes == 0


def test_a_weak_guess_that_is_right_is_accepted_where_it_is():
    document = edits.stand_up(unrigged_wick())
    document = edits.set_pegs(document, edits.find_pegs(document, plan="four-legged"))
    weak = next(peg for peg in document.character.pegs.pegs if peg.weak and peg.name.startswith("l_"))
    accepted = edits.accept_peg(document, weak.name)
    for name in (weak.name, "r_" + weak.name[2:]):
        peg = accepted.character.pegs.by_name[name]
        assert peg.by_hand and not peg.weak
        assert peg.position == document.character.pegs.position(name)
    alone = edits.accept_peg(document, weak.name, both_sides=False)
    assert alone.character.pegs.by_name["r_" + weak.name[2:]].weak
    with pytest.raises(ShapeError, match="l_nothing"):
        edits.accept_peg(document, "l_nothing")
