"""Sampled tracks as arrays: what goes in comes out, keys are shared, nonsense is refused."""

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import ShapeError
from pegloom.core.motion.tracks import JointTracks, Track, joint_tracks, rows_at
from tests.support.figures import rigged_capsules


def some(seed, joints):
    rng = np.random.default_rng(seed)
    shared = np.cumsum(rng.uniform(0.01, 0.2, 12))
    made = {}
    for joint in joints:
        turns = rng.normal(size=(12, 4))
        own = np.cumsum(rng.uniform(0.01, 0.3, 5))
        made[joint] = (
            Track("rotation", shared, turns / np.linalg.norm(turns, axis=1, keepdims=True)),
            Track("translation", own, rng.normal(size=(5, 3)), step=bool(rng.integers(2))),
            Track("scale", shared.copy(), rng.uniform(0.5, 2.0, size=(12, 3))),
        )
    return made


def test_tracks_read_as_they_were_put_in():
    put = some(1, ["a", "b", "c"])
    made = joint_tracks(put)
    assert list(made) == ["a", "b", "c"]
    for joint, tracks in put.items():
        for one, other in zip(tracks, made[joint], strict=True):
            assert (one.path, one.step) == (other.path, other.step)
            assert np.array_equal(one.times, other.times)
            assert np.array_equal(one.values, other.values)
    assert len(made.times) == 12 + 3 * 5, "keys that several share are kept once"
    assert made
    assert not JointTracks()


@pytest.mark.parametrize("seed", range(4))
def test_all_tracks_at_once_are_each_track_by_itself(seed):
    skeleton = rigged_capsules().character.skeleton
    rng = np.random.default_rng(seed)
    names = [skeleton.joints[i].id for i in rng.permutation(len(skeleton.joints))[:9]]
    put = some(seed, ["stranger", *names])
    made = joint_tracks(put)
    for time in rng.uniform(-0.2, 2.5, 20):
        pose = rows_at(made, skeleton, float(time))
        assert pose.joints == tuple(names), "joints that are not there are passed by"
        for joint, row in zip(pose.joints, pose.rows, strict=True):
            for track in put[joint]:
                first = {"translation": 0, "rotation": 3, "scale": 7}[track.path]
                wanted = track.at(float(time))
                got = row[first : first + len(wanted)]
                assert min(np.abs(got - wanted).max(), np.abs(got + wanted).max()) < 1e-9


@pytest.mark.parametrize("change", [
    {"joints": ("a", "a", "c")}, {"joints": ("a",)}, {"path": np.full(9, 3)}, {"first": np.full(9, 20)}, {"count": np.zeros(9, dtype=np.int64)},
    {"starts": np.full(9, -1)}, {"step": np.zeros(3, dtype=bool)}, {"rows": np.zeros((4, 4))}, {"rows": np.zeros((90, 3))}, {"times": np.zeros((3, 3))},
])  # fmt: skip
def test_tables_that_contradict_each_other_are_refused(change):
    made = joint_tracks(some(2, ["a", "b", "c"]))
    with pytest.raises(ShapeError, match="sampled tracks"):
        replace(made, **change)


def test_a_track_of_nothing_known_is_refused():
    with pytest.raises(ShapeError, match="colour"):
        joint_tracks({"a": (Track("colour", np.zeros(1), np.zeros((1, 3))),)})
    with pytest.raises(ShapeError, match="one value"):
        joint_tracks({"a": (Track("scale", np.zeros(2), np.zeros((1, 3))),)})
