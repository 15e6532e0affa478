import igl
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.errors import EditError, ShapeError
from pegloom.core.geometry.mesh import place_neighbours, weld
from pegloom.core.geometry.transforms import compose, euler_quaternion
from pegloom.core.jobs import Cancelled
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.bind.along_skin import bind_along_skin, drop_islands
from pegloom.core.skin.bind.hard import bind_hard
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.brush import change_weight, dab, limit_rows, smooth_rows
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.measures import enclosed_volume
from pegloom.core.skin.mirror import mirror_rows
from pegloom.core.skin.weights import dense, from_dense, limited_rows, most_influences, packed, row_sums_hold
from tests.support.figures import box_limb

IDS = ("a", "b", "c", "d", "e", "f")


def random_rows(seed: int, n: int = 40, j: int = 6) -> np.ndarray:
    rows = np.random.default_rng(seed).random((n, j)) ** 4
    return rows / rows.sum(axis=1, keepdims=True)


def limb_skeleton() -> Skeleton:
    return Skeleton(
        (
            Joint("upper", "upper", None, Side.CENTRE, (0.0, 0, 0)),
            Joint("lower", "lower", "upper", Side.CENTRE, (0.5, 0, 0), tail=(1.0, 0, 0)),
        )
    )


@given(st.integers(0, 10_000), st.integers(1, 6))
def test_cut_rows_add_up_and_keep_the_largest(seed, influences):
    rows = random_rows(seed)
    weights = from_dense(rows, IDS, influences=influences)
    assert row_sums_hold(weights)
    assert most_influences(weights) <= influences
    assert (dense(weights).argmax(axis=1) == rows.argmax(axis=1)).all()


def test_a_row_without_weight_is_refused():
    with pytest.raises(ShapeError, match="vertex 1"):
        from_dense(np.array([[1.0, 0], [0, 0]]), ("a", "b"))
    with pytest.raises(ShapeError, match="negative"):
        cut_negative = np.array([[1.5, -0.5]])
        from_dense(cut_negative, ("a", "b"))


@given(st.integers(0, 10_000), st.integers(0, 5), st.floats(0, 1))
@settings(max_examples=40)
def test_brushing_keeps_rows_at_one_and_locked_joints_as_they_were(seed, column, value):
    mesh = box_limb(9)
    rows = random_rows(seed, mesh.vertex_count)
    some = np.arange(0, mesh.vertex_count, 3)
    lock = np.zeros(6, dtype=bool)
    lock[(column + 1) % 6] = True
    new = change_weight(
        rows,
        column,
        some,
        np.full(len(some), value),
        neighbours=place_neighbours(mesh),
        heir=(column + 2) % 6,
        locked=lock,
    )
    assert np.allclose(new.sum(axis=1), 1)
    assert (new >= 0).all()
    assert np.allclose(new[:, lock], rows[:, lock])
    got = new[some, column]
    assert np.allclose(got, np.minimum(value, 1 - rows[some][:, lock].sum(axis=1)))
    others = np.setdiff1d(np.arange(mesh.vertex_count), some)
    assert (new[others] == rows[others]).all()


def test_what_a_lone_holder_gives_up_goes_to_the_neighbours_then_to_the_heir():
    mesh = box_limb(3)
    rows = np.zeros((mesh.vertex_count, 3))
    rows[:, 0] = 1
    rows[4] = [0.0, 1.0, 0.0]
    beside = int(place_neighbours(mesh)[4].indices[0])
    alone = mesh.vertex_count - 1
    new = change_weight(
        rows, 0, np.array([beside, alone]), np.array([0.4, 0.4]), neighbours=place_neighbours(mesh), heir=2
    )
    assert new[beside].tolist() == pytest.approx([0.4, 0.6, 0.0])
    assert new[alone].tolist() == pytest.approx([0.4, 0.0, 0.6])


def test_a_locked_joint_cannot_be_painted():
    mesh = box_limb(3)
    rows = random_rows(1, mesh.vertex_count)
    lock = np.array([True] + [False] * 5)
    with pytest.raises(EditError, match="locked"):
        change_weight(rows, 0, np.array([0]), np.ones(1), neighbours=place_neighbours(mesh), heir=1, locked=lock)


def test_smoothing_a_constant_changes_nothing_and_shrinks_differences():
    mesh = box_limb(9)
    same = np.tile([0.25, 0.75], (mesh.vertex_count, 1))
    every = np.arange(mesh.vertex_count)
    assert np.allclose(smooth_rows(same, every, np.ones(len(every)), place_neighbours(mesh), steps=5), same)
    rows = random_rows(3, mesh.vertex_count)
    smoother = smooth_rows(rows, every, np.full(len(every), 0.5), place_neighbours(mesh), steps=4)
    assert smoother.std(axis=0).max() < 0.6 * rows.std(axis=0).max()


def test_limiting_never_drops_the_joint_in_hand():
    rows = np.array([[0.05, 0.3, 0.25, 0.2, 0.2]])
    limited = limit_rows(rows, np.array([0]), 3, keep=0)
    assert limited[0, 0] > 0
    assert (limited[0] > 0).sum() == 3


def test_a_dab_spreads_along_the_surface_only():
    mesh = box_limb(20)
    g = weld(mesh)
    graph = place_neighbours(mesh).astype(float) * 0.05
    rows, force = dab(mesh.points[g.first], graph, np.array([0]), 0.12)
    assert force.max() == 1
    assert mesh.points[g.first][rows, 0].max() <= 0.13
    assert len(rows) < g.count / 2


def test_skinning_agrees_with_libigl_and_with_a_plain_loop():
    random = np.random.default_rng(5)
    points, rows = random.normal(size=(300, 3)), random_rows(7, 300)
    matrices = np.array([compose(random.normal(size=3), euler_quaternion(random.normal(size=3))) for _ in IDS])
    ours = skin_linear(points, packed(from_dense(rows, IDS)), matrices)
    rows = dense(from_dense(rows, IDS))
    theirs = igl.lbs_matrix(points, rows) @ np.concatenate([m[:3].T for m in matrices])
    assert np.allclose(ours, theirs, atol=1e-9)
    plain = [sum(rows[v, j] * (matrices[j] @ np.append(points[v], 1))[:3] for j in range(6)) for v in range(20)]
    assert np.allclose(ours[:20], plain, atol=1e-9)


@pytest.mark.parametrize("seam", [False, True])
def test_heat_on_a_tube_is_monotone_and_even_around(seam):
    mesh = box_limb(24, seam=seam)
    weights = bind_along_skin(mesh, limb_skeleton(), body_solid([mesh]))
    lower = weights.column("lower")
    by_x = [lower[np.isclose(mesh.points[:, 0], x)] for x in np.unique(np.round(mesh.points[:, 0], 9))]
    means = [row.mean() for row in by_x]
    assert row_sums_hold(weights)
    assert all(b >= a - 1e-3 for a, b in zip(means, means[1:], strict=False))
    assert means[0] < 0.05
    assert means[-1] > 0.95
    assert means[12] == pytest.approx(0.5, abs=0.1)
    assert max(np.ptp(row) for row in by_x) < 0.05


def test_seam_vertices_carry_identical_weights():
    mesh = box_limb(24, seam=True)
    g = weld(mesh)
    for method in (bind_along_skin, bind_hard):
        rows = dense(method(mesh, limb_skeleton(), body_solid([mesh])))
        assert (rows == rows[g.first][g.group]).all()


def test_hard_weights_are_all_or_nothing():
    weights = bind_hard(box_limb(10), limb_skeleton(), body_solid([box_limb(10)]))
    assert set(np.unique(dense(weights))) == {0.0, 1.0}


def test_a_bind_can_be_cancelled():
    def stop(fraction, text):
        raise Cancelled

    with pytest.raises(Cancelled):
        bind_along_skin(box_limb(), limb_skeleton(), body_solid([box_limb()]), progress=stop)


def test_loose_islands_of_weight_are_dropped():
    mesh = box_limb(20)
    rows = np.zeros((mesh.vertex_count, 2))
    rows[:, 0] = 1
    rows[:24, :] = [0.0, 1.0]
    rows[70] = [0.6, 0.4]
    cleaned = drop_islands(rows, place_neighbours(mesh))
    assert cleaned[70].tolist() == [1.0, 0.0]
    assert (cleaned[:24] == rows[:24]).all()


def test_mirroring_twice_changes_nothing_more():
    rows = random_rows(9, 4, 3)
    x = np.array([-1.0, 1.0, 0.0, -2.0])
    partner, swap = np.array([1, 0, 2, -1]), np.array([1, 0, 2])
    once, lost = mirror_rows(rows, x, partner, swap)
    twice, _ = mirror_rows(once, x, partner, swap)
    assert lost.tolist() == [3]
    assert np.allclose(once, twice)
    assert np.allclose(once[0], rows[1][swap])
    assert once[2, 0] == pytest.approx(once[2, 1])


def test_volume_of_a_unit_tetrahedron():
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
    faces = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    assert enclosed_volume(points, faces) == pytest.approx(1 / 6)


def test_cut_spreads_ties_the_same_way_everywhere():
    rows = np.full((5, 6), 1 / 6)
    assert (limited_rows(rows, 2) == limited_rows(rows, 2)[0]).all()


@settings(max_examples=60)
@given(st.integers(0, 10_000), st.integers(0, 6))
def test_packed_rows_are_the_largest_of_each_row_as_a_plain_sort_says(seed, k):
    rng = np.random.default_rng(seed)
    values = rng.random((20, 7)) * (rng.random((20, 7)) < 0.6)
    values[:, 3] += 1e-3
    values[rng.random((20, 7)) < 0.2] = 0.25  # ties
    weights = from_dense(values, tuple("abcdefg"))
    rows = packed(weights, k)
    width = k or most_influences(weights)
    assert rows.indices.shape == rows.values.shape == (20, width)
    for row, (indices, shares) in zip(dense(weights), zip(rows.indices, rows.values, strict=True), strict=True):
        order = np.argsort(-row, kind="stable")[:width]
        wanted = row[order] / row[order].sum()
        assert np.allclose(shares[: len(order)], wanted, atol=1e-15)
        some = wanted > 0
        assert np.array_equal(indices[: len(order)][some], order[some])
        assert shares.sum() == pytest.approx(1.0)
