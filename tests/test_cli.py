import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.files.project import open_project
from tests.support.figures import DEMO, capsule_figure
from tests.support.hostile import cases


@pytest.fixture(scope="module")
def mesh(tmp_path_factory):
    """The capsule figure in centimetres, lying on its back, as an OBJ."""
    made = capsule_figure()
    made.apply_scale(100)
    made.apply_transform(np.array([[1, 0, 0, 40], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1.0]]))
    path = tmp_path_factory.mktemp("cli") / "figure.obj"
    made.export(path)
    return path


def run(*words):
    return CliRunner().invoke(app, [str(w) for w in words])


def test_a_joint_that_is_locked_keeps_what_it_holds_in_every_command_that_weighs(tmp_path):
    project = DEMO / "wick.pegloom"
    before = open_project(project).character
    names = [before.skeleton.joint(j).name for j in ("arm.l.lower", "spine.head")]
    locks = [word for name in names for word in ("--lock", name)]
    for command in (["bind", project, "--method", "reach"], ["bake", project, "--steps", 6]):
        out = tmp_path / "out.pegloom"
        assert run(*command, "-o", out, *locks).exit_code == 0
        after = open_project(out).character
        changed = 0.0
        for part, weights in before.skin.weights.items():
            for joint in ("arm.l.lower", "spine.head"):
                np.testing.assert_allclose(after.skin.weights[part].column(joint), weights.column(joint), atol=1e-9)
            upper = [skin.weights[part].column("arm.l.upper") for skin in (before.skin, after.skin)]
            changed = max(changed, float(np.abs(upper[0] - upper[1]).max()))
        assert changed > 0.01
    wrong = run("bind", project, "-o", tmp_path / "out.pegloom", "--lock", names[0][:-1])
    assert wrong.exit_code == 1
    assert names[0] in wrong.output


def test_survey_says_how_it_lies(mesh):
    result = run("survey", mesh, "--json")
    assert result.exit_code == 0, result.output
    said = json.loads(result.stdout)
    assert said["up"] == "+Z"
    assert said["facing"] == "-Y"
    assert 1.6 < said["height_m"] < 1.9
    assert said["shells"] == 17
    assert said["watertight"]
    assert said["symmetry"]["axis"] == "X"
    assert said["symmetry"]["offset"] == pytest.approx(40, abs=0.1)
    assert {"vertices", "faces", "parts", "bounds", "snags"} <= set(said)


def test_rig_walks_the_whole_road(mesh, tmp_path):
    out = tmp_path / "figure.pegloom"
    result = run("rig", mesh, "-o", out, "--height", 1.8, "--fingers", 0, "--json")
    assert result.exit_code == 0, result.output
    said = json.loads(result.stdout)
    joints = {j["name"]: j for j in said["joints"]}
    assert joints["l_forearm"]["parent"] == "l_upper_arm"
    assert joints["l_forearm"]["side"] == "left"
    left, right = joints["l_hand"]["position"], joints["r_hand"]["position"]
    assert np.allclose(np.array(left) * [-1, 1, 1], right, atol=1e-4)
    character = open_project(out).character
    assert character.rig is not None
    assert character.height == pytest.approx(1.8)
    glb = tmp_path / "figure.glb"
    assert run("export", out, "-o", glb).exit_code == 0
    assert run("bind", glb, "-o", tmp_path / "hard.glb", "--method", "hard").exit_code == 0


def test_pegs_given_in_a_file_are_taken(mesh, tmp_path):
    found = json.loads(run("pegs", mesh, "--fingers", 0, "--json").stdout)
    assert {"name", "position", "confidence"} == set(found["pegs"][0])
    moved = [{"name": "l_elbow", "position": [0.4, 1.4, -0.03]}]
    (tmp_path / "p.json").write_text(json.dumps({"pegs": moved}))
    result = run("rig", mesh, "-o", tmp_path / "a.glb", "--fingers", 0, "--pegs", tmp_path / "p.json", "--json")
    joints = {j["name"]: j["position"] for j in json.loads(result.stdout)["joints"]}
    assert joints["l_forearm"] == [0.4, 1.4, -0.03]


@pytest.mark.parametrize(
    "words",
    [
        ("survey", "nowhere.obj"),
        ("rig", DEMO / "wick.obj", "-o", "x.glb", "--bind", "magic"),
        ("rig", DEMO / "wick.obj", "-o", "x.fancy", "--fingers", "0"),
        ("pegs", DEMO / "wick.obj", "--pattern", "teapot"),
        ("bind", DEMO / "wick.obj", "-o", "x.glb"),
        ("export", DEMO / "wick.png", "-o", "x.glb"),
        ("open", "nowhere.glb"),
    ],
)
def test_errors_are_one_line_and_exit_code_one(words):
    result = run(*words)
    assert result.exit_code == 1
    lines = result.stderr.strip().splitlines()
    assert len(lines) == 1
    assert lines[0].startswith("error: ")


COMMANDS = {
    "survey": (), "pegs": (), "trial": (), "rig": ("-o", "OUT.glb"), "bind": ("-o", "OUT.glb"), "bake": ("-o", "OUT.glb"),
    "export": ("-o", "OUT.glb"), "convert": ("OUT.obj",), "transfer": ("IN", "-o", "OUT.glb"),
}  # fmt: skip


@pytest.mark.each(2)
@pytest.mark.parametrize("command", COMMANDS)
def test_whatever_is_thrown_at_a_command_there_is_one_line_and_no_traceback(command, tmp_path):
    thrown = [c for c in cases() if c.name in {
        "zip-slip", "obj-nan-uv", "obj-stray", "obj-one-place", "glb-deep-json", "glb-flat-node", "glb-no-records", "glb-names",
        "glb-material", "project-deep", "project-nobody-in-hand", "project-version", "stl-nan",
    }]  # fmt: skip
    assert len(thrown) == 13
    places = [case.lay_out(tmp_path / case.name) for case in thrown]
    (tmp_path / "none.pegloom").write_bytes(b"")
    for place in [*places, tmp_path / "none.pegloom", tmp_path, tmp_path / "nowhere.glb", Path("/dev/null")]:
        words = [w.replace("OUT", str(tmp_path / "out")).replace("IN", str(place)) for w in COMMANDS[command]]
        result = run(command, place, *words)
        assert result.exit_code in (0, 1), (place, result.output)
        assert result.exception is None or isinstance(result.exception, SystemExit)
        said = result.stderr.strip().splitlines()
        if result.exit_code == 1:
            assert len(said) == 1, result.stderr
            assert said[0].startswith("error: ")
            assert "unforeseen" not in said[0], said[0]


def test_what_nobody_foresaw_is_one_line_and_a_report(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))

    def broken(*_):
        raise KeyError("a hole in the floor")

    monkeypatch.setattr("pegloom.files.reading.read_mesh", broken)
    result = run("survey", DEMO / "wick.obj")
    assert result.exit_code == 1
    (line,) = result.stderr.strip().splitlines()
    assert line.startswith("error: something unforeseen went wrong (KeyError")
    report = Path(line.rsplit("a report is in ", 1)[1])
    assert report.parent == tmp_path / "pegloom" / "reports"
    assert "a hole in the floor" in report.read_text()
    assert "Traceback" in report.read_text()


def test_wrong_usage_is_exit_code_two():
    assert run("rig").exit_code == 2
    assert run("survey", "a.obj", "--nonsense").exit_code == 2


def test_the_module_runs_as_a_program(tmp_path):
    (tmp_path / "bad.obj").write_bytes(bytes(range(256)))
    done = subprocess.run(
        [sys.executable, "-m", "pegloom", "survey", str(tmp_path / "bad.obj")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 1
    assert done.stderr.startswith("error: bad.obj")
    assert "Traceback" not in done.stderr


def test_trial_prints_what_the_poses_do():
    result = run("trial", DEMO / "winch.pegloom", "--json")
    assert result.exit_code == 0, result.output
    trials = json.loads(result.stdout)["trials"]
    assert trials
    assert {"trial", "part", "stretch", "stretch_most", "folded", "volume"} == set(trials[0])
    refused = run("trial", DEMO / "wick.obj")
    assert refused.exit_code == 1
    table, past, crossed = run("trial", DEMO / "wick.pegloom").output.split("\n\n")
    assert sum(line.startswith("arm_up") for line in table.splitlines()) == 3
    assert "girth" in past and "faces that cross" in crossed and "body" in crossed
    told = json.loads(run("trial", DEMO / "wick.pegloom", "--json").stdout)
    elbow = next(j for j in told["joints"] if j["trial"] == "elbow" and j["joint"] == "l_forearm")
    assert 0.4 < elbow["area"] < elbow["girth"] < 1.0
    crossing = told["crossing"]["elbow"]
    assert crossing["faces"] == sum(n for *_, n in crossing["between"]) == sum(crossing["joints"].values()) > 0
    # A bent arm presses into itself and the cuff, not into the hat or the legs.
    assert set(crossing["joints"]) <= {
        f"arm.{s}.{k}" for s in "lr" for k in ("clavicle", "upper", "lower", "lower.twist1", "end")
    }
    assert told["crossing"]["hand_twist"]["faces"] == 0


def test_bake_and_transfer_from_the_command_line(tmp_path):
    out = tmp_path / "winch.pegloom"
    baked = run("bake", DEMO / "winch.pegloom", "-o", out, "--steps", "4", "--influences", "2", "--json")
    assert baked.exit_code == 0, baked.output
    parts = json.loads(baked.stdout)["parts"]
    assert parts and all(0.0 <= p["removed"] <= 1.0 and p["rms_mm"] >= 0.0 for p in parts)
    refused = run("bake", DEMO / "winch.pegloom", "-o", out)
    assert refused.exit_code == 1 and "nothing to bake" in refused.output
    read = run("transfer", DEMO / "winch.pegloom", DEMO / "winch.pegloom", "-o", out, "--json")
    assert read.exit_code == 0, read.output
    told = json.loads(read.stdout)
    assert all(a == b for a, b in told["joints"].items())
    assert all(p["matched"] + p["filled"] + p["forced"] > 0 for p in told["parts"].values())
    wrong = run("transfer", DEMO / "winch.pegloom", DEMO / "winch.pegloom", "-o", out, "--map", "nonsense")
    assert wrong.exit_code == 1 and "THEIRS=OURS" in wrong.output


HEAVY = ("numba", "scipy", "trimesh", "pxr", "PyQt6", "pegloom.document", "pegloom.core.skin")


def test_a_command_loads_only_what_it_needs():
    """What starts in half a second may not wait for the numerical compiler and the mesh libraries."""
    script = (
        "import sys\nfrom typer.testing import CliRunner\nfrom pegloom.cli import app\n"
        "made = CliRunner().invoke(app, ['patterns'])\nassert made.exit_code == 0, made.output\nassert 'human' in made.output\n"
        f"print([name for name in {HEAVY!r} if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_a_reader_who_leaves_early_is_no_fault():
    done = subprocess.run(
        f"{sys.executable} -m pegloom patterns --json | head -c 10", shell=True, capture_output=True, text=True, check=False
    )
    assert done.stderr == ""


def test_a_rig_is_told_edited_and_posed_without_a_screen(tmp_path):
    def told_by(*words):
        result = run(*words, "--json")
        assert result.exit_code == 0, result.output
        return json.loads(result.stdout)

    steps, frames, out, glb = (tmp_path / n for n in ("steps.json", "frames.json", "out.pegloom", "out.glb"))
    steps.write_text(json.dumps([
        {"edit": "build_controls"}, {"edit": "add_ik", "first": "l_index_1", "last": "l_index_3", "kind": "chain", "name": "finger"},
        {"edit": "constrain", "held": "l_elbow_pole", "targets": ["r_hand_goal"], "follow": "position"},
    ]))  # fmt: skip
    made = told_by("edit", DEMO / "wick.pegloom", steps, "-o", out)
    assert len(made["made"]) == 3 and made["made"][0] is None and out.is_file()
    told = told_by("controls", out)
    assert {s["name"] for s in told["solvers"]} >= {"finger"} and len(told["constraints"]) >= 1 and told["spaces"]
    names = [c["name"] for c in told["controls"]]
    assert len(set(names)) == len(names)
    assert {"controls", "limbs", "solvers", "constraints", "couplings", "springs", "spaces", "findings"} <= set(told)
    limb = next(x for x in told["limbs"] if x["id"] == "arm.l")
    frames.write_text(json.dumps({"rate": 30, "frames": [{}, {limb["goal"]: {limb["blend"]["channel"]: 1, "move_y": 0.1}}]}))
    posed = told_by("pose", out, "--frames", frames, "-o", glb)
    assert len(posed["frames"]) == 2 and len(posed["frames"][1]["world"]) == len(posed["joints"]) and glb.is_file()
    assert posed["frames"][1]["missed"][limb["goal"]] < 1e-6
    rows = told_by("edit", "--list")["edits"]
    assert any(r["edit"] == "mirror_rig" and r["arguments"][0]["name"] == "source" for r in rows)
    for wrong, words in (("[1", "is no JSON"), ('[{"edit": "fly"}]', "there is no edit fly")):
        steps.write_text(wrong)
        failed = run("edit", DEMO / "wick.pegloom", steps, "-o", tmp_path / "no.pegloom")
        assert failed.exit_code == 1 and words in failed.output and "Traceback" not in failed.output
        assert not (tmp_path / "no.pegloom").exists()


def test_the_check_is_run_and_mends_without_a_screen(tmp_path):
    project = DEMO / "winch.pegloom"
    told = json.loads(run("guard", project, "--json").stdout)
    assert told["sound"] and all(told["checks"].values()) and not told["findings"]
    assert run("guard", project).exit_code == 0
    (tmp_path / "steps.json").write_text(json.dumps([
        {"edit": "switch_channels", "controls": ["body"], "channels": ["move_x", "move_y", "move_z", "rotate_x", "rotate_y", "rotate_z"], "locked": True},
    ]))  # fmt: skip
    spoilt, whole = tmp_path / "spoilt.pegloom", tmp_path / "whole.pegloom"
    assert run("edit", project, tmp_path / "steps.json", "-o", spoilt).exit_code == 0
    found = run("guard", spoilt, "--json")
    assert found.exit_code == 1 and not json.loads(found.stdout)["checks"]["locked"]
    assert run("guard", spoilt, "--fix", whole, "--json").exit_code == 0
    assert "move_x" in open_project(whole).character.rig.control("body").free
    nothing = run("guard", DEMO / "wick.obj")
    assert nothing.exit_code == 1


def test_motion_is_baked_and_brought_back_without_a_screen(tmp_path):
    baked, back = tmp_path / "baked.pegloom", tmp_path / "back.pegloom"
    told = json.loads(run("bake-motion", DEMO / "winch.pegloom", "-o", baked, "--json").stdout)
    assert told["clips"] and all(row["samples"] > 2 for row in told["clips"])
    assert all(clip.tracks and not clip.curves for clip in open_project(baked).character.clips)
    told = json.loads(run("bake-motion", baked, "-o", back, "--back", "--json").stdout)
    assert all(row["farthest_mm"] < 0.1 for row in told["clips"])
    assert all(clip.curves and not clip.tracks for clip in open_project(back).character.clips)
    nothing = run("bake-motion", back, "-o", baked, "--back")
    assert nothing.exit_code == 1 and "nothing to bake" in nothing.output


def test_a_kept_body_is_worn_without_a_screen(tmp_path, mesh):
    from pegloom.document import edits
    from pegloom.files.bodies import write_body
    from tests.support.figures import rigged_capsules

    body = tmp_path / "capsules.body.json"
    write_body(body, edits.body_of(edits.rename_joint(rigged_capsules(), "arm.l.end", "left paw").character))
    out = tmp_path / "worn.pegloom"
    told = json.loads(run("rig", mesh, "-o", out, "--height", "1.75", "--body", body, "--json").stdout)
    assert "left paw" in {j["name"] for j in told["joints"]}
    assert open_project(out).character.rig is not None
    refused = run("rig", mesh, "-o", out, "--body", DEMO / "wick.mtl")
    assert refused.exit_code == 1 and "Traceback" not in refused.output
