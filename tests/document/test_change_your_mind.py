"""The promise: whatever is changed early, the work done later stays. Every edit here meets a finished character."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest

from pegloom.checks import find_snags
from pegloom.core.errors import EditError, PegLoomError
from pegloom.core.motion.clips import sample
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skin.weights import most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Part
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support.figures import as_mesh, capsule_figure, rigged_capsules, unrigged_wick, wick


@lru_cache(maxsize=1)
def finished() -> Document:
    """The capsule figure with weights changed by hand, a control reshaped, and keys."""
    document = edits.shape_controls(rigged_capsules(), ("spine.chest",), shape=Shape.DIAMOND, size=1.5)
    document, clip = edits.add_clip(document, "wave")
    for time, turn, reach in ((0.0, 0.0, 0.0), (1.0, 0.8, 0.1)):
        document = edits.set_channels(document, "arm.l.upper.fk", rotate_x=turn)
        document = edits.set_channels(document, "leg.r.goal", move_z=reach)
        document = edits.key_controls(document, clip, time, ("arm.l.upper.fk", "leg.r.goal"))
    document = edits.set_pose(document, Pose())
    return edits.move_joint(document, "arm.l.lower", (0.45, 1.4, -0.03))


def joint_named(document, name):
    return document.character.skeleton.by_name(name).id


def drawn(document):
    return edits.draw_joint(document, (0.05, 1.78, 0.0), parent="spine.head", name="l_feather", tail=(0.09, 1.95, 0.0))[
        0
    ]


def swapped_same(document):
    part = document.character.parts[0]
    moved = edits.bring_in(Document(), (Part("x", part.name, part.mesh),), name="new").character.parts
    return edits.take_in(document, edits.Arrived("moved", moved))[0]


def swapped_other(document):
    made = capsule_figure().subdivide()
    matrix = np.array(document.character.standing.file_to_character).reshape(4, 4)
    assert np.isfinite(matrix).all()
    return edits.take_in(document, edits.Arrived("other", (Part("x", document.character.parts[0].name, as_mesh(made)),)))[0]


EDITS = {
    "move a peg": lambda d: edits.place_peg(d, "l_wrist", (0.72, 1.4, 0.02)),
    "move one side's peg": lambda d: edits.place_peg(d, "l_knee", (0.12, 0.52, 0.03), both_sides=False),
    "even the pegs": edits.even_pegs,
    "build again": edits.build_joints,
    "add fingers": lambda d: edits.set_fingers(d, 5),
    "mitten of two segments": lambda d: edits.set_fingers(d, 1, segments=2),
    "more spine": lambda d: edits.set_joint_count(d, "spine", 5),
    "less neck": lambda d: edits.set_joint_count(d, "neck", 3),
    "twist joints": lambda d: edits.set_twist(d, "arm.l", 2),
    "add a tail": lambda d: edits.add_kit(d, "tail", "spine.hips", count=6)[0],
    "add ears": lambda d: edits.add_kit(d, "ear", "spine.head")[0],
    "add and remove a tail": lambda d: edits.remove_kit(edits.add_kit(d, "tail", "spine.hips")[0], "tail"),
    "remove the toes' leg": lambda d: edits.remove_kit(d, "leg.l"),
    "hang the legs on the spine": lambda d: edits.attach_kit(d, "leg.l", "spine.spine"),
    "move a joint": lambda d: edits.move_joint(d, "arm.l.upper", (0.2, 1.44, 0.0)),
    "move a branch": lambda d: edits.move_joint(d, "arm.l.upper", (0.22, 1.43, 0.0), with_children=True),
    "lengthen": lambda d: edits.lengthen_joint(d, "leg.l.lower", 0.5),
    "draw a feather": drawn,
    "put a joint in": lambda d: edits.insert_joint(d, "leg.l.lower", share=0.4)[0],
    "split a bone": lambda d: edits.split_bone(d, "spine.chest", 3),
    "extend": lambda d: edits.extend_joint(d, "leg.l.toes")[0],
    "drop a joint": lambda d: edits.delete_joint(d, "arm.l.clavicle"),
    "drop a branch": lambda d: edits.delete_joint(d, "leg.l.toes", keep_children=False),
    "hang elsewhere": lambda d: edits.reparent_joint(d, "arm.l.clavicle", "spine.neck"),
    "float": lambda d: edits.float_joint(d, "arm.l.upper", True),
    "rename": lambda d: edits.rename_joint(d, "spine.chest", "c_ribs"),
    "rename all": lambda d: edits.rename_joints(d, prefix="post_", style=SideStyle.AFTER),
    "square the axes": lambda d: edits.square_bend(d, ["arm.l.upper", "arm.l.lower"]),
    "align a chain": lambda d: edits.align_chain(d, "spine.hips"),
    "mirror the axes": lambda d: edits.mirror_axes(d, ["arm.l.lower"]),
    "centre in mesh": edits.centre_in_mesh,
    "the same mesh again": swapped_same,
    "another mesh": swapped_other,
    "weld": lambda d: edits.mend_part(d, "part0", "weld"),
    "turn outward": lambda d: edits.mend_part(d, "part0", "outward"),
    "an edge row": lambda d: edits.insert_edge_row(d, "part0", (0.113, 0.3, 0.0), (0.0, 1.0, 0.0)),
    "even out": edits.even_out,
    "split by shell": lambda d: edits.split_part(d, "part0"),
    "rest in T": edits.rest_in_t,
    "rest in A": edits.rest_in_a,
}
RESTS = ("rest in T", "rest in A")


def sound(document: Document) -> None:
    """What must hold of any rigged character."""
    character = document.character
    skeleton = character.skeleton
    frame = evaluate(character, Pose())
    assert np.allclose(frame.joints, skeleton.world, atol=1e-9), "a control does not read zero at rest"
    for part in character.included:
        assert np.allclose(frame.points[part.id], part.mesh.points, atol=1e-9), f"{part.name} moves at rest"
        weights = character.skin.weights[part.id]
        assert weights.vertex_count == part.mesh.vertex_count
        assert row_sums_hold(weights)
        assert set(weights.joint_ids) <= set(skeleton.index)
    names = [j.name for j in skeleton.joints]
    assert len(set(names)) == len(names)


@pytest.mark.parametrize("name", EDITS)
def test_later_work_survives(name):
    before = finished()
    after = EDITS[name](before)
    sound(after)
    old, new = before.character, after.character
    assert new.rig.control("spine.chest").shape is Shape.DIAMOND or "c_ribs" in name
    assert [c.id for c in new.clips] == [c.id for c in old.clips]
    if name not in RESTS:
        assert new.clips[0].curves == old.clips[0].curves
    assert new.rig_changes is old.rig_changes
    pose = sample(new.clips[0], 0.7, new.skeleton, None, new.rig)
    for points in evaluate(new, pose).points.values():
        assert np.isfinite(points).all()
    # The document before is untouched: undo is going back to it.
    assert before.character is old
    assert evaluate(old, Pose()).points["part0"].shape == old.parts[0].mesh.points.shape


@pytest.mark.parametrize(
    "first", ["add ears", "put a joint in", "move a joint", "more spine", "drop a joint", "rest in A"]
)
@pytest.mark.parametrize(
    "then", ["move a peg", "add a tail", "rename all", "twist joints", "another mesh", "split a bone"]
)
def test_edits_go_together(first, then):
    document = EDITS[then](EDITS[first](finished()))
    sound(document)
    again = edits.build_joints(document)
    sound(again)
    assert [j.id for j in again.character.skeleton.joints] == [j.id for j in document.character.skeleton.joints]
    assert np.allclose(again.character.skeleton.world, document.character.skeleton.world, atol=1e-9)


@pytest.mark.parametrize(
    "name", ["add ears", "draw a feather", "split a bone", "drop a joint", "rest in T", "twist joints"]
)
def test_changed_characters_are_saved_whole(name, tmp_path):
    document = EDITS[name](finished())
    save_project(tmp_path / "x.pegloom", document)
    back = open_project(tmp_path / "x.pegloom")
    sound(back)
    assert np.array_equal(back.character.skeleton.world, document.character.skeleton.world)
    assert [k.id for k in kits_in(back.character.pegs)] == [k.id for k in kits_in(document.character.pegs)]
    sound(edits.place_peg(back, "l_elbow", (0.47, 1.4, -0.02)))


def test_what_a_dropped_joint_held_goes_to_its_parent():
    before = finished().character.skin.weights["part0"]
    after = edits.delete_joint(finished(), "leg.l.toes", both_sides=False).character.skin.weights["part0"]
    assert "leg.l.toes" not in after.joint_ids
    held = before.column("leg.l.toes") + before.column("leg.l.end")
    assert np.allclose(after.column("leg.l.end"), held, atol=2e-4)
    assert np.allclose(after.column("leg.r.toes"), before.column("leg.r.toes"), atol=2e-4)


def test_a_joint_put_in_takes_only_what_lies_beyond_it():
    before = finished().character.skin.weights["part0"]
    document, own = edits.insert_joint(finished(), "leg.l.lower", share=0.5, both_sides=False)
    character = document.character
    after = character.skin.weights["part0"]
    taken = after.column(own)
    assert taken.max() > 0.9
    y = character.parts[0].mesh.points[:, 1]
    middle = character.skeleton.joint(own).position[1]
    assert y[taken > 0.5].max() < middle + 0.05
    assert np.allclose(taken + after.column("leg.l.upper"), before.column("leg.l.upper"), atol=2e-4)
    same, none = edits.insert_joint(finished(), "leg.l.lower", takes=False)
    assert same.character.skin.weights["part0"].column(none).max() == 0.0


def test_a_chain_cut_anew_keeps_its_whole_weight():
    document = wick()
    cut = edits.set_joint_count(document, "spine", 6)
    one, two = document.character.skin.weights["part0"], cut.character.skin.weights["part0"]
    spine = [j for j in one.joint_ids if j in ("spine.hips", "spine.spine", "spine.chest")]
    more = next(k for k in kits_in(cut.character.pegs) if k.id == "spine").joints
    total = sum(one.column(j) for j in spine)
    assert len(more) == 6
    assert np.allclose(sum(two.column(j) for j in more), total, atol=2e-3)
    assert sum(two.column(j).max() > 0.2 for j in more) >= 4


def test_fewer_fingers_and_back_keeps_their_pegs():
    document = edits.set_pegs(edits.stand_up(unrigged_wick()), edits.find_pegs(edits.stand_up(unrigged_wick())))
    placed = edits.place_peg(document, "l_ring_tip", (0.6, 0.8, 0.03))
    back = edits.set_fingers(edits.set_fingers(placed, 2), 5)
    assert back.character.pegs.position("l_ring_tip") == (0.6, 0.8, 0.03)
    assert {p.name for p in back.character.pegs.pegs} == {p.name for p in document.character.pegs.pegs}


@pytest.mark.parametrize("pose", ["t", "a", "bent"])
def test_a_new_rest_shows_the_same_motion(pose):
    before = finished()
    character = before.character
    if pose == "bent":
        bent = edits.set_channels(before, "leg.l.goal", move_y=0.15, move_z=0.1)
        bent = edits.set_channels(bent, "spine.spine", rotate_x=0.3)
        bent = edits.set_channels(bent, "arm.r.lower.fk", rotate_x=0.7)
        after = edits.set_rest(bent)
        expected = evaluate(bent.character).points["part0"]
        assert np.allclose(after.character.parts[0].mesh.points, expected, atol=1e-9)
    else:
        after = edits.rest_in_t(before) if pose == "t" else edits.rest_in_a(before)
    new = after.character
    for time in (0.0, 1.0):
        then = evaluate_rig(
            character.skeleton, character.rig, sample(character.clips[0], time, None, None, character.rig)
        ).joints
        now = evaluate_rig(new.skeleton, new.rig, sample(new.clips[0], time, None, None, new.rig)).joints
        assert np.abs(then - now).max() < 1e-6
    assert dict(new.skin.weights.items()) == dict(character.skin.weights)
    frame = evaluate_rig(new.skeleton, new.rig, Pose())
    assert np.allclose(frame.joints, new.skeleton.world, atol=1e-9)


def test_arms_lie_straight_in_t():
    skeleton = edits.rest_in_t(finished()).character.skeleton
    at = {j.id: np.array(j.position) for j in skeleton.joints}
    for s, sign in (("l", 1), ("r", -1)):
        upper, lower, end = (at[f"arm.{s}.{k}"] for k in ("upper", "lower", "end"))
        for a, b in ((upper, lower), (lower, end)):
            assert np.allclose((b - a) / np.linalg.norm(b - a), [sign, 0, 0], atol=1e-6)


def test_a_skeleton_from_a_file_is_adopted_extended_and_used(tmp_path):
    write_glb(tmp_path / "x.glb", finished().character)
    read = read_gltf(tmp_path / "x.glb")
    document = edits.bring_in(
        Document(), read.parts, name="x", skeleton=read.skeleton, weights=read.weights, clips=read.clips
    )
    document = edits.stand_up(document, height=3.5)
    assert document.character.height == pytest.approx(3.5)
    before = {
        t: evaluate(document.character, sample(document.character.clips[0], t, document.character.skeleton)).points[
            "part0"
        ]
        for t in (0.0, 0.55, 1.0)
    }
    head = joint_named(document, "head")
    document, ear = edits.add_kit(document, "ear", head)
    document, feather = edits.draw_joint(document, (0.0, 3.6, 0.0), parent=head, takes=False)
    document = edits.move_joint(document, joint_named(document, "l_hand"), (1.4, 2.8, 0.0))
    document = edits.build_controls(document)
    character = document.character
    assert {"arm.l", "arm.r", "leg.l", "leg.r"} == {limb.id for limb in character.rig.limbs}
    sound(document)
    assert f"{ear}.1" in character.skeleton.index
    assert feather in character.skeleton.index
    for time, points in before.items():
        now = evaluate(character, sample(character.clips[0], time, character.skeleton)).points["part0"]
        moved = np.abs(now - points).max(axis=1) > 1e-6
        # Only what the new joints took, or blends that a changed joint row rounds, may differ.
        assert np.abs(now - points).max() < 2e-3, time
        assert moved.mean() < 0.2
    write_glb(tmp_path / "y.glb", character)
    assert len(read_gltf(tmp_path / "y.glb").skeleton.joints) == len(character.skeleton.joints)


def test_new_clothes_come_and_go():
    made = capsule_figure()
    middle = made.triangles_center[:, 1]
    coat = as_mesh(made.submesh([(middle > 0.9) & (middle < 1.5)], append=True))
    document = edits.add_parts(finished(), (Part("any", "coat", coat),))
    new = document.character.parts[-1]
    assert new.name == "coat"
    assert new.id not in document.character.skin.weights
    bound = edits.bind(document)
    sound(bound)
    gone = edits.remove_part(bound, new.id)
    sound(gone)
    assert most_influences(gone.character.skin.weights["part0"]) <= 4


def test_wrong_changes_are_refused_and_nothing_is_lost():
    document = finished()
    for wrong in (
        lambda: edits.reparent_joint(document, "spine.hips", "arm.l.upper"),
        lambda: edits.rename_joint(document, "spine.chest", "hips"),
        lambda: edits.rename_joints(document, find="l_", put="r_"),
        lambda: edits.insert_joint(document, "root"),
        lambda: edits.lengthen_joint(document, "arm.l.upper", -1.0),
        lambda: edits.set_joint_count(document, "spine", 90),
        lambda: edits.add_kit(document, "anchor", "spine.hips"),
        lambda: edits.attach_kit(document, "leg.l", "leg.l.end"),
        lambda: edits.remove_kit(document, "root"),
        lambda: edits.mirror_axes(document, ["spine.chest"]),
        lambda: edits.split_part(edits.split_part(document, "part0"), "part0"),
        lambda: edits.join_parts(document, ("part0",)),
    ):
        with pytest.raises(PegLoomError) as caught:
            wrong()
        assert len(str(caught.value)) > 20
    assert isinstance(EditError("x"), PegLoomError)
    sound(document)


def test_a_joint_moved_by_hand_asks_when_its_pegs_move_after_it(tmp_path):
    """Both wishes are kept, and said: the move rides on the pegs' new place until one of the two is chosen."""
    document = finished()
    assert not edits.parted_moves(document.character), "moved after its pegs: nothing to ask"
    place = np.array(document.character.skeleton.joint("arm.l.lower").position)
    peg = np.array(document.character.pegs.position("l_elbow"))
    moved = edits.place_peg(document, "l_elbow", tuple(peg + [0.0, -0.06, 0.0]))
    parted = edits.parted_moves(moved.character)
    assert set(parted) == {"arm.l.lower", "arm.r.lower"}
    assert parted["arm.l.lower"] == pytest.approx(0.06, abs=0.01)
    found = [s for s in find_snags(moved.character) if s.code == "parted-move"]
    assert {s.subject for s in found} == set(parted)
    assert all("moved by hand" in s.message and s.where is not None for s in found)
    # Kept: nothing moves, nothing is asked any more, and saving keeps that.
    kept = edits.keep_moves(moved, parted)
    assert kept.character.skeleton is moved.character.skeleton
    save_project(tmp_path / "kept.pegloom", kept)
    assert not edits.parted_moves(open_project(tmp_path / "kept.pegloom").character)
    # Forgotten: where the pegs say, on the one side asked for only.
    back = edits.forget_moves(moved, ["arm.l.lower"])
    assert set(edits.parted_moves(back.character)) == {"arm.r.lower"}
    fresh = edits.place_peg(rigged_capsules(), "l_elbow", tuple(peg + [0.0, -0.06, 0.0]))
    wanted = fresh.character.skeleton.joint("arm.l.lower").position
    assert back.character.skeleton.joint("arm.l.lower").position == pytest.approx(wanted, abs=1e-9)
    # Back where the pegs were: the question is gone by itself and the joint stands where it was put.
    undone = edits.place_peg(moved, "l_elbow", tuple(peg))
    assert not edits.parted_moves(undone.character)
    assert np.array(undone.character.skeleton.joint("arm.l.lower").position) == pytest.approx(place, abs=1e-6)
    with pytest.raises(EditError, match="moved by hand"):
        edits.forget_moves(rigged_capsules(), ["leg.l.lower"])


def test_a_new_rest_is_no_move_of_pegs():
    document = edits.set_channels(finished(), "arm.l.upper.fk", rotate_x=0.5)
    assert not edits.parted_moves(edits.set_rest(document).character)


def test_two_skeletons_side_by_side_have_controls_that_do_not_loop(tmp_path):
    write_glb(tmp_path / "other.glb", replace(wick().character, clips=()))
    got = read_gltf(tmp_path / "other.glb")
    document = edits.bring_in(Document(), got.parts, name="other", skeleton=got.skeleton, weights=got.weights)
    both = edits.set_pegs(edits.build_controls(document), wick().character.pegs)
    ids = [c.id for c in both.character.rig.controls]
    assert len(set(ids)) == len(ids)
    assert np.isfinite(evaluate(both.character).points["part0"]).all()


def test_a_new_joint_never_takes_the_place_of_a_deleted_one():
    """Its id, its name, and the move that was made of it stay its own."""
    document, first = edits.draw_joint(wick(), (0.0, 1.5, 0.3), parent="spine.head", both_sides=False)[:2]
    document = edits.rename_joint(document, first, "plume")
    document = edits.move_joint(document, first, (0.0, 0.05, 0.0))
    document = edits.delete_joint(document, first, both_sides=False)
    again, second = edits.draw_joint(document, (0.0, 1.5, 0.3), parent="spine.head", both_sides=False)[:2]
    assert second != first
    joint = again.character.skeleton.joint(second)
    assert joint.name != "plume"
    assert np.allclose(joint.position, (0.0, 1.5, 0.3), atol=1e-9)
    kept = edits.delete_joint(again, second, both_sides=False)
    assert edits.draw_joint(kept, (0.0, 1.5, 0.3), parent="spine.head", both_sides=False)[1] not in (first, second)


def test_a_draft_shows_the_joints_of_the_edit_and_carries_nothing_else():
    character = wick().character
    clip = baked_clip(character, character.clips[0])
    document = wick().with_character(replace(character, clips=(clip,)))
    x, y, z = character.pegs.position("l_elbow")

    def edit(d):
        return edits.place_peg(d, "l_elbow", (x + 0.03, y, z + 0.01))

    draft, full = edits.drafted(document, edit).character, edit(document).character
    assert np.array_equal(draft.skeleton.world, full.skeleton.world)
    assert draft.pegs.position("l_elbow") == full.pegs.position("l_elbow")
    assert draft.clips[0] is clip
    assert full.clips[0] is not clip
    posed = [evaluate(c, Pose()).points["part0"] for c in (draft, full)]
    assert np.abs(posed[0] - posed[1]).max() < 1e-9
    assert edits.carries_much(document)
    assert not edits.carries_much(wick())
