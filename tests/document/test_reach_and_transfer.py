"""A joint's reach in the default bind, and a source of weights of which a piece is left out."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from pegloom.core.errors import EditError
from pegloom.core.skin.weights import dense, row_sums_hold
from pegloom.document import edits
from pegloom.document.model import Document, Part
from tests.support.figures import as_mesh, human, wick


def test_a_joints_reach_counts_in_the_default_bind_too():
    document = wick()
    part = max(document.character.included, key=lambda p: p.mesh.vertex_count).id
    sums = []
    for factor in (0.6, 1.0, 1.6):
        bound = edits.bind(edits.set_reach(document, "arm.l.upper", factor), part_ids=(part,)).character
        weights = bound.skin.weights[part]
        assert row_sums_hold(weights)
        sums.append([weights.column(f"arm.{s}.upper").sum() for s in "lr"])
    assert sums[0][0] < 0.93 * sums[1][0] < 0.93 * 0.97 * sums[2][0]
    for left, right in sums:
        assert abs(left - right) < 0.01 * left
    plain = edits.bind(document, part_ids=(part,)).character.skin.weights[part]
    same = edits.bind(edits.set_reach(document, "arm.l.upper", 1.0), part_ids=(part,)).character.skin.weights[part]
    assert np.array_equal(dense(plain), dense(same))


def with_hair():
    """A body whose hair hangs on its left shoulder, one part with it; and a cloth over both shoulders."""
    made = human(down=0.6)[0]
    hair = trimesh.creation.box((0.12, 0.02, 0.1)).subdivide().subdivide().subdivide()
    hair.apply_translation([0.12, 1.51, -0.02])
    body = trimesh.util.concatenate([made, hair])
    cloth = trimesh.creation.box((0.5, 0.01, 0.14)).subdivide().subdivide().subdivide().subdivide()
    cloth.apply_translation([0, 1.53, -0.02])
    document = edits.bring_in(Document(), (Part("body", "body", as_mesh(body)), Part("cloth", "cloth", as_mesh(cloth))), name="b")
    document = edits.stand_up(document, keep_size=True)
    document = edits.bind(edits.build_joints(edits.find_pegs_again(document, fingers=0)))
    hairs = np.arange(len(made.vertices), document.character.part("body").mesh.vertex_count)
    return edits.fill_weight(document, "body", "spine.head", hairs, 1.0, both_sides=False), hairs


def test_what_hangs_before_the_source_may_be_left_out():
    document, hairs = with_hair()
    whole, _ = edits.transfer(document, "body", "cloth")
    without, _ = edits.transfer(document, "body", "cloth", leave_out=hairs)
    under = np.abs(document.character.part("cloth").mesh.points[:, 0] - 0.12) < 0.05
    head = [d.character.skin.weights["cloth"].column("spine.head")[under].max() for d in (whole, without)]
    assert head[0] > 0.9 and head[1] < 0.02
    assert row_sums_hold(without.character.skin.weights["cloth"])
    every = np.arange(document.character.part("body").mesh.vertex_count)
    with pytest.raises(EditError, match="left out"):
        edits.transfer(document, "body", "cloth", leave_out=every)


def test_parts_of_another_character_may_be_left_out():
    document, _ = with_hair()
    other = document.character
    both = edits.read_weights(document, other)[0]
    without = edits.read_weights(document, other, without=("Cloth ",))[0]
    assert both.character.skin.weights.keys() == without.character.skin.weights.keys()
    with pytest.raises(EditError, match="every part"):
        edits.read_weights(document, other, without=("cloth", "body"))
