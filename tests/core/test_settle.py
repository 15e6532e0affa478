"""Weights that settle: gradients held against differences, projections against a search, figures against those of each region alone."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq

from pegloom.core.geometry.mesh import weld
from pegloom.core.jobs import Cancelled
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh import strain
from pegloom.core.skin.flesh.judge import Judge
from pegloom.core.skin.flesh.settle import Settling, Wish
from pegloom.core.skin.measures import neighbour_pairs
from pegloom.core.skin.quality import measured
from pegloom.core.skin.weights import dense, from_dense, most_influences, packed, row_sums_hold
from tests.support.figures import rigged_capsules


def differences(cost, x, step=1e-6):
    result = np.zeros_like(x)
    for i in np.ndindex(x.shape):
        for sign in (1.0, -1.0):
            y = x.copy()
            y[i] += sign * step
            result[i] += sign * cost(y) / (2.0 * step)
    return result


def crumpled(seed):
    """A strip of triangles folded over itself: places, triangles, edges."""
    rng = np.random.default_rng(seed)
    x = np.array([[i // 2, i % 2, 0.0] for i in range(10)], dtype=float)
    x += 0.9 * rng.normal(size=x.shape)
    triangles = np.array([[i, i + 1, i + 2] if i % 2 == 0 else [i + 1, i, i + 2] for i in range(8)])
    edges = np.unique(np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1), axis=0)
    return x, triangles, edges


@pytest.mark.parametrize("seed", range(3))
def test_each_cost_pulls_as_its_differences_say(seed):
    x, triangles, edges = crumpled(seed)
    rng = np.random.default_rng(seed + 10)
    wanted, heavy = x + 0.2 * rng.normal(size=x.shape), rng.random(len(x))
    inverse, limit, much = 1.0 / (0.5 + rng.random(len(edges))), 1.0 + rng.random(len(edges)), 1.0 + rng.random(len(edges))
    pairs = neighbour_pairs(triangles)
    starts, ends, shares = np.array([0, 5, 9]), edges[:9], rng.random(9)
    closed, girth, area = np.array([True, False]), np.array([9.0, 9.0]), np.array([9.0, 0.0])
    least, dear = np.array([1.4, 1.4]), np.array([3.0, 2.0])

    def of(name, y, pull, bend):
        if name == "edges":
            return strain.edges_cost(y, edges, inverse, wanted, limit, much, 0.7, 3.0, 2.0, 1.5, pull, bend)
        if name == "places":
            return strain.places_cost(y, wanted, heavy, pull, bend)
        if name == "rings":
            return strain.rings_cost(y, starts, ends, shares, closed, girth, area, least, least, dear, pull, bend)
        return strain.folds_cost(y, triangles, np.full(len(triangles), 1e-9), pairs, np.full(len(pairs), 0.9), 2.0, pull, bend)

    for name in ("edges", "places", "rings", "folds"):
        pull, bend = np.zeros(x.shape), np.zeros(len(x))
        assert of(name, x, pull, bend) > 0.0, name
        told = differences(lambda y, name=name: of(name, y, np.zeros(y.shape), np.zeros(len(y))), x)
        assert np.abs(pull - told).max() < 1e-4 * max(np.abs(told).max(), 1.0), name
        assert (bend >= 0.0).all() and bend.max() > 0.0


def test_rows_go_to_the_nearest_shares_that_add_up_to_one():
    rng = np.random.default_rng(4)
    rows, live = rng.normal(size=(60, 8)), rng.random((60, 8)) < 0.7
    live[0] = False
    result = rows.copy()
    strain.onto_simplex(result, live)
    assert np.array_equal(result[0], rows[0])
    for v in np.flatnonzero(live.any(axis=1)):
        some = rows[v, live[v]]
        # The nearest point takes the same from all that stay above zero.
        off = brentq(lambda t, some=some: np.maximum(some - t, 0.0).sum() - 1.0, some.min() - 2.0, some.max())
        assert np.abs(result[v, live[v]] - np.maximum(some - off, 0.0)).max() < 1e-9
        assert (result[v, ~live[v]] == 0.0).all()


@pytest.fixture(scope="module")
def judged():
    character = rigged_capsules().character
    part, skeleton = character.parts[0], character.skeleton
    trials = {t.id: skin_matrices(skeleton, evaluate_rig(skeleton, None, trial_pose(skeleton, t.id)).joints) for t in trials_of(skeleton)}
    weights = character.skin.weights[part.id]
    return part, weights, Judge(part.mesh, skeleton, weights, trials)


def test_all_regions_at_once_are_as_each_alone(judged):
    part, weights, judge = judged
    for trial in judge.trials:
        points = judge.points(weights, trial)
        for joint, gauge in judge.gauges.items():
            one, told = measured(part.mesh, gauge, points), judge.before.figures[trial, joint]
            assert (one.girth is None) == (told.girth is None) and (one.area is None) == (told.area is None)
            for a, b in ((one.girth, told.girth), (one.area, told.area), (one.stretch, told.stretch)):
                assert a is None or a == pytest.approx(b, abs=1e-9)
            assert one.folded == told.folded


def test_torn_weights_settle_and_stay_weights(judged):
    part, weights, judge = judged
    rng = np.random.default_rng(2)
    g, values = weld(part.mesh), dense(weights).copy()
    torn = rng.permutation(g.count)[:40]
    rows = np.isin(g.group, torn)
    # Some places are given to the joint that comes second around them.
    values[rows] = np.roll(values[rows], 1, axis=1)
    bad = from_dense(values, weights.joint_ids)
    run = Settling(judge, bad, influences=4, was=weights)
    good = run.weights(run.settled(run.rows, 60))
    longest = [max(float(s.max()) for s in judge.of(w).stretch.values()) for w in (bad, good)]
    assert longest[1] < 0.1 * longest[0]
    assert row_sums_hold(good) and most_influences(good) <= 4


def test_only_what_may_move_moves_and_a_wish_is_met_as_far_as_it_can_be(judged):
    part, weights, judge = judged
    g = weld(part.mesh)
    pose = judge.trials["elbow"]
    columns = [judge.skeleton.index[j] for j in weights.joint_ids]
    here = skin_linear(part.mesh.points, packed(weights), pose[columns])[g.first]
    joint = judge.skeleton.positions[judge.skeleton.index["arm.l.lower"]]
    away = np.linalg.norm(judge.rest - joint, axis=1)
    places = np.flatnonzero(away < 0.06)
    wanted = here[places] + [0.0, 0.0, -0.004]
    run = Settling(judge, weights, influences=4, moving=np.flatnonzero(away < 0.1), wishes=(Wish(pose, places, wanted, np.full(len(places), 1e6)),))
    new = run.weights(run.settled(run.rows, 40))
    still = (away >= 0.1)[g.group]
    assert np.abs(dense(new) - dense(weights))[still].max() < 1e-12
    now = skin_linear(part.mesh.points, packed(new), pose[columns])[g.first]
    assert np.linalg.norm(now[places] - wanted, axis=1).mean() < np.linalg.norm(here[places] - wanted, axis=1).mean()


def test_it_can_be_stopped(judged):
    _, weights, judge = judged

    def stop(fraction, text):
        raise Cancelled

    run = Settling(judge, weights, influences=4)
    with pytest.raises(Cancelled):
        run.settled(run.rows, 10, progress=stop)
