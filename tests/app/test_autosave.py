"""Unsaved work: each document's own, kept until its window is gone, found again, never lost to another window."""

import threading
import time
from pathlib import Path

import pytest

from pegloom.app.window import Window
from pegloom.document import edits
from pegloom.files import leftovers
from pegloom.files.leftovers import Keeper, left_over, of_project
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick


def pose(height):
    return edits.set_channels(wick(), "body", move_y=height)


def move(document):
    return document.character.pose.values["body", "move_y"]


def kept(window):
    window.autosave.save()
    window.autosave.wait()
    return window.autosave.file


def crash(window):
    """As if the program were gone: the system lets its lock go."""
    window.autosave.timer.stop()
    window.autosave.keeper.lock.release()


@pytest.fixture
def second(hand, tmp_path):
    made = Window(hand.window.answers, autosave_folder=tmp_path / "autosave")
    yield made
    made.session.saved = made.session.history.present
    assert made.close()
    made.deleteLater()


def test_unsaved_work_is_offered_after_a_crash_and_gone_after_saving(hand, second, tmp_path):
    window, session = hand.window, hand.session
    session.start_with(wick(), None)
    assert kept(window) is None, "nothing was changed yet"
    session.commit("Pose", pose(-0.2))
    file = kept(window)
    assert file.is_file()
    assert not second.session.recover(), "the first window lives"
    crash(window)
    assert second.session.recover()
    (offered,) = window.answers.offered[-1]
    assert offered.name == session.document.name
    assert offered.picture[:4] == b"\x89PNG"
    assert move(second.session.document) == -0.2
    assert second.session.unsaved
    window.answers.save_path = str(tmp_path / "kept.pegloom")
    second.actions_.run("file.save")
    second.session.wait()
    assert move(open_project(tmp_path / "kept.pegloom")) == -0.2
    assert not file.exists()
    assert not second.session.recover()


def test_two_windows_of_documents_never_saved_keep_one_each(hand, second):
    window = hand.window
    for one, height in ((window, -0.1), (second, -0.3)):
        one.session.start_with(wick(), None)
        one.session.commit("Pose", pose(height))
    a, b = kept(window), kept(second)
    assert a != b
    assert (move(open_project(a)), move(open_project(b))) == (-0.1, -0.3)
    second.session.saved = second.session.history.present
    second.autosave.clear()
    assert a.is_file(), "the other window's work stays"
    assert not b.exists()


def test_no_keeps_it_and_it_can_be_asked_for(hand, second, tmp_path):
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", pose(-0.2))
    file = kept(hand.window)
    crash(hand.window)
    hand.window.answers.yes = False
    assert not second.session.recover()
    asked = len(hand.window.answers.offered)
    assert not second.session.recover(), "not at every start"
    assert len(hand.window.answers.offered) == asked
    assert file.is_file()
    hand.window.answers.yes = True
    second.actions_.run("file.recover")
    second.session.wait()
    assert move(second.session.document) == -0.2


def test_what_nobody_wanted_goes_after_thirty_days(tmp_path, monkeypatch):
    keeper = Keeper(tmp_path / "unsaved")
    file = keeper.keep(wick(), None)
    keeper.let_go()
    assert [one.file for one in left_over(tmp_path / "unsaved")] == [file]
    now = time.time()
    monkeypatch.setattr(leftovers.time, "time", lambda: now + 29 * 86_400)
    assert left_over(tmp_path / "unsaved")
    monkeypatch.setattr(leftovers.time, "time", lambda: now + 31 * 86_400)
    assert not left_over(tmp_path / "unsaved")
    assert not file.exists()


def test_a_recovery_that_is_cancelled_leaves_the_work_to_be_offered_again(hand, second, monkeypatch):
    from pegloom.app.actions.common import file

    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", pose(-0.2))
    kept(hand.window)
    crash(hand.window)
    go_on, real = threading.Event(), file.open_project
    monkeypatch.setattr(file, "open_project", lambda path: real(path) if go_on.wait(60) else None)
    assert file.offer_recovery(second.c)
    second.c.jobs.cancel()
    go_on.set()
    second.session.wait()
    assert second.c.state.character is None
    assert second.session.recover(), "nobody owns it"
    assert move(second.session.document) == -0.2


def test_newer_work_beside_a_project_is_offered(hand, second, tmp_path):
    window, session = hand.window, hand.session
    path = tmp_path / "w.pegloom"
    session.start_with(wick(), None)
    assert session.save(path)
    session.commit("Pose", pose(-0.1))
    assert kept(window).parent == tmp_path
    crash(window)
    second.session.open(path)
    assert move(second.session.document) == -0.1
    assert second.session.path == path
    assert second.session.unsaved


def test_a_damaged_autosave_opens_the_last_save_and_says_so(hand, second, tmp_path):
    window, session = hand.window, hand.session
    path = tmp_path / "w.pegloom"
    session.start_with(pose(-0.4), None)
    assert session.save(path)
    session.commit("Pose", pose(-0.1))
    file = kept(window)
    file.write_bytes(file.read_bytes()[:5000])
    crash(window)
    said = []
    second.session.said.connect(lambda text, error, _: said.append((text, error)))
    assert second.session.recover()
    assert move(second.session.document) == -0.4
    assert said[-1][1]
    assert "damaged; the last save was opened instead" in said[-1][0]
    assert file.exists(), "what is damaged may still be worth a look"


def test_where_the_projects_folder_cannot_be_written_the_users_own_takes_it(hand, tmp_path, monkeypatch):
    window, session = hand.window, hand.session
    path = tmp_path / "w.pegloom"
    session.start_with(wick(), None)
    assert session.save(path)
    real = leftovers.save_project

    def refusing(place, document, **options):
        if place.parent == tmp_path:
            raise leftovers.MeshFileError(place.name, "cannot be written (Read-only file system)")
        real(place, document, **options)

    monkeypatch.setattr(leftovers, "save_project", refusing)
    session.commit("Pose", pose(-0.1))
    assert kept(window).parent == tmp_path / "autosave"
    crash(window)
    assert of_project(path, tmp_path / "autosave").file == window.autosave.file


def test_what_could_not_be_kept_is_said_and_tried_again(hand, monkeypatch):
    window, session = hand.window, hand.session
    said = []
    session.said.connect(lambda text, error, _: said.append((text, error)))
    session.start_with(wick(), None)
    session.commit("Pose", pose(-0.1))
    real = leftovers.save_project

    def full(place, document, **options):
        raise leftovers.MeshFileError(place.name, "cannot be written (No space left on device)")

    monkeypatch.setattr(leftovers, "save_project", full)
    kept(window)
    hand.until(lambda: any("No space left" in text and error for text, error in said))
    assert window.autosave.file is None
    assert window.autosave.last is None, "it does not count as kept"
    assert window.autosave.timer.interval() < 60_000
    monkeypatch.setattr(leftovers, "save_project", real)
    assert kept(window).is_file()
    hand.until(lambda: window.autosave.timer.interval() == 60_000)


def test_saving_where_nothing_can_be_written_is_one_line_and_loses_nothing(hand, tmp_path):
    said = []
    hand.session.said.connect(lambda text, error, _: said.append((text, error)))
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", pose(-0.1))
    folder = tmp_path / "a folder.pegloom"
    folder.mkdir()
    for place, words in ((folder, "this is a folder"), (Path("/dev/full"), "No space left"),
                         (tmp_path / "none" / "w.pegloom", "its folder is not there")):  # fmt: skip
        assert not hand.session.save(place)
        text, error = said[-1]
        assert error
        assert words in text
        assert place.name in text
        assert "\n" not in text
    assert hand.session.unsaved


def test_opening_another_document_gives_up_only_the_old_ones_autosave(hand, second, tmp_path):
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", pose(-0.1))
    old = kept(hand.window)
    save_project(tmp_path / "other.pegloom", wick())
    hand.session.open(tmp_path / "other.pegloom")
    assert not old.exists()
    hand.session.commit("Pose", pose(-0.2))
    new = kept(hand.window)
    assert new != old
    assert new.is_file()


def test_a_note_that_points_elsewhere_is_not_followed(tmp_path):
    folder = tmp_path / "unsaved"
    keeper = Keeper(folder)
    keeper.keep(wick(), None)
    keeper.let_go()
    precious = tmp_path / "precious.pegloom"
    save_project(precious, wick())
    note = folder / f"{keeper.id}.json"
    note.write_text(note.read_text().replace(str(folder / f"{keeper.id}.autosave.pegloom"), str(precious)))
    assert not left_over(folder)
    Keeper(folder, keeper.id).clear()
    assert precious.is_file()
