"""Binds by distance with reaches and branches, and rows replaced in place."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.errors import EditError, ShapeError
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.bind.reach import bind_by_reach
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.weights import dense, from_dense, packed, row_sums_hold, with_rows
from pegloom.document import edits
from tests.document.test_weaves import body, bound
from tests.support.figures import box_limb


def test_a_longer_reach_takes_more_and_both_sides_alike():
    document = bound()
    part = body(document)
    plain = edits.bind(document, method=BindMethod.BY_REACH).character.skin.weights[part]
    far = edits.set_reach(document, "arm.l.upper", 2.0)
    assert far.character.reaches == {"arm.l.upper": 2.0, "arm.r.upper": 2.0}
    made = edits.bind(far, method=BindMethod.BY_REACH).character.skin.weights[part]
    for joint in ("arm.l.upper", "arm.r.upper"):
        assert made.column(joint).sum() > 1.15 * plain.column(joint).sum()
        assert (made.column(joint) >= plain.column(joint) - 0.05).all()
    assert row_sums_hold(made)
    one = edits.set_reach(document, "arm.l.upper", 0.5, both_sides=False)
    less = edits.bind(one, method=BindMethod.BY_REACH).character.skin.weights[part]
    assert less.column("arm.l.upper").sum() < 0.9 * plain.column("arm.l.upper").sum()
    assert less.column("arm.r.upper").sum() == pytest.approx(plain.column("arm.r.upper").sum(), rel=0.02)
    assert not edits.set_reach(far, "arm.l.upper", 1.0).character.reaches
    with pytest.raises(EditError, match="ten times"):
        edits.set_reach(document, "arm.l.upper", 40.0)


def test_own_branch_only_keeps_other_limbs_out():
    # Two bones side by side in one tube, both hanging from a third.
    mesh = box_limb(12)
    skeleton = Skeleton(
        (
            Joint("root", "root", None, Side.CENTRE, (-0.1, 0, 0)),
            Joint("a", "a", "root", Side.CENTRE, (0.1, 0, -0.05), tail=(0.95, 0, -0.05)),
            Joint("b", "b", "root", Side.CENTRE, (0.1, 0, 0.05), tail=(0.95, 0, 0.05)),
        )
    )
    solid = body_solid([mesh])
    free = bind_by_reach(mesh, skeleton, solid, in_sight=False)
    own = bind_by_reach(mesh, skeleton, solid, in_sight=False, own_branch=True)
    both = lambda w: np.minimum(w.column("a"), w.column("b"))  # noqa: E731
    assert both(free).max() > 0.05
    assert both(own).max() == 0.0
    assert row_sums_hold(own)


@given(st.integers(0, 10_000))
@settings(max_examples=40)
def test_replacing_rows_is_like_building_anew(seed):
    rng = np.random.default_rng(seed)
    rows = rng.random((30, 4)) * (rng.random((30, 4)) > 0.4)
    rows[:, 0] += 0.05
    weights = from_dense(rows, ("a", "b", "c", "d"))
    some = np.flatnonzero(rng.random(30) > 0.6)
    new = rng.random((len(some), 5)) * (rng.random((len(some), 5)) > 0.5)
    new[:, 4] += 0.05
    made = with_rows(weights, ("a", "b", "c", "d", "e"), some, new)
    whole = np.zeros((30, 5))
    whole[:, :4] = dense(weights)
    whole[some] = new
    expected = from_dense(whole, ("a", "b", "c", "d", "e"))
    assert np.allclose(dense(made), dense(expected), atol=1e-12)
    assert (made.indptr == expected.indptr).all()
    for joint in made.joint_ids:
        assert np.array_equal(made.column(joint), dense(made)[:, made.joint_ids.index(joint)])
    for k in (0, 2, 7):
        told = packed(made, k)
        back = np.zeros((30, 5))
        np.add.at(back, (np.arange(30)[:, None], told.indices), told.values)
        if k != 2:
            assert np.allclose(back, dense(made))
        assert np.allclose(back.sum(axis=1), 1.0)
        assert (np.diff(told.values, axis=1) <= 1e-15).all()
    with pytest.raises(ShapeError):
        with_rows(weights, ("b", "a", "c", "d"), some, new[:, :4])
