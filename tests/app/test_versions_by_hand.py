"""Versions and snapshots in Handover's card Save: kept, compared, taken back as a step; recent files with pictures; copies."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog, QFileDialog, QLabel, QListWidget

from pegloom.app.areas.handover.versions import earlier
from pegloom.app.dialogs.ask import AskByDialog
from pegloom.app.dialogs.pictured import PicturedSheet
from pegloom.app.state.kept import folder_of, picture_of, recent
from pegloom.app.state.state import Area
from pegloom.document import edits
from pegloom.files.project import open_project, save_project
from pegloom.files.snapshots import snapshots
from pegloom.files.versions import versions
from tests.app.conftest import find
from tests.support.figures import shipped


def report(hand) -> str:
    return find(hand.window, QLabel, "handover.versions").text()


def opened(hand, tmp_path):
    project = tmp_path / "winch.pegloom"
    save_project(project, shipped("winch"))
    hand.session.open(project)
    hand.until(lambda: hand.session.path == project)
    hand.session.go(Area.HANDOVER)
    return project


def test_a_version_is_kept_compared_and_taken_back(hand, tmp_path):
    project, answers = opened(hand, tmp_path), hand.window.answers
    answers.given_name = "before the wind"
    hand.session.run("handover.keep_version")
    hand.until(lambda: len(versions(project)) == 1)
    hand.until(lambda: "before the wind" in report(hand))
    assert versions(project)[0].picture.startswith(b"\x89PNG")
    changed, _ = edits.add_clip(hand.session.history.present, "gale", length=1.0)
    hand.session.commit("A clip", changed)
    answers.take_way = 2
    hand.session.run("handover.versions")
    hand.until(lambda: "clips new: gale" in report(hand))
    rows, ways = answers.offered[-1]
    assert rows[0][0].startswith("Version 1: before the wind\nkept today") and len(ways) == 3
    answers.take_way = 0
    hand.session.run("handover.take_version")
    hand.until(lambda: "gale" not in [c.name for c in hand.session.character.clips])
    assert hand.session.path == project
    hand.session.run("edit.undo")
    assert "gale" in [c.name for c in hand.session.character.clips]


def test_a_snapshot_is_kept_before_long_work_and_before_another_file(hand, tmp_path):
    project, folder = opened(hand, tmp_path), hand.c.snapshots.folder
    before = hand.session.history.present
    hand.c.job("Reel it in", lambda document, progress: edits.add_clip(document, "reel", length=1.0)[0])
    hand.until(lambda: "reel" in [c.name for c in hand.session.character.clips])
    (one,) = snapshots(project, folder)
    assert one.before == "Reel it in" and one.whole and one.picture.startswith(b"\x89PNG")
    assert len(open_project(one.path).character.clips) == len(before.character.clips)
    other = tmp_path / "moth.pegloom"
    save_project(other, shipped("harl"))
    hand.window.answers.yes = True
    hand.session.open(other)
    hand.until(lambda: hand.session.path == other)
    kept = snapshots(project, folder)
    assert kept[0].before == "opening moth.pegloom"
    assert "reel" in [c.name for c in open_project(kept[0].path).character.clips], "what was left unsaved is not lost"
    assert [row.note for row in earlier(project, "winch", folder)] == ["before opening moth.pegloom", "before Reel it in"]


def test_without_a_place_for_snapshots_the_work_goes_on_and_it_is_said_once(hand, tmp_path):
    (tmp_path / "in the way").write_text("a file")
    hand.session.start_with(shipped("winch"), None)
    hand.c.snapshots.folder = tmp_path / "in the way" / "snapshots"
    said = []
    hand.c.snapshots.failed.connect(said.append)
    for name in ("one", "two"):
        hand.c.job(name, lambda document, progress, n=name: edits.add_clip(document, n, length=1.0)[0])
        hand.until(lambda n=name: n in [c.name for c in hand.session.character.clips])
    hand.until(lambda: bool(said))
    assert len(said) == 1 and "No snapshot could be kept before one" in said[0]


def test_recent_files_have_pictures_and_a_folder(hand, tmp_path):
    project = opened(hand, tmp_path)
    hand.session.run("file.save")
    hand.until(lambda: picture_of(project).startswith(b"\x89PNG"))
    assert recent()[0] == project.resolve()
    hand.session.run("file.show_folder")
    assert hand.window.answers.shown_folder == project.parent
    answers = hand.window.answers
    answers.save_path = str(tmp_path / "along" / "winch copy.pegloom")
    (tmp_path / "along").mkdir()
    hand.session.run("file.gather")
    hand.until(lambda: (tmp_path / "along" / "winch copy.pegloom").is_file())
    assert hand.session.path == project


def test_the_first_sight_lists_recent_files_and_a_click_opens_one(hand, tmp_path):
    project = opened(hand, tmp_path)
    hand.session.start_with(type(hand.session.document)(), None)
    rows = find(hand.window, QListWidget, "welcome.recent")
    hand.until(rows.isVisible)
    row = rows.visualItemRect(rows.item(0))
    QTest.mouseClick(rows.viewport(), Qt.MouseButton.LeftButton, pos=row.center())
    hand.until(lambda: hand.session.path == project)


def test_the_sheet_is_picked_from_by_keys(hand, qtbot):
    sheet = PicturedSheet("pictured", "Versions", "", [("one", b""), ("two", b"")], ["Take it back", "Compare"], "Cancel", hand.window)
    sheet.show()
    QTest.keyClick(sheet.list, Qt.Key.Key_Down)
    find(sheet, type(sheet.findChild(object, "pictured.way1")), "pictured.way1").click()
    assert (sheet.chosen, sheet.way, sheet.result()) == (1, 1, QDialog.DialogCode.Accepted)


def test_a_project_without_a_place_is_saved_first(hand):
    hand.session.start_with(shipped("winch"), None)
    hand.session.go(Area.HANDOVER)
    hand.session.run("handover.keep_version")
    hand.until(lambda: "Save the project first" in hand.window.frame_.note.text())
    hand.session.run("handover.versions")
    hand.until(lambda: "Keep a version makes the first" in hand.window.frame_.note.text())


def test_file_dialogs_begin_where_the_last_file_of_their_kind_was(hand, tmp_path, monkeypatch):
    began = []
    (tmp_path / "art").mkdir()

    def open_one(parent, title, folder, kinds):
        began.append(folder)
        return str(tmp_path / "art" / "coat.png"), kinds

    def save_one(parent, title, start, kinds):
        began.append(start)
        return str(tmp_path / "out.glb"), kinds

    monkeypatch.setattr(QFileDialog, "getOpenFileName", open_one)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", save_one)
    ask = AskByDialog()
    for _ in range(2):
        ask.open_picture()
        ask.open_file()
        ask.save_file("Export GLB", "wick.glb", "*.glb")
    art = str((tmp_path / "art").resolve())
    assert began == ["", "", "wick.glb", art, art, str(tmp_path.resolve() / "wick.glb")]
    (tmp_path / "art").rmdir()
    assert folder_of("pictures") == "", "a folder that is gone is no beginning"
