"""Several figures, the capture desk and films, by hand in the real window."""

from __future__ import annotations

import os
import signal
import time

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QLabel, QLineEdit, QListWidget, QPushButton, QSpinBox
from tools.takes import Build, perform, walk

from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.areas.handover.filming import FilmSettings
from pegloom.app.areas.motion import figuring
from pegloom.app.areas.motion.capturing import DeskSettings
from pegloom.app.areas.motion.figuring import FiguresSettings
from pegloom.app.areas.motion.place_tool import figure_at
from pegloom.app.state.state import CAPTURE, SCENE, Area
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from tests.app.conftest import find
from tests.files.test_desk import free_port
from tests.support.figures import DEMO, shipped
from tests.support.outside import Outside


def waited(hand, done, tries=60_000):
    for _ in range(tries):
        hand.session.settle()
        if done():
            break
        QTest.qWait(10)
    assert done()


def idle(hand):
    waited(hand, lambda: not hand.c.jobs.busy)


@pytest.fixture
def two(hand):
    """The winch, and the moth lantern brought in beside it by hand."""
    hand.session.start_with(shipped("winch"), None)
    hand.session.go(Area.MOTION)
    hand.card("motion.figures").set_open(True)
    hand.window.answers.open_path = str(DEMO / "lantern.pegloom")
    find(hand.window, QPushButton, "button.figures.bring").click()
    waited(hand, lambda: len(hand.session.document.characters) == 2)
    idle(hand)
    return hand


def shown_of(hand, character):
    """Where the middle of a figure is drawn."""
    points = np.concatenate(list(next(o for o in hand.c.frames.others() if o.character.id == character).points.values()))
    x, y, _ = hand.stage.camera.project((points.min(axis=0) + points.max(axis=0))[None] / 2, *hand.stage.size_in_points)[0]
    return QPoint(int(x), int(y))


# Figures


def test_another_character_comes_in_and_each_is_taken_in_hand(two):
    first, second = two.session.document.characters
    assert two.session.character is second
    rows = find(two.window, QListWidget, "figures.list")
    assert [rows.item(k).text().split("  ")[0] for k in range(2)] == [first.name, second.name]
    eye = two.stage.camera.world.eye
    rows.itemClicked.emit(rows.item(0))
    two.session.settle()
    assert two.session.character.id == first.id
    assert np.allclose(two.stage.camera.world.eye, eye), "the view stays"
    # By a double click on the other figure in the view.
    at = shown_of(two, second.id)
    QTest.mouseDClick(two.stage, Qt.MouseButton.LeftButton, pos=at)
    two.session.settle()
    assert two.session.character.id == second.id
    two.c.actions.run("edit.undo")
    assert two.session.character.id == first.id
    rows = find(two.window, QListWidget, "figures.list")
    rows.item(1).setCheckState(Qt.CheckState.Unchecked)
    two.session.settle()
    assert not two.session.document.characters[1].figure.shown and two.c.frames.others() == ()


def test_a_figure_is_put_about_on_the_ground_by_hand_and_by_numbers(two):
    first, second = (c.id for c in two.session.document.characters)
    at = shown_of(two, first)
    find(two.window, QPushButton, "button.figures.place").click()
    before = edits.figure_of(two.session.document, first).figure.stands[0].stance.at
    two.drag(at, (60, 25))
    after = edits.figure_of(two.session.document, first).figure.stands[0].stance.at
    assert np.hypot(after[0] - before[0], after[2] - before[2]) > 0.1 and after[1] == before[1]
    assert two.c.store.history.undo_name.startswith("Place")
    two.c.actions.run("edit.undo")
    assert edits.figure_of(two.session.document, first).figure.stands[0].stance.at == before
    box = find(two.window, QDoubleSpinBox, "figures.turned")
    box.setValue(90.0)
    find(two.window, QDoubleSpinBox, "figures.at2").setValue(0.5)
    find(two.window, QDoubleSpinBox, "figures.size").setValue(1.5)
    stance = edits.figure_of(two.session.document, second).figure.stands[0].stance
    assert stance.heading == pytest.approx(np.pi / 2) and stance.at[2] == pytest.approx(0.5) and stance.scale == pytest.approx(1.5)
    # The one in hand is worked on where it stands: a point of it is drawn where its world place is.
    corner = np.array([0.1, 0.2, 0.0])
    world = two.c.frames.worlds()[second]
    seen = two.stage.camera.project(corner[None], 800, 600)[0, :2]
    wanted = two.stage.camera.world.project((world[:3, :3] @ corner + world[:3, 3])[None], 800, 600)[0, :2]
    assert np.allclose(seen, wanted, atol=1e-4)


def test_one_carries_another_from_a_moment_on_and_all_play_together(two):
    first, second = (c.id for c in two.session.document.characters)
    winch = edits.figure_of(two.session.document, first)
    two.session.commit("Play", edits.play_figure(two.session.document, first, winch.clips[0].id))
    two.c.player.play_source(SCENE, 1.0)
    two.session.settle()
    carrier = find(two.window, QComboBox, "figures.carrier")
    carrier.setCurrentIndex(carrier.findData(first))
    carrier.activated.emit(carrier.currentIndex())
    two.session.settle()
    joint = find(two.window, QComboBox, "figures.joint")
    joint.setCurrentIndex(joint.findData("rope.6"))
    joint.activated.emit(joint.currentIndex())
    two.session.settle()
    assert two.c.state.settings.of(FiguresSettings).joint == "rope.6"
    before = two.c.frames.worlds()[second].copy()
    find(two.window, QPushButton, "button.figures.carry").click()
    two.session.settle()
    stands = edits.figure_of(two.session.document, second).figure.stands
    assert [s.carrier for s in stands] == ["", first] and stands[1].start == pytest.approx(1.0)
    assert np.allclose(two.c.frames.worlds()[second], before, atol=1e-9)
    two.c.player.go_to(1.6)
    assert not np.allclose(two.c.frames.worlds()[second], before, atol=1e-4), "it swings with the rope"
    find(two.window, QDoubleSpinBox, "figures.stand1").setValue(0.5)
    assert edits.figure_of(two.session.document, second).figure.stands[1].start == pytest.approx(0.5)
    find(two.window, QPushButton, "figures.drop_stand1").click()
    assert len(edits.figure_of(two.session.document, second).figure.stands) == 1
    # Posing where all play goes to the figure's own clip, at the same moment.
    two.c.actions.run("character.next")
    two.session.settle()
    assert two.c.state.clock.source == SCENE and two.c.state.common_time == pytest.approx(1.6)
    from pegloom.app.actions.posing import to_own_clip

    to_own_clip(two.c)
    assert two.c.state.clip.id == winch.clips[0].id and two.c.state.clock.time == pytest.approx(1.6)


def test_a_picked_control_follows_another_figure_and_lets_go(two):
    """The winch's own control follows the lantern: wherever that is put, and while it plays."""
    winch, lantern = two.session.document.characters
    two.session.go(Area.MOTION)
    figuring.take(two.c, winch.id)
    two.session.settle()
    held = two.session.character.rig.handles[0]
    two.c.store.select("control", held.id)
    button = find(two.window, QPushButton, "button.figures.follow")
    button.click()
    two.session.settle()
    assert two.session.character.stand_ins == (), "first it is chosen whom it follows"
    box = find(two.window, QComboBox, "figures.carrier")
    box.setCurrentIndex(box.findData(lantern.id))
    box.activated.emit(box.currentIndex())
    two.session.settle()
    joints = find(two.window, QComboBox, "figures.joint")
    joint = lantern.skeleton.joints[1].id
    joints.setCurrentIndex(joints.findData(joint))
    joints.activated.emit(joints.currentIndex())
    two.session.settle()
    number = two.session.character.rig.index[held.id]
    before = np.array(two.c.frames.frame().controls[number])
    button.click()
    two.session.settle()
    own = two.session.character
    assert [s.joint for s in own.stand_ins] == [joint]
    number = own.rig.index[held.id]
    assert np.allclose(two.c.frames.frame().controls[number], before, atol=1e-6), "nothing jumps"
    # The other is put elsewhere: the control goes along.
    two.c.store.commit("Place", edits.place_figure(two.session.document, lantern.id, at=(0.0, 0.5, 2.0)))
    two.session.settle()
    here, there = two.c.frames.frame().controls[number], next(o for o in two.c.frames.others()).joints[1]
    assert np.linalg.norm(here[:3, 3] - before[:3, 3]) > 0.5
    two.c.store.commit("Place", edits.place_figure(two.session.document, lantern.id, at=(0.3, 0.0, 1.0), heading=1.0))
    two.session.settle()
    now = np.linalg.inv(next(o for o in two.c.frames.others()).joints[1]) @ two.c.frames.frame().controls[number]
    assert np.allclose(now[:3, 3], (np.linalg.inv(there) @ here)[:3, 3], atol=1e-6)
    assert not any(h.id == own.stand_ins[0].control for h in own.rig.handles), "the stand-in is nobody's to hold"
    find(two.window, QPushButton, "button.hold.let_go").click()
    two.session.settle()
    kept = np.array(two.c.frames.frame().controls[number])
    two.c.store.commit("Place", edits.place_figure(two.session.document, lantern.id, at=(4.0, 0.0, 0.0)))
    two.session.settle()
    assert np.allclose(two.c.frames.frame().controls[number], kept, atol=1e-6)


def test_a_channel_shows_another_character_in_the_view(two):
    winch, lantern = two.session.document.characters
    figuring.take(two.c, winch.id)
    two.session.go(Area.CONTROLS)
    two.c.store.put_setting(WorkSettings, work=Work.BUILD)
    root = two.session.character.rig.handles[0].id
    document, key = edits.add_channel(two.session.document, root, "guise", quantity=Quantity.SWITCH)
    two.c.store.commit("Guise", edits.show_by(document, f"figure:{lantern.id}", root, key)[0])
    two.session.settle()
    assert two.c.frames.others() == ()
    two.c.store.commit("On", edits.set_pose(two.session.document, Pose({(root, key): 1.0})))
    two.session.settle()
    assert [o.character.id for o in two.c.frames.others()] == [lantern.id]
    card = two.card("controls.channels")
    card.set_open(True)
    two.c.store.select("control", root)
    two.session.settle()
    things = find(two.window, QComboBox, "controls.shown_thing")
    assert things.findData(f"figure:{lantern.id}") > 0
    assert any(lantern.name in label.text() and "is seen while" in label.text() for label in card.findChildren(QLabel))


def test_motion_of_another_body_stands_among_the_figures_and_lends_itself(hand, tmp_path):
    take = perform(Build(), walk(Build()), seconds=1.0, rate=30.0)
    path = tmp_path / "ferry_crossing.bvh"
    path.write_text(take.bvh())
    hand.session.start_with(shipped("wick"), None)
    hand.session.go(Area.MOTION)
    hand.card("motion.figures").set_open(True)
    hand.window.answers.open_path = str(path)
    find(hand.window, QPushButton, "button.figures.bring").click()
    waited(hand, lambda: len(hand.session.document.characters) == 2)
    idle(hand)
    own, other = hand.session.document.characters
    assert other.bare and hand.session.character is other
    for area in Area:
        hand.session.go(area)
        hand.session.settle()
        hand.stage.grabFramebuffer()
    hand.session.go(Area.MOTION)
    find(hand.window, QListWidget, "figures.list").itemClicked.emit(find(hand.window, QListWidget, "figures.list").item(0))
    hand.session.settle()
    hand.stage.show_all()
    hand.session.settle()
    assert hand.session.character.id == own.id
    # A double click on one of its bones takes it in hand, beside it does not.
    beside = hand.c.frames.others()[0]
    places = beside.joints[:, :3, 3]
    knee = next(k for k, j in enumerate(other.skeleton.joints) if j.name == "LeftLeg")
    foot = next(k for k, j in enumerate(other.skeleton.joints) if j.name == "LeftFoot")
    x, y, _ = hand.stage.camera.project((places[knee] + places[foot])[None] / 2, *hand.stage.size_in_points)[0]
    assert figure_at(hand.stage, x, y) == other.id and figure_at(hand.stage, x + 60, y) == ""
    QTest.mouseDClick(hand.stage, Qt.MouseButton.LeftButton, pos=QPoint(int(x), int(y)))
    hand.session.settle()
    assert hand.session.character.id == other.id
    hand.c.actions.run("edit.undo")
    # What it does, on the one in hand.
    hand.card("motion.borrow").set_open(True)
    find(hand.window, QPushButton, "button.borrow.lend").click()
    idle(hand)
    hand.session.settle()
    clip = hand.c.state.clip
    assert clip is not None and clip.borrowed is not None and clip.tracks and "ferry_crossing" in clip.name
    # The source may be stood beside once more, and one undo takes it away.
    find(hand.window, QPushButton, "button.borrow.stand").click()
    hand.session.settle()
    assert len(hand.session.document.characters) == 3 and hand.session.character.id == own.id
    hand.c.actions.run("edit.undo")
    assert len(hand.session.document.characters) == 2


def test_both_are_exported_together_with_their_prefixes(two, tmp_path):
    find(two.window, QLineEdit, "figures.prefix").setText("moth")
    find(two.window, QLineEdit, "figures.prefix").editingFinished.emit()
    two.session.go(Area.HANDOVER)
    two.window.answers.save_path = str(tmp_path / "both.glb")
    two.c.actions.run("file.export")
    waited(two, lambda: (tmp_path / "both.glb").exists())
    idle(two)
    names = [n.name for n in Outside(tmp_path / "both.glb").gltf.nodes]
    assert len(names) == len(set(names)) and any(n.startswith("moth_") for n in names) and any(n.startswith("the_bell_winch_") for n in names)


# Films


def test_what_the_strip_plays_is_filmed_and_can_be_stopped(two, tmp_path):
    import av

    two.session.go(Area.HANDOVER)
    two.card("handover.film").set_open(True)
    two.c.store.put_setting(FilmSettings, size=list(type(FilmSettings().size))[-1], wide=160, high=90, rate=6.0)
    two.c.player.play_source(two.session.character.clips[0].id)
    two.session.settle()
    two.window.answers.save_path = str(tmp_path / "a.mp4")
    find(two.window, QPushButton, "button.film.make").click()
    idle(two)
    with av.open(str(tmp_path / "a.mp4")) as container:
        stream = container.streams.video[0]
        assert (stream.width, stream.height) == (160, 90)
        assert sum(1 for _ in container.decode(stream)) == int(two.session.character.clips[0].length * 6 + 1e-6) + 1
    assert "in a.mp4" in find(two.window, QLabel, "film.summary").text()
    two.c.store.put_setting(FilmSettings, wide=1600, high=900, rate=60.0)
    two.window.answers.save_path = str(tmp_path / "b.mp4")
    two.c.actions.run("film.make")
    waited(two, lambda: two.c.jobs.busy)
    two.c.jobs.cancel()
    idle(two)
    assert not (tmp_path / "b.mp4").exists()


# The capture desk


@pytest.fixture
def desk(hand):
    hand.session.start_with(shipped("wick"), None)
    hand.session.go(Area.MOTION)
    hand.c.actions.run("desk.open")
    hand.session.settle()
    find(hand.window, QSpinBox, "desk.port").setValue(free_port())
    yield hand
    hand.c.desk.close()
    hand.c.desk.simulate(False)


def test_a_performance_moves_the_character_and_a_take_becomes_a_clip(desk):
    assert "Not listening" in find(desk.window, QLabel, "desk.state").text()
    find(desk.window, QPushButton, "button.desk.listen").click()
    desk.session.settle()
    waited(desk, lambda: "Nobody sends" in find(desk.window, QLabel, "desk.state").text())
    find(desk.window, QPushButton, "button.desk.simulate").click()
    waited(desk, lambda: desk.c.frames.captured is not None)
    assert desk.c.state.clock.source == CAPTURE
    first = desk.c.frames.frame().joints.copy()
    waited(desk, lambda: np.abs(desk.c.frames.frame().joints - first).max() > 0.005)
    find(desk.window, QPushButton, "button.desk.record").click()
    waited(desk, lambda: desk.c.desk.state.frames > 40)
    waited(desk, lambda: "Recording" in find(desk.window, QLabel, "desk.take").text())
    clips = len(desk.session.character.clips)
    find(desk.window, QPushButton, "button.desk.record").click()
    waited(desk, lambda: len(desk.session.character.clips) == clips + 1)
    idle(desk)
    clip = desk.session.character.clips[-1]
    assert clip.origin.made == "captured" and clip.tracks and desk.c.state.clip is clip
    # Made anew: shorter, under the same name, in one step.
    find(desk.window, QCheckBox, "desk.part").click()
    find(desk.window, QDoubleSpinBox, "desk.last").setValue(0.4)
    find(desk.window, QPushButton, "button.desk.again").click()
    waited(desk, lambda: desk.session.character.clips[-1].length < 0.45)
    idle(desk)
    assert len(desk.session.character.clips) == clips + 1 and desk.session.character.clips[-1].name == clip.name
    desk.c.actions.run("edit.undo")
    assert desk.session.character.clips[-1].length == pytest.approx(clip.length)


def test_a_desk_that_dies_in_a_take_is_said_and_the_take_is_kept(desk):
    find(desk.window, QPushButton, "button.desk.simulate").click()
    waited(desk, lambda: desk.c.desk.state.heard.frames > 5)
    find(desk.window, QPushButton, "button.desk.record").click()
    waited(desk, lambda: desk.c.desk.state.frames > 20)
    os.kill(desk.c.desk.simulation.pid, signal.SIGKILL)
    waited(desk, lambda: "has stopped" in find(desk.window, QLabel, "desk.state").text())
    waited(desk, lambda: "what came is kept" in find(desk.window, QLabel, "desk.take").text())
    frames = desk.c.desk.state.frames
    time.sleep(0.2)
    assert desk.c.desk.state.frames == frames
    clips = len(desk.session.character.clips)
    find(desk.window, QPushButton, "button.desk.record").click()
    waited(desk, lambda: len(desk.session.character.clips) == clips + 1)
    idle(desk)
    assert desk.c.desk.last is not None and len(desk.c.desk.last) == frames


def test_a_port_that_is_taken_is_said_and_nothing_is_shown(desk):
    from pegloom.files.desk import Listener

    other = Listener(lambda *_: None, desk.c.state.settings.of(DeskSettings).port)
    try:
        desk.c.actions.run("desk.listen")
        desk.session.settle()
        assert not desk.c.state.settings.of(DeskSettings).listening
        assert "choose another port" in desk.window.frame_.note.text()
    finally:
        other.close()
