"""Weights and motion brought along when the skeleton changes: nothing is lost, and nothing moves that should not."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.errors import ShapeError
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.retell import carried_clip
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.rejoin import carry_weights, share_of, spread_over_chain
from pegloom.core.skin.weights import dense_over, from_dense, row_sums_hold, without_columns
from tests.support.figures import wick


def chain(count, length=1.0, prefix="j", fold=0.0):
    """Joints along x, the later ones folded down by some radians in all."""
    places, here, angle = [np.zeros(3)], np.zeros(3), 0.0
    for _ in range(count):
        here = here + length / count * np.array([np.cos(angle), -np.sin(angle), 0.0])
        places.append(here)
        angle += fold / count
    joints = []
    for k in range(count):
        tail = tuple(places[k + 1]) if k == count - 1 else None
        joints.append(
            Joint(
                f"{prefix}{k}",
                f"{prefix}{k}",
                f"{prefix}{k - 1}" if k else None,
                Side.CENTRE,
                tuple(places[k]),
                tail=tail,
            )
        )
    return Skeleton(tuple(joints)), np.array(places)


def skin_of(seed, joints, vertices=40):
    rng = np.random.default_rng(seed)
    values = rng.random((vertices, joints)) ** 3
    values[rng.random((vertices, joints)) < 0.4] = 0.0
    # Traces under a ten-thousandth are dropped wherever weights are stored.
    values[values < 5e-3] = 0.0
    values[:, 0] += 0.02
    values /= values.sum(axis=1, keepdims=True)
    return values, rng.uniform(-0.2, 1.2, (vertices, 3)) * (1.0, 0.2, 0.2)


@settings(max_examples=40)
@given(st.integers(0, 10_000), st.sets(st.integers(1, 5), min_size=1, max_size=4))
def test_what_a_removed_joint_held_goes_to_the_nearest_one_above_that_stays(seed, gone):
    old, _ = chain(6)
    values, _ = skin_of(seed, 6)
    kept = [k for k in range(6) if k not in gone]
    joints = []
    for k in kept:
        above = max((a for a in kept if a < k), default=None)
        joints.append(
            Joint(f"j{k}", f"j{k}", None if above is None else f"j{above}", Side.CENTRE, old.joints[k].position)
        )
    new = Skeleton(tuple(joints))
    carried = carry_weights(from_dense(values, [f"j{k}" for k in range(6)]), old, new)
    assert row_sums_hold(carried)
    wanted = np.zeros((len(values), len(kept)))
    for k in range(6):
        heir = max(a for a in kept if a <= k)
        wanted[:, kept.index(heir)] += values[:, k]
    assert dense_over(carried, [f"j{k}" for k in kept]) == pytest.approx(wanted, abs=1e-7)


@settings(max_examples=40)
@given(st.integers(0, 10_000), st.integers(1, 9), st.floats(0.0, 2.0))
def test_a_chains_weight_shared_out_anew_adds_up_and_follows_the_chain(seed, count, fold):
    _, places = chain(count, fold=fold)
    values, points = skin_of(seed, 3)
    total = values[:, 1]
    shares = spread_over_chain(points, total, places)
    assert shares.shape == (len(points), count)
    assert shares.min() >= 0.0
    assert shares.sum(axis=1) == pytest.approx(total, abs=1e-12)
    # The middle of every bone is that bone's alone.
    middles = (places[1:] + places[:-1]) / 2
    assert spread_over_chain(middles, np.ones(count), places) == pytest.approx(np.eye(count), abs=1e-9)


@settings(max_examples=30)
@given(st.integers(0, 10_000), st.integers(1, 8), st.integers(1, 8))
def test_a_kit_cut_into_another_number_of_joints_keeps_the_whole_of_its_weight(seed, before, after):
    old, _ = chain(before, prefix="a")
    new, _ = chain(after, prefix="b")
    stem = Joint("stem", "stem", None, Side.CENTRE, (-0.5, 0.0, 0.0))
    hung = [Skeleton((stem, Joint("x", "x", "stem", Side.CENTRE, (0.0, 1.0, 0.0)), *_hang(s))) for s in (old, new)]
    values, points = skin_of(seed, before + 2)
    names = ["stem", "x", *(j.id for j in old.joints)]
    ours = (tuple(j.id for j in old.joints), tuple(j.id for j in new.joints))
    carried = carry_weights(from_dense(values, names), hung[0], hung[1], points, chains=(ours,))
    got = dense_over(carried, ["stem", "x", *ours[1]])
    assert row_sums_hold(carried)
    # Up to the traces dropped of each new joint.
    assert got[:, :2] == pytest.approx(values[:, :2], abs=1e-4 * after), "what others hold is not touched"
    assert got[:, 2:].sum(axis=1) == pytest.approx(values[:, 2:].sum(axis=1), abs=1e-4 * after)


def _hang(skeleton):
    first, *rest = skeleton.joints
    return (Joint(first.id, first.name, "stem", first.side, first.position, tail=first.tail), *rest)


@settings(max_examples=30)
@given(st.floats(0.2, 0.8), st.integers(0, 1000))
def test_a_joint_put_into_a_bone_takes_what_lies_beyond_it(at, seed):
    old, places = chain(2)
    first, second = old.joints
    here = tuple(places[0] + at * (places[1] - places[0]))
    new = Skeleton(
        (
            first,
            Joint("mid", "mid", "j0", Side.CENTRE, here),
            Joint("j1", "j1", "mid", Side.CENTRE, second.position, tail=second.tail),
        )
    )
    _, points = skin_of(seed, 2, 200)
    share = share_of(points, new, new.joint("mid"), old)
    assert (share >= 0).all() and (share <= 1).all()
    bone = 0.5 * (1.0 - at)
    assert share[points[:, 0] > here[0] + 0.3 * bone] == pytest.approx(1.0)
    assert share[points[:, 0] < here[0] - 0.3 * bone] == pytest.approx(0.0)
    values = np.zeros((len(points), 2))
    values[:, 0] = 1.0
    carried = carry_weights(from_dense(values, ["j0", "j1"]), old, new, points, takes=frozenset({"mid"}))
    got = dense_over(carried, ["j0", "mid", "j1"])
    assert got[:, 1] == pytest.approx(share, abs=2e-4)
    assert got.sum(axis=1) == pytest.approx(1.0)


def test_an_unchanged_skeleton_keeps_the_very_same_weights():
    skeleton, _ = chain(4)
    values, points = skin_of(3, 4)
    weights = from_dense(values, [j.id for j in skeleton.joints])
    assert carry_weights(weights, skeleton, skeleton, points) is weights


@settings(max_examples=20)
@given(st.integers(0, 10_000), st.floats(-0.6, 0.6))
def test_sampled_motion_moves_the_body_as_before_on_another_rest(seed, bend):
    """Every joint carries its part of the body by the same matrices, at every key."""
    old, _ = chain(4)
    new, _ = chain(4, fold=bend)
    rng = np.random.default_rng(seed)
    times = np.linspace(0.0, 1.0, 5)
    tracks = {}
    for joint in old.joints:
        turns = rng.normal(size=(5, 4)) * (0.3, 0.3, 0.3, 0.0) + (0, 0, 0, 1)
        tracks[joint.id] = (Track("rotation", times, turns / np.linalg.norm(turns, axis=1, keepdims=True)),)
    clip = Clip("c", "c", tracks=joint_tracks(tracks))
    carried = carried_clip(clip, old, new)
    for time in times:
        before, after = (
            skin_matrices(s, evaluate_rig(s, None, sample(c, float(time), s)).joints)
            for s, c in ((old, clip), (new, carried))
        )
        assert after == pytest.approx(before, abs=1e-6)


def test_rows_that_hold_nothing_of_what_changes_are_the_very_same():
    character = wick().character
    old = character.skeleton
    weights = character.skin.weights["part0"]
    gone = "hand.l.index.3"
    new = Skeleton(tuple(j for j in old.joints if j.id != gone))
    carried = carry_weights(weights, old, new, character.parts[0].mesh.points)
    assert gone not in carried.joint_ids
    before = dense_over(weights, [j.id for j in old.joints])
    after = dense_over(carried, [j.id for j in old.joints])
    column = list(old.index).index(gone)
    held = before[:, column] > 0
    assert held.any()
    assert np.array_equal(before[~held], after[~held])
    heir = list(old.index).index("hand.l.index.2")
    assert np.allclose(after[held][:, heir], before[held][:, heir] + before[held][:, column], atol=1e-9)


def test_a_column_that_still_holds_weight_does_not_go():
    weights = from_dense(np.array([[0.5, 0.5, 0.0], [1.0, 0.0, 0.0]]), ("a", "b", "c"))
    assert without_columns(weights, ["c"]).joint_ids == ("a", "b")
    assert without_columns(weights, []) is weights
    with pytest.raises(ShapeError, match="b still holds"):
        without_columns(weights, ["b"])
