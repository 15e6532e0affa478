from pegloom.app.window import Window
from pegloom.document import edits
from tests.support.figures import wick


def test_unsaved_work_is_offered_after_a_crash_and_gone_after_saving(hand, tmp_path):
    window, session = hand.window, hand.session
    session.start_with(wick(), None)
    window.autosave.save()
    window.autosave.wait()
    assert not window.autosave.file.exists(), "nothing was changed yet"
    session.commit("Pose", edits.set_channels(wick(), "body", move_y=-0.2))
    window.autosave.save()
    window.autosave.wait()
    assert window.autosave.file.is_file()

    # The first window is as good as crashed: a second one starts and finds what it left.
    second = Window(window.answers, autosave_folder=tmp_path / "autosave")
    assert second.offer_recovery()
    assert second.session.character.pose.controls["body"][1] == -0.2
    assert second.session.unsaved
    window.answers.save_path = str(tmp_path / "kept.pegloom")
    second.actions_.run("file.save")
    assert (tmp_path / "kept.pegloom").is_file()
    assert not window.autosave.file.exists()
    assert second.close()
    second.deleteLater()


def test_newer_work_beside_a_project_is_offered(hand, tmp_path):
    window, session = hand.window, hand.session
    path = tmp_path / "w.pegloom"
    session.start_with(wick(), None)
    assert session.save(path)
    session.commit("Pose", edits.set_channels(wick(), "body", move_y=-0.1))
    window.autosave.save()
    window.autosave.wait()
    session.start_with(wick(), None)
    window.open_path(path)
    assert session.character.pose.controls["body"][1] == -0.1
    assert session.path == path
