"""Kits hung on a bound body take their weights where they stand, and a bind of some joints leaves the rest alone."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from tests.support.figures import as_mesh, document_of, human, wick

EARS = ("ear.l.1", "ear.l.2", "ear.r.1", "ear.r.2")


@pytest.fixture(scope="module")
def bound():
    document = edits.stand_up(document_of(as_mesh(human(down=0.6, head=1.4)[0])), keep_size=True)
    document = edits.build_joints(edits.find_pegs_again(document, fingers=0))
    return edits.bind(document)


def held_around(document, joint, place, radius=0.035):
    points = document.character.parts[0].mesh.points
    near = np.linalg.norm(points - np.array(place), axis=1) < radius
    return document.character.skin.weights["part0"].column(joint)[near].max(initial=0.0)


def ears_dragged(document):
    """Ears hung on the head where they come, then dragged to its sides, peg by peg."""
    document, _ = edits.add_kit(document, "ear", "spine.head")
    head = np.array(document.character.skeleton.joint("spine.head").position)
    base, tip = head + [0.1, 0.1, 0.0], head + [0.17, 0.16, 0.0]
    document = edits.place_peg(document, "l_ear_base", tuple(base))
    return edits.place_peg(document, "l_ear_tip", tuple(tip)), base


def test_ears_dragged_into_place_hold_what_is_there_and_not_where_they_came(bound):
    document, base = ears_dragged(bound)
    skeleton = document.character.skeleton
    ear = np.array(skeleton.joint("ear.l.1").position)
    np.testing.assert_allclose(ear, base, atol=1e-6)
    total = sum(document.character.skin.weights["part0"].column(j) for j in EARS)
    points = document.character.parts[0].mesh.points
    far = np.minimum(*(np.linalg.norm(points - base * [s, 1, 1], axis=1) for s in (1, -1))) > 0.16
    assert total[far].max() < 0.01
    assert total.max() > 0.3
    weights = document.character.skin.weights["part0"]
    assert row_sums_hold(weights) and most_influences(weights) <= 4
    body = [j for j in weights.joint_ids if j not in EARS and j != "spine.head"]
    before = bound.character.skin.weights["part0"]
    for joint in body:
        np.testing.assert_allclose(weights.column(joint), before.column(joint), atol=1e-5)  # crumbs go


def test_what_a_hand_gave_an_ear_stays_when_it_is_moved(bound):
    document, base = ears_dragged(bound)
    points = document.character.parts[0].mesh.points
    crown = np.argsort(-points[:, 1])[:12]
    painted = edits.fill_weight(document, "part0", "ear.l.1", crown, 0.5, both_sides=False)
    moved = edits.place_peg(painted, "l_ear_base", tuple(np.array(base) + [0, 0.02, 0]))
    was, now = (d.character.skin.weights["part0"] for d in (painted, moved))
    assert np.array_equal(dense(was), dense(now))


def test_a_pattern_s_own_pegs_keep_the_weights_of_the_bind(bound):
    moved = edits.place_peg(bound, "l_elbow", tuple(np.array(bound.character.pegs.position("l_elbow")) + [0, 0.02, 0]))
    assert moved.character.skin.weights["part0"] is bound.character.skin.weights["part0"]


def test_a_tail_of_a_few_joints_is_dragged_into_place():
    document = wick()
    part = max(document.character.included, key=lambda p: p.mesh.vertex_count).id
    before = document.character.skin.weights[part]
    document, kit = edits.add_kit(document, "chain", "spine.head", name="plume", both_sides=False)
    points = document.character.part(part).mesh.points
    top = points[np.argmax(points[:, 1])]
    for peg, off in (("plume_base", (0, -0.06, 0)), ("plume_middle", (0, -0.02, 0)), ("plume_tip", (0, 0.02, 0))):
        document = edits.place_peg(document, peg, tuple(top + off))
    joints = document.character.pegs.kit(kit).joints
    weights = document.character.skin.weights[part]
    plume = sum(weights.column(j) for j in joints)
    assert plume[np.linalg.norm(points - top, axis=1) < 0.02].max() > 0.5
    assert plume[points[:, 1] < top[1] - 0.25].max() < 1e-6
    gone = edits.remove_kit(document, kit).character.skin.weights[part]
    assert np.abs(dense(gone) - dense(before)).max() < 1e-5, "taken back, nothing of it is left"


def test_a_bind_of_some_joints_leaves_the_others_shares_alone(bound):
    document, _ = ears_dragged(bound)
    part = "part0"
    # Weights no bind would give, which must not be lost.
    points = document.character.parts[0].mesh.points
    legs = np.flatnonzero(points[:, 1] < 0.5)
    document = edits.fill_weight(document, part, "spine.chest", legs, 0.3)
    before = document.character.skin.weights[part]
    after = edits.bind(document, joint_ids=EARS).character.skin.weights[part]
    whole = edits.bind(document).character.skin.weights[part]
    assert row_sums_hold(after) and most_influences(after) <= 4
    for ear in EARS:
        np.testing.assert_allclose(after.column(ear), whole.column(ear), atol=2e-3)
    untouched = sum(after.column(j) + before.column(j) for j in EARS) == 0
    assert untouched[legs].all()
    ids = [j for j in before.joint_ids if j not in EARS]
    for joint in ids:
        np.testing.assert_array_equal(after.column(joint)[untouched], before.column(joint)[untouched])
    # Where the ears take something, the others keep their shares of the rest.
    # (A row that is full has to let its smallest go.)
    room = np.diff(after.indptr) < 4
    most = np.maximum(*(sum(w.column(j) for j in EARS) for w in (before, after)))
    rows = np.flatnonzero(~untouched & room & (most < 0.7))
    assert len(rows) > 10
    for joint in ids:
        left = [1.0 - sum(w.column(j)[rows] for j in EARS) for w in (before, after)]
        shares = [w.column(joint)[rows] / np.maximum(rest, 1e-9) for w, rest in zip((before, after), left, strict=True)]
        np.testing.assert_allclose(*shares, atol=1e-6)
