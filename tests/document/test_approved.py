"""Poses and clips held against what was approved of: a change is found, named and measured; nothing else is one."""

from __future__ import annotations

import json

import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.told.approved import approved, changes
from pegloom.files.project import save_project
from tests.support.figures import rigged_capsules


@pytest.fixture(scope="module")
def document():
    made = edits.build_controls(rigged_capsules())
    made, clip = edits.add_clip(made, "reach", length=1.0)
    for time, turn in ((0.0, 0.0), (1.0, 0.8)):
        made = edits.set_pose(made, Pose({("arm.l.upper.fk", "rotate_z"): turn}))
        made = edits.key_controls(made, clip, time, ("arm.l.upper.fk",))
    return edits.set_pose(made, Pose())


def test_what_did_not_change_is_as_it_was(document):
    kept = json.loads(json.dumps(approved(document.character)))
    found = changes(document.character, kept)
    assert [c.name for c in found] == ["rest", "clip reach"]
    assert all(c.metres < 2e-6 and not c.why for c in found)


def test_a_changed_key_is_found_with_its_clip_and_how_far(document):
    kept = approved(document.character)
    clip = document.character.clips[0].id
    other = edits.set_pose(document, Pose({("arm.l.upper.fk", "rotate_z"): 0.2}))
    other = edits.set_pose(edits.key_controls(other, clip, 1.0, ("arm.l.upper.fk",)), Pose())
    found = {c.name: c for c in changes(other.character, kept)}
    assert found["rest"].metres < 2e-6
    # A hand half a metre out swings by 0.6 radians at the last frame.
    assert 0.15 < found["clip reach"].metres < 0.8 and "frame 30" in found["clip reach"].where
    gone = edits.drop_clip(document, clip) if hasattr(edits, "drop_clip") else None
    if gone is not None:
        assert {c.name: c.why for c in changes(gone.character, kept)}["clip reach"] == "it is gone"


def test_the_command_ends_with_1_where_something_changed(document, tmp_path):
    def run(*arguments):
        return CliRunner().invoke(app, [str(a) for a in arguments])

    save_project(tmp_path / "a.pegloom", document)
    assert run("approve", tmp_path / "a.pegloom", "-o", tmp_path / "a.json").exit_code == 0
    good = run("check", tmp_path / "a.pegloom", "--against", tmp_path / "a.json", "--json")
    assert good.exit_code == 0 and json.loads(good.output)["as_approved"]
    moved = edits.set_pose(document, Pose({("arm.l.upper.fk", "rotate_z"): 0.1}))
    moved = edits.set_pose(edits.key_controls(moved, document.character.clips[0].id, 1.0, ("arm.l.upper.fk",)), Pose())
    save_project(tmp_path / "b.pegloom", moved)
    bad = run("check", tmp_path / "b.pegloom", "--against", tmp_path / "a.json")
    assert bad.exit_code == 1 and "CHANGED" in bad.output and "reach" in bad.output
    assert run("check", tmp_path / "b.pegloom", "--against", tmp_path / "a.json", "--tolerance", 2000).exit_code == 0
    (tmp_path / "c.json").write_text('{"format": "peg loom approved", "version": 1, "shows": 3}')
    assert run("check", tmp_path / "b.pegloom", "--against", tmp_path / "c.json").exit_code == 1
