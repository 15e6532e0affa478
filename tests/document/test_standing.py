"""Standing up, turning and sizing a character at any time: whatever hangs on it goes along."""

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.geometry.standing import Direction, guess_stance
from pegloom.core.motion.clips import sample
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.pegs import place_pegs
from pegloom.core.skin.weights import dense
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project
from tests.document.test_change_your_mind import drawn, finished
from tests.support.figures import DEMO, as_mesh, capsule_figure, document_of, human


def way(before, after):
    """The 4x4 from the old character to the new one."""
    old, new = (np.array(d.character.standing.file_to_character).reshape(4, 4) for d in (before, after))
    return new @ np.linalg.inv(old)


def moved(matrix, points):
    return points @ matrix[:3, :3].T + matrix[:3, 3]


def places(document):
    return np.array([j.position for j in document.character.skeleton.joints])


HOW = {
    "a hundred times as large": lambda d: edits.stand_up(d, height=100 * d.character.height),
    "a quarter turn": lambda d: edits.turn_by(d, 90),
    "some turn": lambda d: edits.turn_by(d, -37.5),
    "about face": lambda d: edits.stand_up(d, facing=Direction.MINUS_Z),
}


@pytest.mark.parametrize("how", HOW)
def test_a_finished_character_stands_up_with_all_that_hangs_on_it(how):
    before = drawn(finished())
    after = HOW[how](before)
    matrix = way(before, after)
    old, new = before.character, after.character
    assert np.allclose(places(after), moved(matrix, places(before)), atol=1e-9 * new.height)
    assert [j.id for j in new.skeleton.joints] == [j.id for j in old.skeleton.joints]
    for one, other in zip(old.pegs.pegs, new.pegs.pegs, strict=True):
        assert np.allclose(other.position, moved(matrix, np.array(one.position)), atol=1e-9 * new.height)
    for part in old.parts:
        assert np.array_equal(dense(new.skin.weights[part.id]), dense(old.skin.weights[part.id]))
    assert not find_moves(after), "every joint stands where its pegs say"
    clip, told = old.clips[0], new.clips[0]
    for time in clip.key_times:
        was = evaluate(old, sample(clip, time, old.skeleton, None, old.rig))
        now = evaluate(new, sample(told, time, new.skeleton, None, new.rig))
        for part in old.parts:
            off = np.abs(now.points[part.id] - moved(matrix, was.points[part.id])).max()
            assert off < 1e-6 * new.height


def find_moves(document):
    """Joints a rebuild would put elsewhere."""
    again = edits.build_joints(document)
    return [
        a.id
        for a, b in zip(document.character.skeleton.joints, again.character.skeleton.joints, strict=True)
        if not np.allclose(a.matrix, b.matrix, atol=1e-6)
    ]


def test_standing_up_and_back_is_where_it_was():
    before = finished()
    there = edits.turn_by(edits.stand_up(before, height=3.0), 50)
    back = edits.stand_up(edits.turn_by(there, -50), height=before.character.height)
    assert np.allclose(places(back), places(before), atol=1e-9)
    for a, b in zip(before.character.skeleton.joints, back.character.skeleton.joints, strict=True):
        assert np.allclose(a.matrix, b.matrix, atol=1e-9)
    old = dict(before.character.clips[0].curves)
    for key, curve in back.character.clips[0].curves.items():
        assert key in old
        assert np.allclose(curve.values[-1], old[key].values[-1], atol=1e-6)


def test_a_hand_moved_joint_of_a_files_skeleton_is_not_moved_twice(tmp_path):
    path = tmp_path / "figure.glb"
    write_glb(path, replace(finished().character, clips=()))
    read = read_gltf(path)
    document = edits.bring_in(Document(), read.parts, name="figure", skeleton=read.skeleton, weights=read.weights)
    joint = next(j.id for j in document.character.skeleton.joints if j.name == "l_forearm")
    x, y, z = document.character.skeleton.joint(joint).position
    document = edits.move_joint(document, joint, (x, y + 0.05, z))
    grown = edits.stand_up(document, height=2 * document.character.height)
    matrix = np.array(grown.character.standing.file_to_character).reshape(4, 4)
    assert np.allclose(places(grown), moved(matrix, places(document)), atol=1e-9)
    renamed = edits.rename_joint(grown, joint, "l_ulna")
    assert np.allclose(places(renamed), places(grown), atol=1e-9)


def test_kept_trials_and_the_pose_in_hand_go_along():
    before = finished()
    skeleton = before.character.skeleton
    before = edits.keep_trial(before, "arms", trial_pose(skeleton, "arm_up"))[0]
    before = edits.keep_trial(before, "reach", Pose({("leg.r.goal", "move_y"): 0.1, ("leg.r.goal", "move_z"): 0.2, ("leg.r.goal", "rotate_x"): 0.1}))[0]
    before = edits.set_channels(before, "spine.chest", rotate_y=0.4)
    after = edits.turn_by(edits.stand_up(before, height=0.5), 90)
    matrix = way(before, after)
    old, new = before.character, after.character
    pairs = [(old.pose, new.pose), *((a.pose, b.pose) for a, b in zip(old.trials, new.trials, strict=True))]
    assert len(pairs) == 3
    for was, now in pairs:
        one, other = evaluate(old, was), evaluate(new, now)
        assert np.abs(one.points["part0"] - evaluate(old, Pose()).points["part0"]).max() > 0.02
        off = np.abs(other.points["part0"] - moved(matrix, one.points["part0"])).max()
        assert off < 1e-6


def test_a_draft_of_a_turn_looks_like_the_turn():
    before = finished()
    draft, turned = edits.turn_by(before, 30, draft=True), edits.turn_by(before, 30)
    assert np.allclose(places(draft), places(turned), atol=1e-12)
    shown = [evaluate(d.character, Pose()).points["part0"] for d in (draft, turned)]
    assert np.allclose(*shown, atol=1e-12)


def test_a_dressed_figure_is_not_laid_on_its_face():
    # Toes, a satchel, a hat's brim: laid down it would touch the ground in two pairs of places.
    character = open_project(DEMO / "oilskin.pegloom").character
    points, triangles = character.all_points(), character.all_triangles()
    for turn in (np.eye(3), np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]]), np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1]])):
        stance = guess_stance(points @ turn.T, triangles)
        assert np.allclose(stance.up.vector @ turn, (0, 1, 0))
        assert np.allclose(stance.facing.vector @ turn, (0, 0, 1))


def fish():
    """A long body, thick behind the head, with fins and a tail: nothing it stands on."""
    import trimesh

    t = np.linspace(0, 1, 40)
    radius = 0.16 * np.sqrt(np.clip(t * 5, 0, 1)) * (1 - t) ** 0.7 + 0.012
    pieces = []
    for k in range(39):
        ball = trimesh.creation.icosphere(subdivisions=2, radius=1.0)
        ball.apply_scale([0.6 * radius[k], radius[k], 0.05])
        ball.apply_translation([0, 0.3, 0.8 - 1.6 * t[k]])
        pieces.append(ball)
    tail = trimesh.creation.box([0.01, 0.4, 0.14])
    tail.apply_translation([0, 0.3, -0.85])
    fin = trimesh.creation.box([0.5, 0.012, 0.12])
    fin.apply_translation([0, 0.24, 0.4])
    back = trimesh.creation.box([0.01, 0.2, 0.2])
    back.apply_translation([0, 0.5, 0.2])
    return trimesh.util.concatenate([*pieces, tail, fin, back])


@pytest.mark.parametrize("ahead", [1, -1])
def test_a_fish_swims_and_its_thick_end_is_ahead(ahead):
    made = fish()
    points = made.vertices * [ahead, 1, ahead]
    stance = guess_stance(points, made.faces)
    assert stance.up is Direction.PLUS_Y
    assert stance.facing is (Direction.PLUS_Z if ahead > 0 else Direction.MINUS_Z)


def test_people_without_clothes_stand_as_before():
    for options in ({}, {"down": 1.2}, {"fat": 1.6}, {"robe": True}):
        made, _ = human(**options)
        stance = guess_stance(made.vertices, made.faces)
        assert (stance.up, stance.facing) == (Direction.PLUS_Y, Direction.PLUS_Z)


def test_what_cannot_stand_says_so():
    document = document_of(as_mesh(capsule_figure()))
    with pytest.raises(EditError, match="left out"):
        edits.stand_up(edits.include_part(document, "part0", False))
    with pytest.raises(EditError, match="more than 0"):
        edits.stand_up(finished(), height=-1.0)


def stretched(bend):
    """A controlled figure whose knees and elbows stand off their straight lines by a share of the limb's length."""
    document = edits.stand_up(document_of(as_mesh(human(down=0.5)[0])), keep_size=True)
    pegs = edits.find_pegs(document, fingers=0)
    at = {p.name: np.array(p.position) for p in pegs.pegs}
    places = {}
    for s in "lr":
        for first, middle, last, way in (("hip", "knee", "ankle", 1.0), ("shoulder", "elbow", "wrist", -1.0)):
            start, end = at[f"{s}_{first}"], at[f"{s}_{last}"]
            off = np.array([0, 0, way * bend * np.linalg.norm(end - start)])
            places[f"{s}_{middle}"] = tuple(float(v) for v in (start + end) / 2 + off)
    document = edits.build_joints(edits.set_pegs(document, place_pegs(pegs, places)))
    return edits.build_controls(edits.bind(document))


def adopted(document, path):
    write_glb(path, replace(document.character, clips=()))
    read = read_gltf(path)
    document = edits.bring_in(Document(), read.parts, name="figure", skeleton=read.skeleton, weights=read.weights)
    return edits.build_controls(edits.stand_up(document, up=Direction.PLUS_Y, facing=Direction.PLUS_Z, keep_size=True))


TURNED = {
    "half a turn": lambda d: edits.turn_by(d, 180), "a quarter": lambda d: edits.turn_by(d, 90),
    "some": lambda d: edits.turn_by(d, -37.5), "larger": lambda d: edits.stand_up(d, height=3 * d.character.height),
    "about face": lambda d: edits.stand_up(d, facing=Direction.MINUS_Z),
    "laid down and away": lambda d: edits.stand_up(d, up=Direction.MINUS_Z, facing=Direction.PLUS_Y),
}  # fmt: skip
STRETCHED = {"straight": 0.0, "hardly bent": 1e-6, "nearly straight": 2e-3, "a little": 0.01, "the other way": -0.01}


def shows_the_same(before, after, poses):
    """before, after: documents. poses: pairs of poses of the one and the other, or pose makers for both."""
    matrix, old, new = way(before, after), before.character, after.character
    for was, now in poses:
        one, other = evaluate(old, was), evaluate(new, now)
        for part in old.parts:
            off = np.abs(other.points[part.id] - moved(matrix, one.points[part.id])).max()
            assert off < 1e-6 * new.height, off / new.height


def demos_turned():
    """Each demo each way; the large ones the ways that others cover only at full size."""
    for name in ("wick", "dumble", "harl", "winch", "lantern"):
        for how in TURNED:
            slow = name in ("wick", "dumble", "harl") and how in ("half a turn", "a quarter", "about face")
            yield pytest.param(name, how, marks=pytest.mark.full if slow else ())


@pytest.mark.each(3)
@pytest.mark.parametrize(("name", "how"), list(demos_turned()))
def test_no_demo_bends_when_it_is_turned_moved_or_sized(name, how):
    before = open_project(DEMO / f"{name}.pegloom")
    after = TURNED[how](before)
    poses = [(Pose(), Pose()), (before.character.pose, after.character.pose)]
    for was, now in zip(before.character.clips, after.character.clips, strict=True):
        for time in was.key_times[::3]:
            poses.append(tuple(
                sample(c, time, d.character.skeleton, None, d.character.rig) for c, d in ((was, before), (now, after))
            ))  # fmt: skip
    shows_the_same(before, after, poses)


@pytest.mark.each(7)
@pytest.mark.parametrize("how", TURNED)
@pytest.mark.parametrize("foreign", [False, True])
@pytest.mark.parametrize("name", STRETCHED)
def test_nearly_straight_limbs_keep_their_bend_when_turned(name, foreign, how, tmp_path):
    before = stretched(STRETCHED[name])
    if foreign:
        before = adopted(before, tmp_path / "figure.glb")
    after = TURNED[how](before)
    shows_the_same(before, after, [(Pose(), Pose()), (before.character.pose, after.character.pose)])
    # Bent by its goal as well: the pose in hand is told anew.
    rig = before.character.rig
    goals = [s.goal.id for s in rig.limbs]
    assert len(goals) == 4
    for goal in goals:
        before = edits.set_channels(before, goal, blend=1.0, move_y=0.12, move_x=0.02)
    after = TURNED[how](before)
    shows_the_same(before, after, [(before.character.pose, after.character.pose)])


def test_what_is_found_anew_on_a_turned_body_looks_ahead_again():
    document = edits.turn_by(stretched(0.0), 180)
    assert not np.allclose(document.character.front, (0, 0, 0, 1))
    document = edits.lay_pegs(document, edits.find_pegs(document, fingers=0))
    assert document.character.front == (0, 0, 0, 1)
    shin = next(j for j in document.character.skeleton.joints if j.name == "l_shin")
    assert shin.matrix[0, 0] > 0.9, "knees fold backward of where the body faces now"
