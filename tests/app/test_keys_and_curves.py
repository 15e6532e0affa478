"""Keys on the strip and in the curves by mouse and keys; trails, ghosts, the range, frames left out."""

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QWidget

from pegloom.app.areas.motion.curve_canvas import Canvas
from pegloom.app.areas.motion.key_lane import KeyLane
from pegloom.app.areas.motion.keying import KeySettings
from pegloom.app.areas.motion.trails import trails_of
from pegloom.app.state.state import Area
from pegloom.core.curves.curve import Beyond, Run, Slope
from tests.app.conftest import find
from tests.support.figures import wick


@pytest.fixture
def playing(hand):
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.stage.show_all()
    hand.session.play_source(hand.session.character.clips[0].id, 1.0)
    hand.bot.wait(50)
    return hand


def picked(hand):
    return hand.c.state.settings.of(KeySettings).picked


def sweep(widget, start, end, modifiers=Qt.KeyboardModifier.NoModifier):
    """Press, move, release on a widget."""
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, modifiers, start.toPoint())
    for k in range(1, 5):
        at = QPointF(start.x() + (end.x() - start.x()) * k / 4, start.y() + (end.y() - start.y()) * k / 4)
        QApplication.sendEvent(widget, QMouseEvent(QEvent.Type.MouseMove, at, QPointF(widget.mapToGlobal(at.toPoint())), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, modifiers))
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, modifiers, end.toPoint())


def lane(hand):
    found = find(hand.window, KeyLane, "strip.keys")
    assert found is not None and found.isVisible()
    return found


def row_y(lane, title):
    number = next(k for k, row in enumerate(lane.rows) if row.title == title)
    return lane._y(number)


def curve(hand, control="body", channel="move_y"):
    return hand.c.state.clip.curves[control, channel]


def test_keys_stand_by_group_are_boxed_moved_copied_scaled_and_removed(playing):
    strip = lane(playing)
    titles = [row.title for row in strip.rows]
    assert "left arm" in titles and "body" in titles and len(titles) < len({r for r, _ in playing.c.state.clip.curves})
    before, y = curve(playing), row_y(strip, "body")
    sweep(strip, QPointF(strip.x_of(0.5), y - 5), QPointF(strip.x_of(1.9), y + 5))
    assert {k.control for k in picked(playing)} == {"body"} and all(0.5 < k.time < 1.9 for k in picked(playing))
    inside = (before.times > 0.5) & (before.times < 1.9)
    first = float(before.times[inside][0])
    # Moved by some pixels, onto whole frames.
    sweep(strip, QPointF(strip.x_of(first), y), QPointF(strip.x_of(first + 0.21), y))
    after = curve(playing)
    gone = after.times[inside] - before.times[inside]
    assert gone == pytest.approx(np.full(inside.sum(), 0.2), abs=1 / 30) and np.allclose(after.times * 30, np.round(after.times * 30), atol=1e-6)
    playing.session.undo()
    assert np.array_equal(curve(playing).times, before.times)
    # A copy with Ctrl.
    sweep(strip, QPointF(strip.x_of(0.5), y - 5), QPointF(strip.x_of(1.9), y + 5))
    sweep(strip, QPointF(strip.x_of(first), y), QPointF(strip.x_of(first + 0.3), y), Qt.KeyboardModifier.ControlModifier)
    assert len(curve(playing).times) == len(before.times) + inside.sum()
    playing.session.undo()
    # Drawn apart by the bar's right end.
    sweep(strip, QPointF(strip.x_of(0.5), y - 5), QPointF(strip.x_of(1.9), y + 5))
    times = [k.time for k in picked(playing)]
    last, span = max(times), max(times) - min(times)
    sweep(strip, QPointF(strip.x_of(last), 3), QPointF(strip.x_of(last + span), 3))
    wide = np.ptp([k.time for k in picked(playing)])
    assert wide == pytest.approx(2 * span, abs=2 / 30)
    playing.session.undo()
    sweep(strip, QPointF(strip.x_of(0.5), y - 5), QPointF(strip.x_of(1.9), y + 5))
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Delete)
    assert len(curve(playing).times) == (~inside).sum() and not picked(playing)


def test_rows_follow_what_is_picked(playing):
    strip = lane(playing)
    playing.session.select("control", "body")
    assert {row.channel for row in strip.rows} == {r[1] for r in playing.c.state.clip.curves if r[0] == "body"}
    playing.session.select("control", "body", "spine.head")
    assert len(strip.rows) == 2
    playing.session.select("control", "")
    playing.c.store.put(selection=type(playing.c.state.selection)())
    playing.session.settle()
    y = row_y(strip, "left arm")
    QTest.mouseDClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.x_of(0.2)), int(y)))
    assert set(playing.c.state.selection.ids) == {r[0] for r in playing.c.state.clip.curves if r[0].startswith("arm.l")}


@pytest.fixture
def canvas(playing):
    playing.session.select("control", "body")
    playing.click_action = lambda a: (playing.c.actions.run(a), playing.session.settle())
    playing.click_action("keys.curves")
    found = find(playing.window, Canvas, "curves.canvas")
    playing.until(lambda: found.isVisible() and found.height() > 100)
    found.fit()
    return playing, found


def line_of(canvas, channel):
    return next(one for one in canvas.lines if one.ref[1] == channel and one.curve is not None)


def test_a_key_is_dragged_in_the_curves_and_its_numbers_typed(canvas):
    hand, sheet = canvas
    line = line_of(sheet, "move_y")
    time, value = float(line.curve.times[1]), float(line.curve.values[1]) * line.unit
    at = QPointF(sheet.x_of(time), sheet.y_of(value))
    sweep(sheet, at, QPointF(sheet.x_of(time + 0.2), sheet.y_of(value + 2.0)))
    now = curve(hand)
    assert now.times[1] == pytest.approx(time + 0.2, abs=1 / 30) and now.values[1] * 100 == pytest.approx(value + 2.0, abs=0.25)
    hand.value("curves.value").setValue(-4.0)
    assert curve(hand).values[1] == pytest.approx(-0.04, abs=1e-6)
    hand.value("curves.frame").setValue(20)
    assert curve(hand).times[1] == pytest.approx(20 / 30)
    hand.session.undo()
    assert curve(hand).times[1] == now.times[1]


def test_slopes_runs_and_ends_by_hand(canvas):
    hand, sheet = canvas
    line = line_of(sheet, "move_y")
    k = 1
    at = QPointF(sheet.x_of(float(line.curve.times[k])), sheet.y_of(float(line.curve.values[k]) * line.unit))
    sweep(sheet, at, at)
    assert len(picked(hand)) == 1
    hand.click_action("keys.level_slope")
    assert curve(hand).slopes[k] == Slope.LEVEL and curve(hand).after[k] == 0.0
    # The handle pulled up: one slope by hand, on both sides.
    end = sheet._handle(line_of(sheet, "move_y"), k, "after")
    sweep(sheet, end, QPointF(end.x(), end.y() - 30))
    one = curve(hand)
    assert one.slopes[k] == Slope.ONE and one.after[k] == one.before[k] > 0.0
    # With Alt each side its own.
    end = sheet._handle(line_of(sheet, "move_y"), k, "before")
    sweep(sheet, end, QPointF(end.x(), end.y() + 10), Qt.KeyboardModifier.AltModifier)
    two = curve(hand)
    assert two.slopes[k] == Slope.TWO and two.after[k] == one.after[k] and two.before[k] != one.before[k]
    hand.click_action("keys.held")
    assert curve(hand).runs[k] == Run.STEP
    ends = find(hand.window, QComboBox, "curves.last")
    ends.setCurrentIndex(ends.findData(Beyond.LOOP))
    ends.activated.emit(ends.currentIndex())
    assert curve(hand).last is Beyond.LOOP and curve(hand, channel="move_x").last is Beyond.LOOP


def test_a_double_click_adds_a_key_where_the_curve_runs_and_names_are_left_out(canvas):
    hand, sheet = canvas
    line = line_of(sheet, "move_y")
    time = 1.2
    value = line.curve.at(time)
    QTest.mouseDClick(sheet, Qt.MouseButton.LeftButton, pos=QPointF(sheet.x_of(time), sheet.y_of(value * line.unit)).toPoint())
    one = curve(hand)
    assert len(one.times) == len(line.curve.times) + 1 and one.at(time) == pytest.approx(value, abs=2e-3)
    shown = len(sheet.lines)
    sheet.grab()
    box, ref = sheet.names[0]
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    hand.session.settle()
    assert len(sheet.lines) == shown - 1 and all(one.ref != ref for one in sheet.lines)
    hand.key(Qt.Key.Key_Escape)
    assert not sheet.isVisible()


def test_driven_and_sampled_channels_are_faint(canvas):
    hand, sheet = canvas
    driven = next(ref for ref in hand.session.character.rig.drivers)
    readings = hand.session.character.rig.drivers[driven][0].readings
    mover = next(r.channel for r in readings if r.channel is not None)
    hand.session.select("control", mover[0], driven[0])
    hand.c.actions.run("keys.write")
    hand.session.settle()
    faint = [one for one in sheet.every if one.curve is None]
    assert all(one.faint for one in faint)
    from pegloom.document import edits

    clip = hand.c.state.clip
    hand.session.try_edit("Bake", lambda d: edits.to_joints(d, clip.id))
    hand.session.select("control", "spine.head")
    assert sheet.lines and {one.faint for one in sheet.lines} == {"sampled"}


def test_a_trail_is_dragged_and_the_key_goes_along(playing):
    hand = playing
    hand.session.go_to(0.0)
    hand.session.select("control", "body")
    hand.c.store.put_setting(KeySettings, trails=True, ghosts=True)
    hand.session.settle()
    (trail,) = trails_of(hand.c)
    k = 1
    size = hand.stage.size_in_points
    x, y, _ = hand.stage.camera.project(trail.at_keys[k], *size)[0]
    before = trail.at_keys[k].copy()
    hand.drag(QPoint(round(x), round(y)), (0, -30))
    (after,) = trails_of(hand.c)
    moved = after.at_keys[k] - before
    metres = hand.stage.camera.metres_a_pixel(before, size[1]) * 30
    assert moved @ hand.stage.camera.up == pytest.approx(metres, rel=0.12) and abs(moved @ hand.stage.camera.right) < 0.1 * metres
    assert hand.session.history.undo_name.startswith("Move body")
    hand.session.undo()
    assert np.allclose(trails_of(hand.c)[0].at_keys[k], before)
    # A control that only turns: its bone's end is drawn, and it turns.
    hand.session.select("control", "arm.l.lower.fk")
    (trail,) = trails_of(hand.c)
    assert trail.turns and np.ptp(trail.places, axis=0).max() > 0.05
    # A joint's trail is that of the control that leads it there.
    hand.session.select("joint", "arm.l.end")
    (same,) = trails_of(hand.c)
    assert same.control == "arm.l.lower.fk" and np.allclose(same.places, trail.places)
    hand.session.select("joint", "leg.l.end")
    assert trails_of(hand.c)[0].control == "leg.l.goal"


def test_a_range_is_played_alone_and_the_ends_are_gone_to(playing):
    hand, c = playing, playing.c
    hand.session.go_to(1.0)
    c.actions.run("time.from_here")
    hand.session.go_to(2.0)
    c.actions.run("time.to_here")
    assert c.state.played == (1.0, 2.0)
    c.actions.run("time.first")
    assert c.state.clock.time == 1.0
    c.store.put_setting(type(c.state.hand), looping=False)
    hand.session.toggle_play()
    hand.until(lambda: not c.state.clock.playing)
    assert c.state.clock.time == pytest.approx(2.0)
    strip = lane(hand)
    assert strip.time_at(strip.x_of(1.5)) == pytest.approx(1.5) and strip.x_of(1.0) < 30
    c.actions.run("time.whole")
    assert c.state.played == (0.0, c.state.length)


def test_frames_left_out_are_told(playing, monkeypatch):
    """The machine is made slow: each tick takes long, the time goes on as it should, and the strip says how many are shown."""
    import time as clock

    hand, c = playing, playing.c
    own = c.player.go_to

    def slow(seconds):
        clock.sleep(0.12)
        own(seconds)

    monkeypatch.setattr(c.player, "go_to", slow)
    start = clock.monotonic()
    hand.session.toggle_play()
    hand.until(lambda: c.state.clock.shown_rate > 0)
    assert 0 < c.state.clock.shown_rate < 27
    assert c.state.clock.time <= 1.0 + clock.monotonic() - start + 0.3
    hand.session.toggle_play()
    hand.until(lambda: c.state.clock.shown_rate == 0.0)


def test_a_key_between_its_neighbours_by_the_slider(playing):
    hand = playing
    hand.session.select("control", "body")
    hand.session.go_to(1.2)
    hand.card("motion.keys").set_open(True)
    slider = hand.value("keys.between")
    before = curve(hand)
    low, high = (float(before.values[k]) for k in (np.searchsorted(before.times, 1.2) - 1, np.searchsorted(before.times, 1.2)))
    slider.setSliderDown(True)
    slider.setValue(250)
    assert hand.session.history.present.character.clips[0].curves["body", "move_y"] is before, "only shown"
    slider.setSliderDown(False)
    assert curve(hand).at(1.2) == pytest.approx(low + 0.25 * (high - low), abs=1e-9)
    assert find(hand.window, QWidget, "keys.tolerance") is not None
    hand.c.store.put_setting(KeySettings, tolerance=0.5)
    count = sum(len(c.times) for c in hand.c.state.clip.curves.values())
    hand.c.store.put(selection=type(hand.c.state.selection)())
    hand.c.actions.run("keys.reduce")
    assert sum(len(c.times) for c in hand.c.state.clip.curves.values()) <= count
