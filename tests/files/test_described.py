"""A described rig: evaluated by the reference reader alone, rebuilt exactly, checked against its schema, and never trusted."""

from __future__ import annotations

import importlib.util
import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.subdivide import loop
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.constraints import Follow
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.shapes import shape_weights
from pegloom.document import edits
from pegloom.document.edits import Read
from pegloom.document.evaluate import evaluate
from pegloom.document.told.poses import played, read_frames
from pegloom.files import described
from pegloom.files.described import describe, read_description, rebuild, schema, write_description
from pegloom.files.project import save_project
from pegloom.files.writing import write_any
from tests.support.figures import DEMO, rigged_capsules, shipped

READER = Path(described.__file__).parents[1] / "assets" / "reader" / "rig_reader.py"
DEMOS = ("winch", "lantern", "wick", "dumble", "harl", "pannier", "oilskin")


@pytest.fixture(scope="module")
def reader():
    spec = importlib.util.spec_from_file_location("rig_reader", READER)
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


def wild_frames(character, rng, count=5):
    """Frames of values all over a rig's channels: poses, poles, blends, shares, curls."""
    frames = []
    for k in range(count):
        frame = {}
        for owner, channels in [(c.id, c.channels) for c in character.rig.controls if not c.helper] + [("rig", character.rig.board)]:
            for channel in channels:
                if k == 0 or channel.locked or rng.random() < 0.5:
                    continue
                low = -0.5 if channel.low is None else max(channel.low, -0.5)
                high = 0.5 if channel.high is None else min(channel.high, 1.0)
                value = float(rng.uniform(low, max(high, low)))
                if channel.key.startswith("move"):
                    value *= 0.2 * character.height
                elif channel.key == "scale":
                    value = float(rng.uniform(0.8, 1.2))
                elif channel.key == "blend":
                    value = float(rng.choice([0.0, 0.4, 1.0]))
                elif owner == "rig" and channel.quantity.value != "share":
                    value = channel.rest * float(rng.uniform(0.8, 1.2))
                frame.setdefault(owner, {})[channel.key] = value
        frames.append(frame)
    return {"rate": 30, "frames": frames}


def farthest(reader, document, told):
    """How far any joint or control is from where the reference reader has it, in heights."""
    character = document.character
    tree = json.loads(json.dumps(describe(document, "x.npz")[0]))
    rate, frames = read_frames(character, told)
    ours = played(character, frames, rate)
    rig = reader.Rig(tree)
    values_at, times = reader.frames_of(rig, told)
    worst = 0.0
    for here, there in zip(ours["frames"], rig.played(values_at, times), strict=True):
        for joint, row in zip(character.skeleton.joints, here["world"], strict=True):
            worst = max(worst, np.abs(np.array(row).reshape(4, 4) - there.node(("joint", joint.id))).max())
        for control, row in zip(character.rig.controls, here["controls"].values(), strict=True):
            worst = max(worst, np.abs(np.array(row).reshape(4, 4) - there.node(("control", control.id))).max())
        for name, weight in here["driven"]["morphs"].items():
            found = sum(w for (_, n), w in there.morphs().items() if n == name)
            worst = max(worst, abs(found - weight))
        assert here["driven"]["unseen"] == there.unseen()
    return worst / character.height


@pytest.mark.parametrize("name", DEMOS)
def test_the_reference_reader_agrees_on_every_demo(reader, name):
    document = shipped(name)
    if document.character.rig is None:
        document = edits.build_controls(document)
    told = wild_frames(document.character, np.random.default_rng(len(name)))
    assert farthest(reader, document, told) < 1e-6


def everything():
    """A figure with every kind of solver, constraint and measure on it."""
    document = edits.build_controls(rigged_capsules())
    document, _ = edits.add_ik(document, "arm.l.upper", "arm.l.end", "chain")
    document = edits.set_limit(document, "arm.l.lower", low=(0.0, -0.2, -0.2), high=(2.0, 0.2, 0.2), stiffness=(0.1, 0.6, 0.6))
    document, _ = edits.add_ik(document, "arm.r.upper", "arm.r.end", "chain")
    document, _ = edits.constrain(document, "head_fk", ["l_foot_goal", "r_foot_goal"], Follow.AIM, weights=[0.3, 0.5])
    document, _ = edits.constrain(document, "l_knee_pole", ["body"], Follow.POSITION, axes="xz", weights=[0.7])
    document, _ = edits.constrain(document, "r_knee_pole", ["body", "world"], Follow.PARENT)
    document, _ = edits.constrain(document, "l_foot_goal", ["r_foot_goal"], Follow.ROTATION, weights=[0.4])
    document, _ = edits.constrain(document, "r_foot_goal", ["root"], Follow.SCALE)
    document, _ = edits.couple(
        document, "chest_fk", "rotate_x",
        [Read("a", control="l_hand_goal", channel="move_y"), Read("b", control="root", channel="scale")], formula="smooth(0, 20 * cm, a) * 30 * deg if a > 0 and b < 2 else -clamp(a, -1, 0) ** 2",
    )  # fmt: skip
    return edits.set_twist(document, "leg.l", 2)


def test_the_reference_reader_knows_every_solver_constraint_and_measure(reader):
    document = everything()
    kinds = {type(s).__name__ for s in document.character.rig.solvers}
    assert {"LimbIk", "ChainIk"} <= kinds
    told = wild_frames(document.character, np.random.default_rng(8), count=8)
    assert farthest(reader, document, told) < 1e-6


def test_a_body_and_springs_are_read_alike_while_they_move(reader):
    document = shipped("dumble")
    rig = document.character.rig
    frames = []
    for k in range(7):
        frame = {"body": {"move_z": 0.4 * np.sin(0.5 * k), "rotate_y": 0.02 * k}, "rig": {"whole_body": min(k / 4, 1.0)}}
        for limb in rig.limbs:
            frame[limb.goal.id] = {"blend": 1.0, "move_z": 0.1 * np.sin(k)}
        frames.append(frame)
    assert farthest(reader, document, {"rate": 24, "frames": frames}) < 1e-6


def test_helper_joints_follow_in_the_reader_as_here(reader):
    document = edits.add_helpers(rigged_capsules(), fit=False)[0]
    assert document.character.helpers
    assert farthest(reader, document, wild_frames(document.character, np.random.default_rng(8))) < 1e-6


def test_corrective_shapes_come_in_in_the_reader_as_here(reader, tmp_path):
    document = rigged_capsules()
    part, skeleton = document.character.parts[0], document.character.skeleton
    bent = document.with_character(replace(document.character, pose=trial_pose(skeleton, "elbow")))
    document, name = edits.sculpt_shape(bent, part.id, evaluate(bent.character).points[part.id] + [0.0, 0.01, 0.0])
    character = document.character
    write_description(tmp_path / "figure.json", document)
    tree, seen = read_description(tmp_path / "figure.json"), []
    for values in ({}, {("arm.r.lower.fk", "rotate_x"): 1.0, ("arm.r.upper.fk", "rotate_z"): 0.7}, {("arm.r.lower.fk", "rotate_x"): -1.0}, {("arm.r.lower.fk", "rotate_z"): 1.2}):
        worlds = evaluate_rig(skeleton, character.rig, Pose(values)).joints
        ours = float(shape_weights(skeleton, character.shapes, worlds[None])[0, 0])
        assert abs(reader.Rig(tree).frame(values).morphs().get((part.id, name), 0.0) - ours) < 1e-9
        seen.append(ours)
    assert seen[0] == 0.0 and max(seen) > 0.1


def test_the_reader_stands_alone_and_reads_files_as_pose_does(tmp_path):
    document = shipped("winch")
    write_description(tmp_path / "winch.json", document)
    told = wild_frames(document.character, np.random.default_rng(2), count=3)
    (tmp_path / "frames.json").write_text(json.dumps(told))
    # -I: nothing of this project can be found.
    script = "import sys,runpy;sys.argv=sys.argv[1:];runpy.run_path(sys.argv[0],run_name='__main__');assert not [m for m in sys.modules if m.startswith('pegloom')]"
    done = subprocess.run([sys.executable, "-I", "-c", script, str(READER), str(tmp_path / "winch.json"), str(tmp_path / "frames.json")], capture_output=True, text=True, check=True, cwd=tmp_path)
    posed = json.loads(done.stdout)["frames"]
    rate, frames = read_frames(document.character, told)
    ours = played(document.character, frames, rate)["frames"]
    for here, there in zip(ours, posed, strict=True):
        for joint, row in zip(document.character.skeleton.joints, here["world"], strict=True):
            assert np.abs(np.array(row) - there["joints"][joint.name]).max() < 1e-9


def test_the_reader_skins_by_the_weights_beside(reader, tmp_path):
    document = edits.build_controls(rigged_capsules())
    beside = write_description(tmp_path / "figure.json", document)
    tree = read_description(tmp_path / "figure.json")
    values = {("arm.l.upper.fk", "rotate_z"): 0.8, ("body", "move_y"): 0.1}
    frame = reader.Rig(tree).frame(values)
    character = document.character
    ours = evaluate(character, Pose(values)).points
    for part in character.included:
        weights = reader.read_weights(tree, beside, part.id)
        assert np.abs(reader.skinned(part.mesh.points, weights, frame.skin_matrices()) - ours[part.id]).max() < 1e-9


# Rebuilt


def same(a, b):
    (one, arrays), (two, others) = describe(a, "x.npz"), describe(b, "x.npz")
    assert one == two
    assert arrays.keys() == others.keys()
    for name, values in arrays.items():
        np.testing.assert_array_equal(values, others[name])


@pytest.mark.parametrize("name", ["wick", "dumble", "winch", "lantern"])
def test_a_rig_comes_back_exactly_on_its_mesh(tmp_path, name):
    document = shipped(name)
    write_description(tmp_path / "rig.json", document)
    save_project(tmp_path / "mesh.pegloom", document.with_character(replace(document.character, rig=None, skin=None, skeleton=None, pegs=None, clips=(), trials=(), weaves=(), sources=(), pairings=(), pose=Pose())))
    made = rebuild(tmp_path / "rig.json", tmp_path / "mesh.pegloom")
    assert not made.notes
    same(document, made.document)


@pytest.mark.parametrize("name", ["wick", "winch"])
def test_a_rig_is_built_on_the_raw_file_its_mesh_came_from(tmp_path, name):
    document = shipped(name)
    write_description(tmp_path / "rig.json", document)
    made = rebuild(tmp_path / "rig.json", DEMO / f"{name}.obj").document.character
    character = document.character
    assert made.height == pytest.approx(character.height, rel=1e-5)
    pose = character.pose
    for part in character.included:
        here = evaluate(character, pose).points[part.id]
        there = evaluate(made, pose).points[next(p.id for p in made.parts if p.name == part.name)]
        assert np.abs(here - there).max() < 1e-4 * character.height


def test_another_mesh_of_the_same_parts_takes_the_nearest_weights(tmp_path):
    document = edits.build_controls(rigged_capsules())
    write_description(tmp_path / "rig.json", document)
    character = document.character
    finer = tuple(replace(p, mesh=loop(p.mesh).mesh, morphs=()) for p in character.parts)
    write_any(tmp_path / "finer.obj", document.with_character(replace(character, parts=finer, skin=None)))
    made = rebuild(tmp_path / "rig.json", tmp_path / "finer.obj")
    assert any("another mesh" in note for note in made.notes)
    other = made.document.character
    pose = Pose({("arm.l.upper.fk", "rotate_z"): 0.7})
    from scipy.spatial import cKDTree

    for part in character.included:
        here = evaluate(character, pose).points[part.id]
        there = evaluate(other, pose).points[other.parts[0].id]
        assert np.quantile(cKDTree(there).query(here)[0], 0.99) < 0.02 * character.height


# Its schema, and what is not sound

KINDS = {"object": dict, "array": list, "string": str, "boolean": bool, "null": type(None), "integer": int, "number": (int, float)}


def wrong(value, told, whole=None, where="$"):
    """What in a value a JSON Schema (2020-12, as much of it as ours uses) does not allow."""
    whole = whole or told
    if "$ref" in told:
        told = whole["$defs"][told["$ref"].rpartition("/")[2]]
    if "const" in told and value != told["const"]:
        yield f"{where}: {value} is not {told['const']}"
    if "enum" in told and value not in told["enum"]:
        yield f"{where}: {value} is none of {told['enum']}"
    if "anyOf" in told and all(list(wrong(value, one, whole, where)) for one in told["anyOf"]):
        yield f"{where}: {str(value)[:40]} is nothing of what it may be"
    kinds = told.get("type", [])
    kinds = [kinds] if isinstance(kinds, str) else kinds
    if kinds and not any(isinstance(value, KINDS[k]) and (k in ("boolean",) or not isinstance(value, bool)) for k in kinds):
        yield f"{where}: {str(value)[:40]} is no {kinds}"
        return
    if isinstance(value, dict):
        known = told.get("properties", {})
        yield from (f"{where}: {name} is missing" for name in told.get("required", []) if name not in value)
        more = told.get("additionalProperties", True)
        for name, one in value.items():
            if name in known:
                yield from wrong(one, known[name], whole, f"{where}.{name}")
            elif more is False:
                yield f"{where}: {name} is not known"
            elif isinstance(more, dict):
                yield from wrong(one, more, whole, f"{where}.{name}")
    if isinstance(value, list):
        if not told.get("minItems", 0) <= len(value) <= told.get("maxItems", len(value)):
            yield f"{where}: {len(value)} entries"
        places = told.get("prefixItems", [])
        for k, one in enumerate(value):
            if k < len(places):
                yield from wrong(one, places[k], whole, f"{where}[{k}]")
            elif "items" in told:
                yield from wrong(one, told["items"], whole, f"{where}[{k}]")


@pytest.mark.parametrize("name", DEMOS[:5])
def test_every_demo_keeps_the_published_schema(name):
    tree, _ = describe(shipped(name), "x.npz")
    assert not list(wrong(json.loads(json.dumps(tree)), schema()))


def test_the_schema_refuses_what_is_no_description():
    tree = json.loads(json.dumps(describe(shipped("lantern"), "x.npz")[0]))
    assert not list(wrong(tree, schema()))
    for spoil in (lambda t: t["rig"]["controls"][0].pop("rest"), lambda t: t["rig"]["controls"][0].update(spoons=3), lambda t: t["skeleton"]["joints"][0].update(position="here")):
        spoilt = json.loads(json.dumps(tree))
        spoil(spoilt)
        assert list(wrong(spoilt, schema()))


@pytest.mark.parametrize(
    "spoil",
    [
        lambda t: t["weights"].update(file="../../etc/passwd"), lambda t: t["weights"].update(file="/etc/passwd"), lambda t: t["weights"].update(file=""),
        lambda t: t["rig"]["controls"][0].update(rest=[1.0]), lambda t: t["rig"]["controls"][0].update(rest="x"), lambda t: t.update(rig=None),
        lambda t: t["skeleton"]["joints"][0].update(parent="nobody"), lambda t: t["skeleton"]["joints"].clear(), lambda t: t.update(mesh=3),
        lambda t: t["mesh"]["parts"][0].update(kind="spoon"), lambda t: t["weights"]["parts"].clear() or t["weights"].update(parts=[1]),
        lambda t: next(iter(t["weights"]["parts"].values())).update(joints=["nobody"]), lambda t: t.update(recipe=[]), lambda t: t["recipe"].pop("pose") and t["recipe"].update(pose={"kind": "x"}),
        lambda t: t["rig"]["solvers"].append({"kind": "limb"}), lambda t: t.update(version=99), lambda t: t.update(format="other"),
        lambda t: t["mesh"]["parts"].clear(), lambda t: t["rig"]["drives"].append({"joint": "nobody", "node": {"kind": "world", "id": ""}}),
    ],
)  # fmt: skip
def test_a_description_that_is_not_sound_is_refused_in_one_line(tmp_path, spoil):
    document = edits.build_controls(rigged_capsules())
    write_description(tmp_path / "rig.json", document)
    save_project(tmp_path / "mesh.pegloom", document)
    tree = json.loads((tmp_path / "rig.json").read_text())
    spoil(tree)
    (tmp_path / "rig.json").write_text(json.dumps(tree))
    with pytest.raises(PegLoomError) as found:
        rebuild(tmp_path / "rig.json", tmp_path / "mesh.pegloom")
    assert "\n" not in str(found.value)


@pytest.mark.parametrize("data", [b"", b"PK\x03\x04", b"not a zip", None])
def test_weights_that_are_not_sound_are_refused(tmp_path, data):
    document = edits.build_controls(rigged_capsules())
    beside = write_description(tmp_path / "rig.json", document)
    save_project(tmp_path / "mesh.pegloom", document)
    if data is None:
        beside.unlink()
    else:
        beside.write_bytes(data)
    with pytest.raises(PegLoomError):
        rebuild(tmp_path / "rig.json", tmp_path / "mesh.pegloom")


def test_a_pickle_among_the_weights_is_never_opened(tmp_path):
    document = edits.build_controls(rigged_capsules())
    beside = write_description(tmp_path / "rig.json", document)
    save_project(tmp_path / "mesh.pegloom", document)
    with np.load(beside) as held:
        arrays = dict(held)
    name = next(n for n in arrays if n.endswith(".values"))

    class Trap:
        def __reduce__(self):
            return (Path.touch, (tmp_path / "sprung",))

    np.savez(beside, **arrays | {name: np.array([Trap()], dtype=object)})
    with pytest.raises(PegLoomError):
        rebuild(tmp_path / "rig.json", tmp_path / "mesh.pegloom")
    assert not (tmp_path / "sprung").exists()
