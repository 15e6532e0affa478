"""A revised file of a rigged character: matched by part and joint, told before it is taken, and no work lost."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.motion.clips import sample
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.weights import dense_over
from pegloom.document import edits
from pegloom.document.edits.revised import Arrived, ClipWay, clip_gap, foretold, propose, take_in
from pegloom.document.evaluate import evaluate
from pegloom.files.arrived import read_arrived
from pegloom.files.deliver import deliver
from pegloom.files.project import open_project, save_project
from pegloom.files.targets import known_targets
from tests.support.figures import shipped


@pytest.fixture(scope="module")
def wick():
    return shipped("wick")


def sent(document, folder, target="everything", kind=".glb"):
    return deliver(folder / f"wick{kind}", document, replace(known_targets()[target], kind=kind)).files[0]


def moved(part, matrix):
    points = transform_points(matrix, part.mesh.points)
    points.setflags(write=False)
    return replace(part, id=f"x{part.id}", mesh=replace(part.mesh, points=points, normals=None))


def test_a_file_that_went_out_comes_back_as_it_was(wick, tmp_path):
    """Split at seams and cut into triangles on the way, it is known as the same mesh, weight for weight."""
    arrived = read_arrived(sent(wick, tmp_path, "real-time"), wick.character)
    assert arrived.parts[0].mesh.vertex_count != wick.character.parts[0].mesh.vertex_count
    taking = propose(wick, arrived)
    assert taking.onto == tuple(p.id for p in wick.character.parts) and not taking.stay
    assert [row.said for row in foretold(wick, arrived, taking)][:3] == ["the same"] * 3
    back, _ = take_in(wick, arrived, taking)
    for part in wick.character.parts:
        assert back.character.skin.weights[part.id] is wick.character.skin.weights[part.id]
        assert np.array_equal(back.character.part(part.id).mesh.corners, part.mesh.corners)
        assert np.abs(back.character.part(part.id).mesh.points - part.mesh.points).max() < 1e-5
    assert back.character.rig is wick.character.rig and back.character.joint_overrides == wick.character.joint_overrides


def test_a_body_of_other_faces_in_centimetres_with_z_up_takes_its_weights_from_the_old_surface(wick):
    away = np.array([[100.0, 0, 0, 0], [0, 0, -100.0, 0], [0, 100.0, 0, 0], [0, 0, 0, 1]])
    old = wick.character.parts[0]
    sizes = np.diff(old.mesh.starts)
    holed = np.unique(np.repeat(np.arange(old.mesh.face_count), sizes)[old.mesh.corners % 50 == 0])
    fewer = np.setdiff1d(np.arange(old.mesh.face_count), holed)
    keep = np.concatenate([np.arange(old.mesh.starts[f], old.mesh.starts[f + 1]) for f in fewer])
    starts = np.concatenate([[0], np.cumsum(sizes[fewer])])
    used, corners = np.unique(old.mesh.corners[keep], return_inverse=True)
    mesh = replace(old.mesh, points=old.mesh.points[used], corners=corners, starts=starts, uvs=None, normals=None, materials=old.mesh.materials[fewer], layers={})
    revised = moved(replace(old, mesh=mesh, name="Body.001", morphs=()), away)
    hat = moved(wick.character.parts[2], away)
    glove = replace(hat, id="new", name="glove")
    arrived = Arrived("from the sculptor", (glove, revised, hat))
    taking = propose(wick, arrived)
    assert taking.onto == ("", old.id, wick.character.parts[2].id)
    rows = {row.name: row.said for row in foretold(wick, arrived, taking)}
    assert rows["glove"].startswith("new, ")
    assert "weights read from the nearest surface" in rows["Body.001"]
    assert rows["eyes"].startswith("not in the file; goes")
    made, report = take_in(wick, arrived, replace(taking, stay=frozenset({wick.character.parts[1].id})))
    character = made.character
    assert [p.name for p in character.parts] == [*(p.name for p in wick.character.parts), "glove"]
    assert np.abs(character.part(old.id).mesh.points - old.mesh.points[used]).max() < 1e-9
    columns = tuple(wick.character.skin.weights[old.id].joint_ids)
    before, after = (dense_over(c.skin.weights[old.id], columns) for c in (wick.character, character))
    assert np.abs(before[used] - after).max() < 1e-6, "the same places carry the same weights"
    assert [m.name for m in character.part(old.id).morphs] == [m.name for m in old.morphs]
    for mine, theirs in zip(old.morphs, character.part(old.id).morphs, strict=True):
        assert np.abs(mine.deltas[used] - theirs.deltas).max() < 1e-6
    assert len(report) == 4
    evaluate(character)


def test_a_clip_changed_elsewhere_is_a_layer_a_new_one_is_new_and_one_unchanged_is_left(wick, tmp_path):
    clip = wick.character.clips[0]
    control = next(c.id for c in wick.character.rig.controls if c.id.startswith("spine") and c.channel("rotate_y") is not None)
    layered, layer = edits.add_layer(wick, clip.id, "more")
    for time, turn in ((0.5, 0.0), (1.0, 0.4), (1.5, 0.0)):
        now = sample(layered.character.clips[0], time, layered.character.skeleton, layered.character.pose, layered.character.rig)
        turned = Pose({**now.values, (control, "rotate_y"): now.values.get((control, "rotate_y"), 0.0) + turn})
        layered = edits.key_in_layer(layered, clip.id, layer, time, [(control, "rotate_y")], turned)
    arrived = read_arrived(sent(layered, tmp_path), wick.character)
    arrived = replace(arrived, parts=(), clips=(*arrived.clips, replace(arrived.clips[0], id="own", name="bow twice")))
    taking = propose(wick, arrived)
    assert taking.clips == (ClipWay.LAYER, ClipWay.LEAVE, ClipWay.ADD)
    made, _ = take_in(wick, arrived, taking)
    back = made.character.clips[0]
    assert back.curves == clip.curves, "the clip's own keys stay"
    assert clip_gap(wick.character, back, layered.character.clips[0])[0] < 2e-3
    assert clip_gap(wick.character, clip, layered.character.clips[0])[0] > 2e-2
    assert [c.name for c in made.character.clips] == [*(c.name for c in wick.character.clips), "bow twice"]


def test_motion_that_came_back_as_it_went_is_nothing_to_take(wick, tmp_path):
    arrived = replace(read_arrived(sent(wick, tmp_path), wick.character), parts=())
    taking = propose(wick, arrived)
    assert set(taking.clips) == {ClipWay.LEAVE}
    with pytest.raises(EditError, match="nothing of wick differs"):
        take_in(wick, arrived, taking)


def test_only_a_few_parts_take_nothing_out(wick):
    hat = moved(wick.character.parts[2], np.eye(4))
    taking = propose(wick, Arrived("hat", (hat,)))
    assert taking.stay == {wick.character.parts[0].id, wick.character.parts[1].id}
    left, _ = take_in(wick, Arrived("hat", (hat,)), taking)
    assert len(left.character.parts) == 3


def test_without_a_screen_it_is_told_and_taken(wick, tmp_path):
    project, out = tmp_path / "wick.pegloom", tmp_path / "out.pegloom"
    save_project(project, wick)
    file = sent(wick.with_character(replace(wick.character, parts=wick.character.parts[1:])), tmp_path)
    told = CliRunner().invoke(app, ["take-in", str(project), str(file), "--json"])
    assert told.exit_code == 0, told.output
    rows = {row["name"]: row["said"] for row in json.loads(told.output)["rows"]}
    assert rows["body"] == "not in the file; goes, its weights with it" and rows["eyes"] == "the same"
    kept = CliRunner().invoke(app, ["take-in", str(project), str(file), "--keep", "body", "-o", str(out)])
    assert kept.exit_code == 0, kept.output
    assert [p.name for p in open_project(out).character.parts] == ["body", "eyes", "hat_brim"]
    wrong = CliRunner().invoke(app, ["take-in", str(project), str(file), "--keep", "boots"])
    assert wrong.exit_code == 1 and "has no part boots" in wrong.output
