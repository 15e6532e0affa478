"""How untidy figures stand: of few faces, modelled aside, or only a piece of a body."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from pegloom.core.geometry.mesh import from_faces
from pegloom.core.geometry.standing import Direction, guess_stance
from pegloom.document import edits
from tests.support.creatures import four_legged
from tests.support.figures import as_mesh, box_figure, cut_off, document_of, human, lone_hand, unrigged_wick

BOXES = {
    "plain": {}, "level arms": {"down": 0.0}, "hanging arms": {"down": 1.3}, "big head": {"head": 2.0, "down": 1.2},
    "bigger head, small feet": {"head": 2.4, "feet": 0.6, "down": 0.1}, "stub feet": {"feet": 0.5},
    "hat": {"feet": 0.45, "hat": True}, "straddling": {"stance": 2.0, "down": 0.0}, "stout": {"wide": 1.6, "head": 1.5},
}  # fmt: skip
TURNS = {
    "upright": (0, 0, 0), "on its back": (-90, 0, 0), "on its head": (180, 0, 0), "on its side": (0, 0, 90),
    "facing aside": (0, 90, 0),
}  # fmt: skip


def laid(made, angles):
    turn = Rotation.from_euler("xyz", angles, degrees=True)
    return turn, turn.apply(np.array(made.vertices)), np.array(made.faces)


def off(stance, turn):
    """Degrees that up and facing are off."""
    pairs = ((stance.up_vector, [0, 1, 0]), (stance.facing_vector, [0, 0, 1]))
    return [float(np.degrees(np.arccos(np.clip(a @ turn.apply(b), -1, 1)))) for a, b in pairs]


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize("name", BOXES)
def test_figures_of_few_faces_are_stood_on_their_feet(name, turn):
    turned, points, triangles = laid(box_figure(**BOXES[name])[0], TURNS[turn])
    stance = guess_stance(points, triangles)
    assert max(off(stance, turned)) < 1.0, stance.told


def test_legs_that_touch_are_not_told_surely():
    """With no gap between its feet a box man on his head looks much like one on his feet."""
    _, points, triangles = laid(box_figure(stance=0.55)[0], (180, 0, 0))
    stance = guess_stance(points, triangles)
    assert stance.up_confidence < 0.3 and stance.facing_confidence <= 0.3


@pytest.mark.each(3)
@pytest.mark.parametrize("degrees", [30, -50, 12, 75])
@pytest.mark.parametrize("figure", ["human", "lopsided human", "boxes", "animal"])
def test_a_body_modelled_aside_is_found_and_turned_square(figure, degrees):
    made = {
        "human": lambda: human(down=0.6)[0], "lopsided human": lambda: human(left_arm=-0.785, down=0.7)[0],
        "boxes": lambda: box_figure()[0], "animal": lambda: four_legged()[0],
    }[figure]()  # fmt: skip
    turned, points, triangles = laid(made, (0, degrees, 0))
    stance = guess_stance(points, triangles)
    assert max(off(stance, turned)) < 2.0, stance.told
    stood = edits.stand_up(document_of(from_faces(points, triangles)), keep_size=True).character
    straight = edits.stand_up(document_of(as_mesh(made)), keep_size=True).character
    np.testing.assert_allclose(stood.all_points(), straight.all_points(), atol=0.04)


def test_the_boxes_mean_the_files_own_axes_however_often_they_are_used():
    points = np.array(human(down=0.6)[0].vertices) @ Rotation.from_euler("x", 90, degrees=True).as_matrix().T
    document = document_of(from_faces(points, np.array(human(down=0.6)[0].faces)))
    asked = {"up": Direction.PLUS_Z, "facing": Direction.MINUS_Y}
    once = edits.stand_up(document, **asked)
    again = edits.stand_up(edits.stand_up(once, **asked), **asked)
    np.testing.assert_allclose(again.character.all_points(), once.character.all_points(), atol=1e-9)
    assert (again.character.standing.up, again.character.standing.facing) == ("+Z", "-Y")
    turned = edits.stand_up(edits.turn_by(once, 37.0), **asked)
    np.testing.assert_allclose(turned.character.all_points(), once.character.all_points(), atol=1e-9)
    other = edits.stand_up(once, up=Direction.MINUS_Z, facing=Direction.MINUS_Y)
    fresh = edits.stand_up(document, up=Direction.MINUS_Z, facing=Direction.MINUS_Y)
    np.testing.assert_allclose(other.character.all_points(), fresh.character.all_points(), atol=1e-9)


def test_one_box_alone_leaves_the_other_to_the_shape():
    made = human(down=0.6)[0]
    document = document_of(as_mesh(made))
    stood = edits.stand_up(document, facing=Direction.PLUS_X).character.standing
    assert (stood.up, stood.facing) == ("+Y", "+X")
    stood = edits.stand_up(edits.stand_up(document), up=Direction.MINUS_Y).character.standing
    assert stood.up == "-Y"


def pieces():
    wick = edits.stand_up(unrigged_wick()).character
    yield "wick", wick.all_points(), wick.all_triangles(), 0.74, 0.6
    for name, asked in (("human", {"down": 0.6}), ("stout human", {"fat": 1.5, "head": 1.3})):
        made = human(**asked)[0]
        yield name, np.array(made.vertices), np.array(made.faces), 0.855, 0.74


@pytest.mark.parametrize("what", ["head", "bust"])
def test_a_head_alone_and_a_bust_are_known_as_such(what):
    for name, points, triangles, neck, breast in pieces():
        height, aside = points[:, 1].max(), np.abs(points[:, 0])
        low, wide = (neck, 0.12) if what == "head" else (breast, 0.2)
        mesh = cut_off(points, triangles, (points[:, 1] > low * height) & (aside < wide * height))
        assert edits.guess_plan(edits.stand_up(document_of(mesh))) == "face", name


@pytest.mark.each(3)
@pytest.mark.parametrize("fingers", [3, 4, 5])
@pytest.mark.parametrize("angles", [(0, 0, 0), (90, 0, 0), (-90, 0, 0), (0, 90, 0)])
def test_a_hand_alone_is_known_and_rigged(fingers, angles):
    _, points, triangles = laid(lone_hand(fingers), angles)
    document = edits.stand_up(document_of(from_faces(points, triangles)), keep_size=True)
    assert edits.guess_plan(document) == "hand"
    pegs = edits.find_pegs(document, plan="hand")
    assert pegs.fingers == fingers
    skeleton = edits.build_joints(edits.set_pegs(document, pegs)).character.skeleton
    names = {j.name for j in skeleton.joints}
    assert {"l_hand", "l_thumb_1", "l_index_3"} <= names and not [n for n in names if n.startswith("r_")]
    # The thumb is the shortest, and stands off the hand.
    along = np.array(pegs.position("l_palm")) - pegs.position("l_wrist")
    along /= np.linalg.norm(along)
    reach = {n: float((np.array(pegs.position(n)) - pegs.position("l_wrist")) @ along) for n in pegs.by_name}
    assert reach["l_thumb_tip"] < min(v for n, v in reach.items() if n.endswith("_tip") and "thumb" not in n)
