"""Bodies whose two sides are not alike: each side keeps its own places where it has to, and only there."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.document import edits
from tests.support.figures import as_mesh, document_of, human

UNEVEN = {
    "one arm raised, its forearm longer": {"left_arm": -0.785, "left_fore": 1.2},
    "one raised, one hanging": {"left_arm": -0.785, "left_fore": 1.2, "down": 0.7},
    "one a little lower": {"left_arm": 0.8, "down": 0.1},
    "high over the head": {"left_arm": -1.2, "down": 0.5},
}
LIMITS = {"elbow": 2.0, "wrist": 1.2, "knee": 1.5, "ankle": 1.5, "hip": 2.2}
"""Percent of the height, as on even bodies; the raised arm's elbow a little more."""


def found_in(body, **asked):
    document = edits.stand_up(document_of(as_mesh(body)), keep_size=True)
    standing = np.array(document.character.standing.file_to_character).reshape(4, 4)
    return edits.find_pegs(document, fingers=0, **asked), standing, document


@pytest.mark.each(2)
@pytest.mark.parametrize("name", UNEVEN)
def test_each_side_keeps_its_own_places(name):
    body, at = human(**UNEVEN[name])
    pegs, standing, _ = found_in(body)
    for joint, most in LIMITS.items():
        for side, flip in (("l", 1), ("r", -1)):
            place = at[joint] * [flip, 1, 1]
            place = at.get(f"r_{joint}", place) if side == "r" else place
            there = standing[:3, :3] @ place + standing[:3, 3]
            gap = 100 * float(np.linalg.norm(np.array(pegs.position(f"{side}_{joint}")) - there)) / 1.75
            assert gap < most, (side, joint, gap)


def test_what_is_alike_is_evened_and_what_is_not_is_told():
    pegs, _, document = found_in(human(left_arm=-0.785, down=0.7)[0])
    assert set(pegs.pairs_apart) >= {"elbow", "wrist", "palm"}
    assert not {"hip", "knee", "ankle", "ball", "toe"} & set(pegs.pairs_apart)
    middle = document.character.standing.middle
    for name in ("hip", "knee", "ankle"):
        left, right = np.array(pegs.position("l_" + name)), np.array(pegs.position("r_" + name))
        np.testing.assert_allclose(left * [-1, 1, 1] + [2 * middle, 0, 0], right, atol=2e-6)


def test_an_even_body_has_no_pair_apart_and_a_rough_one_is_evened():
    assert found_in(human(down=0.6)[0])[0].pairs_apart == ()
    rough, _ = human(down=0.6)
    rough.vertices += np.random.default_rng(3).normal(scale=0.004, size=rough.vertices.shape)
    assert found_in(rough)[0].pairs_apart == ()


def test_of_a_pair_apart_one_alone_is_dragged_until_it_is_made_even():
    pegs, _, document = found_in(human(left_arm=-0.785, down=0.7)[0])
    document = edits.set_pegs(document, pegs)
    moved = edits.place_peg(document, "l_wrist", (0.6, 1.7, 0.0)).character.pegs
    assert moved.position("l_wrist") == (0.6, 1.7, 0.0)
    assert moved.position("r_wrist") == pegs.position("r_wrist")
    even = edits.even_pegs(edits.place_peg(document, "l_wrist", (0.6, 1.7, 0.0)))
    assert even.character.pegs.pairs_apart == ()
    both = edits.place_peg(even, "l_wrist", (0.5, 1.5, 0.0)).character.pegs
    np.testing.assert_allclose(both.position("r_wrist")[0], 2 * document.character.standing.middle - 0.5, atol=1e-9)
