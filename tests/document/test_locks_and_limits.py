"""Locked joints hold through every edit of weights; a limit of influences is each part's own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.locks import held
from pegloom.core.skin.mirror import Way
from pegloom.core.skin.weights import dense, from_dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.files.project import open_project, save_project
from tests.support.figures import DEMO, wick


def body(document):
    return max(document.character.included, key=lambda p: p.mesh.vertex_count).id


def some(document):
    return np.arange(0, document.character.part(body(document)).mesh.vertex_count, 3)


def other_weave(document):
    kept, weave = edits.keep_weave(document, "mine")
    changed = edits.smooth_weights(kept, body(document), some(document), steps=20)
    return changed, weave


def relaxed(document):
    return edits.set_relax(document, body(document), steps=8)


EDITS = {
    "mirror": lambda d: edits.mirror_weights(d, body(d), Way.RIGHT_TO_LEFT)[0],
    "strays": lambda d: edits.drop_strays(d)[0],
    "bind": lambda d: edits.bind(d, influences=3),
    "bind by reach": lambda d: edits.bind(d, method=BindMethod.BY_REACH),
    "bind some joints": lambda d: edits.bind(d, joint_ids=("spine.chest", "spine.hips", "arm.l.upper")),
    "reduce": lambda d: edits.reduce_influences(d, 2)[0],
    "prune": lambda d: edits.prune_tiny(d, body(d), 0.2)[0],
    "take off": lambda d: edits.drop_influence(d, body(d), "spine.chest"),
    "move to": lambda d: edits.replace_influence(d, body(d), "spine.chest", "spine.hips"),
    "slight ones": lambda d: edits.drop_irrelevant(d, body(d))[0],
    "transfer": lambda d: edits.transfer(d, next(p.id for p in d.character.included if p.id != body(d)), body(d))[0],
    "fill": lambda d: edits.fill_weight(d, body(d), "spine.chest", some(d), 1.0, locked=LOCKED),
    "read from another": lambda d: edits.read_weights(d, edits.bind(d, influences=2).character)[0],
}  # fmt: skip
LOCKED = ("arm.l.clavicle", "arm.r.upper", "leg.l.upper")


@pytest.fixture(scope="module")
def painted():
    """Wick, with weights no method would give: locked joints hold a little everywhere on one limb."""
    document = wick()
    part = body(document)
    for joint, value in (("arm.l.clavicle", 0.37), ("leg.l.upper", 0.5)):
        document = edits.fill_weight(document, part, joint, some(document)[:200], value, both_sides=False)
    return document


def columns(document, joints):
    skin = document.character.skin
    return {(p, j): skin.weights[p].column(j) for p in skin.weights for j in joints}


@pytest.mark.parametrize("name", EDITS)
def test_locked_joints_keep_what_they_hold(painted, name):
    before = columns(painted, LOCKED)
    plain = EDITS[name](painted)
    after = edits.with_locks_held(painted, plain, LOCKED)
    for key, column in columns(after, LOCKED).items():
        assert np.array_equal(column, before[key]), key
    for part, weights in after.character.skin.weights.items():
        assert row_sums_hold(weights)
        assert most_influences(weights) <= max(after.character.skin.limit(part), most_influences(painted.character.skin.weights[part]))
    if name not in ("fill", "slight ones", "strays", "bind some joints"):
        assert not all(np.array_equal(c, before[k]) for k, c in columns(plain, LOCKED).items()), "the edit does change them"


def test_a_bake_and_a_mix_hold_them_too(painted):
    before = columns(painted, LOCKED)
    changed, weave = other_weave(painted)
    mixed = edits.mix_weave(changed, weave, {body(painted): some(painted)})
    held_ = edits.with_locks_held(changed, mixed, LOCKED)
    there = columns(changed, LOCKED)
    assert all(np.array_equal(c, there[k]) for k, c in columns(held_, LOCKED).items())
    start = relaxed(painted)
    baked = edits.with_locks_held(start, edits.bake_relax(start, random=3)[0], LOCKED)
    assert all(np.array_equal(c, before[k]) for k, c in columns(baked, LOCKED).items())
    assert not baked.character.skin.relax


def test_free_joints_share_what_is_left_as_the_new_weights_say():
    ids = ("a", "b", "c")
    before = from_dense(np.array([[0.5, 0.5, 0.0], [0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.25, 0.25, 0.5]]), ids)
    after = from_dense(np.array([[0.0, 0.25, 0.75], [0.5, 0.25, 0.25], [0.0, 0.5, 0.5], [0.25, 0.75, 0.0]]), ids)
    result = dense(held(before, after, {"a"}))
    np.testing.assert_allclose(
        result, [[0.5, 0.125, 0.375], [0.0, 0.5, 0.5], [1.0, 0.0, 0.0], [0.25, 0.75, 0.0]], atol=1e-12
    )
    # Nobody free is given anything: those who had it keep it.
    lone = from_dense(np.array([[1.0, 0.0, 0.0]] * 4), ids)
    np.testing.assert_allclose(dense(held(before, lone, {"a"}))[1], [0.0, 0.0, 1.0])
    assert held(before, after, {"z"}) is after


def test_a_weave_kept_of_the_bind_is_what_is_in_hand(painted):
    after = edits.with_locks_held(painted, edits.bind(painted), LOCKED).character
    assert after.weaves[-1].skin is after.skin


def test_a_locked_joint_is_not_taken_off_and_gives_nothing_away(painted):
    with pytest.raises(EditError, match="l_thigh is locked"):
        edits.require_free(painted, ("spine.chest", "leg.l.upper"), LOCKED)


def cloth():
    document = open_project(DEMO / "oilskin.pegloom")
    parts = sorted(document.character.included, key=lambda p: -p.mesh.vertex_count)
    return edits.bind(document, influences=4), parts[0].id, parts[1].id


def test_more_influences_for_one_part_leave_the_others_limit_alone(tmp_path):
    document, first, second = cloth()
    document = edits.set_relax(document, second, steps=10)
    baked = edits.bake_relax(document, influences=8, random=3)[0]
    skin = baked.character.skin
    assert (skin.limit(first), skin.limit(second)) == (4, 8)
    assert most_influences(skin.weights[second]) > 4
    smooth = edits.smooth_weights(baked, first, np.arange(500), steps=30)
    assert most_influences(smooth.character.skin.weights[first]) <= 4
    path = tmp_path / "two.pegloom"
    save_project(path, baked)
    again = open_project(path).character.skin
    assert (again.limit(first), again.limit(second)) == (4, 8)


def test_a_bind_of_one_part_sets_its_own_limit():
    document, first, second = cloth()
    skin = edits.bind(document, part_ids=(second,), influences=2).character.skin
    assert (skin.limit(first), skin.limit(second)) == (4, 2)
    assert most_influences(skin.weights[second]) <= 2
    whole = edits.bind(edits.bind(document, part_ids=(second,), influences=2), influences=6).character.skin
    assert whole.influences == 6 and not whole.limits
    fewer = edits.reduce_influences(edits.bind(document, part_ids=(second,), influences=2), 3)[0].character.skin
    assert (fewer.limit(first), fewer.limit(second)) == (3, 2)
    assert replace(fewer).most == 3
