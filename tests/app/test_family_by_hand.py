"""A master worn in the window: its changes looked at, taken, left, taken over hand changes; each one step."""

from __future__ import annotations

import pytest
from PyQt6.QtWidgets import QLabel

from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.state.state import Area
from pegloom.core.rig.changes import ChannelChange
from pegloom.document import edits
from pegloom.files.project import save_project
from tests.app.conftest import find
from tests.support.figures import rigged_capsules

CONTROL = "arm.l.upper.fk"


@pytest.fixture
def family(hand, tmp_path):
    master = rigged_capsules()
    file = tmp_path / "master.pegloom"
    save_project(file, master)
    posed = edits.set_channels(master, CONTROL, rotate_z=0.8)
    member = edits.keep_pose(posed, "waves")[0]
    hand.session.start_with(member, None)
    hand.session.go(Area.CONTROLS)
    hand.c.store.put_setting(WorkSettings, work=Work.BUILD)
    hand.window.answers.open_path = str(file)
    hand.session.run("rig.wear_master")
    hand.until(lambda: hand.session.character.worn is not None)
    return file, master


def test_changes_are_shown_with_what_moves_and_taken_as_one_step(hand, family):
    file, master = family
    assert find(hand.window, QLabel, "controls.family.who").text() == "Wears the rig of figure"
    save_project(file, edits.change_channel(master, CONTROL, "rotate_z", ChannelChange(limits=(-0.5, 0.5))))
    before = hand.session.history.present
    answers = hand.window.answers
    answers.take_number = -1
    answers.offered.clear()
    hand.session.run("rig.follow_master")
    hand.until(lambda: bool(answers.offered))
    rows, ways = answers.offered[-1]
    assert any(text.startswith("pose waves\ngoes by up to") for text, _ in rows) and ways == ["Take it"]
    assert all(picture.startswith(b"\x89PNG") for _, picture in rows)
    hand.until(lambda: "stays as it was" in hand.window.frame_.note.text())
    assert hand.session.history.present is before and hand.session.document is before
    answers.take_number = 0
    hand.session.run("rig.follow_master")
    hand.until(lambda: hand.session.character.rig.control(CONTROL).channel("rotate_z").high == 0.5)
    assert hand.session.history.undo_name == "Wear figure"
    hand.session.run("edit.undo")
    assert hand.session.history.present is before


def test_hand_changes_are_only_passed_over_when_asked(hand, family):
    file, master = family
    own = edits.shape_controls(hand.session.history.present, (CONTROL,), colour="#112233")
    hand.session.commit("Mine", own)
    save_project(file, edits.shape_controls(master, (CONTROL,), colour="#33aa66"))
    answers = hand.window.answers
    answers.take_number, answers.take_way = 0, 0
    hand.session.run("rig.follow_master")
    hand.until(lambda: hand.session.character.rig.control(CONTROL).colour == "#33aa66")
    assert answers.offered[-1][1] == ["Take it over my changes"]


def test_a_stranger_is_refused_in_one_line(hand, tmp_path):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.CONTROLS)
    (tmp_path / "x.body.json").write_text("{}")
    hand.window.answers.open_path = str(tmp_path / "x.body.json")
    hand.session.run("rig.wear_master")
    hand.until(lambda: "holds no body" in hand.window.frame_.note.text())
