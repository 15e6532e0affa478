"""The shelf: clips found in plain words, told alike by how they move, taken onto bodies, measured as files play them."""

from __future__ import annotations

import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.curves import Run, curve
from pegloom.core.curves.keys import cut
from pegloom.core.errors import EditError, MeshFileError, PegLoomError
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.follow_through import joints_of
from pegloom.core.motion.retarget import parts_of
from pegloom.core.motion.retarget.mirror import mirrored
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.shelf.card import KINDS
from pegloom.core.motion.shelf.measures import QUALITIES, measures_of
from pegloom.core.motion.shelf.words import Finder, Lexicon, plain
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from pegloom.files.shelf import Shelf
from tests.support import judge
from tests.support.figures import DEMO, shipped
from tests.support.lent import only, stout
from tests.support.phrases import PHRASES

BODIES = {"people": "wick", "four legs": "dumble", "bird": "harl"}
AWAY = {"climb_ladder", "flap", "glide"}
"""Clips that never touch the ground."""
SHELF = Shelf()
CLIPS = [c for c in SHELF.shipped if c.body in BODIES]


@pytest.fixture
def shelf(tmp_path):
    return Shelf(tmp_path / "shelf")


# What ships


def test_there_are_clips_of_every_kind_and_what_is_said_of_them_holds():
    kinds = {k for c in SHELF.shipped for k in c.kinds}
    assert set(KINDS) <= kinds and len(SHELF.shipped) >= 48
    ids = {c.id for c in SHELF.shipped}
    assert len(ids) == len(SHELF.shipped)
    for card in SHELF.shipped:
        assert card.licence == "CC0-1.0" and card.origin == "generated" and card.may_deliver and card.kinds
        assert card.partner == "" or (card.partner in ids and SHELF.card(card.partner).partner == card.id)
        assert card.measures.shape == (len(QUALITIES),)
    with zipfile.ZipFile(DEMO.parent / "shelf" / "clips.zip") as archive:
        assert {n.removesuffix(".bvh") for n in archive.namelist()} == ids | {"LICENCE.txt"}
        assert "CC0" in archive.read("LICENCE.txt").decode()[:200]


@pytest.mark.each(3)
@pytest.mark.parametrize("card", [c for k, c in enumerate(CLIPS) if k % 4 == 0], ids=lambda c: c.id)
def test_feet_stay_and_nothing_sinks(card, tmp_path):
    _holds(card, tmp_path)


@pytest.mark.full
@pytest.mark.parametrize("card", [c for k, c in enumerate(CLIPS) if k % 4], ids=lambda c: c.id)
def test_feet_stay_and_nothing_sinks_in_all_others(card, tmp_path):
    _holds(card, tmp_path)


def _holds(card, folder):
    """On the live rig, as an exported file plays it, at keys."""
    document, lent = edits.take_clip(shipped(BODIES[card.body]), card, SHELF.source(card.id), controls=True)
    alone = only(document, lent.clip).require_character()
    clip = alone.clip(lent.clip)
    write_glb(folder / "clip.glb", alone)
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    shown = judge.Played(folder / "clip.glb", times)
    # Told at a person's size; an animal's millimetres are its own.
    ours = 1.7 / alone.height if card.body == "people" else 1.0
    skeleton = alone.require_skeleton()
    for contact in lent.carried.contacts:
        # A heel that is going up stands no more.
        some = (times > contact.first + 0.04) & (times < contact.last - 0.04)
        if not some.any() or card.id in AWAY:
            continue
        at = shown.at(skeleton.joint(contact.point).name)[some]
        if contact.point.endswith("toes"):
            assert np.linalg.norm((at - at[len(at) // 2])[:, [0, 2]], axis=1).max() * ours < 0.003, contact
    assert shown.skin(10.0).min(axis=1)[:, 1].min() * ours > -0.003 or card.id == "walk_uphill"
    assert lent.carried.figures.limit_deg < 0.5
    hips = shown.at(skeleton.joint(parts_of(skeleton)["trunk"][0]).name) * ours
    speed = np.linalg.norm(np.diff(hips[:, [0, 2]], axis=0), axis=1) * clip.rate
    assert speed.max() < (8.5 if card.body == "four legs" else 7.0)
    if card.loops and card.body == "people":
        chain = [skeleton.joint(j).name for p, c in parts_of(skeleton).items() if p.split(".")[0] in ("trunk", "arm", "leg", "head") for j in c]
        for name in chain:
            worlds = shown.by_name[name]
            assert np.abs(worlds[0, :3, :3] - worlds[-1, :3, :3]).max() < 0.02, name


@pytest.mark.parametrize(("clip_id", "first", "last"), [("jump", 0.9, 1.367), ("leap", 0.867, 1.3), ("cheer", 0.233, 0.567)])
def test_who_flies_goes_as_what_is_thrown_goes(clip_id, first, last):
    source = SHELF.source(clip_id)
    document, lent = edits.take_clip(shipped("wick"), SHELF.card(clip_id), source)
    character = document.require_character()
    clip, skeleton = character.clip(lent.clip), character.require_skeleton()
    times = np.arange(round(first * 30) + 1, round(last * 30)) / 30.0
    high = posed_at(clip, skeleton, times)[:, skeleton.index["spine.hips"], 1, 3]
    falls = np.polyfit(times, high, 2)[0] * 2.0
    assert falls == pytest.approx(-9.81, rel=0.05)


# Words


@pytest.mark.each(3)
@pytest.mark.parametrize("language", list(PHRASES))
def test_a_fitting_clip_is_among_the_first_three(language):
    good = [any(k in kinds for f in SHELF.finder.find(phrase)[:3] for k in f.card.kinds) for phrase, kinds in PHRASES[language]]
    assert np.mean(good) >= 0.9, [p for (p, _), g in zip(PHRASES[language], good, strict=True) if not g]


@pytest.mark.parametrize(
    ("phrase", "first"),
    [("limping on the right leg", "limp_right"), ("hinkt links", "limp_left"), ("sprnting away scred", "run_scared"), ("an old grandfather walks", "walk_old"), ("fröhlich gehen", "walk_happy"),
     ("carry a sack", "carry_sack"), ("point left", "point_left"), ("angry walk", "walk_angry"), ("dog sniffing", "sniff"), ("bird idle", "bird_idle")],
)  # fmt: skip
def test_how_and_to_which_side_counts(phrase, first):
    found = SHELF.finder.find(phrase)
    assert found[0].card.id == first and found[0].matched


def test_words_nobody_knows_find_nothing_and_hostile_ones_do_no_harm():
    for phrase in ("", "   ", "qqqqq zzzz", "\u202e\u0000", "🙂🙂", "a" * 2000, "'; drop table clips"):
        assert isinstance(SHELF.finder.find(phrase), list)
    assert SHELF.finder.find("") == []
    assert plain("Łódź Straße İstanbul") == "lodz strasse istanbul"
    with pytest.raises(PegLoomError, match="line 1"):
        Lexicon("en: before any concept")


# Likeness


def test_likeness_is_measured_not_read():
    like = [f.card.id for f in SHELF.finder.like("run", 6)]
    assert "jog" in like and "idle" not in like
    assert SHELF.finder.like("limp_left", 3)[0].card.id in ("limp_right", "walk_tired", "stroll")
    # The same with all its words taken away.
    bare = Finder(SHELF.lexicon, [replace(c, title="x", kinds=(), tags=()) for c in SHELF.shipped])
    assert [f.card.id for f in bare.like("run", 6)] == like
    told = dict(zip(QUALITIES, SHELF.card("run").measures, strict=True))
    slow = dict(zip(QUALITIES, SHELF.card("walk_old").measures, strict=True))
    assert told["speed"] > 3.0 > slow["speed"] and slow["lean"] > told["lean"] + 5.0
    side = dict(zip(QUALITIES, SHELF.card("wave").measures, strict=True))
    assert side["symmetry"] < dict(zip(QUALITIES, SHELF.card("clap").measures, strict=True))["symmetry"]


# Own clips


def test_own_clips_join_the_shelf_and_leave_it(shelf, tmp_path):
    takes = DEMO / "takes"
    card = shelf.put(takes / "pier_walk.bvh", title="Pier walk", licence="house", may_deliver=False)
    assert card.own and "walk" in card.kinds
    again = Shelf(shelf.folder)
    assert [c.id for c in again.own_cards] == [card.id] and again.card(card.id).licence == "house"
    assert any(f.card.id == card.id for f in again.finder.find("pier walk"))
    assert np.allclose(again.card(card.id).measures, measures_of(again.source(card.id).skeleton, again.source(card.id).clip))
    document, lent = edits.take_clip(shipped("wick"), again.card(card.id), again.source(card.id))
    save_project(tmp_path / "own.pegloom", document)
    clip = open_project(tmp_path / "own.pegloom").require_character().clip(lent.clip)
    assert clip.origin.licence == "house" and not clip.origin.may_deliver
    notes = write_glb(tmp_path / "own.glb", only(document, lent.clip).require_character())
    data = (tmp_path / "own.glb").read_bytes()
    told = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])["animations"][0]["extras"]
    assert told == {"origin": "captured", "licence": "house", "mayDeliver": False} and any("given on" in n for n in notes)
    again.drop(card.id)
    assert not again.own_cards and not (shelf.folder / card.id).exists()
    with pytest.raises(MeshFileError):
        shelf.put(DEMO / "wick.obj")
    (shelf.folder / "own-bad").mkdir(parents=True)
    (shelf.folder / "own-bad" / "card.json").write_text('{"format": "peg loom shelf", "version": 1, "clips": [{"id": 1}]}')
    assert Shelf(shelf.folder).own_cards == ()


# Taken otherwise


def test_the_other_side_is_the_mirror_image():
    source = SHELF.source("wave")
    skeleton = source.skeleton
    other = mirrored(skeleton, source.clip)
    times = np.linspace(0.1, 2.5, 7)
    here, there = (posed_at(c, skeleton, times)[..., :3, 3] for c in (source.clip, other))
    partner = [skeleton.index[skeleton.other_side(j.id) or j.id] for j in skeleton.joints]
    assert np.abs(there[:, partner] * [-1.0, 1.0, 1.0] - here).max() < 2e-3
    twice = posed_at(mirrored(skeleton, other), skeleton, times)[..., :3, 3]
    assert np.abs(twice - here).max() < 1e-6
    document, lent = edits.take_clip(shipped("wick"), SHELF.card("wave"), source, options=CarryOptions(mirror=True), speed=2.0)
    clip = document.require_character().clip(lent.clip)
    assert clip.length == pytest.approx(source.clip.length / 2.0, rel=1e-3)
    wick = document.require_character().require_skeleton()
    at = posed_at(clip, wick, np.array([0.6]))[0, :, :3, 3]
    assert at[wick.index["arm.l.end"], 1] > at[wick.index["arm.r.end"], 1] + 0.3


def test_joined_clips_go_on_from_where_they_are():
    document, first = edits.take_clip(shipped("wick"), SHELF.card("walk_left"), SHELF.source("walk_left"))
    document, second = edits.take_clip(document, SHELF.card("walk"), SHELF.source("walk"))
    document, made = edits.join_clips(document, first.clip, second.clip, seconds=0.4)
    character = document.require_character()
    clip, skeleton = character.clip(made), character.require_skeleton()
    times = np.arange(round(clip.length * 30) + 1) / 30.0
    hips = posed_at(clip, skeleton, times)[:, skeleton.index["spine.hips"]]
    step = np.linalg.norm(np.diff(hips[:, [0, 2], 3], axis=0), axis=1) * 30.0
    assert step.min() > 0.4 and step.max() < 2.2
    # It goes on the way it faces.
    ahead, way = hips[-8, [0, 2], 2], hips[-1, [0, 2], 3] - hips[-16, [0, 2], 3]
    assert np.dot(ahead, way) / np.linalg.norm(ahead) / np.linalg.norm(way) > 0.95
    with pytest.raises(EditError, match="moves nothing"):
        empty, clip_id = edits.add_clip(document, "empty")
        edits.join_clips(empty, made, clip_id)


@given(st.floats(0.05, 1.2), st.floats(1.3, 2.3), st.sampled_from(list(Run)))
def test_a_stretch_of_a_curve_runs_as_it_did(first, last, run):
    one = curve([0.0, 0.4, 1.0, 1.7, 2.4], [0.0, 1.0, -0.5, 2.0, 0.3], run)
    some = cut(one, first, last)
    times = np.linspace(first, last, 57)[1:-1]
    assert np.abs(some.at_all(times - first) - one.at_all(times)).max() < 1e-4


def test_trimmed_and_in_place():
    document, made = edits.make_gait(shipped("wick"), {"preset": "walk"}, strides=3.0)
    trimmed = edits.trim_clip(document, made.clip, 0.5, 1.5)
    before, after = (d.require_character() for d in (document, trimmed))
    skeleton, rig = before.require_skeleton(), before.require_rig()
    times = np.linspace(0.0, 1.0, 31)
    here = joints_of(skeleton, rig, before.clip(made.clip), times + 0.5, Pose())
    there = joints_of(skeleton, rig, after.clip(made.clip), times, Pose())
    assert np.abs(here - there).max() < 1e-4 and after.clip(made.clip).length == pytest.approx(1.0)
    with pytest.raises(EditError, match="within"):
        edits.trim_clip(document, made.clip, 0.5, 99.0)
    stayed, clip = edits.stay_clip(document, made.clip)
    hips = posed_at(stayed.require_character().clip(clip), skeleton, np.linspace(0.0, 2.0, 40))[:, skeleton.index["spine.hips"], :3, 3]
    assert np.ptp(hips[:, 2]) < 0.12 and np.ptp(hips[:, 1]) > 0.005


@pytest.mark.parametrize("body", [stout, lambda: shipped("dumble")], ids=["stout", "dumble"])
def test_another_body_takes_it_and_its_path_can_be_taken_out(body):
    document, lent = edits.take_clip(body(), SHELF.card("walk_tired"), SHELF.source("walk_tired"), options=CarryOptions(in_place=True, first=0.0, last=2.0))
    clip = document.require_character().clip(lent.clip)
    assert clip.length == pytest.approx(2.0, abs=0.05) and clip.origin.shelf == "walk_tired"
    looked = edits.looked_at(body().require_character(), SHELF.source("walk_tired"))
    assert looked.tracks and looked.length > 5.0


# Without a screen


def test_the_command_line_lists_finds_and_takes(tmp_path):
    run = CliRunner()
    told = json.loads(run.invoke(app, ["clips", "list", "--json"]).stdout)["clips"]
    assert {c["id"] for c in told} >= {c.id for c in SHELF.shipped} and set(told[0]) >= {"id", "title", "kinds", "score", "matched"}
    found = json.loads(run.invoke(app, ["clips", "find", "someone tired walking home", "--json"]).stdout)["clips"]
    assert found[0]["id"] == "walk_tired" and found[0]["score"] > found[1]["score"] and any("tired" in m for m in found[0]["matched"])
    like = json.loads(run.invoke(app, ["clips", "like", "run", "--json"]).stdout)["clips"]
    assert like[0]["id"] in ("jog", "run_scared", "walk_brisk", "start_run", "stop_run")
    done = run.invoke(app, ["clips", "take", "nod", "--onto", str(DEMO / "wick.pegloom"), "-o", str(tmp_path / "nod.glb"), "--json"])
    assert json.loads(done.stdout)["licence"] == "CC0-1.0" and (tmp_path / "nod.glb").exists()
    wrong = run.invoke(app, ["clips", "like", "nothing"])
    assert wrong.exit_code == 1 and "there is no clip nothing" in wrong.stderr
