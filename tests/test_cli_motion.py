"""`pegloom retarget` as a user runs it."""

from __future__ import annotations

import json

import numpy as np
import pytest
from tools import takes
from typer.testing import CliRunner

from pegloom.cli import app
from tests.support import judge
from tests.support.bvh import read_plainly
from tests.support.figures import DEMO
from tests.support.lent import BUILD


def run(*words, good=True):
    done = CliRunner().invoke(app, list(words))
    assert (done.exit_code == 0) is good, done.output
    return done


@pytest.fixture(scope="module")
def clip(tmp_path_factory):
    folder = tmp_path_factory.mktemp("takes")
    take = takes.perform(BUILD, takes.walk(BUILD), seconds=2.0, rate=30.0, style=takes.Style(rest="A", names="short", sides=("l", "r")))
    (folder / "walk.bvh").write_text(take.bvh())
    return folder / "walk.bvh"


def test_retarget_prints_what_was_paired_and_measured(clip, tmp_path):
    told = json.loads(run("retarget", str(clip), "--onto", str(DEMO / "wick.pegloom"), "-o", str(tmp_path / "out.glb"), "--json").stdout)
    by_part = {row["part"]: row for row in told["pairing"]}
    assert by_part["leg.l"]["source"] == ["l_femur", "l_tibia", "l_ankle", "l_toe"] and by_part["leg.l"]["target"][0] == "l_thigh"
    assert by_part["leg.l"]["confidence"] > 0.9 and by_part["index.l"]["source"] == [] and by_part["index.l"]["why"]
    assert told["rest"]["source"] == "A" and told["rest"]["target"] == "A"
    assert told["slide_mm"] < 5 and told["floor_mm"] < 5 and told["limit_excess_deg"] < 2 and set(told["direction_deg"]) == {"arm.l", "arm.r", "leg.l", "leg.r"}
    assert all(0 <= c["frames"][0] <= c["frames"][1] <= 60 for c in told["contacts"]) and {c["part"] for c in told["contacts"]} == {"leg.l", "leg.r"}
    played = judge.Played(tmp_path / "out.glb", np.arange(61) / 30)
    assert np.ptp(played.at("hips")[:, 2]) > 1.0


def test_a_range_in_place_a_pairing_and_bvh(clip, tmp_path):
    wick = str(DEMO / "wick.pegloom")
    run("retarget", str(clip), "--onto", wick, "-o", str(tmp_path / "a.pegloom"), "--save-pairing", str(tmp_path / "p.json"))
    told = json.loads((tmp_path / "p.json").read_text())
    for row in told["chains"]:
        if row["part"] == "head":
            row["source"] = []
    (tmp_path / "p.json").write_text(json.dumps(told))
    out = json.loads(run(
        "retarget", str(clip), "--onto", wick, "-o", str(tmp_path / "b.bvh"), "--pairing", str(tmp_path / "p.json"), "--range", "10:40", "--in-place", "--json",
    ).stdout)  # fmt: skip
    assert out["frames"] == 31 and next(r for r in out["pairing"] if r["part"] == "head")["source"] == []
    names, places = read_plainly(tmp_path / "b.bvh")
    assert len(places) == 31 and np.ptp(places[:, names.index("hips"), 2]) < 0.1


@pytest.mark.parametrize(
    ("arguments", "what"),
    [(["-o", "x.obj"], "cannot hold motion"), (["-o", "x.glb", "--range", "5-9"], "--range"), (["-o", "x.glb", "--range", "50:9"], "before the start")],
)
def test_wrong_wishes_are_one_line(arguments, what, clip, tmp_path):
    arguments = [str(tmp_path / a) if a.startswith("x.") else a for a in arguments]
    done = run("retarget", str(clip), "--onto", str(DEMO / "wick.pegloom"), *arguments, good=False)
    assert done.stderr.startswith("error:") and what in done.stderr and len(done.stderr.strip().splitlines()) == 1


def test_onto_a_file_of_joints_with_other_names_and_a_turned_root(clip, tmp_path):
    run("convert", str(DEMO / "wick.pegloom"), str(tmp_path / "wick.glb"))
    told = json.loads(run("retarget", str(clip), "--onto", str(tmp_path / "wick.glb"), "-o", str(tmp_path / "out.glb"), "--json").stdout)
    assert told["slide_mm"] < 5 and told["floor_mm"] < 5 and max(told["direction_deg"].values()) < 6
