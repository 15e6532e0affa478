"""Landmarks looked for in a body that has pegs: what the hand did stays."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.document import edits
from tests.support.figures import as_mesh, document_of, human, unrigged_wick


@pytest.fixture(scope="module")
def built():
    document = edits.stand_up(unrigged_wick())
    document = edits.build_joints(edits.find_pegs_again(document))
    document, _ = edits.add_kit(document, "ear", "spine.head")
    document = edits.set_joint_count(document, "spine", 5)
    return edits.place_peg(document, "l_elbow", (0.41, 1.02, -0.03))


def places(document):
    return {p.name: p.position for p in document.character.pegs.pegs}


def test_pegs_placed_by_hand_and_kits_stay(built):
    pegs = edits.find_pegs_again(built).character.pegs
    assert pegs.position("l_elbow") == (0.41, 1.02, -0.03) and pegs.by_name["r_elbow"].by_hand
    assert {"ear.l", "ear.r"} <= {k.id for k in pegs.kits}
    assert len(pegs.kit("spine").joints) == 5
    assert pegs.position("l_ear_tip") == built.character.pegs.position("l_ear_tip")
    assert not pegs.by_name["l_wrist"].by_hand


def test_what_was_placed_is_found_anew_when_told_so(built):
    pegs = edits.find_pegs_again(built, keep_placed=False).character.pegs
    assert not any(p.by_hand for p in pegs.pegs)
    assert pegs.position("l_elbow") != (0.41, 1.02, -0.03)
    assert {"ear.l", "ear.r"} <= {k.id for k in pegs.kits} and len(pegs.kit("spine").joints) == 5


def test_a_peg_kept_on_one_side_alone_is_apart():
    document = edits.find_pegs_again(edits.stand_up(document_of(as_mesh(human(down=0.6)[0]))), fingers=0)
    document = edits.place_peg(document, "l_wrist", (0.5, 1.2, 0.05), both_sides=False)
    pegs = edits.find_pegs_again(document, fingers=0).character.pegs
    assert pegs.pairs_apart == ("wrist",)


def test_another_pattern_takes_its_own_kits_and_keeps_added_ones(built):
    document = edits.find_pegs_again(built, plan="winged")
    pegs = document.character.pegs
    assert pegs.pattern == "winged"
    assert "ear.l" in {k.id for k in pegs.kits}
    assert "arm.l" not in {k.id for k in pegs.kits}
    names = {j.id for j in document.character.skeleton.joints}
    assert {k.attach for k in pegs.kits if k.attach} <= names


def test_another_number_of_fingers_keeps_the_rest_and_looks_at_the_hand(built):
    few = edits.set_fingers(built, 3)
    assert {k.id.rsplit(".", 1)[1] for k in few.character.pegs.kits if k.kind == "finger"} == {"thumb", "index", "middle"}
    before, after = places(built), places(few)
    assert all(after[name] == before[name] for name in after)
    back = places(edits.set_fingers(few, 5))
    assert back == before, "a finger that comes back stands where it stood"
    none = edits.set_fingers(built, 0)
    assert not [k for k in none.character.pegs.kits if k.kind == "finger"]
    # Never found before, they are looked for where the hand shows them.
    fresh = edits.build_joints(edits.find_pegs_again(edits.stand_up(unrigged_wick()), fingers=0))
    grown = edits.set_fingers(fresh, 5).character.pegs
    for s in "lr":
        for finger in ("thumb", "index", "middle", "ring", "little"):
            there = np.array(places(built)[f"{s}_{finger}_tip"])
            assert np.linalg.norm(np.array(grown.position(f"{s}_{finger}_tip")) - there) < 0.012


def test_segments_stay_with_another_number_of_fingers(built):
    two = edits.set_joint_count(built, "hand.l.index", 2)
    more = edits.set_fingers(edits.set_fingers(two, 3), 5).character.pegs
    assert len(more.kit("hand.l.index").joints) == 2
