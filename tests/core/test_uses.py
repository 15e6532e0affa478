"""What foreign joints are for: bones, helpers standing at other chains' joints, ends; and that all ask the same answer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import decompose, euler_quaternion, quaternion_product
from pegloom.core.motion.trials import trials_of
from pegloom.core.rig.pose import joint_pose
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton
from pegloom.core.skeleton.uses import HandedJoints, Use, bones_of, told_uses, uses_of
from pegloom.core.skin.weights import dense_over
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Skin
from pegloom.document.uses import uses_in
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick


def foreign(extra=(), rename=lambda name: name):
    """Wick's joints as if a file had brought them, and some more: (name, what it hangs on, where)."""
    skeleton = wick().character.skeleton
    joints = [replace(j, origin=Origin.FILE, role="", id=f"f.{j.id}", name=rename(j.name), parent=j.parent and f"f.{j.parent}") for j in skeleton.joints]
    for name, parent, where in extra:
        place = skeleton.joint(where).position if isinstance(where, str) else where
        joints.append(Joint(f"x.{name}", name, parent and f"f.{parent}", Side.CENTRE, tuple(place), origin=Origin.FILE))
    return Skeleton(tuple(joints))


HELPERS = [
    ("handTargetL", "spine.chest", "arm.l.end"), ("third_hand", "spine.chest", "arm.l.end"), ("footIK", "root", "leg.l.end"),
    ("heel_thing", "root", "leg.r.end"), ("look", None, "spine.head"), ("kneePole", "root", (0.1, 0.5, 0.8)),
    ("weaponSocket", "arm.r.end", (-0.6, 0.8, 0.0)),
]  # fmt: skip


@pytest.mark.parametrize("name, parent, where", HELPERS)
def test_a_joint_at_another_chains_joint_is_a_helper(name, parent, where):
    skeleton = foreign([(name, parent, where)])
    uses = told_uses(skeleton)
    assert uses[f"x.{name}"] is Use.HELPER
    assert all(use is Use.BONE for j, use in uses.items() if not j.startswith("x."))


@pytest.mark.parametrize("name", ["indexEnd", "index_END", "toe_nub", "J_Bip_Index_end"])
def test_an_end_says_where_its_parent_ends(name):
    place = np.array(wick().character.skeleton.joint("hand.l.index.3").position) + [0.02, -0.02, 0]
    skeleton = foreign([(name, "hand.l.index.3", place)])
    assert told_uses(skeleton)[f"x.{name}"] is Use.END
    bones = bones_of(skeleton, {})
    assert f"x.{name}" not in bones.index
    bare = Skeleton(tuple(replace(j, tail=None) for j in skeleton.joints))
    np.testing.assert_allclose(bones_of(bare, {}).joint("f.hand.l.index.3").tail, place)


def test_twins_at_one_place_and_a_bone_beside_a_bone_are_no_helpers():
    """A twist joint at the wrist hangs on the forearm as the hand does; a hip's hangs on the hips as the thigh does."""
    skeleton = foreign([("forearm_twist", "arm.l.lower", "arm.l.end"), ("buttock", "spine.hips", "leg.l.upper")])
    uses = told_uses(skeleton)
    assert uses["x.forearm_twist"] is Use.BONE and uses["x.buttock"] is Use.BONE


def test_what_is_built_here_is_a_bone_whatever_it_is_called():
    assert set(told_uses(wick().character.skeleton).values()) == {Use.BONE}


def test_a_person_has_the_last_word():
    skeleton = foreign([("handTargetL", "spine.chest", "arm.l.end")])
    assert uses_of(skeleton, {"x.handTargetL": Use.BONE})["x.handTargetL"] is Use.BONE
    assert "x.handTargetL" in bones_of(skeleton, {"x.handTargetL": Use.BONE}).index
    assert "x.handTargetL" in bones_of(skeleton, {}, keep=("x.handTargetL",)).index


def adopted(tmp_path, extra):
    """Wick through a file, with helper joints among his own."""
    document = wick()
    character = document.character
    joints = list(character.skeleton.joints)
    for name, parent, where in extra:
        place = character.skeleton.joint(where).position if isinstance(where, str) else where
        joints.append(Joint(f"x.{name}", name, parent, Side.CENTRE, tuple(place), origin=Origin.FILE))
    path = tmp_path / "wick.glb"
    write_glb(path, replace(character, skeleton=Skeleton(tuple(joints)), rig=None, clips=()))
    from pegloom.document.model import Document
    from pegloom.files.gltf import read_gltf

    read = read_gltf(path)
    return edits.bring_in(Document(), read.parts, name="wick", skeleton=read.skeleton, weights=read.weights)


SOME = [("handTargetL", "spine.chest", "arm.l.end"), ("thing", "spine.chest", "arm.r.end"), ("marker", None, (0.9, 0.4, 0.6)), ("footL", "root", "leg.l.end"), ("footR", "root", "leg.r.end")]


def test_a_bind_and_the_trials_are_the_same_with_helpers_as_without(tmp_path):
    plain, helped = adopted(tmp_path, ()), adopted(tmp_path, SOME)
    names = {j.id: j.name for j in helped.character.skeleton.joints}
    assert uses_in(helped.character)[next(j for j, n in names.items() if n == "marker")] is Use.HELPER
    weights = {}
    for key, document in (("plain", plain), ("helped", helped)):
        skin = edits.bind(document).character
        part = max(skin.included, key=lambda p: p.mesh.vertex_count)
        own = {j.id: j.name for j in skin.skeleton.joints}
        w = skin.skin.weights[part.id]
        order = sorted(set(names.values()))
        columns = dense_over(w, w.joint_ids)
        table = np.zeros((len(columns), len(order)))
        for c, joint in enumerate(w.joint_ids):
            table[:, order.index(own[joint])] += columns[:, c]
        weights[key] = table
    np.testing.assert_allclose(weights["helped"], weights["plain"], atol=1e-9)
    trials = [t.id for t in trials_of(helped.character.skeleton)]
    assert trials == [t.id for t in trials_of(plain.character.skeleton)]
    roles = [{r: names.get(j, j) for r, j in body_of(d.character.skeleton).joint_of.items()} for d in (plain, helped)]
    assert {r for r in roles[0] if "." in r} <= set(roles[1])


@pytest.mark.each(2)
@pytest.mark.parametrize("which", list(HandedJoints))
def test_a_file_handed_over_gets_the_joints_that_are_wanted_and_moves_alike(tmp_path, which):
    document = edits.bind(adopted(tmp_path, [*SOME, ("head_end", "spine.head", (0.0, 1.9, 0.0))]))
    # A helper that skin follows goes whatever it is.
    helped = next(j for j in document.character.skeleton.joints if j.name == "thing")
    document = edits.set_use(document, helped.id, Use.BONE, both_sides=False)
    document = edits.set_use(edits.bind(document), helped.id, Use.HELPER, both_sides=False)
    character = document.character
    path = tmp_path / "handed.glb"
    notes = write_glb(path, character, joints=which)
    back = read_gltf(path)
    names = {j.name for j in back.skeleton.joints}
    helpers, ends = {"handTargetL", "marker", "footL", "footR"}, {"head_end"}
    gone = {HandedJoints.ALL: set(), HandedJoints.WITHOUT_HELPERS: helpers, HandedJoints.BONES: helpers | ends}[which]
    assert {j.name for j in character.skeleton.joints} - names == gone
    said = " ".join(notes)
    assert all(name in said for name in gone | helpers)
    again = Character("x", "x", parts=back.parts, skeleton=back.skeleton, skin=Skin("file", 4, back.weights))
    turned = ["arm.l.upper", "spine.chest", "leg.r.lower"]
    wanted = {wick().character.skeleton.joint(j).name for j in turned} | {"thing"}
    posed = []
    for one in (character, again):
        rows = {}
        for joint in one.skeleton.joints:
            if joint.name in wanted:
                place, own, size = decompose(one.skeleton.local[one.skeleton.index[joint.id]])
                rows[joint.id] = np.concatenate([place, quaternion_product(own, euler_quaternion([0.4, 0.1, 0.2])), size])
        assert len(rows) == 4
        posed.append(evaluate(one, joint_pose(rows)).points)
    for part, other in zip(character.included, again.included, strict=True):
        n = part.mesh.vertex_count
        np.testing.assert_allclose(posed[0][part.id], posed[1][other.id][:n], atol=2e-5)


def test_the_answer_is_overruled_kept_and_undone(tmp_path):
    document = adopted(tmp_path, SOME)
    joint = next(j.id for j in document.character.skeleton.joints if j.name == "handTargetL")
    as_bone = edits.set_use(document, joint, Use.BONE, both_sides=False)
    path = tmp_path / "said.pegloom"
    save_project(path, as_bone)
    assert open_project(path).character.uses == {joint: Use.BONE}
    bound = edits.bind(as_bone).character
    assert any(joint in w.joint_ids and w.column(joint).any() for w in bound.skin.weights.values())
    assert not edits.set_use(as_bone, joint, None, both_sides=False).character.uses
    lone = edits.set_use(document, joint, Use.HELPER, both_sides=False)
    with pytest.raises(EditError, match="hold the skin"):
        for j in lone.character.skeleton.joints:
            lone = edits.set_use(lone, j.id, Use.HELPER, both_sides=False)
