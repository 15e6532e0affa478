"""Motion of another body brought in, paired in the view, mended, carried over: by the window."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QTableWidget
from tools import takes

from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto, pairing_in_hand
from pegloom.app.areas.motion.pair_view import beside
from pegloom.app.state.state import Area
from tests.app.conftest import find
from tests.support.figures import shipped, wick
from tests.support.lent import BUILD


@pytest.fixture
def motion(hand, tmp_path):
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.card("motion.borrow").set_open(True)
    take = takes.perform(BUILD, takes.walk(BUILD), seconds=2.0, rate=30.0, style=takes.Style(rest="A", names="short", sides=("l", "r")))
    (tmp_path / "walk.bvh").write_text(take.bvh())
    hand.window.answers.open_path = str(tmp_path / "walk.bvh")
    hand.folder = tmp_path
    hand.told = []
    hand.c.said.connect(lambda text, *_: hand.told.append(text))
    return hand


def bring(hand):
    hand.c.actions.run("borrow.bring")
    hand.idle()
    hand.until(lambda: bool(hand.session.character.sources))
    hand.idle()


def test_a_file_becomes_a_clip_in_one_step_with_its_figures(motion):
    before = motion.session.history.present
    bring(motion)
    clip = motion.c.state.clip
    assert clip is not None and clip.borrowed is not None and clip.tracks
    assert "feet slide" in motion.told[-1] and "mm" in motion.value("borrow.told").text()
    assert "borrow.pairing" in set(motion.c.actions.entries)
    assert "motion.pairing" not in motion.c.state.viewing.panes, "nothing is doubtful"
    motion.session.undo()
    assert motion.session.history.present is before


def test_both_bodies_stand_side_by_side_and_a_part_is_mended(motion):
    bring(motion)
    motion.c.actions.run("borrow.pairing")
    motion.idle()
    motion.session.settle()
    motion.bot.wait(30)
    shown = beside(motion.c)
    here = motion.session.frame().joints[:, :3, 3]
    assert shown.at[:, 0].min() > here[:, 0].max(), "beside, not in, the character"
    assert np.ptp(shown.at[:, 1]) == pytest.approx(np.ptp(here[:, 1]), rel=0.35)
    pixels = motion.stage.camera.project(shown.at, *motion.stage.size_in_points)
    assert (pixels[:, 0] > 0).all() and (pixels[:, 0] < motion.stage.width()).all(), "in sight"
    table = find(motion.window, QTableWidget, "pairing.parts")
    row = next(r for r in range(table.rowCount()) if table.item(r, 0).text().endswith("left arm"))
    table.setCurrentCell(row, 0)
    assert motion.c.state.settings.of(BorrowSettings).picked == "arm.l"
    # Left out, both sides; the clip follows, one undo brings it back.
    clip = motion.c.state.clip
    motion.click("pairing.leave")
    motion.idle()
    pairing = pairing_in_hand(motion.c.state)
    assert pairing.of("arm.l").source == () and pairing.of("arm.r").source == ()
    assert "arm.l.upper" not in motion.c.state.clip.tracks and "arm.l.upper" in clip.tracks
    # Said again by its first joint: those below it are filled in.
    box = find(motion.window, QComboBox, "pairing.joint")
    box.setCurrentIndex(box.findText("l_humerus"))
    box.activated.emit(box.currentIndex())
    motion.idle()
    assert len(pairing_in_hand(motion.c.state).of("arm.l").source) == 3
    # A wrong one is refused with the reason, and nothing is lost.
    box.setCurrentIndex(box.findText("r_femur"))
    box.activated.emit(box.currentIndex())
    motion.idle()
    assert "right leg already" in motion.told[-1]
    assert len(pairing_in_hand(motion.c.state).of("arm.l").source) == 3


def test_a_joint_of_the_source_is_picked_in_the_view_and_wiggled(motion):
    bring(motion)
    motion.c.actions.run("borrow.pairing")
    motion.idle()
    motion.session.settle()
    motion.bot.wait(30)
    shown = beside(motion.c)
    knee = shown.read.skeleton.by_name("l_tibia").id
    x, y, _ = motion.stage.camera.project(shown.at[shown.read.skeleton.index[knee]], *motion.stage.size_in_points)[0]
    QTest.mouseClick(motion.stage, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
    assert motion.c.state.settings.of(BorrowSettings).picked == "leg.l"
    still = shown.at.copy()
    motion.click("pairing.wiggle.button")
    foot = shown.read.skeleton.index[shown.read.skeleton.by_name("l_ankle").id]
    motion.until(lambda: np.abs(beside(motion.c).at[foot] - still[foot]).max() > 0.02)
    motion.until(lambda: motion.c.state.settings.of(BorrowSettings).phase == 0)
    assert np.abs(beside(motion.c).at - still).max() < 1e-9


def test_a_correction_follows_at_once_and_the_next_take_is_paired_as_this_one(motion):
    bring(motion)
    motion.c.actions.run("borrow.pairing")
    motion.idle()
    motion.c.store.put_setting(BorrowSettings, picked="arm.l")
    motion.session.settle()
    before = motion.c.state.clip.tracks["arm.l.upper"][0].values.copy()
    motion.value("pairing.turn.z").setValue(15.0)
    motion.idle()
    assert np.abs(motion.c.state.clip.tracks["arm.l.upper"][0].values - before).max() > 0.05
    # Another document, the same two skeletons: the pairing is found again.
    motion.c.store.put(saved=motion.c.store.history.present)
    motion.session.start_with(shipped("wick"), None)
    motion.session.go(Area.MOTION)
    bring(motion)
    assert pairing_in_hand(motion.c.state).of("arm.l").turn == (0.0, 0.0, 15.0)


def test_onto_the_controls_the_worst_place_and_the_source_over_it(motion):
    motion.c.store.put_setting(BorrowSettings, onto=Onto.CONTROLS)
    bring(motion)
    clip = motion.c.state.clip
    assert clip.curves and not clip.tracks
    motion.c.actions.run("borrow.over")
    motion.idle()
    motion.session.settle()
    motion.stage.grabFramebuffer()
    if clip.borrowed.measured.worst:
        motion.c.actions.run("borrow.worst")
        assert motion.c.state.clock.time == pytest.approx(clip.borrowed.measured.worst_at, abs=1e-6)
    motion.c.actions.run("borrow.again")
    motion.idle()
    assert motion.c.state.clip.curves


def test_a_body_of_another_kind_opens_the_pairing_and_bad_files_are_one_line(motion):
    motion.session.start_with(shipped("dumble"), None)
    motion.session.go(Area.MOTION)
    bring(motion)
    assert "motion.pairing" in motion.c.state.viewing.panes and "stands for" in motion.told[-1]
    (motion.folder / "bad.bvh").write_text("HIERARCHY\nROOT hips\n{\n")
    motion.window.answers.open_path = str(motion.folder / "bad.bvh")
    count = len(motion.session.character.sources)
    motion.c.actions.run("borrow.bring")
    motion.idle()
    assert "bad.bvh" in motion.told[-1] and len(motion.session.character.sources) == count


def test_a_layer_over_sampled_motion_brings_it_onto_the_controls_in_one_step(motion):
    bring(motion)
    before = motion.session.history.present
    assert motion.c.state.clip.tracks
    motion.c.actions.run("layers.add")
    motion.idle()
    clip = motion.c.state.clip
    assert clip.curves and not clip.tracks and len(clip.layers) == 1 and motion.c.state.layer is not None
    motion.session.undo()
    assert motion.session.history.present is before


def test_motion_edited_elsewhere_comes_back_by_a_file(motion):
    from pegloom.files.bvh_write import write_bvh

    clip = motion.session.character.clips[0]
    motion.session.play_source(clip.id, 0.5)
    write_bvh(motion.folder / "back.bvh", motion.session.character, clip)
    text = (motion.folder / "back.bvh").read_text().splitlines()
    first = next(k for k, line in enumerate(text) if line.startswith("Frame Time")) + 1
    rows = [line.split() for line in text[first:]]
    for row in rows:
        row[5] = str(float(row[5]) + 12.0)
    (motion.folder / "back.bvh").write_text("\n".join([*text[:first], *(" ".join(r) for r in rows)]) + "\n")
    motion.window.answers.open_path = str(motion.folder / "back.bvh")
    motion.c.actions.run("motion.come_back")
    motion.idle()
    (layer,) = motion.c.state.clip.layers
    assert layer.name == "from back" and layer.curves and motion.c.state.layer is layer
