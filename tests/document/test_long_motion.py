"""Long motion takes little memory, and fixed frame rates are judged."""

import tracemalloc
from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest

from pegloom.checks.snags import find_snags
from pegloom.core.curves import Run, curve
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.retell import reposed_clip
from pegloom.core.tolerances import RATE_OF_SIZE
from pegloom.document import edits
from pegloom.document.baking import bake_clip, live, rate_error, rates_of
from pegloom.document.evaluate import evaluate
from tests.support.figures import rigged_capsules, wick

MEGABYTES = 2**20


def at_120_frames(seconds, rate=120.0):
    """A slow walk of some controls."""
    times = np.arange(0.0, seconds + 1e-9, 2.0)
    rng = np.random.default_rng(2)
    curves = {
        (control, key): curve(times, rng.normal(scale=0.1, size=len(times)))
        for control, key in (("body", "move_y"), ("leg.l.goal", "move_z"), ("arm.l.upper.fk", "rotate_x"), ("spine.chest", "rotate_y"))
    }  # fmt: skip
    return Clip("long", "long", rate, float(seconds), curves=MappingProxyType(curves))


def peak(work):
    tracemalloc.start()
    try:
        work()
        return tracemalloc.get_traced_memory()[1] / MEGABYTES
    finally:
        tracemalloc.stop()


def for_ten_minutes(work):
    """Megabytes that ten minutes take, from what 18 and 27 seconds do, some chunks each: measuring itself is slow."""
    work(1)
    short, long = peak(lambda: work(18)), peak(lambda: work(27))
    return short + (long - short) * (600 - 18) / 9


@pytest.mark.full
def test_ten_minutes_at_120_frames_a_second_take_less_than_300_megabytes():
    character = wick().character
    assert for_ten_minutes(lambda seconds: bake_clip(character, at_120_frames(seconds))) < 300


@pytest.mark.full
def test_telling_ten_minutes_from_a_new_rest_takes_no_more():
    character = rigged_capsules().character
    skeleton, rig = character.skeleton, character.rig
    rest = edits.set_channels(rigged_capsules(), "spine.chest", rotate_x=0.05).character.pose
    told = lambda seconds: reposed_clip(at_120_frames(seconds), skeleton, rig, skeleton, rig, rest)  # noqa: E731
    assert for_ten_minutes(told) < 300


@pytest.mark.parametrize("rate", [24.0, 60.0])
def test_the_error_of_a_rate_is_what_a_player_of_whole_frames_shows(rate):
    character = rigged_capsules().character
    times = np.cumsum([0.0, 0.11, 0.07, 0.2, 0.05, 0.3])
    rng = np.random.default_rng(5)
    curves = {("arm.l.upper.fk", k): curve(times, rng.normal(scale=0.4, size=6)) for k in ("rotate_x", "rotate_z")}
    clip = Clip("c", "c", rate, float(times[-1]), curves=MappingProxyType(curves))
    said = rate_error(live(character), clip, rate)
    # Between two frames a player of places moves each vertex on a straight line; it cannot stray more than joints do.
    worst = 0.0
    for k in range(round(clip.length * rate)):
        a, b = (joints(character, clip, (k + n) / rate) for n in (0, 1))
        middle = joints(character, clip, (k + 0.5) / rate)
        worst = max(worst, float(np.linalg.norm((a + b) / 2 - middle, axis=1).max()))
    assert said >= 0.5 * worst
    assert said > rate_error(live(character), clip, 4 * rate)


def joints(character, clip, time):
    return evaluate(character, sample(clip, time, character.skeleton, None, character.rig)).joints[:, :3, 3]


def test_a_clip_too_fast_for_its_rate_is_a_snag_with_a_rate_that_holds():
    character = rigged_capsules().character
    quick = Clip("q", "flick", 24.0, 1.0, curves=MappingProxyType({
        ("arm.l.upper.fk", "rotate_x"): curve((0.3, 0.4, 0.5), (0.0, 1.4, 0.0)),
        ("body", "move_x"): curve((0.0, 0.51), (0.0, 0.2), Run.STEP),
    }))  # fmt: skip
    still = curve((0.0, 4.0), (0.0, 0.05))
    calm = Clip("s", "sway", 30.0, 4.0, curves=MappingProxyType({("root", "move_x"): still}))
    own, rate, held = rates_of(character.skeleton, character.rig, character.height, quick)
    assert own > 0.002
    assert rate > 24.0
    assert held <= RATE_OF_SIZE * character.height or rate == 240.0
    snags = [s for s in find_snags(replace(character, clips=(quick, calm))) if s.code == "low-rate"]
    assert len(snags) == 1
    assert "flick" in snags[0].message
    assert f"at {rate:g} by" in snags[0].message
    assert rates_of(character.skeleton, character.rig, character.height, calm)[1] == 30.0
