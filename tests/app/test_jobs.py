"""Long work: one at a time, told of, cancelled, its failures in words; and calls in the helper process."""

import operator
import threading
import time

import pytest

import pegloom.core.geometry.mesh as meshes
from pegloom.app.demos import DEMO
from pegloom.app.jobs import Job
from pegloom.app.jobs.helper import Helper
from pegloom.app.jobs.runner import JobRunner
from pegloom.app.state.state import Area
from pegloom.core.errors import EditError
from pegloom.core.jobs import Cancelled
from pegloom.core.skin.weights import row_sums_hold
from pegloom.files.project import open_project


@pytest.fixture
def runner(qapp):
    made = JobRunner()
    yield made
    made.shut_down()


@pytest.fixture
def helper():
    made = Helper()
    yield made
    made.stop()


def said_by(signal):
    heard = []
    signal.connect(lambda *words: heard.append(words))
    return heard


def test_a_second_job_waits_its_turn_and_says_so(runner, qtbot):
    go_on = threading.Event()
    got, told, begun = [], said_by(runner.waiting), []
    runner.start(Job("First", lambda progress: go_on.wait(60) and 41, got.append, begin=lambda: begun.append(1)))
    runner.start(Job("Second", lambda progress: 42, got.append, begin=lambda: begun.append(2)))
    assert "Second waits" in told[0][0]
    assert "First" in told[0][0]
    assert begun == [1], "what the second works on is taken when its turn comes"
    go_on.set()
    qtbot.waitUntil(lambda: got == [41, 42])
    assert begun == [1, 2]
    assert not runner.busy


def test_a_job_that_fails_or_is_cancelled_does_not_hold_up_the_next(runner, qtbot):
    def fail(progress):
        raise ValueError("x")

    got, ended = [], []
    runner.start(Job("Fails", fail, got.append, ended=lambda: ended.append("fails")))
    runner.start(Job("Is cancelled", lambda progress: [progress(0.5, "") for _ in iter(int, 1)], got.append))
    runner.start(Job("Last", lambda progress: "last", got.append))
    qtbot.waitUntil(lambda: runner.thread_ is not None and runner.thread_.job.title == "Is cancelled")
    runner.cancel()
    qtbot.waitUntil(lambda: got == ["last"])
    assert ended == ["fails"]


def test_a_result_that_cannot_be_shown_does_not_hold_up_the_next(runner, qtbot):
    def fail(result):
        raise ValueError("no place for it")

    said, got, ended = said_by(runner.failed), [], []
    runner.start(Job("Lands badly", lambda progress: 1, fail, ended=lambda: ended.append(1)))
    runner.start(Job("Next", lambda progress: 2, got.append))
    qtbot.waitUntil(lambda: got == [2])
    assert ended == [1]
    assert "no place for it" in said[0][0]


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (EditError("the mesh has no face; take a part in"), "the mesh has no face; take a part in"),
        (ValueError("x"), "Work: something unforeseen went wrong (ValueError: x); a report is in"),
    ],
)
def test_a_failure_is_told_in_words_and_nothing_is_done(runner, qtbot, error, words):
    done, told = [], said_by(runner.failed)

    def work(progress):
        raise error

    runner.start(Job("Work", work, done.append))
    qtbot.waitUntil(lambda: bool(told))
    assert told[0][0].startswith(words)
    assert not done
    assert not runner.busy


def test_what_cannot_be_put_in_is_told_as_well(runner, qtbot):
    told = said_by(runner.failed)

    def done(result):
        raise EditError("the document has moved on")

    runner.start(Job("Work", lambda progress: 1, done))
    qtbot.waitUntil(lambda: bool(told))
    assert told[0][0] == "the document has moved on"


def test_a_cancelled_job_ends_without_a_word(runner, qtbot):
    begun = threading.Event()
    done, told, ended = [], said_by(runner.failed), said_by(runner.finished)

    def work(progress):
        begun.set()
        while True:
            progress(0.5, "for ever")
            time.sleep(0.002)

    runner.start(Job("Work", work, done.append))
    assert begun.wait(20)
    runner.cancel()
    qtbot.waitUntil(lambda: bool(ended))
    assert not done
    assert not told


def test_progress_is_thinned_out_and_asking_to_go_on_is_not_shown(runner, qtbot):
    shown, got = said_by(runner.progressed), []

    def work(progress):
        for k in range(2000):
            progress(k / 2000, "on the way")
            progress(-1.0, "")
        progress(1.0, "there")
        return True

    runner.start(Job("Work", work, got.append))
    qtbot.waitUntil(lambda: bool(got))
    qtbot.waitUntil(lambda: bool(shown) and shown[-1][0] == 1.0)
    assert all(fraction >= 0 for fraction, _ in shown)
    assert len(shown) < 400


def test_a_call_runs_in_the_helper_and_its_error_comes_back(helper):
    import os

    assert helper.offload(operator.add, 20, 22) == 42
    assert helper.offload(os.getpid) != os.getpid()
    with pytest.raises(ZeroDivisionError):
        helper.offload(operator.truediv, 1, 0)


def test_waiting_for_the_helper_can_be_cancelled_and_the_next_call_works(helper):
    asked = []

    def waiting():
        asked.append(1)
        raise Cancelled

    with pytest.raises(Cancelled):
        helper.offload(time.sleep, 1.0, waiting=waiting)
    assert asked == [1], "it did not wait for the call to end"
    assert helper.offload(operator.mul, 6, 7) == 42


def test_without_a_process_the_call_is_made_here(helper, monkeypatch):
    def broken():
        raise OSError("no more processes")

    monkeypatch.setattr(helper, "start", broken)
    assert helper.offload(operator.add, 1, 2) == 3


def test_what_a_job_brings_after_the_window_closed_is_dropped(runner, qtbot):
    began, done, ended = threading.Event(), [], said_by(runner.finished)

    def work(progress):
        began.set()
        time.sleep(0.2)
        return 1

    runner.start(Job("Late", work, done.append))
    assert began.wait(20)
    runner.shut_down()
    assert not runner.busy
    qtbot.wait(80)
    assert not done and not ended


def test_joint_edits_on_many_weights_are_jobs_that_land_as_one_step(hand):
    session = hand.session
    session.start_with(open_project(DEMO / "oilskin.pegloom"), None)
    session.set_area(Area.JOINTS)
    session.select("joint", "arm.l.lower")
    started: list[str] = []
    session.jobs.started.connect(started.append)
    before = session.history.present
    for name, changes in (
        ("joints.insert", lambda c: len(c.skeleton.joints) > len(before.character.skeleton.joints)),
        ("joints.delete", lambda c: "arm.l.lower" not in c.skeleton.index),
        ("joints.split", lambda c: len(c.skeleton.joints) > len(before.character.skeleton.joints)),
    ):
        started.clear()
        session.select("joint", "arm.l.lower")
        hand.session.run(name)
        hand.idle()
        assert started, f"{name} holds up the window"
        assert changes(session.character), name
        rows = [w for w in (session.character.skin, *(v.skin for v in session.character.weaves)) if w is not None]
        assert all(row_sums_hold(weights) for skin in rows for weights in skin.weights.values())
        session.undo()
        assert session.history.present is before


def test_what_the_view_asks_of_new_meshes_is_known_when_a_job_lands(hand, monkeypatch):
    """Meshes put in by a job were worked out on the UI thread at the next frame."""
    session = hand.session
    session.start_with(open_project(DEMO / "oilskin.pegloom"), None)
    session.set_area(Area.MESH)
    hand.until(lambda: session.c.state.snags_known)
    here = threading.get_ident()
    asked: list[str] = []
    plain = meshes.weld_points

    def told(points):
        if threading.get_ident() == here:
            asked.append("weld")
        return plain(points)

    monkeypatch.setattr(meshes, "weld_points", told)
    hand.session.run("mesh.even_out")
    hand.idle()
    hand.bot.wait(60)
    assert session.history.undo_name == "Make symmetric"
    assert not asked
