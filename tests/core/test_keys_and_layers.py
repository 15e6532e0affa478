"""Keys of a curve moved, scaled, copied, made fewer; layers that add, set and turn, held against SciPy."""

from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pegloom.core.curves import Beyond, Run, Slope, curve
from pegloom.core.curves.keys import (
    between,
    copied,
    joined,
    keys_between,
    reduced,
    scaled_in_time,
    scaled_in_value,
    shifted,
    snapped,
    with_slopes,
)
from pegloom.core.errors import ShapeError
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.motion.layers import Layer, LayerMode, added_turn, followed
from pegloom.core.motion.mixing import difference, flattened
from tests.support.figures import wick

HEAD = "spine.head"
TURNS = tuple((HEAD, f"rotate_{axis}") for axis in "xyz")


def keys(*pairs, run=Run.SMOOTH):
    return curve([t for t, _ in pairs], [v for _, v in pairs], run)


def all_of(one):
    return np.ones(len(one.times), dtype=bool)


def test_keys_move_and_others_give_way():
    one = keys((0, 0), (1, 2), (2, 1), (3, 5))
    moved = shifted(one, np.array([False, True, False, False]), 1.0, 0.5)
    assert moved.times.tolist() == [0, 2, 3]
    assert moved.values.tolist() == [0, 2.5, 5]
    past = shifted(one, keys_between(one, 1, 2), 1.5)
    assert past.times.tolist() == [0, 2.5, 3, 3.5]
    assert past.values.tolist() == [0, 2, 5, 1]
    with pytest.raises(ShapeError, match="before the clip's start"):
        shifted(one, all_of(one), -0.5)


def test_scaled_in_time_a_shape_stays():
    one = replace(with_slopes(keys((1, 0), (2, 2), (4, 1)), np.array([True, True, False]), Slope.TWO, 3.0, -1.0), last=Beyond.LOOP)
    wide = scaled_in_time(one, all_of(one), 1.0, 2.5)
    at = np.linspace(1.0, 4.0, 50)
    np.testing.assert_allclose(wide.at_all(1.0 + (at - 1.0) * 2.5), one.at_all(at), atol=1e-12)
    assert wide.last is Beyond.LOOP
    high = scaled_in_value(one, all_of(one), 1.0, -3.0)
    np.testing.assert_allclose(high.at_all(at), 1.0 - 3.0 * (one.at_all(at) - 1.0), atol=1e-12)
    with pytest.raises(ShapeError, match="factor above 0"):
        scaled_in_time(one, all_of(one), 0.0, 0.0)


def test_copies_frames_and_what_lies_between():
    one = keys((0, 0), (1, 2), (2, 1))
    twice = copied(one, all_of(one), 2.0)
    assert twice.times.tolist() == [0, 1, 2, 3, 4]
    assert twice.values.tolist() == [0, 2, 0, 2, 1]
    assert joined(one, keys((1, 9))).values.tolist() == [0, 9, 1]
    loose = keys((0.02, 1), (0.049, 2), (0.5, 3))
    on = snapped(loose, all_of(loose), 20.0)
    assert on.times.tolist() == [0.0, 0.05, 0.5]
    near = keys((0.04, 1), (0.049, 2), (0.5, 3))
    assert snapped(near, all_of(near), 20.0).values.tolist() == [2, 3]
    assert between(one, 1.0, 0.25) == pytest.approx(0.25)
    assert between(one, 0.3, 0.5) == pytest.approx(1.0)
    assert between(one, 5.0, 0.5) == pytest.approx(1.0)


def test_one_slope_and_two():
    one = keys((0, 0), (1, 2), (2, 1))
    middle = np.array([False, True, False])
    two = with_slopes(one, middle, Slope.TWO, 4.0, -2.0)
    assert (two.before[1], two.after[1]) == (4.0, -2.0)
    same = with_slopes(two, middle, Slope.ONE)
    assert (same.before[1], same.after[1]) == (1.0, 1.0)
    assert with_slopes(two, middle, Slope.ONE, after=7.0).before[1] == 7.0
    level = with_slopes(two, middle, Slope.LEVEL)
    assert (level.before[1], level.after[1]) == (0.0, 0.0)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.floats(0.05, 2.0), st.floats(-3.0, 3.0), st.sampled_from(list(Run))), min_size=3, max_size=25),
    st.floats(1e-4, 0.5),
)
def test_fewer_keys_stay_within_what_was_asked(steps, tolerance):
    times = np.cumsum([s[0] for s in steps])
    one = replace(curve(times, [s[1] for s in steps]), runs=np.array([int(s[2]) for s in steps]))
    fewer = reduced(one, tolerance)
    assert len(fewer.times) <= len(one.times)
    at = np.unique(np.concatenate([times, times[:-1] + 0.5 * np.diff(times)]))
    assert np.abs(fewer.at_all(at) - one.at_all(at)).max() <= tolerance + 1e-9


def test_a_dense_curve_comes_down_to_few_keys():
    dense = curve(np.arange(301) / 30, np.sin(np.arange(301) / 30), Run.LINEAR)
    fewer = reduced(dense, 0.005)
    assert len(fewer.times) < 20
    at = np.linspace(0, 10, 1999)
    assert np.abs(fewer.at_all(at) - np.sin(at)).max() < 0.006
    assert len(reduced(curve(np.arange(301) / 30, np.full(301, 0.7), Run.LINEAR), 0.005).times) == 1


@pytest.fixture(scope="module")
def figure():
    return wick().character


def base_clip():
    down = {TURNS[0]: keys((0, 0.1), (1, 0.6), (2, -0.3)), TURNS[1]: keys((0, -0.4), (2, 0.9)), TURNS[2]: keys((0, 0.2), (2, -0.5))}
    return Clip("c", "nod", 30.0, 2.0, MappingProxyType(down))


def over(mode, amount=1.0, **more):
    curves = {TURNS[0]: keys((0, 0.3), (2, -0.2)), TURNS[1]: keys((0, 0.5)), TURNS[2]: keys((0, -0.1), (2, 0.4))}
    return Layer("l", "more", MappingProxyType(curves), True, mode, curve([0.0], [amount]), **more)


AT = np.linspace(0.0, 2.0, 23)


def shown(clip, figure):
    slots = [figure.rig.slots.index[ref] for ref in TURNS]
    return values_at(clip, AT, figure.rig)[:, slots]


@pytest.mark.parametrize("amount", [0.0, 0.4, 1.0])
def test_layers_set_add_and_turn(figure, amount):
    clip = base_clip()
    low, own = shown(clip, figure), np.stack([over(LayerMode.SET).curves[ref].at_all(AT) for ref in TURNS], axis=1)
    one = {mode: shown(replace(clip, layers=(over(mode, amount),)), figure) for mode in LayerMode}
    np.testing.assert_allclose(one[LayerMode.SET], low + amount * (own - low), atol=1e-12)
    np.testing.assert_allclose(one[LayerMode.ADD], low + amount * own, atol=1e-12)
    part = Rotation.from_rotvec(amount * Rotation.from_euler("xyz", own).as_rotvec())
    wanted = Rotation.from_euler("xyz", low) * part
    assert (Rotation.from_euler("xyz", one[LayerMode.TURN]).inv() * wanted).magnitude().max() < 1e-9
    assert np.abs(np.diff(one[LayerMode.TURN], axis=0)).max() < 0.5


def test_one_shown_alone_and_an_amount_that_is_keyed(figure):
    clip = replace(base_clip(), layers=(over(LayerMode.ADD), over(LayerMode.ADD, alone=True)))
    own = np.stack([over(LayerMode.SET).curves[ref].at_all(AT) for ref in TURNS], axis=1)
    np.testing.assert_allclose(shown(clip, figure), own, atol=1e-12)
    fading = replace(over(LayerMode.ADD), amount=keys((0, 0), (2, 1), run=Run.LINEAR))
    low = shown(base_clip(), figure)
    np.testing.assert_allclose(shown(replace(base_clip(), layers=(fading,)), figure), low + (AT / 2)[:, None] * own, atol=1e-12)
    off = replace(over(LayerMode.ADD, alone=True), on=False)
    np.testing.assert_allclose(shown(replace(base_clip(), layers=(off,)), figure), low, atol=1e-12)


@pytest.mark.parametrize("mode", list(LayerMode))
def test_mixed_down_it_plays_the_same_and_can_be_parted_again(figure, mode):
    layered = replace(base_clip(), layers=(over(mode, 0.7),))
    mixed = flattened(layered, figure.rig)
    assert not mixed.layers
    frames = np.arange(61) / 30
    live, told = values_at(layered, frames, figure.rig), values_at(mixed, frames, figure.rig)
    assert np.abs(live - told).max() < 5e-6
    again = Layer("l", "again", difference(base_clip(), mixed, figure.rig, mode), True, mode)
    back = values_at(replace(base_clip(), layers=(again,)), frames, figure.rig)
    assert np.abs(back - live).max() < 2e-5


@settings(max_examples=50, deadline=None)
@given(st.lists(st.floats(-1.4, 1.4), min_size=6, max_size=6))
def test_a_turn_and_what_was_added_agree(angles):
    low, high = np.array(angles[:3])[None], np.array(angles[3:])[None]
    step = Rotation.from_euler("xyz", added_turn(low, high)).as_rotvec()
    turned = followed(high * 0 + low, step)
    # One rotation has two sets of angles: far from `low` the nearer of them need not be the one begun with.
    assert (Rotation.from_euler("xyz", turned) * Rotation.from_euler("xyz", high).inv()).magnitude().max() < 1e-7
    assert np.abs(turned - low).sum() <= np.abs(high - low).sum() + 1e-7
