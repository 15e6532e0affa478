"""Gaits from numbers on bodies of other builds, judged on exported files by other code."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.motion.gait import PRESETS, Way, gait_of
from pegloom.core.motion.retarget import parts_of
from pegloom.document import edits
from pegloom.files.gltf_write import write_glb
from tests.support import judge
from tests.support.figures import DEMO, shipped
from tests.support.lent import only, stout

BODIES = {"wick": lambda: shipped("wick"), "stout": stout, "dumble": lambda: shipped("dumble"), "harl": lambda: shipped("harl")}
CASES = [(b, g) for b in ("wick", "stout") for g in ("walk", "run", "sneak", "limp", "tiptoe")] + [("dumble", g) for g in ("amble", "trot", "canter")] + [("harl", "walk")]


def played(document, result, folder):
    alone = only(document, result.clip).require_character()
    write_glb(folder / "gait.glb", alone)
    clip = alone.clip(result.clip)
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    return judge.Played(folder / "gait.glb", times), times


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
    turned, _ = at({}, "spine.hips", turn=0.8, strides=2.0)
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
    assert replace(PRESETS["walk"], period=1.0).seconds(0.9) == 1.0 and 0.9 < PRESETS["walk"].seconds(0.9) < 1.2
