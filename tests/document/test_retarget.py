"""Motion carried over, judged on exported files by other code, against what the performer truly did."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from tools import takes

from pegloom.core.errors import EditError
from pegloom.core.motion.retarget import CarryOptions, pair, parts_of, retarget, stood
from pegloom.core.rig.limits import JointLimit
from pegloom.document import edits
from tests.support import judge
from tests.support.figures import shipped
from tests.support.lent import BUILD, Judged, inserted, source_of, stout, under_a_root, without_toes

STYLES = {
    "T, named": takes.Style(rest="T"), "A, other names": takes.Style(rest="A", names="short", sides=("l", "r")),
    "lying, nameless, aside": takes.Style(rest="relaxed", names="none", facing=1.0, up="z", unit=1.0), "a rest that is no body": takes.Style(rest="stick"),
    "arms ahead": takes.Style(rest="ahead", unit=1.0),
}  # fmt: skip
BODIES = {"wick": lambda: shipped("wick"), "stout": stout}


def carry(document, take, folder, **more):
    document, (source,) = edits.add_sources(document, [source_of(take, folder)])
    return edits.borrow(document, source, **more)


@pytest.mark.each(2)
@pytest.mark.parametrize("body", BODIES)
@pytest.mark.parametrize("style", STYLES)
def test_a_walk_keeps_its_feet_its_arms_and_its_path(style, body, tmp_path):
    take = takes.perform(BUILD, takes.walk(BUILD, turn=0.2), seconds=3.0, rate=60.0, style=STYLES[style], noise=0.005)
    document, lent = carry(BODIES[body](), take, tmp_path)
    judged = Judged(document, lent.clip, take, tmp_path)
    assert np.percentile(judged.slide(), 95) < 5.0
    low = judged.lowest_mm(judged.standing()[::12])
    assert low.min() > -5.0 and low.max() < 5.0
    for side in "lr":
        assert judged.angle("upper", "fore", side).mean() < 3.0 and judged.angle("fore", "hand", side).mean() < 3.0
        assert judged.angle("thigh", "shin", side).mean() < 6.0 and judged.angle("shin", "foot", side).mean() < 6.0
    # The path, by the lengths of legs of both.
    ours = document.require_character().require_skeleton()
    places = [ours.positions[ours.index[j]] for j in parts_of(ours)["leg.l"][:3]]
    ratio = np.linalg.norm(np.diff(places, axis=0), axis=1).sum() / (BUILD.thigh + BUILD.shin)
    there, here = judged.truth("hips") * ratio, judged.played.at("hips")
    way = np.linalg.norm(np.diff(there, axis=0), axis=1).sum()
    assert np.linalg.norm((here - here[0]) - (there - there[0]), axis=1).max() < 0.03 * way
    # What the program says of itself agrees with what was found.
    figures = lent.carried.figures
    assert figures.slide_mm < 5.0 and figures.floor_mm < 5.0 and max(figures.direction_deg.values()) < 6.0


@pytest.mark.parametrize("act", ["jump", "reach"])
def test_crouches_and_jumps_stay_on_the_floor_and_nothing_flips(act, tmp_path):
    take = takes.perform(BUILD, getattr(takes, act)(BUILD), seconds=2.6, rate=60.0, style=takes.Style(rest="A"))
    document, lent = carry(stout(), take, tmp_path)
    judged = Judged(document, lent.clip, take, tmp_path)
    assert np.percentile(judged.slide(), 95) < 5.0
    # The top of a jump is slow as well, and no contact: there both ankles are high.
    grounded = [k for k in judged.standing()[::8] if min(judged.truth("toes", s)[k, 1] for s in "lr") < 0.06]
    low = judged.lowest_mm(np.array(grounded))
    assert low.min() > -5.0 and low.max() < 5.0
    for name in ("l_hand", "r_hand", "l_shin", "r_shin"):
        turns = judged.played.by_name[name][:, :3, :3]
        step = np.degrees(np.arccos(np.clip((np.einsum("kab,kab->k", turns[1:], turns[:-1]) - 1) / 2, -1, 1)))
        assert step.max() < 20.0, name


def test_clapping_hands_meet_and_hands_lie_on_the_hips_of_a_stout_body(tmp_path):
    take = takes.perform(BUILD, takes.clap(BUILD), seconds=4.0, rate=60.0)
    document, lent = carry(stout(), take, tmp_path)
    judged = Judged(document, lent.clip, take, tmp_path)
    on = {(c.part, c.on) for c in lent.carried.contacts}
    assert ("arm.l", "other hand") in on and ("arm.r", "other hand") in on
    apart_there = np.linalg.norm(judged.truth("hand", "l") - judged.truth("hand", "r"), axis=1) * judged.there
    apart_here = np.linalg.norm(judged.at("hand", "l") - judged.at("hand", "r"), axis=1) * judged.here
    met = np.argmin(apart_there)
    assert abs(apart_here[met] - apart_there[met]) < 0.008
    # Without it they would not: this body's shoulders are broader.
    plain, lent = carry(stout(), take, tmp_path, options=CarryOptions(touch=False))
    bare = Judged(plain, lent.clip, take, tmp_path)
    assert abs(np.linalg.norm(bare.at("hand", "l")[met] - bare.at("hand", "r")[met]) * bare.here - apart_there[met]) > 0.016


def test_arms_that_hang_and_swing_touch_nothing(tmp_path):
    take = takes.perform(BUILD, takes.walk(BUILD), seconds=2.5, rate=60.0)
    _, lent = carry(stout(), take, tmp_path)
    assert {c.on for c in lent.carried.contacts} == {"floor"}


def test_a_four_legged_walk_on_quite_another_build(tmp_path):
    document = shipped("dumble")
    skeleton = document.require_character().require_skeleton()
    for beast, stride in ((takes.Beast(legs=1.7, wide=0.12), 1.2), (takes.Beast(legs=0.55, back=0.7, wide=0.07), 0.45)):
        take = takes.amble(beast, seconds=2.5, stride=stride)
        done, lent = carry(document, take, tmp_path)
        judged = Judged(done, lent.clip, take, tmp_path)
        parts = parts_of(skeleton)
        there = 1.7 / float(np.ptp(take.truth[0][:, 1]))
        ours = there / (lent.carried.scale * 100.0)
        slides, lefts = [], {}
        for side in "lr":
            for part, end in ((f"leg.{side}", "toes"), (f"foreleg.{side}", "fingers")):
                here = judged.played.at(skeleton.joint(parts[part][-1]).name)
                slides.append(judge.slide_mm(here, judged.truth(end, side), take.rate, here_to_body=ours, there_to_body=there))
                lefts[part] = here[:, 0]
        assert np.percentile(np.concatenate(slides), 95) < 5.0
        assert (lefts["leg.l"] > lefts["leg.r"]).all() and (lefts["foreleg.l"] > lefts["foreleg.r"]).all(), "legs cross"
        hips, chest = (judged.played.at(skeleton.joint(parts["trunk"][k]).name) for k in (0, -1))
        line = chest - hips
        pitch = np.degrees(np.arcsin(line[:, 1] / np.linalg.norm(line, axis=1)))
        rest = skeleton.positions[skeleton.index[parts["trunk"][-1]]] - skeleton.positions[skeleton.index[parts["trunk"][0]]]
        assert np.abs(pitch - np.degrees(np.arcsin(rest[1] / np.linalg.norm(rest)))).max() < 4.0, "the back is not level"


def test_in_place_a_range_and_the_size_of_the_source(tmp_path):
    take = takes.perform(BUILD, takes.walk(BUILD), seconds=4.0, rate=30.0)
    large = takes.perform(BUILD, takes.walk(BUILD), seconds=4.0, rate=30.0, style=takes.Style(unit=0.0001))
    document, lent = carry(shipped("wick"), take, tmp_path)
    _, other = carry(shipped("wick"), large, tmp_path)
    assert other.carried.scale == pytest.approx(lent.carried.scale / 100.0, rel=1e-4)
    assert np.allclose(other.carried.clip.tracks.rows, lent.carried.clip.tracks.rows, atol=1e-4)
    _, still = carry(document, take, tmp_path, options=CarryOptions(in_place=True, first=1.0, last=3.0))
    clip = still.carried.clip
    assert clip.length == pytest.approx(2.0, abs=1e-6)
    (root,) = [t for t in clip.tracks["spine.hips"] if t.path == "translation"]
    assert np.abs(root.values[:, [0, 2]] - root.values[0, [0, 2]]).max() < 0.06
    with pytest.raises(EditError, match="nothing in that range"):
        carry(document, take, tmp_path, options=CarryOptions(first=9.0))


def test_limits_are_kept(tmp_path):
    take = takes.perform(BUILD, takes.reach(BUILD), seconds=3.0, rate=30.0)
    skeleton = stout().require_character().require_skeleton()
    source = source_of(take, tmp_path)
    pairing = pair(stood(source).skeleton, skeleton, own=source.skeleton)
    limits = (JointLimit("arm.l.upper", (-0.6,) * 3, (0.6,) * 3), JointLimit("spine.spine", (-0.05,) * 3, (0.05,) * 3), JointLimit("leg.l.lower", (0.0, -0.1, -0.1), (1.2, 0.1, 0.1)))
    free, bound = (retarget(source, skeleton, pairing, limits=limits, options=CarryOptions(limits=kept)) for kept in (False, True))
    assert bound.figures.limit_deg < 2.0
    for limit in limits:
        turned = []
        for done in (free, bound):
            (track,) = [t for t in done.clip.tracks[limit.joint] if t.path == "rotation"]
            rest = Rotation.from_matrix(skeleton.local[skeleton.index[limit.joint], :3, :3])
            vector = (rest.inv() * Rotation.from_quat(track.values)).as_rotvec()
            turned.append(np.degrees(np.maximum(vector - limit.high, np.array(limit.low) - vector).max()))
        assert turned[0] > 5.0 and turned[1] < 2.0, limit.joint


def test_a_corrected_chain_and_another_rest(tmp_path):
    take = takes.perform(BUILD, takes.walk(BUILD), seconds=2.0, rate=30.0)
    document, lent = carry(stout(), take, tmp_path)
    before = Judged(document, lent.clip, take, tmp_path).at("hand", "l")
    pairing = document.require_character().pairings[0].id
    raised, (again,) = edits.set_chain(document, pairing, "arm.l", turn=(0.0, 0.0, 20.0))
    assert again.clip == lent.clip
    shoulder = Judged(document, lent.clip, take, tmp_path).at("upper", "l")
    after = Judged(raised, lent.clip, take, tmp_path).at("hand", "l")
    angle = judge.angle_deg(before - shoulder, after - shoulder)
    assert angle.mean() == pytest.approx(20.0, abs=4.0)
    still, _ = edits.set_chain(document, pairing, "arm.l", amount=0.0)
    swings = [one.require_character().clip(lent.clip).tracks["arm.l.upper"][0].values for one in (document, still)]
    assert np.ptp(swings[0], axis=0).max() > 0.3 and np.ptp(swings[1], axis=0).max() < 1e-6
    near, _ = edits.set_chain(document, pairing, "arm.l", reach=0.8)
    shorter = np.linalg.norm(Judged(near, lent.clip, take, tmp_path).at("hand", "l") - shoulder, axis=1)
    assert shorter.mean() == pytest.approx(0.8 * np.linalg.norm(before - shoulder, axis=1).mean(), rel=0.03)
    with pytest.raises(EditError, match="amount"):
        edits.set_chain(document, pairing, "arm.l", amount=9.0)
    other, (told,) = edits.set_source_rest(document, pairing, 0.5)
    assert told.carried.rests[0] in ("relaxed", "A") and other.require_character().pairings[0].rest == 0.5


def dummies(take):
    """Joints at the hips' place that only hold a leg, or the spine."""
    for child, name in (("LeftUpLeg", "LHipJoint"), ("RightUpLeg", "RHipJoint"), ("Spine1", "LowerBack")):
        take = inserted(take, child, name, 0.0)
    return take


def twists(take):
    """Twist joints in the middle of limbs."""
    for child, name in (("LeftForeArm", "LeftArmTwist"), ("RightForeArm", "RightArmTwist"), ("LeftLeg", "LeftUpLegRoll"), ("RightLeg", "RightUpLegRoll")):
        take = inserted(take, child, name, 0.5)
    return take


@pytest.mark.parametrize("changed", [dummies, twists, without_toes, under_a_root])
def test_skeletons_of_other_habits_are_read_as_the_same_body(changed, tmp_path):
    take = changed(takes.perform(BUILD, takes.walk(BUILD), seconds=2.0, rate=60.0, noise=0.004))
    document, lent = carry(stout(), take, tmp_path)
    (pairing,) = document.require_character().pairings
    assert all(c.sure for c in pairing.chains if c.source) and len(pairing.of("leg.l").source) >= 3 and len(pairing.of("arm.r").source) == 3
    judged = Judged(document, lent.clip, take, tmp_path)
    slides = [judge.slide_mm(judged.at(p, s), judged.truth(p, s), take.rate, here_to_body=judged.here, there_to_body=judged.there) for s in "lr" for p in ("toes", "foot") if f"{p}.{s}" in judged.index]
    assert np.percentile(np.concatenate(slides), 95) < 5.0
    for side in "lr":
        assert judged.angle("upper", "fore", side).mean() < 3.0 and judged.angle("thigh", "shin", side).mean() < 6.0


def test_arms_that_stand_for_front_legs_are_told_from_where_they_hang(tmp_path):
    """A walker's arms hang and swing: a beast's front legs stand and step."""
    take = takes.perform(BUILD, takes.walk(BUILD, swing=0.3), seconds=2.0, rate=30.0, style=takes.Style(rest="T"))
    document, lent = carry(shipped("dumble"), take, tmp_path, options=CarryOptions(plant=False, touch=False))
    skeleton = document.require_character().require_skeleton()
    judged = Judged(document, lent.clip, take, tmp_path)
    upper, lower, end = (skeleton.joint(j) for j in parts_of(skeleton)["foreleg.l"][:3])
    for a, b in ((upper, lower), (lower, end)):
        rest = np.subtract(b.position, a.position)
        now = judged.played.at(b.name) - judged.played.at(a.name)
        assert judge.angle_deg(now, np.broadcast_to(rest, now.shape)).mean() < 35.0
    # The other way round: a beast's steps on a walker's arms.
    beast = takes.amble(takes.Beast(), seconds=2.0)
    document, lent = carry(shipped("wick"), beast, tmp_path, options=CarryOptions(plant=False, touch=False))
    judged = Judged(document, lent.clip, beast, tmp_path)
    arm = judged.at("hand", "l") - judged.at("upper", "l")
    assert judge.angle_deg(arm, np.broadcast_to([0.0, -1.0, 0.0], arm.shape)).mean() < 35.0


def test_a_hand_that_holds_on_to_a_rail_stays_there(tmp_path):
    take = takes.perform(BUILD, takes.rail(BUILD), seconds=3.0, rate=60.0)
    document, lent = carry(stout(), take, tmp_path)
    plain, bare = carry(stout(), take, tmp_path, options=CarryOptions(touch=False))
    assert ("arm.l", "something that stands") in {(c.part, c.on) for c in lent.carried.contacts}
    inside = slice(20, -20)
    strays = [np.linalg.norm(np.ptp(Judged(d, x.clip, take, tmp_path).at("hand", "l")[inside], axis=0)) for d, x in ((document, lent), (plain, bare))]
    assert strays[0] < 0.012 < strays[1]


def test_hands_that_hold_one_thing_keep_their_distance(tmp_path):
    take = takes.perform(BUILD, takes.haul(BUILD), seconds=3.0, rate=60.0)
    document, lent = carry(stout(), take, tmp_path)
    plain, bare = carry(stout(), take, tmp_path, options=CarryOptions(touch=False))
    inside = slice(20, -20)
    spread = []
    for d, x in ((document, lent), (plain, bare)):
        judged = Judged(d, x.clip, take, tmp_path)
        spread.append(float(np.ptp(np.linalg.norm(judged.at("hand", "l") - judged.at("hand", "r"), axis=1)[inside])))
    assert spread[0] < 0.02 and spread[0] < 0.6 * spread[1], spread
