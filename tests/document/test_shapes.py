"""Corrective shapes: brought in by a joint's turn, nothing at rest, no trial worse, in the exported file as morph weights."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation
from typer.testing import CliRunner

from pegloom.checks.trials import joint_trials
from pegloom.checks.ways import as_lines, bends, told_ways, worst_joints
from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.shapes import ShapeDrive, shape_weights, unskinned
from pegloom.document import edits
from pegloom.document.delivery.plain import made_plain
from pegloom.document.delivery.target import Target
from pegloom.document.evaluate import evaluate
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support.figures import rigged_capsules
from tests.support.outside import Outside


@pytest.fixture(scope="module")
def before():
    return rigged_capsules()


@pytest.fixture(scope="module")
def shaped(before):
    return edits.add_shapes(before)


def test_a_shape_is_there_wholly_at_its_turn_half_way_in_part_and_not_at_rest(before):
    skeleton = before.character.skeleton
    i = skeleton.index["arm.l.lower"]
    p = int(skeleton.parents[i])
    turn = np.array([0.0, 1.2, 0.3])
    drive = ShapeDrive("s", "part", "m", "arm.l.lower", tuple(turn))
    worlds = np.tile(skeleton.world, (4, 1, 1, 1))
    for k, share in enumerate((0.0, 0.5, 1.0, -0.5)):
        worlds[k, i, :3, :3] = Rotation.from_rotvec(share * turn).as_matrix() @ skeleton.world[i, :3, :3]
    assert np.allclose(shape_weights(skeleton, [drive], worlds)[:, 0], [0.0, 0.5, 1.0, 0.0], atol=1e-9)
    # Carried along by what it hangs on it stays as it is, whatever its own axes are.
    carry = Rotation.from_rotvec([0.4, -0.2, 0.9]).as_matrix()
    worlds[:, p, :3, :3] = carry @ worlds[:, p, :3, :3]
    worlds[:, i, :3, :3] = carry @ worlds[:, i, :3, :3]
    assert np.allclose(shape_weights(skeleton, [drive], worlds)[:, 0], [0.0, 0.5, 1.0, 0.0], atol=1e-9)


def test_what_is_added_at_rest_lands_where_it_is_wanted():
    rng = np.random.default_rng(3)
    rest, wanted = rng.normal(size=(20, 3)), rng.normal(size=(20, 3))
    matrices = np.concatenate([Rotation.random(20, random_state=4).as_matrix() * 0.9, rng.normal(size=(20, 3, 1))], axis=2)
    added = unskinned(rest, matrices, wanted)
    assert np.allclose(np.einsum("pab,pb->pa", matrices[:, :, :3], rest + added) + matrices[:, :, 3], wanted)
    matrices[0, :, :3] = 0.0
    assert not unskinned(rest, matrices, wanted)[0].any(), "a place that has collapsed gets nothing"


def test_no_region_gets_worse_and_left_is_as_right(before, shaped):
    after, reports = shaped
    assert reports[0].shapes and reports[0].after_mm < reports[0].before_mm
    old = {(f.trial, f.joint): f for f in joint_trials(before.character)[0]}
    for now in joint_trials(after.character)[0]:
        was = old[now.trial, now.joint]
        for a, b in ((was.girth, now.girth), (was.area, now.area)):
            assert a is None or b is None or b >= a or abs(1 - b) <= abs(1 - a) + 0.0201 * a, now
        longer = max(1.0, min(now.area, 1.0) / was.area) ** 0.5 if was.area and now.area else 1.0
        assert now.stretch <= 1.0201 * longer * max(was.stretch, 1.0), now
    names = set(reports[0].shapes)
    assert {n.replace("l_", "r_", 1) for n in names if n.startswith("l_")} == {n for n in names if n.startswith("r_")}
    rest = evaluate(after.character, Pose()).points
    for part in before.character.parts:
        assert np.abs(rest[part.id] - evaluate(before.character, Pose()).points[part.id]).max() < 1e-9


def test_an_exported_clip_brings_them_in_as_the_rig_does(shaped, tmp_path):
    document, clip = edits.add_trial_clip(shaped[0])
    character = document.character
    save_project(tmp_path / "a.pegloom", document)
    assert open_project(tmp_path / "a.pegloom").character.shapes == character.shapes
    plain = made_plain(document, Target("file"))
    assert not plain.document.character.shapes
    told = next(n for n in plain.baked if "corrective shapes" in n)
    assert any(shape.morph in told for shape in character.shapes), "the export says which it brings in"
    write_glb(tmp_path / "a.glb", plain.document.character)
    outside, part = Outside(tmp_path / "a.glb"), character.parts[0]
    node = next(k for k, n in enumerate(outside.gltf.nodes) if n.mesh is not None)
    channel = next(c for c in outside.gltf.animations[0].channels if c.target.node == node and c.target.path == "weights")
    sampler = outside.gltf.animations[0].samplers[channel.sampler]
    times, rows = outside.values(sampler.input)[:, 0], outside.values(sampler.output)
    rows = rows.reshape(len(times), -1)
    assert rows.max() > 0.2, "the wave bends an arm"
    named = outside.gltf.meshes[0].extras["targetNames"]
    for time in (0.8, 1.6, 2.37):
        pose = sample(character.clip(clip), time, character.skeleton, Pose(), character.rig)
        worlds = evaluate_rig(character.skeleton, character.rig, pose).joints
        live = dict(zip([s.morph for s in character.shapes if s.part == part.id], shape_weights(character.skeleton, character.shapes, worlds[None])[0], strict=True))
        told = {name: np.interp(time, times, rows[:, k]) for k, name in enumerate(named)}
        assert all(abs(told[name] - weight) < 0.02 for name, weight in live.items())


def test_a_mesh_corrected_in_a_pose_comes_back_there_and_not_at_rest(before):
    document = before.with_character(replace(before.character, pose=trial_pose(before.character.skeleton, "elbow")))
    part = document.character.parts[0]
    posed = evaluate(document.character).points[part.id]
    elbow = evaluate(document.character).joints[document.character.skeleton.index["arm.l.lower"], :3, 3]
    near = np.linalg.norm(posed - elbow, axis=1) < 0.06 * document.character.height
    corrected = posed + np.where(near[:, None], [0.0, 0.01, 0.0], 0.0)
    after, name = edits.sculpt_shape(document, part.id, corrected)
    drive = after.character.shapes[-1]
    assert drive.joint == "arm.l.lower" and drive.morph == name
    assert np.abs(evaluate(after.character).points[part.id] - corrected).max() < 1e-6
    assert np.abs(evaluate(after.character, Pose()).points[part.id] - evaluate(before.character, Pose()).points[part.id]).max() < 1e-12
    with pytest.raises(EditError, match="nothing to take"):
        edits.sculpt_shape(document, part.id, posed)
    with pytest.raises(EditError, match="vertices"):
        edits.sculpt_shape(document, part.id, posed[:-1])
    more = edits.add_shapes(after, most=1)[0].character
    assert drive in more.shapes and len(more.shapes) > 1, "what was sculpted stays when others are made"
    gone = edits.drop_shapes(after)
    assert not gone.character.shapes and not gone.character.parts[0].morphs


def test_the_ways_are_told_side_by_side(before):
    told = told_ways(edits.ways_to_bend(before, ("dual", "relaxed")))
    assert [t.way.id for t in told] == ["bound", "dual", "relaxed"]
    first = bends(before.character)
    assert told[0].bends == first and told[2].bends != first
    lines = as_lines(told)
    assert "longest edge" in lines[0] and "every engine" in "\n".join(lines)
    worst = worst_joints(told)
    assert 0 < len(worst) <= 6 and not any(w.replace("l_", "r_", 1) in worst for w in worst if w.startswith("l_"))
    with pytest.raises(EditError):
        edits.ways_to_bend(before.with_character(replace(before.character, skin=None)))


def test_from_the_command_line(before, shaped, tmp_path):
    save_project(tmp_path / "a.pegloom", shaped[0])
    run = CliRunner()
    done = run.invoke(app, ["shapes", str(tmp_path / "a.pegloom"), "-o", str(tmp_path / "b.pegloom"), "--drop"])
    assert done.exit_code == 0, done.output
    assert not open_project(tmp_path / "b.pegloom").character.shapes
    posed = before.with_character(replace(before.character, pose=trial_pose(before.character.skeleton, "elbow")))
    save_project(tmp_path / "c.pegloom", posed)
    part = posed.character.parts[0]
    points = evaluate(posed.character).points[part.id] * [1.0, 1.002, 1.0]
    trimesh.Trimesh(points, np.asarray(part.mesh.corners).reshape(-1, 3), process=False).export(tmp_path / "sculpted.ply")
    done = run.invoke(app, ["shapes", str(tmp_path / "c.pegloom"), "-o", str(tmp_path / "d.pegloom"), "--sculpted", str(tmp_path / "sculpted.ply")])
    assert done.exit_code == 0, done.output
    assert len(open_project(tmp_path / "d.pegloom").character.shapes) == 1
    done = run.invoke(app, ["ways", str(tmp_path / "b.pegloom"), "--way", "dual"])
    assert done.exit_code == 0 and "Dual quaternions" in done.output
    done = run.invoke(app, ["ways", str(tmp_path / "b.pegloom"), "--way", "magic"])
    assert done.exit_code == 1 and "there is no way magic" in done.output
