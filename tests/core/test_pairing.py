"""Two skeletons paired: by shape, by name, mended by hand, refused with the reason."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tools import takes

from pegloom.core.errors import EditError
from pegloom.core.motion.retarget import pair, parts_of, refusal, said, sign_of, stance_of, stood
from pegloom.core.skeleton.joints import Skeleton
from tests.support.figures import shipped
from tests.support.lent import BUILD, source_of


def ours(name="wick"):
    return shipped(name).require_character().require_skeleton()


def read(tmp_path, build=BUILD, **style):
    return source_of(takes.perform(build, takes.walk(build), seconds=1.5, rate=30.0, style=takes.Style(**style)), tmp_path)


def named(skeleton: Skeleton, chain):
    return [skeleton.joint(j).name for j in chain]


@pytest.mark.parametrize("style", [{"rest": "T"}, {"rest": "A", "names": "short", "sides": ("l", "r")}, {"rest": "relaxed", "facing": 2.4, "up": "z"}, {"rest": "stick"}])
def test_named_skeletons_are_paired_whole_and_surely(style, tmp_path):
    source = read(tmp_path, **style)
    found = pair(stood(source).skeleton, ours(), own=source.skeleton)
    by_part = {c.part: c for c in found.chains if c.source}
    assert set(by_part) == {"trunk", "neck", "head", "arm.l", "arm.r", "shoulder.l", "shoulder.r", "leg.l", "leg.r"}
    assert all(c.sure for c in by_part.values())
    for part, chain in by_part.items():
        side = {"l": "l", "r": "r"}.get(part.rpartition(".")[2])
        for name in named(source.skeleton, chain.source):
            assert side is None or name.lower().startswith(("left", "l_") if side == "l" else ("right", "r_")), (part, name)
    assert len(by_part["leg.l"].source) == 4 and len(by_part["trunk"].source) == BUILD.spine + 1


def test_skeletons_without_names_are_paired_by_their_shape(tmp_path):
    for seed in range(4):
        rng = np.random.default_rng(seed)
        build = replace(BUILD, thigh=0.43 * rng.uniform(0.8, 1.2), upper=0.29 * rng.uniform(0.8, 1.2), spine=int(rng.integers(2, 5)), back=0.5 * rng.uniform(0.85, 1.15))
        style = takes.Style(rest=str(rng.choice(["T", "A", "relaxed"])), names="none", facing=float(rng.uniform(-1, 1)), unit=float(rng.choice([1.0, 0.01])))
        take = takes.perform(build, takes.walk(build), seconds=1.0, rate=30.0, style=style)
        source = source_of(take, tmp_path)
        found = pair(stood(source).skeleton, ours(), own=source.skeleton)
        number = dict(zip(take.names, take.part, strict=True))
        for part, wanted in (("arm.l", ["upper.l", "fore.l", "hand.l"]), ("leg.r", ["thigh.r", "shin.r", "foot.r", "toes.r"]), ("head", ["head"])):
            assert [number[n] for n in named(source.skeleton, found.of(part).source)] == wanted, (seed, part)


def test_how_a_body_rests_is_told_by_its_shape(tmp_path):
    for rest, word in (("T", "T"), ("A", "A"), ("relaxed", "relaxed"), ("ahead", "arms ahead")):
        assert stood(read(tmp_path, rest=rest)).stance == word
    assert stance_of(ours("dumble")) == "four-legged"
    # A rest that is no body: a frame of the motion is read instead, and said.
    stick = stood(read(tmp_path, rest="stick"))
    assert stick.frame is not None and stick.stance == "relaxed"


def test_front_legs_stand_for_arms_and_that_is_doubtful(tmp_path):
    beast = source_of(takes.amble(takes.Beast(), seconds=1.0), tmp_path)
    found = pair(stood(beast).skeleton, ours(), own=beast.skeleton)
    arm = found.of("arm.l")
    assert named(beast.skeleton, arm.source) == ["l_fore_upper", "l_fore_lower", "l_fore_wrist", "l_fore_paw"]
    assert not arm.sure and "stands for" in arm.why
    assert found.of("leg.l").sure
    assert found.of("index.l").source == () and found.of("index.l").why


def test_one_joint_fills_in_its_chain_and_the_other_side(tmp_path):
    source = read(tmp_path, rest="T")
    at = stood(source).skeleton
    found = pair(at, ours(), own=source.skeleton)
    empty = said(found, "leg.l", (), at, ours())
    assert empty.of("leg.l").source == () and empty.of("leg.r").source == ()
    again = said(empty, "leg.l", (at.by_name("LeftUpLeg").id,), at, ours())
    assert named(at, again.of("leg.l").source) == ["LeftUpLeg", "LeftLeg", "LeftFoot", "LeftToeBase"]
    assert named(at, again.of("leg.r").source) == ["RightUpLeg", "RightLeg", "RightFoot", "RightToeBase"]
    assert again.of("leg.l").by_hand and again.of("leg.l").sure
    alone = said(empty, "leg.l", (at.by_name("LeftUpLeg").id,), at, ours(), both_sides=False)
    assert alone.of("leg.r").source == ()


@pytest.mark.parametrize(
    ("part", "joints", "reason"),
    [
        ("leg.l", ["RightUpLeg"], "is the right leg already"),
        ("arm.l", ["LeftForeArm", "LeftArm", "LeftHand"], "does not hang on"),
        ("leg.l", ["LeftUpLeg", "LeftUpLeg"], "twice"),
        ("head", ["Hips"], "is the trunk already"),
    ],
)
def test_a_wrong_guess_is_refused_with_the_reason(part, joints, reason, tmp_path):
    source = read(tmp_path, rest="T")
    at = stood(source).skeleton
    found = pair(at, ours(), own=source.skeleton)
    with pytest.raises(EditError, match=reason):
        said(found, part, tuple(at.by_name(n).id for n in joints), at, ours())
    assert refusal(found, part, ("nowhere",), at) is not None


def test_the_wrong_side_is_refused_even_without_names(tmp_path):
    source = read(tmp_path, rest="T", names="none")
    at = stood(source).skeleton
    found = pair(at, ours(), own=source.skeleton)
    right = found.of("leg.r").source
    emptied = said(said(found, "leg.r", (), at, ours(), both_sides=False), "leg.l", (), at, ours(), both_sides=False)
    with pytest.raises(EditError, match="stands on the right"):
        said(emptied, "leg.l", right, at, ours())


def test_a_skeleton_is_told_again_by_its_names_whatever_its_size(tmp_path):
    a, b = read(tmp_path, rest="T"), read(tmp_path, rest="A", unit=1.0)
    other = read(tmp_path, rest="T", names="short")
    assert sign_of(a.skeleton) == sign_of(b.skeleton) != sign_of(other.skeleton)
    assert parts_of(stood(a).skeleton).keys() == parts_of(stood(b).skeleton).keys()
