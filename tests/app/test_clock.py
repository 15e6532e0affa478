"""Time and pose apart: playing changes no document, and what is posed over a clip is a draft until one decides."""

import threading

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QWidget

from pegloom.app.demos import DEMO
from pegloom.app.jobs import Job
from pegloom.app.state.state import Area, Tool
from pegloom.app.watch import snags as watched
from pegloom.checks import search_snags
from pegloom.document import edits
from pegloom.files.project import open_project
from pegloom.scene.brushes import BrushMode
from pegloom.scene.lenses import Lens
from tests.app.conftest import find
from tests.support.figures import wick


@pytest.fixture
def playing(hand):
    """The demo's clip looked at, 0.8 s in."""
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.stage.show_all()
    hand.session.play_source(hand.session.character.clips[0].id, 0.8)
    hand.bot.wait(50)
    return hand


def head(hand):
    skeleton = hand.session.character.skeleton
    return hand.session.frame().joints[skeleton.index["spine.head"]][:3, 3]


def test_an_edit_that_is_no_pose_moves_no_joint_in_the_middle_of_a_clip(playing):
    session = playing.session
    before = head(playing).copy()
    session.select("control", "spine.head")
    session.try_edit("Size", lambda d: edits.shape_controls(d, ("spine.head",), size=1.7))
    assert session.time == pytest.approx(0.8)
    assert np.abs(head(playing) - before).max() < 1e-9
    session.undo()
    assert np.abs(head(playing) - before).max() < 1e-9


def test_playing_changes_no_document_and_nobody_but_who_shows_the_time_is_called(playing):
    session = playing.session
    documents, times = [], []
    session.c.store.changed.connect(
        lambda old, new: (documents.append(new) if new.document is not old.document else None, times.append(new.clock.time))
    )
    session.toggle_play()
    playing.until(lambda: len(set(times)) >= 60)
    session.toggle_play()
    assert documents == []
    assert session.document is session.history.present
    assert not session.unsaved


def test_what_is_posed_over_a_clip_is_a_draft_that_stays_while_it_plays(playing):
    session = playing.session
    start = session.history.present
    playing.drag(playing.at("control", "arm.r.upper.fk"), (0, -40))
    assert session.history.present is start, "the document is the same"
    assert session.history.undo_name.endswith("not keyed yet")
    moved = {control for control, _ in session.c.state.draft_pose.values}
    assert moved == {"arm.r.upper.fk"}
    value = session.c.frames.control_pose.values["arm.r.upper.fk", "rotate_z"]
    for at in (0.0, 1.3, 2.9, 3.9):
        session.go_to(at)
        assert session.c.frames.control_pose.values["arm.r.upper.fk", "rotate_z"] == pytest.approx(value), "held at every frame"
    session.toggle_play()
    playing.until(lambda: session.time > 0.2)
    session.toggle_play()
    assert session.c.state.draft_pose is not None
    other = session.try_edit("Size", lambda d: edits.shape_controls(d, ("body",), size=1.2))
    assert other
    assert session.c.state.draft_pose is not None, "an edit that is no pose leaves it alone"
    session.undo()
    session.undo()
    assert session.c.state.draft_pose is None, "a drag over the clip is one step"
    session.redo()
    assert session.c.frames.control_pose.values["arm.r.upper.fk", "rotate_z"] == pytest.approx(value)


def test_a_goal_dragged_while_the_clip_plays_holds_over_all_frames(playing):
    session = playing.session
    session.go_to(0.0)
    playing.bot.wait(50)
    start = playing.at("control", "leg.r.goal")
    session.toggle_play()
    playing.drag(start, (25, -10), steps=12)
    assert session.playing, "dragging does not stop it"
    session.toggle_play()
    draft = session.c.state.draft_pose
    assert {control for control, _ in draft.values} == {"leg.r.goal"}, "nothing of the rest is held, though time went on"
    held = []
    for at in (0.1, 1.1, 2.1, 3.1):
        session.go_to(at)
        held.append(session.c.frames.control_pose.values["leg.r.goal", "move_x"])
    assert max(held) - min(held) < 1e-12


def test_the_bar_says_what_may_become_of_it_and_does_it(playing):
    session = playing.session
    bar = lambda: find(playing.window, QWidget, "posed")  # noqa: E731
    assert bar() is None or not bar().isVisible()
    playing.drag(playing.at("control", "arm.r.upper.fk"), (0, -40))
    playing.bot.wait(50)
    assert bar().isVisible()
    assert "1 control is posed over greeting, not keyed" in find(playing.window, QWidget, "posed.words").text()
    value = session.c.frames.control_pose.values["arm.r.upper.fk", "rotate_z"]
    playing.click("button.keys.let_go")
    assert session.c.state.draft_pose is None
    assert not bar().isVisible()
    session.undo()
    assert session.c.state.draft_pose is not None, "letting go is a step"
    keys = session.clip.curves["arm.r.upper.fk", "rotate_z"]
    playing.bot.wait(50)
    playing.click("button.keys.write_posed")
    assert session.c.state.draft_pose is None
    now = session.clip.curves["arm.r.upper.fk", "rotate_z"]
    assert now.at(0.8) == pytest.approx(value)
    assert now.at(3.9) == pytest.approx(keys.at(3.9), abs=1e-6), "only this frame was keyed"
    session.undo()
    playing.bot.wait(50)
    before = session.clip.curves
    playing.click("button.keys.layer_posed")
    assert session.c.state.draft_pose is None
    shown = []
    for at in (0.0, 1.9, 3.9):
        session.go_to(at)
        shown.append(session.c.frames.control_pose.values["arm.r.upper.fk", "rotate_z"])
    assert shown == pytest.approx([value] * 3), "it lies over every frame"
    assert session.clip.curves is before, "the keys under it stay"
    (layer,) = session.clip.layers
    playing.card("motion.layers").set_open(True)
    playing.bot.wait(30)
    playing.click(f"motion.layer.{layer.id}")
    assert not session.clip.layers[0].on
    assert session.c.frames.control_pose.values.get(("arm.r.upper.fk", "rotate_z"), 0.0) == pytest.approx(keys.at(3.9), abs=1e-6)
    playing.click(f"motion.layer.{layer.id}.hand")
    playing.bot.wait(30)
    playing.click("motion.layer.remove")
    assert session.clip.layers == ()


def test_a_layer_in_hand_takes_the_keys_and_can_be_weighed_and_mixed_down(playing):
    session = playing.session
    ref = ("arm.r.upper.fk", "rotate_z")
    own = session.clip.curves
    playing.card("motion.layers").set_open(True)
    playing.click("button.layers.add")
    (layer,) = session.clip.layers
    session.set_view(auto_key=True)
    session.go_to(0.8)
    before = session.c.frames.control_pose.values.get(ref, 0.0)
    playing.drag(playing.at("control", "arm.r.upper.fk"), (0, -40))
    posed = session.c.frames.control_pose.values[ref]
    assert abs(posed - before) > 0.02
    assert session.clip.curves is own, "the clip's own keys stay"
    assert session.clip.layers[0].key_times == pytest.approx((0.8,))
    assert "in layer 1" in session.history.undo_name or session.history.undo_name.endswith("and key")
    playing.bot.wait(50)
    slider = playing.value("motion.layer.amount")
    slider.setFocus()
    slider.setValue(500)
    assert session.clip.layers[0].amount.at(0.0) == pytest.approx(0.5)
    half = session.c.frames.control_pose.values[ref]
    assert min(before, posed) < half < max(before, posed)
    playing.bot.wait(50)
    playing.click(f"motion.layer.{layer.id}.alone")
    assert session.clip.layers[0].alone
    session.undo()
    playing.bot.wait(50)
    playing.click("button.layers.mix")
    assert session.clip.layers == ()
    assert session.c.frames.control_pose.values[ref] == pytest.approx(half, abs=1e-5)


def test_baked_to_joints_and_back_onto_the_controls(playing):
    session = playing.session
    own = session.clip.curves
    playing.card("motion.bring").set_open(True)
    playing.bot.wait(30)
    playing.click("button.motion.to_joints")
    playing.bot.waitUntil(lambda: bool(session.clip.tracks), timeout=30000)
    session.go_to(2.0)
    baked = session.frame().joints
    playing.bot.wait(50)
    playing.value("motion.bring.limbs").setCurrentIndex(2)
    playing.click("button.motion.to_controls")
    playing.bot.waitUntil(lambda: not session.clip.tracks, timeout=30000)
    session.go_to(2.0)
    assert np.abs(session.frame().joints - baked).max() < 1e-3
    assert all(session.character.rig.value(session.c.frames.control_pose, limb.amount) == 0.0 for limb in session.character.rig.limbs)
    session.undo()
    session.undo()
    assert session.clip.curves is own


def test_a_clip_is_copied_named_moved_sped_up_and_deleted(playing, monkeypatch):
    session = playing.session
    first = session.clip
    playing.click("button.clips.copy")
    copy = session.clip
    assert copy.id != first.id and copy.curves == first.curves
    monkeypatch.setattr(playing.c.ask, "name", lambda title, suggestion: "wave")
    playing.click("button.clips.rename")
    assert session.clip.name == "wave"
    playing.click("button.clips.up")
    assert session.character.clips[0].id == copy.id
    playing.click("button.clips.faster")
    assert session.clip.length == pytest.approx(first.length / 2)
    playing.click("button.clips.drop")
    assert copy.id not in {clip.id for clip in session.character.clips}
    assert session.c.state.clip is None
    session.undo()
    assert copy.id in {clip.id for clip in session.character.clips}


def test_with_auto_key_on_a_drag_is_a_key_at_once(playing):
    session = playing.session
    session.set_view(auto_key=True)
    count = len(session.clip.curves["arm.r.upper.fk", "rotate_z"].times)
    playing.drag(playing.at("control", "arm.r.upper.fk"), (0, -40))
    assert session.c.state.draft_pose is None
    assert session.history.undo_name.endswith("and key")
    assert len(session.clip.curves["arm.r.upper.fk", "rotate_z"].times) >= count


def test_a_draft_waits_with_its_clip_while_another_thing_is_looked_at(playing):
    session = playing.session
    clip = session.clip.id
    playing.drag(playing.at("control", "arm.r.upper.fk"), (0, -40))
    session.play_source("")
    assert session.c.state.draft_pose is None
    session.play_source(clip, 0.8)
    assert session.c.state.draft_pose is not None


# Files are read and written on threads


def test_saving_and_opening_a_project_and_exporting_happen_off_the_ui_thread(hand, tmp_path, monkeypatch):
    from pegloom.app.actions.common import file
    from pegloom.app.areas.handover import actions as handover

    threads = {}

    def watched(name, function):
        def run(*args, **more):
            threads[name] = threading.current_thread()
            return function(*args, **more)

        return run

    for module, name in ((file, "save_project"), (file, "open_project"), (handover, "deliver")):
        monkeypatch.setattr(module, name, watched(name, getattr(module, name)))
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", edits.set_channels(wick(), "body", move_y=-0.05))
    assert hand.session.save(tmp_path / "w.pegloom")
    assert not hand.session.unsaved
    hand.window.answers.save_path = str(tmp_path / "w.glb")
    hand.session.run("file.export")
    hand.idle()
    hand.session.open(tmp_path / "w.pegloom")
    assert open_project(tmp_path / "w.pegloom").character.pose.values["body", "move_y"] == -0.05
    assert set(threads) == {"save_project", "open_project", "deliver"}
    assert threading.main_thread() not in threads.values()


def test_the_window_does_not_close_on_a_file_that_is_being_written(hand, tmp_path, monkeypatch):
    from pegloom.app.actions.common import file

    go_on = threading.Event()
    real = file.save_project

    def slowly(path, document, **more):
        assert go_on.wait(60)
        real(path, document, **more)

    monkeypatch.setattr(file, "save_project", slowly)
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", edits.set_channels(wick(), "body", move_y=-0.05))
    file.save_to(hand.c, tmp_path / "w.pegloom")
    assert not hand.window.close(), "not yet"
    go_on.set()
    hand.until(lambda: not hand.window.isVisible())
    assert (tmp_path / "w.pegloom").is_file()


def test_whoever_stays_after_all_is_not_thrown_out_by_the_next_job(hand, tmp_path):
    go_on = threading.Event()
    hand.session.start_with(wick(), None)
    hand.session.commit("Pose", edits.set_channels(wick(), "body", move_y=-0.05))
    answers = hand.window.ask
    answers.yes, answers.asked = False, []
    hand.c.jobs.start(Job("Writing", lambda progress: go_on.wait(60), lambda _: None, must_end=True))
    assert not hand.window.close(), "not yet"
    go_on.set()
    hand.until(lambda: len(answers.asked) == 1)
    ended = []
    hand.c.jobs.start(Job("Another", lambda progress: None, ended.append))
    hand.until(lambda: len(ended) == 1)
    hand.bot.wait(50)
    assert hand.window.isVisible()
    assert len(answers.asked) == 1
    answers.yes = True


def test_a_search_for_snags_given_up_and_wanted_again_is_taken_up_anew(hand, monkeypatch):
    """An edit, another, and undo before the first one's search has seen that nobody wanted it: no failure, no old list."""
    session, watch = hand.session, hand.window.snag_watch
    session.start_with(wick(), None)
    hand.until(lambda: session.c.store.state.snags_known)
    begun, go_on, given_up = threading.Event(), threading.Event(), threading.Event()
    search = watched._look_over

    def slow(character, still_wanted):
        if begun.is_set():
            return search(character, still_wanted)
        begun.set()
        assert go_on.wait(60)
        try:
            return search(character, still_wanted)
        finally:
            given_up.set()

    monkeypatch.setattr(watched, "_look_over", slow)
    session.try_edit("Rename", lambda d: edits.rename_joint(d, "spine.head", "bonce"))
    hand.until(begun.is_set)
    session.try_edit("Rename", lambda d: edits.rename_joint(d, "spine.head", "noddle"))
    go_on.set()
    assert given_up.wait(60)
    session.undo()
    assert watch._wanted is session.character and not session.c.store.state.snags_known
    hand.until(lambda: session.c.store.state.snags_known)
    assert session.c.store.state.snags == search_snags(session.character, lambda *_: None)


# The brush and the view


def test_the_brush_is_led_along_what_the_stroke_has_made(hand):
    """In a bent pose a stroke moves the surface under itself; picks that met the old one fell beside the pointer."""
    session = hand.session
    session.open(DEMO / "lesson.pegloom")
    session.go(Area.WEIGHTS)
    session.select("joint", "arm.l.upper")
    session.play_source("range test", 20 / 30)
    session.set_view(tool=Tool.BRUSH, lens=Lens.INFLUENCE)
    session.set_view(brush=type(session.brush)(mode=BrushMode.SET, radius=0.09, strength=1.0, value=1.0))
    hand.stage.show_all()
    hand.bot.wait(300)
    skeleton, frame = session.character.skeleton, session.frame()
    shoulder = frame.joints[skeleton.index["arm.l.clavicle"]][:3, 3]
    x, y, _ = hand.stage.camera.project(shoulder, *hand.stage.size_in_points)[0]
    start = QPoint(round(x), round(y) + 12)
    hand.bot.mousePress(hand.stage, Qt.MouseButton.LeftButton, pos=start)
    assert hand.stage.stroke is not None
    part = hand.stage.stroke.part
    before = frame.points[part.id]
    made = hand.stage.stroke.points(hand.stage.buffers.matrices(session.character, frame))
    assert np.abs(made - before).max() > 0.01, "the dab moves the surface"
    found = hand.stage.surface_at(start.x(), start.y())
    assert found is not None
    from pegloom.core.geometry.mesh import triangulate

    corners = made[triangulate(part.mesh).vertices[found[1].triangle]]
    span = np.abs(corners - corners.mean(axis=0)).max()
    assert np.abs(found[1].point - corners.mean(axis=0)).max() <= span + 1e-9, "the hit lies in the triangle as it stands now"
    hand.bot.mouseRelease(hand.stage, Qt.MouseButton.LeftButton, pos=start)


def test_the_view_goes_back_and_forward_and_the_work_stays(hand):
    session = hand.session
    session.start_with(wick(), None)
    hand.stage.show_all()
    hand.stage.cameras.settle()
    first = hand.stage.camera
    hand.drag(QPoint(300, 300), (80, 0), button=Qt.MouseButton.RightButton)
    hand.stage.cameras.settle()
    second = hand.stage.camera
    assert second != first
    session.try_edit("Pose", lambda d: edits.set_channels(d, "body", move_y=-0.1))
    session.set_view(hidden=frozenset({"ground"}))
    hand.until(lambda: hand.stage.cameras.steps[-1].hidden == frozenset({"ground"}))
    step = session.history.at
    session.run("view.back")
    assert session.hidden == frozenset()
    assert hand.stage.camera == second
    session.run("view.back")
    assert hand.stage.camera == first
    session.run("view.forward")
    session.run("view.forward")
    assert session.hidden == frozenset({"ground"})
    assert hand.stage.camera == second
    said = []
    session.said.connect(lambda text, *_: said.append(text))
    session.run("view.forward")
    assert said == ["There is no view after this one"]
    assert session.history.at == step, "undo knows nothing of it"
