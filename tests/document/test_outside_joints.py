"""Joints outside their mesh, whoever put them there: found, told in millimetres, and brought in as shown."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from pegloom.checks import find_snags
from pegloom.core.geometry.winding import winding_numbers
from pegloom.document import edits
from pegloom.document.edits.joints import whole_surface
from tests.support.figures import as_mesh, capsule_figure, unrigged_wick


@pytest.fixture(scope="module")
def built():
    document = edits.stand_up(unrigged_wick())
    return edits.build_joints(edits.find_pegs_again(document))


def outside(document):
    return {s.message.split(" lies outside")[0] for s in find_snags(document.character) if s.code == "outside-mesh"}


def turns(document, joint):
    body = whole_surface(document.character)
    place = np.array([document.character.skeleton.joint(joint).position])
    return abs(float(winding_numbers(place, body.points, body.triangles)[0]))


def test_winding_numbers_of_a_torus_and_of_overlapping_shells():
    made = trimesh.creation.torus(1.0, 0.3).subdivide()
    rng = np.random.default_rng(5)
    places = rng.uniform(-1.5, 1.5, (300, 3))
    own = winding_numbers(places, np.array(made.vertices), np.array(made.faces))
    # (A torus lies about the z axis; near its skin the facets decide.)
    away = np.hypot(np.hypot(places[:, 0], places[:, 1]) - 1.0, places[:, 2])
    clear = np.abs(away - 0.3) > 0.02
    assert clear.sum() > 200
    np.testing.assert_array_equal((own > 0.5)[clear], (away < 0.3)[clear])
    np.testing.assert_allclose(own[clear], np.round(own[clear]), atol=1e-6)
    # Overlapping shells add up; a hole lets little through.
    many = capsule_figure()
    inner = winding_numbers(np.array([[0, 1.2, 0.0], [0.19, 1.42, 0.0], [0.4, 0.4, 0.4]]), many.vertices, many.faces)
    assert inner[0] == pytest.approx(1.0, abs=0.02) and inner[1] > 1.5 and abs(inner[2]) < 0.02


def test_every_finger_of_the_demo_lies_inside(built):
    assert not outside(built)
    for j in built.character.skeleton.joints:
        if j.id.startswith("hand."):
            assert turns(built, j.id) > 0.5, j.name


CASES = {
    "a collarbone": ("arm.l.clavicle", (0.0, 0.12, 0.1)), "a joint moved by hand": ("arm.l.lower", (0.0, 0.0, 0.1)),
    "a finger's middle": ("hand.l.index.2", (0.0, 0.03, 0.0)),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_joint_moved_out_is_a_snag_and_is_centred(built, name):
    joint, off = CASES[name]
    place = np.array(built.character.skeleton.joint(joint).position) + off
    moved = edits.move_joint(built, joint, tuple(place), both_sides=False)
    assert turns(moved, joint) < 0.5
    label = moved.character.skeleton.joint(joint).name
    assert label in outside(moved)
    shown = {m.peg: m.place for m in edits.with_partners(moved, edits.proposed_joint_depths(moved), joints=True)}
    assert joint in shown
    after = edits.centre_joints(moved)
    assert label not in outside(after) and turns(after, joint) > 0.5
    for one, other in zip(moved.character.skeleton.joints, after.character.skeleton.joints, strict=True):
        if one.id not in shown:
            np.testing.assert_allclose(one.position, other.position, atol=1e-9)
        else:
            np.testing.assert_allclose(other.position, shown[one.id], atol=1e-6)


def test_a_knuckles_peg_outside_is_a_snag_and_is_centred(built):
    place = np.array(built.character.pegs.position("l_index_base")) + [0.0, 0.04, 0.0]
    moved = edits.place_peg(built, "l_index_base", tuple(place), both_sides=False)
    assert "l_index_base" in outside(moved)
    shown = {m.peg for m in edits.with_partners(moved, edits.proposed_depths(moved))}
    after = edits.centre_in_mesh(moved)
    assert "l_index_base" not in outside(after)
    for peg in moved.character.pegs.pegs:
        if peg.name not in shown:
            assert after.character.pegs.position(peg.name) == peg.position


def test_a_drawn_joint_outside_is_a_snag(built):
    wrist = np.array(built.character.skeleton.joint("hand.l.index.2").position)
    place, end = wrist + [0.0, 0.03, 0.0], wrist + [0.03, 0.01, 0.0]
    drawn, joint = edits.draw_joint(built, tuple(place), parent="hand.l.index.1", name="charm", both_sides=False, tail=tuple(end))
    assert turns(drawn, joint) < 0.5 and "charm" in outside(drawn)
    assert "charm" not in outside(edits.centre_joints(drawn, [joint], both_sides=False))


def test_an_open_hollow_figure_has_an_inside():
    mesh = as_mesh(capsule_figure())
    assert abs(float(winding_numbers(np.array([[0.46, 1.42, 0.0]]), mesh.points, np.asarray(mesh.corners).reshape(-1, 3))[0])) > 0.5
