"""The check of a rig, on rigs that are sound and on rigs spoilt on purpose; what it offers mends them."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest

from pegloom.checks import CHECKS, guard, mended
from pegloom.checks.guard import without_effect
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.couplings import Combine
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.edits import Read
from pegloom.document.model import CardButton, ShelfPose
from tests.support.figures import shipped

NAMES = ("wick", "dumble", "harl", "winch", "lantern")


@pytest.fixture(scope="module")
def sound():
    return edits.set_pose(edits.build_controls(shipped("wick")), Pose())


@pytest.mark.parametrize("name", NAMES)
def test_the_shipped_figures_are_sound_at_rest(name):
    document = edits.set_pose(shipped(name), Pose())
    assert [f.message for f in guard(document.character)] == []


def test_a_pose_in_hand_is_found_and_taken_away(sound):
    document = edits.set_channels(sound, "spine.chest", rotate_x=0.3)
    (one,) = guard(document.character)
    assert one.check == "rest" and one.fix
    assert guard(mended(document, [one]).character) == ()


def locked(d):
    return edits.switch_channels(d, ["arm.l.upper.fk", "arm.r.upper.fk"], ["rotate_x", "rotate_y", "rotate_z"], locked=True)


def locked_goal(d):
    return edits.switch_channels(d, ["leg.l.goal", "leg.r.goal"], ["move_x", "move_y", "move_z"], locked=True)


def free_though_set(d):
    d, _made = edits.couple(d, "spine.head", "rotate_y", [Read("x", "body", "rotate_y")], formula="x", combine=Combine.SET)
    return d


def nowhere_to_go(d):
    return edits.change_channel(d, "body", "move_x", ChannelChange(limits=(0.0, 0.0)))


def left_behind(d):
    """A part whose weights are taken away."""
    one = d.character
    weights = {p: w for p, w in one.skin.weights.items() if p != one.parts[1].id}
    return d.with_character(replace(one, skin=replace(one.skin, weights=MappingProxyType(weights))))


def carried_twice(d):
    """The body goes with the root, and by a coupling once more."""
    return edits.couple(d, "body", "move_x", [Read("x", "root", "move_x")], formula="x")[0]


def idle_control(d):
    d, _ = edits.add_channel(d, "spine.head", "twinkle")
    return d


def set_of_the_gone(d):
    return d.with_character(replace(d.character, control_sets=MappingProxyType({"old": ("nobody", "body")})))


def pose_of_the_gone(d):
    pose = ShelfPose("pose.1", "old", MappingProxyType({("nobody", "move_x"): 1.0}))
    return d.with_character(replace(d.character, poses=(pose,), card=(CardButton("nobody", 0.5, 0.5),)))


def empty_clip(d):
    return edits.add_clip(d, "nothing yet")[0]


def one_sided_shape(d):
    return edits.shape_controls(d, ("arm.l.goal",), size=2.5)


def one_sided_lock(d):
    return edits.switch_channels(d, ["arm.l.goal"], ["move_z"], locked=True)


def one_sided_limit(d):
    return edits.change_channel(d, "leg.l.goal", "move_y", ChannelChange(limits=(-0.5, 1.0)))


def not_at_rest(d):
    d, _ = edits.couple(d, "spine.head", "rotate_y", [Read("x", "body", "rotate_y")], formula="x + 0.2", offset=0.2)
    return d


SPOILT = (
    (locked, "locked", True), (locked_goal, "locked", True), (free_though_set, "free", True), (nowhere_to_go, "free", True),
    (left_behind, "double", False), (carried_twice, "double", False), (idle_control, "effect", True), (set_of_the_gone, "unused", True),
    (pose_of_the_gone, "unused", True), (empty_clip, "unused", True), (one_sided_shape, "sides", False), (one_sided_lock, "sides", False),
    (one_sided_limit, "sides", False), (not_at_rest, "rest", False),
)  # fmt: skip


@pytest.mark.parametrize(("spoil", "check", "mends"), SPOILT, ids=[s[0].__name__ for s in SPOILT])
def test_each_fault_is_found_named_and_where_it_is_safe_mended(sound, spoil, check, mends):
    document = spoil(sound)
    found = guard(document.character)
    assert check in {f.check for f in found}, [f.message for f in found]
    assert {f.check for f in found} <= {check, "effect", "free", "sides"}, [(f.check, f.message) for f in found]
    assert all(f.message and f.check in CHECKS for f in found)
    one = next(f for f in found if f.check == check)
    assert bool(one.fix) is mends
    if mends:
        left = guard(mended(document, [f for f in found if f.check == check]).character)
        assert not [f.message for f in left if f.check == check]


def test_what_points_at_a_control_names_one_that_is_there(sound):
    for spoil, _, _ in SPOILT:
        document = spoil(sound)
        for one in guard(document.character):
            assert not one.control or one.control in document.character.rig.index
            assert not one.joint or one.joint in document.character.skeleton.index


def test_every_free_channel_of_a_built_rig_does_something_and_a_dead_one_is_told(sound):
    rig, skeleton = sound.character.rig, sound.character.skeleton
    assert without_effect(rig, skeleton, sound.character.height) == frozenset()
    document, _ = edits.add_channel(sound, "body", "nothing")
    key = next(c.key for c in document.character.rig.control("body").channels if c.title == "nothing")
    assert without_effect(document.character.rig, skeleton, sound.character.height) == {("body", key)}


def test_a_rig_is_checked_the_same_every_time(sound):
    document = one_sided_shape(idle_control(sound))
    first, again = guard(document.character), guard(document.character)
    assert [f.message for f in first] == [f.message for f in again]


def test_it_asks_whether_to_go_on(sound):
    from pegloom.core.jobs import Cancelled

    def stop(share, text):
        if share > 0.2:
            raise Cancelled

    with pytest.raises(Cancelled):
        guard(sound.character, stop)
    assert guard(replace(sound.character, rig=None)) == ()
    assert np.isfinite(sound.character.height)
