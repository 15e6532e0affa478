"""Gait: a clip made, its numbers changed while they are seen, footfalls dragged on the strip, a way led in the view."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QPushButton

from pegloom.app.areas.motion.fall_lane import FallLane
from pegloom.app.areas.motion.gaits import GaitSettings, change
from pegloom.app.state.state import Area
from pegloom.document import edits
from tests.app.conftest import find
from tests.support.figures import wick


@pytest.fixture
def gait(hand):
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.card("motion.gait").set_open(True)
    hand.c.store.put_setting(GaitSettings, strides=2.0)
    hand.c.actions.run("gait.make")
    hand.idle()
    return hand


def rested(hand):
    """Wait until what is seen has become a step."""
    for _ in range(600):
        hand.session.settle()
        QTest.qWait(10)
        if not hand.c.live.busy:
            break
    hand.session.settle()
    assert not hand.c.live.busy


def lifts(hand, foot="leg.l.end"):
    clip, j = hand.c.state.clip, hand.session.character.skeleton.index[foot]
    heights = []
    for k in range(16):
        hand.session.go_to(clip.length * k / 16)
        heights.append(hand.session.frame().joints[j, 1, 3])
    return float(np.ptp(heights))


def test_a_gait_is_made_and_follows_its_numbers(gait):
    clip = gait.c.state.clip
    assert clip.name == "walk" and clip.curves and clip.gait is not None and not gait.value("gait.lift.right").isVisible()
    before, steps = lifts(gait), len(gait.session.history.steps)
    gait.value("gait.lift").setValue(30.0)
    gait.value("gait.lean").setValue(12.0)
    rested(gait)
    clip = gait.c.state.clip
    assert clip.gait.gait.lift == (0.3, 0.3) and clip.gait.gait.lean == 12.0 and clip.curves
    assert lifts(gait) > before + 0.08 and len(gait.session.history.steps) == steps + 1
    # A side's own.
    find(gait.window, QPushButton, "gait.lift.part").click()
    gait.session.settle()
    gait.value("gait.lift.right").setValue(5.0)
    rested(gait)
    assert gait.c.state.clip.gait.gait.lift == (0.3, 0.05) and lifts(gait) > lifts(gait, "leg.r.end") + 0.08
    gait.c.actions.run("gait.across")
    rested(gait)
    assert gait.c.state.clip.gait.gait.lift == (0.05, 0.3)
    gait.session.undo()
    assert gait.c.state.clip.gait.gait.lift == (0.3, 0.05)
    box = find(gait.window, QComboBox, "gait.preset")
    box.setCurrentIndex(box.findData("sneak"))
    box.activated.emit(box.currentIndex())
    rested(gait)
    assert gait.c.state.clip.gait.preset == "sneak" and gait.value("gait.height").value() == 78.0


def test_what_was_changed_by_hand_is_let_be_until_it_is_made_anew(gait):
    clip = gait.c.state.clip
    ref = next(ref for ref, keys in clip.curves.items() if len(keys.times) > 4)
    time = float(clip.curves[ref].times[2])
    gait.c.try_edit("by hand", lambda d: edits.remove_keys(d, clip.id, time, frozenset({ref[0]})))
    gait.session.settle()
    assert gait.card("motion.gait").by_hand.isVisible() and not gait.value("gait.lean").isEnabled()
    before = gait.session.history.present
    change(gait.c, "Lean", {"lean": 20.0})
    gait.session.settle()
    assert gait.session.history.present is before and not gait.c.live.busy
    gait.c.actions.run("gait.anew")
    gait.idle()
    assert not edits.changed_by_hand(gait.c.state.clip)


def test_footfalls_are_dragged_on_the_strip(gait):
    lane = gait.window.findChild(FallLane)
    gait.session.settle()
    bar = next(b for b in lane.bars if b.part == "leg.r" and all(b.ends))
    rect = lane._rect(bar)
    middle = rect.center().toPoint()
    by = QPoint(round(lane.x_of(0.15) - lane.x_of(0.0)), 0)
    QTest.mousePress(lane, Qt.MouseButton.LeftButton, pos=middle)
    QTest.mouseMove(lane, middle + by / 2)
    QTest.mouseMove(lane, middle + by)
    QTest.mouseRelease(lane, Qt.MouseButton.LeftButton, pos=middle + by)
    rested(gait)
    told = gait.c.state.clip.gait.gait
    falls = {part: (fall, stands) for part, fall, stands in told.falls}
    assert falls["leg.r"][0] == pytest.approx(0.5 + 0.15 / (gait.c.state.clip.length / 2.0), abs=0.03)
    # The end of a bar: both feet stand longer.
    bar = next(b for b in lane.bars if b.part == "leg.r" and b.ends[1])
    end = QPointF(lane._rect(bar).right(), lane._rect(bar).center().y()).toPoint()
    QTest.mousePress(lane, Qt.MouseButton.LeftButton, pos=end)
    QTest.mouseMove(lane, end + by / 3)
    QTest.mouseMove(lane, end + by / 2)
    QTest.mouseRelease(lane, Qt.MouseButton.LeftButton, pos=end + by / 2)
    rested(gait)
    falls = {part: stands for part, _, stands in gait.c.state.clip.gait.gait.falls}
    assert falls["leg.r"] > 0.65 and falls["leg.l"] == pytest.approx(falls["leg.r"])


def test_a_way_is_led_through_points_in_the_view(gait):
    gait.c.actions.run("gait.way")
    gait.c.player.go_to(0.0)
    gait.session.settle()
    stage = gait.window.stage
    wide, tall = stage.size_in_points

    def pixel(x, z):
        at = stage.camera.project(np.array([[x, 0.0, z]]), wide, tall)[0]
        return QPoint(round(at[0]), round(at[1]))

    QTest.mouseClick(stage, Qt.MouseButton.LeftButton, pos=pixel(0.5, 0.7))
    rested(gait)
    points = gait.c.state.clip.gait.way.points
    assert len(points) == 2 and np.allclose(points[1], (0.5, 0.7), atol=0.05)
    start, end = pixel(*points[1]), pixel(0.7, 0.6)
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, pos=start)
    QTest.mouseMove(stage, (start + end) / 2)
    QTest.mouseMove(stage, end)
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, pos=end)
    rested(gait)
    assert np.allclose(gait.c.state.clip.gait.way.points[1], (0.7, 0.6), atol=0.06)
    gait.c.actions.run("gait.straight")
    rested(gait)
    assert gait.c.state.clip.gait.way.points == ()
