"""A revised file in the window: shown before it is taken, chosen from, watched, taken in again by one press."""

from __future__ import annotations

import os

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton

from pegloom.app.dialogs.revised_sheet import RevisedSheet
from pegloom.app.state.kept import watched_of
from pegloom.app.state.state import Area
from pegloom.document import edits
from pegloom.document.edits.revised import Arrived
from pegloom.files.project import open_project
from tests.app.conftest import find
from tests.support.figures import shipped

BOX = "v -{x} 0 -{x}\nv {x} 0 -{x}\nv {x} 0 {x}\nv -{x} 0 {x}\nv -{x} {h} -{x}\nv {x} {h} -{x}\nv {x} {h} {x}\nv -{x} {h} {x}\n"
FACES = "f {0} {3} {2} {1}\nf {4} {5} {6} {7}\nf {0} {1} {5} {4}\nf {1} {2} {6} {5}\nf {2} {3} {7} {6}\nf {3} {0} {4} {7}\n"


def buoy(path, height, *, lamp=False):
    text = "o hull\n" + BOX.format(x=0.3, h=height) + FACES.format(*range(1, 9))
    if lamp:
        text += "o lamp\n" + BOX.format(x=0.1, h=height + 0.4) + FACES.format(*range(9, 17))
    path.write_text(text)


@pytest.fixture
def opened(hand, tmp_path):
    file = tmp_path / "buoy.obj"
    buoy(file, 1.0)
    hand.window.open_path(file)
    hand.idle()
    hand.until(lambda: hand.session.character is not None)
    return file


def test_a_file_that_changes_is_taken_in_again_by_one_press(hand, opened):
    assert find(hand.window, QLabel, "mesh.watched").text() == "buoy.obj is watched: as it was taken in"
    top = hand.session.character.parts[0].mesh.points[:, 1].max()
    buoy(opened, 1.5)
    hand.until(lambda: hand.c.revised.fresh)
    hand.until(lambda: "has changed since" in find(hand.window, QLabel, "mesh.watched").text())
    assert "buoy.obj has changed" in hand.window.frame_.note.text()
    hand.click("button.file.take_again")
    hand.until(lambda: hand.session.history.undo_name == "Revised by buoy.obj")
    assert hand.session.character.parts[0].mesh.points[:, 1].max() == pytest.approx(1.5 * top)
    assert not hand.window.answers.offered, "nothing is new or gone: nothing is asked"
    assert not hand.c.revised.fresh


def test_a_new_part_is_asked_about_and_cancel_leaves_all_as_it_was(hand, opened, tmp_path):
    hand.until(lambda: not hand.c.jobs.busy)
    before = hand.session.history.present
    hand.window.answers.yes = False
    spare = tmp_path / "other.part"
    buoy(spare, 1.2, lamp=True)
    os.replace(spare, opened)  # as most programs save
    hand.until(lambda: hand.c.revised.fresh)
    hand.session.run("file.take_again")
    hand.until(lambda: bool(hand.window.answers.offered))
    rows = {row.name: row.said for row in hand.window.answers.offered[-1]}
    assert rows["lamp"].startswith("new, 8 vertices") and rows["hull"].startswith("the same faces, moved by up to 200.0 mm")
    hand.until(lambda: "was not taken in" in hand.window.frame_.note.text())
    assert hand.session.history.present is before and hand.session.document is before
    hand.window.answers.yes = True
    hand.session.run("file.take_again")
    hand.until(lambda: len(hand.session.character.parts) == 2)
    hand.session.run("edit.undo")
    assert hand.session.history.present is before


def test_which_file_is_watched_is_kept_with_the_user_and_not_in_the_project(hand, opened, tmp_path):
    project = tmp_path / "buoy.pegloom"
    hand.session.save(project)
    hand.until(lambda: watched_of(project) == opened.resolve())
    assert str(tmp_path).encode() not in project.read_bytes()
    hand.session.start_with(shipped("winch"), None)
    hand.session.open(project)
    hand.until(lambda: hand.c.revised.path == opened.resolve())
    assert open_project(project).character.parts


def test_the_sheet_tells_all_and_is_chosen_from_by_hand(hand):
    wick = shipped("wick")
    body, eyes, hat = wick.character.parts
    arrived = Arrived("from the sculptor", (hat, body), clips=(wick.character.clips[0],))
    taking = edits.propose(wick, arrived)
    sheet = RevisedSheet(wick.character, arrived, taking, edits.foretold(wick, arrived, taking), hand.window)
    sheet.open()
    hand.bot.waitExposed(sheet)
    hand.bot.wait(50)
    assert sheet.taking == taking
    assert sheet.table.item(1, 2).text() == "the same"
    box = find(sheet, QComboBox, "revised.part0")
    QTest.keyClick(box, Qt.Key.Key_Home)  # a new part
    assert sheet.table.item(0, 2).text().startswith("as you chose")
    gone = find(sheet, QComboBox, f"revised.gone.{eyes.id}")
    QTest.keyClick(gone, Qt.Key.Key_Home)
    find(sheet, QPushButton, "revised.take").click()
    assert sheet.taking.onto == ("", body.id)
    assert sheet.taking.stay == {eyes.id, hat.id}, "what no row stands for any more stays"
    made, _ = edits.take_in(wick, arrived, sheet.taking)
    assert [p.name for p in made.character.parts] == ["body", "eyes", "hat_brim", "hat_brim 2"]
    assert np.array_equal(made.character.parts[3].mesh.points, hat.mesh.points)


def test_a_file_of_another_kind_is_one_line(hand, opened, tmp_path):
    (tmp_path / "x.pegloom").write_bytes(b"")
    hand.window.answers.open_path = str(tmp_path / "x.pegloom")
    hand.session.go(Area.MESH)
    hand.click("button.mesh.replace")
    hand.until(lambda: "is a project, no revised mesh" in hand.window.frame_.note.text())
