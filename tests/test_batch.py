"""Many files at once: a row for every file whatever it holds, gone on from where it stopped, nothing trusted."""

from __future__ import annotations

import csv
import json
import multiprocessing
import os
import shutil
import signal
from dataclasses import replace

import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.cli_batch import Job, done, done_apart, rows_of, rows_of_cluster
from pegloom.core.errors import MeshFileError
from pegloom.files.batches import BatchRecipe, add_row, files_of, read_recipe, read_rows, report_text, table_text
from pegloom.files.opening import open_any
from tests.support.figures import DEMO, capsule_figure

QUICK = {"format": "peg loom batch", "version": 1, "targets": ["real-time"], "pictures": False, "pattern": "human", "bind": "BY_REACH"}


def run(*arguments):
    return CliRunner().invoke(app, [str(a) for a in arguments])


@pytest.fixture
def folder(tmp_path):
    """Two figures, one of them deeper, and three files that cannot be done."""
    made = tmp_path / "in"
    (made / "deeper").mkdir(parents=True)
    capsule_figure().export(made / "one.obj")
    capsule_figure().export(made / "deeper" / "=two.ply")
    (made / "broken.glb").write_bytes(b"glTF")
    (made / "empty.obj").write_text("\n")
    (made / "<b>name<b>.stl").write_bytes(b"\0" * 90)
    (made / "notes.txt").write_text("not a mesh")
    (tmp_path / "recipe.json").write_text(json.dumps(QUICK))
    return made


def test_every_file_has_its_row_and_a_second_run_does_nothing_again(folder, tmp_path):
    out = tmp_path / "out"
    first = run("batch", folder, "-o", out, "--recipe", tmp_path / "recipe.json", "-j", 2, "--json")
    assert first.exit_code == 0, first.output
    told = json.loads(first.output)
    rows = {r["file"]: r for r in told["rows"]}
    assert set(rows) == {"one.obj", "deeper/=two.ply", "broken.glb", "empty.obj", "<b>name<b>.stl"}
    assert told["done"] == 2 and told["failed"] == 3
    for name in ("one.obj", "deeper/=two.ply"):
        row = rows[name]
        assert row["state"] == "ok" and row["joints"] > 15 and row["stretch_p99"] > 1.0
        for export in row["exports"]:
            back = open_any(out / export).require_character()
            assert back.skin is not None and back.skeleton is not None
    for name in ("broken.glb", "empty.obj", "<b>name<b>.stl"):
        assert rows[name]["state"] == "failed" and "\n" not in rows[name]["error"]
    table = list(csv.DictReader((out / "table.csv").read_text().splitlines()))
    assert len(table) == 5 and all(not row["file"].startswith("=") for row in table)
    report = (out / "report.html").read_text()
    assert "<b>name" not in report and "&lt;b&gt;name" in report
    again = json.loads(run("batch", folder, "-o", out, "--recipe", tmp_path / "recipe.json", "--json").output)
    assert again["kept"] == 5 and again["rows"] == told["rows"]
    os.utime(folder / "one.obj")
    third = json.loads(run("batch", folder, "-o", out, "--recipe", tmp_path / "recipe.json", "-j", 1, "--json").output)
    assert third["kept"] == 4 and third["done"] == 2


def test_a_run_that_was_cut_off_goes_on_from_whole_rows(tmp_path):
    add_row(tmp_path, {"file": "a.obj", "state": "ok"})
    with (tmp_path / "rows.jsonl").open("a") as file:
        file.write('{"file": "b.obj", "sta')
    assert [r["file"] for r in read_rows(tmp_path)] == ["a.obj"]
    assert list(read_rows(tmp_path / "nowhere")) == []


def test_a_file_that_kills_its_process_costs_no_other(tmp_path):
    capsule_figure().export(tmp_path / "one.obj")
    recipe = BatchRecipe(pictures=False, pattern="human", bind="BY_REACH", targets=(), keep=False)
    jobs = [Job(str(tmp_path / "one.obj"), name, str(tmp_path / name), recipe) for name in ("a", "b", "c")]
    rows = rows_of(jobs, 1)
    first = next(rows)
    assert first["state"] == "ok"
    # The second one has been begun.
    (worker,) = [p for p in multiprocessing.active_children() if p.name.startswith("SpawnProcess")]
    os.kill(worker.pid, signal.SIGKILL)
    second, third = rows
    assert second["state"] == "failed" and "ended the process" in second["error"] and f"signal {int(signal.SIGKILL)}" in second["error"]
    assert third["state"] == "ok"


def test_a_file_that_takes_too_long_is_left(tmp_path):
    capsule_figure().export(tmp_path / "one.obj")
    job = Job(str(tmp_path / "one.obj"), "one.obj", str(tmp_path / "x"), BatchRecipe(seconds=1e-9, pictures=False))
    (row,) = rows_of([job], 1)
    assert row["state"] == "failed" and "took longer" in row["error"]


def test_a_rigged_file_keeps_its_skeleton_and_gets_motion(tmp_path):
    take = DEMO / "takes"
    motion = next(p for p in sorted(take.iterdir()) if p.suffix == ".bvh")
    job = Job(str(DEMO / "wick.pegloom"), "wick", str(tmp_path / "wick"), BatchRecipe(takes=(str(motion),), targets=("motion-only",), pictures=False))
    row = done(job)
    assert row["state"] == "ok", row["error"]
    assert row["pattern"] == "as it came" and row["slide_mm"] is not None and len(row["clips"]) == 3
    assert sum(e.endswith(".bvh") for e in row["exports"]) == 3


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"spoons": 1}, "spoons"), ({"targets": "web"}, "targets"), ({"influences": 99}, "influences"), ({"influences": "4"}, "influences"), ({"bind": "MAGIC"}, "bind"),
        ({"version": 7}, "newer"), ({"format": "other"}, "recipe"), ({"seconds": -1.0}, "seconds"), ({"rig": 1}, "rig"),
    ],
)  # fmt: skip
def test_a_recipe_that_cannot_be_is_refused_with_the_field(tmp_path, change, says):
    (tmp_path / "r.json").write_text(json.dumps(QUICK | change))
    with pytest.raises(MeshFileError, match=says):
        read_recipe(tmp_path / "r.json")


def test_links_that_lead_out_of_the_folder_are_left(tmp_path):
    inside, outside = tmp_path / "in", tmp_path / "outside.obj"
    inside.mkdir()
    capsule_figure().export(outside)
    (inside / "link.obj").symlink_to(outside)
    shutil.copy(outside, inside / "own.obj")
    assert [p.name for p in files_of(inside)] == ["own.obj"]
    with pytest.raises(MeshFileError):
        files_of(tmp_path / "nowhere")


def test_what_cannot_be_done_with_any_file_is_told_first(folder, tmp_path):
    (tmp_path / "r.json").write_text(json.dumps(QUICK | {"targets": ["nowhere"]}))
    found = run("batch", folder, "-o", tmp_path / "out", "--recipe", tmp_path / "r.json")
    assert found.exit_code == 1 and not (tmp_path / "out").exists()
    assert run("batch", tmp_path / "nowhere", "-o", tmp_path / "out").exit_code == 1


def test_the_table_and_the_report_are_only_ever_text():
    row = {"file": "=cmd()|'x'", "state": "ok", "error": None, "pattern": "<i>", "confidence": 0.5, "vertices": 3, "height_m": 1.0, "joints": 2, "stretch_p99": 1.0, "folded": 0, "snags": 0, "clips": [], "slide_mm": None, "exports": ["@x"], "picture": None, "seconds": 1.0, "notes": []}  # fmt: skip
    assert "'=cmd" in table_text([row]) and "'@x" in table_text([row])
    assert "<i>" not in report_text([row], BatchRecipe(), "<script>") and "<script>" not in report_text([row], BatchRecipe(), "<script>")


@pytest.fixture
def cluster(monkeypatch):
    """Two workers on this machine, as two programs, and their scheduler's address."""
    distributed = pytest.importorskip("distributed")
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50) as made:
        yield made


def test_a_cluster_that_loses_a_worker_in_the_middle_has_a_row_for_every_file(folder, tmp_path, cluster):
    """The same rows as without a cluster; the one whose worker is killed is done again by the other."""
    recipe = BatchRecipe(pictures=False, pattern="human", bind="BY_REACH", targets=(), keep=False)
    jobs = [Job(str(folder / f), f"{k} {f}", str(tmp_path / f"{k}"), recipe) for k, f in enumerate(("one.obj", "broken.glb", "one.obj", "one.obj"))]
    rows = rows_of_cluster(jobs, cluster.scheduler_address)
    found = [next(rows)]
    workers = list(cluster.workers.values())
    os.kill(workers[0].process.pid, signal.SIGKILL)
    found += list(rows)
    assert sorted(r["file"] for r in found) == sorted(j.told for j in jobs)
    plain = {job.told[2:]: done(job) for job in jobs[:2]}
    for row in found:
        same = plain[row["file"][2:]]
        assert (row["state"], row["joints"], row["vertices"], row["error"]) == (same["state"], same["joints"], same["vertices"], same["error"])


def test_the_command_takes_a_cluster_and_says_where_none_answers(folder, tmp_path, cluster, monkeypatch):
    (tmp_path / "recipe.json").write_text(json.dumps(QUICK | {"targets": [], "keep": False}))
    for name in ("deeper/=two.ply", "<b>name<b>.stl", "empty.obj"):
        (folder / name).unlink()
    told = run("batch", folder, "-o", tmp_path / "out", "--recipe", tmp_path / "recipe.json", "--scheduler", cluster.scheduler_address, "--json")
    assert told.exit_code == 0, told.output
    result = json.loads(told.output)
    assert result["files"] == len(files_of(folder)) and result["done"] + result["failed"] == result["files"]
    monkeypatch.setattr("pegloom.cli_batch.ANSWERS", 1)
    wrong = run("batch", folder, "-o", tmp_path / "other", "--recipe", tmp_path / "recipe.json", "--scheduler", "tcp://127.0.0.1:9")
    assert wrong.exit_code == 1 and "no scheduler answers at tcp://127.0.0.1:9" in wrong.output


def test_a_file_on_a_cluster_has_its_time_and_may_end_its_program(tmp_path, monkeypatch):
    capsule_figure().export(tmp_path / "one.obj")
    job = Job(str(tmp_path / "one.obj"), "one.obj", str(tmp_path / "x"), BatchRecipe(seconds=0.01, pictures=False))
    assert "took longer than 0.01 seconds" in done_apart(job)["error"]
    monkeypatch.setattr("pegloom.cli_batch.ONE", "import os; os.abort()")
    row = done_apart(replace(job, recipe=BatchRecipe(pictures=False)))
    assert row["state"] == "failed" and f"signal {int(signal.SIGABRT)}" in row["error"]
