"""Gaits from numbers on bodies of other builds, judged on exported files by other code."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import EditError, PegLoomError
from pegloom.core.motion.clips import values_at
from pegloom.core.motion.follow_through import joints_of
from pegloom.core.motion.gait.numbers import PRESETS, gait_of
from pegloom.core.motion.gait.path import Way
from pegloom.core.motion.gait.steps import falls_of
from pegloom.core.motion.retarget import parts_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.rig.evaluate import joints_at
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.joints import Joint, Skeleton
from pegloom.core.skeleton.names import Side
from pegloom.document import edits
from pegloom.document.edits.gait import gait_clip
from pegloom.document.model import Character, Document
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support import judge
from tests.support.figures import DEMO, shipped
from tests.support.lent import only, stout

BODIES = {"wick": lambda: shipped("wick"), "stout": stout, "dumble": lambda: shipped("dumble"), "harl": lambda: shipped("harl")}
CASES = [
    *((b, g) for b in ("wick", "stout") for g in ("walk", "run", "sneak", "limp", "tiptoe")), ("wick", "march"), ("wick", "jog"), ("wick", "shuffle"),
    *(("dumble", g) for g in ("walk", "amble", "trot", "canter")), ("harl", "walk"), ("harl", "stalk"),
]  # fmt: skip


def six():
    """Three pairs of legs on a trunk, drawn by hand, without a skin."""
    joints = [Joint("spine.hips", "hips", None, Side.CENTRE, (0.0, 0.3, -0.2)), Joint("spine.chest", "chest", "spine.hips", Side.CENTRE, (0.0, 0.31, 0.2), tail=(0.0, 0.32, 0.3))]
    for number, (z, holder) in enumerate(((-0.18, "spine.hips"), (0.0, "spine.hips"), (0.18, "spine.chest")), 1):
        for side, x in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
            stem = f"leg{number if number > 1 else ''}.{'l' if x > 0 else 'r'}"
            places = {"upper": (0.06 * x, 0.28, z), "lower": (0.16 * x, 0.3, z + 0.01), "end": (0.24 * x, 0.04, z)}
            above = holder
            for bone, place in places.items():
                joints.append(Joint(f"{stem}.{bone}", f"{stem}.{bone}", above, side, place, tail=(0.25 * x, 0.0, z) if bone == "end" else None))
                above = f"{stem}.{bone}"
    return Document((Character("six", "six", skeleton=Skeleton(tuple(joints))),))


def played(document, result, folder):
    alone = only(document, result.clip).require_character()
    write_glb(folder / "gait.glb", alone)
    clip = alone.clip(result.clip)
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    return judge.Played(folder / "gait.glb", times), times


@pytest.mark.each(3)
@pytest.mark.parametrize(("body", "preset"), CASES)
def test_planted_feet_stay_and_nothing_sinks(body, preset, tmp_path):
    document, result = edits.make_gait(BODIES[body](), {"preset": preset}, strides=2.0, rate=60.0)
    character = document.require_character()
    skeleton = character.require_skeleton()
    shown, times = played(document, result, tmp_path)
    ours = 1.7 / character.height
    for contact in result.made.contacts:
        some = (times > contact.first - 1e-6) & (times < contact.last + 1e-6)
        at = shown.at(skeleton.joint(contact.point).name)[some]
        assert np.linalg.norm((at - at[len(at) // 2])[:, [0, 2]], axis=1).max() * ours < 0.001, contact
    assert (shown.skin(10.0).min(axis=1)[:, 1] * ours * 1000).min() > -3.0
    # It goes as fast as its numbers say, and ends as it began, two strides on.
    hips = shown.at(skeleton.joint(parts_of(skeleton)["trunk"][0]).name)
    assert (hips[-1] - hips[0])[2] == pytest.approx(result.made.speed * times[-1], rel=0.02)
    # What follows through is still on its way there.
    parts = parts_of(skeleton)
    for name in (skeleton.joint(j).name for p, chain in parts.items() if p.split(".")[0] in ("trunk", "head", "arm", "leg", "foreleg") for j in chain):
        worlds = shown.by_name[name]
        assert np.abs(worlds[0, :3, :3] - worlds[-1, :3, :3]).max() < 2e-3, name
    # Footfalls of a four-legged gait come as they are told.
    if preset == "trot":
        first = {c.part: c.first for c in sorted(result.made.contacts, key=lambda c: -c.first)}
        assert first["leg.l"] == pytest.approx(first["foreleg.r"], abs=0.02) and first["leg.r"] == pytest.approx(first["foreleg.l"], abs=0.02)


def test_it_stands_on_the_controls_legs_on_ik_and_each_number_does_what_it_says(tmp_path):
    document = shipped("wick")
    document, result = edits.make_gait(document, {"preset": "walk"})
    clip = document.require_character().clip(result.clip)
    assert clip.curves and not clip.tracks and result.brought.gaps.max() < 1e-4 * document.require_character().height
    skeleton = document.require_character().require_skeleton()

    def at(numbers, joint, **more):
        told, made = edits.make_gait(shipped("wick"), {"preset": "walk", **numbers}, rate=60.0, **more)
        shown, _ = played(told, made, tmp_path)
        return shown.at(skeleton.joint(joint).name), made.made

    plain, made = at({}, "leg.l.end")
    high, _ = at({"lift": [0.2, 0.08]}, "leg.l.end")
    other, _ = at({"lift": [0.2, 0.08]}, "leg.r.end")
    assert high[:, 1].max() > plain[:, 1].max() + 0.03 and other[:, 1].max() < high[:, 1].max() - 0.03
    low, _ = at({"height": 0.8}, "spine.hips")
    hips, _ = at({}, "spine.hips")
    assert low[:, 1].mean() < hips[:, 1].mean() - 0.05
    _, long = at({"stride": 2.0}, "leg.l.end")
    assert long.speed > 1.2 * made.speed
    lean, _ = at({"lean": 25.0}, "spine.head")
    straight, _ = at({"lean": 0.0}, "spine.head")
    assert (lean - straight)[:, 2].mean() > 0.08
    still, _ = at({}, "spine.hips", in_place=True)
    assert np.abs(still[:, 2] - still[:, 2].mean()).max() < 1e-3
    turned, _ = at({}, "spine.hips", turn=46.0, strides=2.0)
    assert abs(turned[-1, 0]) > 0.2


def test_a_way_through_points_is_as_long_as_it_says():
    way = Way(points=((0.0, 0.0), (0.5, 1.5), (2.0, 2.0), (2.5, 4.0)))
    along = np.linspace(-1.0, 6.0, 400)
    places, heading = way.at(along)
    steps = np.linalg.norm(np.diff(places[:, [0, 2]], axis=0), axis=1) / np.diff(along)
    assert np.abs(steps - 1.0).max() < 0.02
    ahead = np.diff(places[:, [0, 2]], axis=0)
    assert np.abs(np.angle(np.exp(1j * (np.arctan2(ahead[:, 0], ahead[:, 1]) - 0.5 * (heading[1:] + heading[:-1]))))).max() < 0.05


@pytest.mark.parametrize(
    ("numbers", "what"),
    [({"preset": "moonwalk"}, "no gait moonwalk"), ({"hop": 1.0}, "no number hop"), ({"duty": 3.0}, "between 0.15 and 0.9"), ({"lift": [0.1, 0.2, 0.3]}, "left and a right"),
     ({"bob": [1, 2]}, "bob is a number"), ({"feet": "gallop"}, "feet fall as"), ({"lean": float("nan")}, "lean is")],
)  # fmt: skip
def test_numbers_that_make_no_sense_are_refused(numbers, what):
    with pytest.raises(EditError, match=what):
        gait_of(numbers)


def test_a_body_without_legs_is_told_so_and_the_command_line_makes_one(tmp_path):
    with pytest.raises(EditError, match="two legs"):
        edits.make_gait(shipped("winch"), {"preset": "walk"})
    (tmp_path / "n.json").write_text(json.dumps({"preset": "limp", "strides": 2, "rate": 30}))
    done = CliRunner().invoke(app, ["gait", str(DEMO / "wick.pegloom"), "--numbers", str(tmp_path / "n.json"), "-o", str(tmp_path / "o.glb"), "--json"])
    told = json.loads(done.stdout)
    assert told["clip"] == "limp" and told["length_s"] == pytest.approx(2 * told["period_s"], rel=1e-3) and told["farthest_mm"] < 0.2
    (tmp_path / "bad.json").write_text("[1]")
    done = CliRunner().invoke(app, ["gait", str(DEMO / "wick.pegloom"), "--numbers", str(tmp_path / "bad.json"), "-o", str(tmp_path / "o.glb")])
    assert done.exit_code == 1 and "no object" in done.stderr
    assert replace(PRESETS["two"]["walk"], cadence=120.0).seconds(0.9) == 1.0 and 0.95 < PRESETS["two"]["walk"].seconds(0.9) < 1.2


def slip(document, result, folder, rate=240.0, axes=(0, 2)):
    """Metres planted points slide at most, at moments far finer than frames, as a file plays it."""
    alone = only(document, result.clip).require_character()
    write_glb(folder / "gait.glb", alone)
    clip = alone.clip(result.clip)
    times = np.arange(int(clip.length * rate) + 1) / rate
    shown = judge.Played(folder / "gait.glb", times)
    skeleton, worst = alone.require_skeleton(), 0.0
    for contact in result.made.contacts:
        some = (times > contact.first - 1e-6) & (times < contact.last + 1e-6)
        at = shown.at(skeleton.joint(contact.point).name)[some]
        if len(at):
            worst = max(worst, float(np.linalg.norm((at - at[len(at) // 2])[:, axes], axis=1).max()))
    return worst, shown, times


@pytest.mark.parametrize("controls", [True, False])
@pytest.mark.parametrize("body", ["wick", "dumble"])
def test_keys_follow_the_curve_so_feet_stay_between_frames_too(body, controls, tmp_path):
    document, result = edits.make_gait(BODIES[body](), {"preset": "walk"}, strides=1.0, controls=controls)
    worst, _, _ = slip(document, result, tmp_path)
    assert worst < 0.001 * document.require_character().height / 1.7 * 1.5


@pytest.mark.each(2)
@pytest.mark.parametrize(("body", "preset"), [("wick", "walk"), ("wick", "run"), ("wick", "limp"), ("dumble", "walk"), ("dumble", "trot"), ("harl", "walk")])
def test_it_starts_from_standing_and_comes_to_a_stand(body, preset, tmp_path):
    document, result = edits.make_gait(BODIES[body](), {"preset": preset}, strides=3.0, rate=60.0, start=True, stop=True)
    worst, shown, _ = slip(document, result, tmp_path, 60.0)
    character = document.require_character()
    assert worst < 0.001 * character.height / 1.7
    skeleton = character.require_skeleton()
    parts = parts_of(skeleton)
    legs = [p for p in parts if p.split(".")[0] in ("leg", "foreleg")]
    for part in legs:
        foot = shown.at(skeleton.joint(parts[part][2]).name)
        assert np.abs(foot[:4] - foot[0]).max() < 2e-3 and np.abs(foot[-4:] - foot[-1]).max() < 2e-3, part
        # At both ends the feet stand where they do at rest, ahead of where the body stands.
        hips = shown.at(skeleton.joint(parts["trunk"][0]).name)
        assert np.abs((foot[0] - hips[0])[2] - (foot[-1] - hips[-1])[2]) < 0.02 * character.height
    hips = shown.at(skeleton.joint(parts["trunk"][0]).name)
    speed = np.linalg.norm(np.diff(hips[:, [0, 2]], axis=0), axis=1) * 60.0
    assert speed[:3].max() < 0.1 * result.made.speed and speed[-3:].max() < 0.1 * result.made.speed
    middle = speed[len(speed) // 2 - 10 : len(speed) // 2 + 10].mean()
    assert middle == pytest.approx(result.made.speed, rel=0.2)
    # Nowhere does it jerk: no more than a gait's own pull and push, about two and a half times gravity.
    pull = np.linalg.norm(np.diff(hips, 2, axis=0), axis=1) * 60.0**2
    assert pull.max() < 25.0 * max(character.height, 0.5)


def test_a_way_is_gone_to_its_end_up_a_slope(tmp_path):
    points = ((0.0, 0.0), (0.6, 1.6), (-0.6, 3.2))
    document, result = edits.make_gait(shipped("wick"), {"preset": "walk"}, rate=60.0, points=points, slope=0.12, start=True, stop=True)
    worst, shown, _ = slip(document, result, tmp_path, 60.0)
    assert worst < 0.001
    skeleton = document.require_character().require_skeleton()
    hips = shown.at(skeleton.joint("spine.hips").name)
    assert np.linalg.norm(hips[-1, [0, 2]] - [-0.6, 3.2]) < 0.05
    assert hips[-1, 1] - hips[0, 1] == pytest.approx(0.12 * 3.2, abs=0.05)
    near = np.linalg.norm(hips[:, None, [0, 2]] - np.array(points)[None], axis=-1).min(axis=0)
    assert near.max() < 0.12


@pytest.mark.parametrize(("preset", "in_the_air"), [("walk", 3), ("crawl", 1)])
def test_many_legs_go_by_threes_or_in_a_wave(preset, in_the_air):
    document, result = edits.make_gait(six(), {"preset": preset}, strides=2.0, rate=120.0)
    skeleton = document.require_character().require_skeleton()
    clip = document.require_character().clip(result.clip)
    gait = clip.gait.gait
    falls = falls_of(skeleton, parts_of(skeleton), gait)
    assert len(falls) == 6
    phases = np.linspace(0.0, 1.0, 400, endpoint=False)
    up = np.array([(np.mod(phases - fall, 1.0) >= stands) for fall, stands in falls.values()])
    assert up.sum(axis=0).max() == in_the_air
    # Neighbours on a side never swing together.
    for side in "lr":
        rows = [up[list(falls).index(f"leg{n}.{side}")] for n in ("", "2", "3")]
        assert not (rows[0] & rows[1]).any() and not (rows[1] & rows[2]).any()
    worst = 0.0
    for contact in result.made.contacts:
        clip_times = np.linspace(contact.first, contact.last, 9)
        at = posed_at(clip, skeleton, clip_times)[:, skeleton.index[contact.point], :3, 3]
        worst = max(worst, float(np.linalg.norm(at - at[4], axis=1).max()))
    assert worst < 0.001


@pytest.mark.parametrize(("preset", "order"), [
    ("walk", ["leg.l", "foreleg.l", "leg.r", "foreleg.r"]), ("amble", ["leg.l", "foreleg.l", "leg.r", "foreleg.r"]), ("canter", ["leg.r", "foreleg.r leg.l", "foreleg.l"]),
    ("trot", ["foreleg.r leg.l", "foreleg.l leg.r"]), ("pace", ["foreleg.l leg.l", "foreleg.r leg.r"]),
])  # fmt: skip
def test_four_feet_fall_in_the_order_of_their_gait(preset, order):
    _, result = edits.make_gait(shipped("dumble"), {"preset": preset}, strides=3.0, rate=120.0, controls=False)
    made = result.made
    falls = sorted((c.first, c.part) for c in made.contacts if made.period * 0.95 < c.first < 1.95 * made.period - 0.01)
    beats: list[tuple[float, list[str]]] = []
    for first, part in falls:
        if beats and first - beats[-1][0] < 0.05 * made.period:
            beats[-1][1].append(part)
        else:
            beats.append((first, [part]))
    told = [" ".join(sorted(parts)) for _, parts in beats]
    start = told.index(order[0])
    assert told[start:] + told[:start] == order


def test_a_limp_changes_its_leg_and_a_lane_moves_a_footfall():
    document, result = edits.make_gait(shipped("wick"), {"preset": "limp left"}, strides=3.0, rate=60.0)

    def stands(made):
        found = {}
        for c in made.contacts[1:-1]:
            if c.first > 0.3 * made.period and c.last < made.clip.length - 0.3 * made.period:
                found.setdefault(c.part, []).append(c.last - c.first)
        return {part: float(np.mean(v)) for part, v in found.items()}

    left = stands(result.made)
    assert left["leg.l"] < left["leg.r"] - 0.1
    document, across = edits.gait_across(document, result.clip)
    right = stands(across.made)
    assert right["leg.r"] < right["leg.l"] - 0.1
    document, moved = edits.change_gait(document, result.clip, {"falls": {"leg.r": [0.7, 0.5]}})
    first = {c.part: c.first % moved.made.period for c in moved.made.contacts if c.first > 0.5}
    assert first["leg.r"] == pytest.approx(0.7 * moved.made.period, abs=0.12)


def test_the_clip_stays_tied_to_its_numbers_until_it_is_changed_by_hand(tmp_path):
    document, result = edits.make_gait(shipped("wick"), {"preset": "walk"}, strides=1.0)
    document, layer = edits.add_layer(document, result.clip, "over")
    save_project(tmp_path / "g.pegloom", document)
    document = open_project(tmp_path / "g.pegloom")
    clip = gait_clip(document.require_character(), result.clip)
    assert clip.gait.preset == "walk" and clip.gait.gait == PRESETS["two"]["walk"] and not edits.changed_by_hand(clip)
    changed, _ = edits.change_gait(document, clip.id, {"lift": [0.2, 0.08], "lean": 12})
    told = gait_clip(changed.require_character(), clip.id)
    assert told.gait.gait.lift == (0.2, 0.08) and [x.id for x in told.layers] == [layer] and not edits.changed_by_hand(told)
    ref = next(ref for ref, keys in told.curves.items() if len(keys.times) > 4)
    by_hand = edits.remove_keys(changed, clip.id, float(told.curves[ref].times[2]), frozenset({ref[0]}))
    assert edits.changed_by_hand(gait_clip(by_hand.require_character(), clip.id))
    with pytest.raises(EditError, match="by hand"):
        edits.change_gait(by_hand, clip.id, {"lean": 3})
    anew, _ = edits.change_gait(by_hand, clip.id, {"lean": 3}, anew=True)
    assert gait_clip(anew.require_character(), clip.id).gait.gait.lean == 3.0
    with pytest.raises(EditError, match="not made from numbers"):
        edits.change_gait(document, document.require_character().clips[0].id, {"lean": 3})


def test_a_frame_rate_costs_what_a_file_at_that_rate_shows(tmp_path):
    document, result = edits.make_gait(shipped("wick"), {"preset": "run"}, strides=2.0)
    told = edits.gait_rolls(document, result.clip)
    assert told[24.0] > told[30.0] > told[60.0] > told[120.0]
    # Held against a file whose joints are sampled at frames alone.
    sketched, made = edits.change_gait(document, result.clip, sketch=True)
    worst, _, _ = slip(sketched, made, tmp_path, axes=(0, 1, 2))
    assert worst == pytest.approx(told[30.0], rel=0.4)


@pytest.mark.parametrize("numbers", [{"strides": 0.0}, {"rate": 1e9}, {"turn": 1e6}, {"points": ((0.0, 0.0), (0.0, 0.0))}, {"points": ((0.0, 0.0), (1e9, 0.0))}, {"slope": 5.0}])
def test_ways_and_rates_that_make_no_sense_are_refused(numbers):
    with pytest.raises(PegLoomError):
        edits.make_gait(shipped("wick"), {"preset": "walk"}, **numbers)


def test_what_goes_evenly_trails_nothing():
    document, result = edits.make_gait(shipped("dumble"), {"preset": "trot", "bob": 0.0, "sway": 0.0, "hip_twist": 0.0}, strides=3.0)
    character = document.require_character()
    skeleton, rig = character.require_skeleton(), character.require_rig()
    snout = [j for spring in rig.springs for j in spring.joints if "snout" in j]
    assert snout
    clip = character.clip(result.clip)
    times = np.linspace(0.0, clip.length, 40)
    swung = joints_of(skeleton, rig, clip, times, Pose())
    stiff = joints_at(skeleton, rig, values_at(clip, times, rig, Pose()))
    rows = [skeleton.index[j] for j in snout]
    off = (swung - stiff)[:, rows, :3, 3]
    # A snout is no flag: it swings about where it belongs, and does not lie back from where the gait carries it.
    assert np.linalg.norm(off.mean(axis=0), axis=-1).max() < 0.025 * character.height
    assert np.linalg.norm(off[:3], axis=-1).max() < 0.03 * character.height
