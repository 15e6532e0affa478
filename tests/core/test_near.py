"""Places: against all pairs one by one, and in crowds whose pairs no machine could list."""

import numpy as np
import pytest
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from pegloom.core.geometry import near
from pegloom.core.geometry.mesh import diagonal, far_off, weld_points
from pegloom.core.geometry.near import near_groups


def plainly(points, reach):
    """Groups by the whole table of distances."""
    close = np.linalg.norm(points[:, None] - points[None], axis=2) <= reach
    return connected_components(sparse.csr_matrix(close), directed=False)[1]


def same_groups(a, b):
    return len(np.unique(np.stack([a, b], axis=1), axis=0)) == len(np.unique(a)) == len(np.unique(b))


@pytest.mark.parametrize("crowd", [60, 0])
@pytest.mark.parametrize("seed", range(12))
def test_groups_are_those_of_the_whole_table_of_distances(seed, crowd, monkeypatch):
    monkeypatch.setattr(near, "CROWD", crowd)  # 0: always by cells
    rng = np.random.default_rng(seed)
    spread = 10.0 ** rng.uniform(-1, 1.3)
    points = rng.normal(scale=spread, size=(int(rng.integers(1, 220)), 3))
    points = np.concatenate([points, points[: len(points) // 3], points[:5] + 0.7])
    assert same_groups(near_groups(points, 1.0), plainly(points, 1.0))


@pytest.mark.parametrize("crowd", [60, 0])
def test_a_chain_of_near_points_is_one_place_and_a_gap_just_too_wide_parts_it(crowd, monkeypatch):
    monkeypatch.setattr(near, "CROWD", crowd)
    line = np.zeros((400, 3))
    line[:, 1] = 0.999 * np.arange(400)
    assert len(np.unique(near_groups(line, 1.0))) == 1
    line[200:, 1] += 0.01
    assert len(np.unique(near_groups(line, 1.0))) == 2


def test_twenty_thousand_vertices_at_one_place_are_never_listed_as_pairs(monkeypatch):
    def never(*_, **__):
        raise AssertionError("pairs were listed")

    class Tree(cKDTree):
        query_pairs = never

    monkeypatch.setattr(near, "cKDTree", Tree)
    rng = np.random.default_rng(3)
    crowd = rng.normal(scale=1e-8, size=(20_000, 3))
    places = weld_points(np.concatenate([crowd, np.zeros((20_000, 3)), rng.uniform(1, 2, (100, 3))]))
    assert places.count == 101


def test_one_vertex_far_off_sets_no_scale():
    rng = np.random.default_rng(5)
    body = rng.random((10_000, 3))
    stray = np.concatenate([body, [[1e7, 0, 0]]])
    assert far_off(stray).tolist() == [False] * 10_000 + [True]
    assert diagonal(stray) == diagonal(body)
    assert weld_points(stray).count == 10_001
    assert far_off(np.concatenate([body, [[1.7e308, 0, 0]]])).sum() == 1


@pytest.mark.parametrize("length", [5.0, 50.0, 900.0])
def test_what_is_long_has_no_vertex_far_off(length):
    """A pole in the hand, a rope: the ends belong to it, however dense the other vertices lie."""
    rng = np.random.default_rng(6)
    dense = rng.normal(scale=0.01, size=(5000, 3))
    rope = np.column_stack([np.linspace(0, length, 60), np.zeros(60), np.zeros(60)])
    assert not far_off(np.concatenate([dense, rope])).any()
