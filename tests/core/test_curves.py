"""Curves held against SciPy's own interpolators and plain arithmetic."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

from pegloom.core.curves import Beyond, Curve, Run, Slope, curve
from pegloom.core.curves.curve import pack
from pegloom.core.curves.kernel import sample_all
from pegloom.core.errors import ShapeError


def keys(seed, count=9):
    rng = np.random.default_rng(seed)
    return np.cumsum(rng.uniform(0.02, 0.7, count)), rng.normal(size=count)


@pytest.mark.parametrize("seed", range(6))
def test_smooth_runs_inside_are_scipys_monotone_cubic(seed):
    times, values = keys(seed)
    inside = np.linspace(times[1], times[-2], 400)
    made, peer = curve(times, values), PchipInterpolator(times, values)
    assert np.abs(made.at_all(inside) - peer(inside)).max() < 1e-12


@pytest.mark.parametrize("seed", range(3))
def test_slopes_set_by_hand_are_kept_on_each_side(seed):
    times, values = keys(seed, 5)
    slope = np.random.default_rng(seed).normal(size=5)
    made = Curve(times, values, np.zeros(5, dtype=np.int64), np.full(5, Slope.ONE), slope, slope)
    at = np.linspace(times[0], times[-1], 300)
    assert np.abs(made.at_all(at) - CubicHermiteSpline(times, values, slope)(at)).max() < 1e-12
    two = Curve(times, values, np.zeros(5, dtype=np.int64), np.full(5, Slope.TWO), slope, -slope)
    step = 1e-9
    here = times[2]
    assert (two.at(here) - two.at(here - step)) / step == pytest.approx(slope[2], abs=1e-3)
    assert (two.at(here + step) - two.at(here)) / step == pytest.approx(-slope[2], abs=1e-3)


def test_each_key_has_a_run_of_its_own():
    made = curve((0.0, 1.0, 2.0, 3.0), (0.0, 2.0, 1.0, 4.0))
    made = Curve(made.times, made.values, np.array([Run.LINEAR, Run.STEP, Run.SMOOTH, 0]), made.slopes, made.before, made.after)
    assert made.at(0.25) == pytest.approx(0.5)
    assert made.at(1.99) == 2.0
    assert made.at(2.0) == 1.0
    assert 1.0 < made.at(2.5) < 4.0


@pytest.mark.parametrize(("beyond", "wanted"), [
    (Beyond.STAY, 3.0), (Beyond.LINE, 3.0 + 0.4 * 2.0), (Beyond.LOOP, 1.0 + 2.0 * 0.4), (Beyond.LOOP_ON, 3.0 + 2.0 * 0.4),
    (Beyond.MIRROR, 3.0 - 2.0 * 0.4),
])  # fmt: skip
def test_beyond_the_last_key(beyond, wanted):
    line = curve((1.0, 2.0), (1.0, 3.0), Run.LINEAR)
    line = Curve(line.times, line.values, line.runs, np.full(2, Slope.ONE), np.full(2, 2.0), np.full(2, 2.0), beyond, beyond)
    assert line.at(2.4) == pytest.approx(wanted)
    assert line.at(0.6) == pytest.approx(4.0 - wanted), "before the first likewise"
    if beyond in (Beyond.LOOP, Beyond.MIRROR):
        assert line.at(2.4 + 6.0) == pytest.approx(wanted), "round after round"


@given(st.lists(st.tuples(st.integers(0, 400), st.floats(-5, 5)), min_size=1, max_size=12, unique_by=lambda k: k[0]))
@settings(max_examples=60)
def test_no_value_goes_past_its_keys_and_a_key_changes_nothing_far_off(some):
    some = sorted(some)
    times, values = np.array([t for t, _ in some]) / 100.0, [v for _, v in some]
    made = curve(times, values)
    at = np.linspace(times[0] - 0.5, times[-1] + 0.5, 200)
    shown = made.at_all(at)
    assert shown.min() >= min(values) - 1e-9
    assert shown.max() <= max(values) + 1e-9
    middle = len(times) // 2
    other = made.with_key(times[middle], values[middle] + 1.0)
    last = len(times) - 1
    far = (middle > 0) & (at < times[max(middle - 2, 0)]) | (middle < last) & (at > times[min(middle + 2, last)])
    assert np.array_equal(other.at_all(at[far]), made.at_all(at[far]))
    assert made.without_key(times[middle] + 0.005) is made


def test_many_curves_at_many_moments_are_each_by_itself_to_the_bit():
    some = [curve(*keys(seed)) for seed in range(20)]
    times = np.random.default_rng(1).uniform(-1, 6, 50)
    out = np.full((50, 25), 7.0)
    slots = np.arange(20) + 3
    slots[4] = -1
    sample_all(pack(some), slots, times, out)
    for number, one in enumerate(some):
        if number != 4:
            assert np.array_equal(out[:, number + 3], one.at_all(times))
    assert (out[:, [0, 1, 2, 7, 23, 24]] == 7.0).all()


@pytest.mark.parametrize(("times", "values"), [((), ()), ((0.0, 0.0), (1.0, 2.0)), ((1.0, 0.0), (1.0, 2.0)), ((0.0, np.nan), (0.0, 0.0))])
def test_keys_that_do_not_fit_are_refused(times, values):
    with pytest.raises(ShapeError):
        curve(times, values)


def test_a_moved_key_takes_its_run_along_and_another_gives_way():
    made = curve((0.0, 1.0, 2.0), (0.0, 5.0, 1.0))
    made = Curve(made.times, made.values, np.array([0, Run.STEP, 0]), made.slopes, made.before, made.after)
    moved = made.moved_key(1.0, 2.0)
    assert moved.times.tolist() == [0.0, 2.0]
    assert moved.values.tolist() == [0.0, 5.0]
    assert moved.runs.tolist() == [0, Run.STEP]
    back = made.moved_key(1.0, 3.5)
    assert back.times.tolist() == [0.0, 2.0, 3.5]
    assert back.values.tolist() == [0.0, 1.0, 5.0]
