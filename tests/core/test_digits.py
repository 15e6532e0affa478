"""Fingers that are bent as they stand, and single toes: their joints lie in them."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from pegloom.core.geometry.mesh import triangulate
from pegloom.core.skeleton.find.hand import find_fingers
from pegloom.core.skeleton.kits import FINGERS, bent, finger_kit, resized
from pegloom.document import edits
from tests.support.figures import as_mesh, curled_hand, document_of, human, one_skin, toed_human


@pytest.mark.parametrize("degrees", [0, 30, 60, 100])
def test_the_joints_of_bent_fingers_lie_in_them(degrees):
    made, lines = curled_hand(np.radians(degrees))
    mesh = one_skin(made, 0.003, 12)
    triangles = triangulate(mesh).vertices
    found = find_fingers(mesh.points, triangles, np.zeros(3), np.array([0.088, 0.0, 0.0]), names=FINGERS)
    for name in FINGERS[1:]:
        finger, true = found[name], lines[name]
        assert finger.bent == (degrees >= 30)
        joints = [finger.base, finger.middle, finger.middle + 0.3 / 0.55 * (finger.tip - finger.middle)]
        winding = igl.fast_winding_number(mesh.points, triangles, np.array(joints))
        assert (np.abs(winding) > 0.5).all(), name
        # Second and third joints are bent at; a knuckle in the palm shows nothing of where it is.
        off = [float(np.linalg.norm(a - b)) for a, b in zip(joints, true[:3], strict=True)]
        assert off[0] < 0.025 and max(off[1:]) < 0.016, (name, off)


def test_a_bent_finger_keeps_its_pegs_through_other_counts_of_joints():
    straight = finger_kit("hand.l.index", "l", "arm.l.end", "index")
    kit = bent(straight)
    assert kit.pegs == ("l_index_base", "l_index_bend", "l_index_tip") and kit.joints == straight.joints
    for count in (1, 2, 3, 4):
        other = resized(kit, count)
        assert len(other.joints) == count and other.pegs == kit.pegs and max(other.at) < 2
        assert bent(other, False) == resized(straight, count)


def standing(toes):
    """A human with toes stood up, and where its left toes' tips are then."""
    made, tips = toed_human(toes)
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    moved = document.character.parts[0].mesh.points[0] - made.vertices[0]
    return document, [tip + moved for tip in tips]


@pytest.mark.each(2)
@pytest.mark.parametrize("toes", [2, 3, 4, 5])
def test_single_toes_where_the_mesh_has_them(toes):
    document, tips = standing(toes)
    pegs = edits.find_pegs(document)
    names = [n for n in pegs.by_name if n.startswith("l_") and n.endswith("_toe_tip")]
    assert len(names) == toes
    for name, true in zip(names, tips, strict=True):
        for mirrored in (1.0, -1.0):
            found = np.array(pegs.position(name if mirrored > 0 else "r_" + name[2:]))
            assert np.linalg.norm(found - true * [mirrored, 1, 1]) < 0.012
    skeleton = edits.build_joints(edits.set_pegs(document, pegs)).character.skeleton
    assert skeleton.joint("toes.l.big.1").parent == "leg.l.toes"
    assert skeleton.joint("toes.l.big.2").name == "l_big_toe_2"


def test_feet_without_toes_have_none():
    made, _ = human()
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    assert not [n for n in edits.find_pegs(document).by_name if "_toe_" in n]


def test_toes_hang_on_any_foot():
    document, tips = standing(5)
    pegs = edits.find_pegs(document)
    bare = edits.set_pegs(document, pegs)
    for toe in [k.id for k in pegs.kits if k.id.startswith("toes.l")]:
        bare = edits.remove_kit(bare, toe)
    bare = edits.build_joints(bare)
    assert not [j for j in bare.character.skeleton.joints if j.role == "toe"]
    for foot in ("leg.l.toes", "leg.l.end"):
        document, _ = edits.add_kit(bare, "toes", foot)
        new = edits.build_joints(document).character
        assert len([j for j in new.skeleton.joints if j.role == "toe"]) == 20
        big = new.pegs.position("l_big_toe_tip")
        assert np.linalg.norm(np.array(big) - tips[0]) < 0.012


def test_another_number_of_toes_and_of_knuckles_keeps_all_else():
    document, _ = standing(4)
    document = edits.set_pegs(document, edits.find_pegs(document))
    before = dict(document.character.pegs.by_name)
    none = edits.set_toes(document, 0)
    assert not [n for n in none.character.pegs.by_name if "_toe_" in n]
    assert edits.set_toes(none, 4).character.pegs.by_name == before, "what comes back stands where it stood"
    three = edits.set_toes(document, 3).character.pegs
    assert {n for n in before if "third" in n} == set(before) - set(three.by_name)
    bends = edits.set_bent(document, "hand.l.index", True)
    assert set(bends.character.pegs.by_name) - set(before) == {"l_index_bend", "r_index_bend"}
    straight = [edits.build_joints(d).character.skeleton.positions for d in (document, bends)]
    np.testing.assert_allclose(*straight, atol=1e-6)
    moved = edits.place_peg(bends, "l_index_bend", (0.5, 0.9, 0.05))
    joints = edits.build_joints(moved).character.skeleton
    np.testing.assert_allclose(joint_at(joints, "hand.l.index.2"), (0.5, 0.9, 0.05), atol=1e-6)
    assert edits.set_bent(bends, "hand.l.index", False).character.pegs.by_name == before


def joint_at(skeleton, joint):
    return skeleton.joint(joint).position
