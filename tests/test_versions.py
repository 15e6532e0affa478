"""Versions kept beside a project: numbered, compared by what truly changed, put back to the byte, spoilt ones told."""

from __future__ import annotations

import json

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import MeshFileError
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.told.differences import differences
from pegloom.files.gathered import gather
from pegloom.files.names import picture_name
from pegloom.files.project import open_project, save_project
from pegloom.files.snapshots import keep_snapshot, snapshots
from pegloom.files.versions import folder_of, keep_version, version, versions
from tests.support.figures import rigged_capsules, shipped


@pytest.fixture(scope="module")
def document():
    return rigged_capsules()


def run(*words: object, exits: int = 0) -> dict:
    result = CliRunner().invoke(app, ["versions", *map(str, words), "--json"])
    assert result.exit_code == exits, result.output
    return json.loads(result.output)


def test_they_are_kept_listed_and_put_back(document, tmp_path):
    project = tmp_path / "reed keeper.pegloom"
    save_project(project, document)
    first = project.read_bytes()
    assert run(project, "--keep", "before the coat")["number"] == 1
    changed, _ = edits.add_clip(document, "nod", length=1.0)
    save_project(project, changed)
    assert run(project, "--keep", "nods")["number"] == 2
    listed = run(project)["versions"]
    assert [(v["number"], v["note"], v["whole"]) for v in listed] == [(1, "before the coat", True), (2, "nods", True)]
    assert run(project, "--compare", 1)["differences"] == ["clips new: nod"]
    assert run(project, "--compare", 2, "--to", 1)["differences"] == ["clips gone: nod"]
    assert run(project, "--compare", 2)["differences"] == []
    out = tmp_path / "as it was.pegloom"
    run(project, "--back", 1, "-o", out)
    assert out.read_bytes() == first


def test_numbers_are_never_used_twice_and_spoilt_ones_are_told(document, tmp_path):
    project = tmp_path / "moth.pegloom"
    save_project(project, document)
    keep_version(project, "one")
    two = keep_version(project, "two")
    two.path.unlink()
    two.path.with_suffix(".json").unlink()
    assert keep_version(project).number == 3
    one = version(project, 1)
    with one.path.open("ab") as file:
        file.write(b"more")
    (folder_of(project) / "0003.json").write_text("no json")
    (folder_of(project) / "notes.txt").write_text("of somebody else")
    assert [(v.number, v.note, v.whole) for v in versions(project)] == [(1, "one", False), (3, "", False)]
    with pytest.raises(MeshFileError, match="no version 9"):
        version(project, 9)


def test_what_is_no_project_is_not_kept(tmp_path):
    project = tmp_path / "broken.pegloom"
    project.write_bytes(b"PK not at all")
    with pytest.raises(MeshFileError):
        keep_version(project)
    assert not folder_of(project).exists()


def test_how_far_meshes_weights_and_poses_went_is_told(document):
    character = document.character
    posed = edits.keep_pose(edits.set_pose(document, Pose({("arm.l.upper.fk", "rotate_z"): 0.5})), "lifted")[0]
    other = edits.keep_pose(edits.set_pose(document, Pose({("arm.l.upper.fk", "rotate_z"): 0.6})), "lifted")[0]
    lines = differences(posed, other)
    assert lines[0] == "posed otherwise: l_upper_arm_fk, rotate z"
    assert len(lines) == 2 and lines[1].startswith("pose lifted: ")
    told = float(lines[1].split()[2])
    reach = np.linalg.norm(np.ptp(character.parts[0].mesh.points, axis=0))
    assert 0 < told < 1000 * 0.1 * reach, "no spot turns by more than a tenth of a radian about a shoulder"
    assert told > 20, "a hand goes by a few centimetres"
    assert differences(posed, posed) == []


def test_what_changed_of_controls_and_what_moves_them_is_told(document):
    limited = edits.change_channel(document, "arm.l.upper.fk", "rotate_z", ChannelChange(limits=(-0.5, 0.5)))
    renamed = edits.shape_controls(limited, ("arm.l.upper.fk",), colour="#336699")
    lines = differences(document, renamed)
    assert lines == ["control l_upper_arm_fk: colour changed", "channel l_upper_arm_fk, rotate z: low, high changed"]
    assert differences(renamed, renamed) == []


def test_a_picture_lies_beside_its_version(document, tmp_path):
    project = tmp_path / "a.pegloom"
    save_project(project, document)
    keep_version(project, "with a picture", b"\x89PNG of it")
    assert versions(project)[0].picture == b"\x89PNG of it"


def test_snapshots_are_kept_told_by_project_and_let_go_by_age(document, tmp_path, monkeypatch):
    monkeypatch.setattr("pegloom.files.snapshots.MOST", 3)
    project = tmp_path / "a.pegloom"
    for k in range(5):
        keep_snapshot(document, f"step {k}", project=project if k % 2 else None, folder=tmp_path / "s")
    found = snapshots(folder=tmp_path / "s")
    assert [s.before for s in found] == ["step 4", "step 3", "step 2"]
    assert all(s.whole for s in found)
    assert [s.before for s in snapshots(project, folder=tmp_path / "s")] == ["step 3"]
    found[0].path.write_bytes(b"cut short")
    found[1].path.with_suffix(".json").write_text("[]")
    assert [(s.before, s.whole) for s in snapshots(folder=tmp_path / "s")] == [("step 4", False), ("", False), ("step 2", True)]
    assert open_project(found[2].path).name == document.name


def test_a_copy_has_its_pictures_as_files_and_spares_those_of_others(tmp_path):
    document = shipped("wick")
    images = document.character.images
    folder = tmp_path / "copy.pictures"
    folder.mkdir()
    first = picture_name(images[0].name, images[0].kind)
    (folder / first).write_bytes(b"of somebody else")
    files, notes = gather(tmp_path / "copy", document)
    assert files[0] == tmp_path / "copy.pegloom" and open_project(files[0]).character.images[0].data == images[0].data
    assert {p.read_bytes() for p in files[1:]} == {i.data for i in images}
    assert (folder / first).read_bytes() == b"of somebody else" and first in notes[0]
