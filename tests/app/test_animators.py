"""What an animator does in the window: picks, poses, keeps, copies, uses the pick card, leads the skin; what a rigger
does before: shapes, the check, the Animator's view, a closed rig, a body kept and worn."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from pegloom.app.areas.controls.settings import CheckSettings, ShelfSettings, Work, WorkSettings
from pegloom.app.panels.pick_card import Sheet
from pegloom.app.stage.drags.handle import grip_at, handle_for
from pegloom.app.state.state import Area, Axes, PickSettings, PosingSettings, Tool
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.shapes import own_lines, shape_axes
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.handles import handle_lines
from tests.app.conftest import find
from tests.app.test_controls_by_hand import build, controls, joints, open_card  # noqa: F401
from tests.support.figures import shipped

NONE, SHIFT, CTRL = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def posing(controls):  # noqa: F811
    controls.session.start_with(edits.set_pose(shipped("wick"), Pose()), None)
    controls.session.go(Area.CONTROLS)
    controls.c.store.put_setting(WorkSettings, work=Work.POSE)
    controls.stage.show_all()
    controls.bot.wait(60)
    return controls


def sent(widget, kind, at, button=NONE, held=None, modifiers=NONE):
    """A mouse event as the screen sends it: QTest's moves carry no buttons."""
    event = QMouseEvent(kind, QPointF(at), QPointF(widget.mapToGlobal(at)), button if button is not NONE else Qt.MouseButton.NoButton, held or Qt.MouseButton.NoButton, modifiers)
    QApplication.sendEvent(widget, event)


def pulled(widget, start, way, modifiers=NONE, steps=5):
    """A drag on any widget."""
    QTest.mousePress(widget, LEFT, modifiers, start)
    for k in range(1, steps + 1):
        sent(widget, QMouseEvent.Type.MouseMove, start + QPoint(way[0] * k // steps, way[1] * k // steps), held=LEFT, modifiers=modifiers)
    QTest.mouseRelease(widget, LEFT, modifiers, start + QPoint(*way))


# Shapes


def test_every_field_of_a_look_goes_to_all_that_is_picked_and_says_where_they_differ(posing):
    hand, session = posing, posing.session
    build(hand)
    open_card(hand, hand.card("controls.shape"))
    session.commit("one", edits.shape_controls(session.history.present, ("spine.head",), thickness=2.0))
    session.select("control", "spine.head", "spine.chest")
    box = hand.value("controls.offset.z")
    hand.until(lambda: hand.card("controls.shape").thick.figure.text() == "several")
    assert hand.value("controls.stretch.x").text() == "1.00"
    hand.click("controls.shape.star")
    rig = session.character.rig
    assert {rig.control(c).shape for c in ("spine.head", "spine.chest")} == {Shape.STAR}
    box.setValue(12.0)
    rig = session.character.rig
    assert [rig.control(c).offset[2] for c in ("spine.head", "spine.chest")] == pytest.approx([0.12, 0.12])
    assert "2 controls" in session.history.undo_name
    session.undo()
    session.undo()
    assert session.character.rig.control("spine.head").shape is not Shape.STAR
    hand.card("controls.shape").thick.slider.setValue(700)
    session.select("control", "arm.l.goal")
    session.commit("colour", edits.shape_controls(session.history.present, ("arm.l.goal",), colour="#E5A04A"))
    hand.until(lambda: "right side" in hand.value("controls.colour.warning").text())


def test_points_of_a_shape_are_dragged_in_the_view_and_the_other_side_goes_along(posing):
    hand, session = posing, posing.session
    build(hand)
    session.select("control", "arm.l.goal")
    hand.c.actions.run("shape.points")
    assert session.tool == Tool.POINTS
    control = session.character.rig.control("arm.l.goal")
    world = session.frame().shown[session.character.rig.index["arm.l.goal"]]
    corner = (world @ shape_axes(control) @ np.append(own_lines(control.shape)[0][0], 1.0))[:3]
    x, y, _ = hand.stage.camera.project(corner, *hand.stage.size_in_points)[0]
    hand.drag(QPoint(round(x), round(y)), (30, -20))
    rig = session.character.rig
    assert rig.control("arm.l.goal").lines and rig.control("arm.r.goal").lines
    assert session.history.undo_name.startswith("Points of l_hand_goal")
    moved = np.array(rig.control("arm.l.goal").lines[0][0]) - own_lines(control.shape)[0][0]
    assert np.linalg.norm(moved) > 0.1
    session.undo()
    assert session.character.rig.control("arm.l.goal").lines == ()


# Posing


def test_axes_snapping_and_several_controls_at_once(posing):
    hand, session = posing, posing.session
    fingers = tuple(f"hand.l.{f}.{k}" for f in ("index", "middle", "ring") for k in (1, 2))
    session.select("control", *fingers)
    session.set_view(tool=Tool.TURN)
    hand.stage.show_selection()
    hand.bot.wait(40)
    assert session.c.state.settings.of(PosingSettings).axes is Axes.OWN
    drag, _ = handle_for(hand.c, hand.stage.camera, hand.stage.size_in_points)
    line = dict(handle_lines(drag.handle, hand.stage.camera))["x"]
    screen = hand.stage.camera.project(line, *hand.stage.size_in_points)[:, :2]
    start = next(p for p in screen if grip_at(hand.stage, *p) == "x")
    hand.drag(QPoint(round(start[0]), round(start[1])), (25, 30))
    values = session.character.pose.values
    turned = {f: values.get((f, "rotate_x"), 0.0) for f in fingers}
    assert min(abs(v) for v in turned.values()) > 0.05, "each finger joint curls about its own axis"
    assert np.ptp(list(turned.values())) < 0.02
    session.undo()
    hand.click("controls.axes.world")
    assert session.c.state.settings.of(PosingSettings).axes is Axes.WORLD
    drag, _ = handle_for(hand.c, hand.stage.camera, hand.stage.size_in_points)
    assert np.allclose(drag.handle.frame[:3, :3], np.eye(3))
    hand.click("controls.axes.view")
    drag, _ = handle_for(hand.c, hand.stage.camera, hand.stage.size_in_points)
    assert np.allclose(drag.handle.frame[:3, 2], hand.stage.camera.backward)
    # Snapping without Ctrl, in steps of one's own.
    hand.c.store.put_setting(PosingSettings, axes=Axes.WORLD, snapping=True, move_step=7.0)
    session.select("control", "body")
    session.set_view(tool=Tool.MOVE)
    hand.stage.show_all()
    hand.bot.wait(40)
    hand.drag(hand.at("control", "body"), (60, 40))
    for key in ("move_x", "move_y", "move_z"):
        value = session.character.pose.values.get(("body", key), 0.0) / 0.07
        assert abs(value - round(value)) < 1e-6


def test_a_number_is_scrubbed_by_its_caption(posing):
    hand, session = posing, posing.session
    session.select("control", "spine.head", "spine.chest")
    session.commit("pose", edits.set_channels(session.history.present, "spine.head", rotate_x=0.2))
    tag = hand.window.frame_.tag
    hand.until(lambda: tag.isVisible() and "rotate_x" in tag.fields)
    caption = tag.form.labelForField(tag.fields["rotate_x"])
    pulled(caption, QPoint(6, 6), (40, 0))
    values = session.character.pose.values
    assert values["spine.chest", "rotate_x"] > 0.05
    assert values["spine.head", "rotate_x"] == pytest.approx(0.2 + values["spine.chest", "rotate_x"]), "each from its own"
    assert session.history.undo_name == "2 controls rotate x"
    session.undo()
    assert ("spine.chest", "rotate_x") not in session.character.pose.values


def test_copy_paste_across_rest_and_swap_by_keys_alone(posing):
    hand, session = posing, posing.session
    session.commit("pose", edits.set_channels(session.history.present, "leg.l.goal", move_x=0.1, move_y=0.2))
    session.select("control", "leg.l.goal")
    hand.key(Qt.Key.Key_C, CTRL | SHIFT)
    hand.key(Qt.Key.Key_B, CTRL | SHIFT)
    values = session.character.pose.values
    assert values["leg.r.goal", "move_x"] == pytest.approx(-0.1) and values["leg.l.goal", "move_y"] == 0.2
    hand.key(Qt.Key.Key_Backspace)
    assert ("leg.l.goal", "move_y") not in session.character.pose.values
    hand.key(Qt.Key.Key_V, CTRL | SHIFT)
    assert session.character.pose.values["leg.l.goal", "move_y"] == pytest.approx(0.2)
    hand.key(Qt.Key.Key_Backspace, SHIFT)
    assert not session.character.pose.values
    session.commit("pose", edits.set_channels(session.history.present, "arm.l.upper.fk", rotate_x=0.4))
    session.select("control", "arm.l.upper.fk")
    hand.click("button.pose.mirror")
    assert session.character.pose.values["arm.r.upper.fk", "rotate_x"] == pytest.approx(0.4, abs=0.05)
    hand.click("button.pose.across")
    session.select("control", "arm.l.clavicle")
    hand.key(Qt.Key.Key_Backspace, CTRL)
    assert not any(o.startswith("arm.l") for o, _ in session.character.pose.values)


def test_a_kept_pose_is_put_on_by_a_click_and_as_far_as_it_is_dragged(posing):
    hand, session = posing, posing.session
    open_card(hand, hand.card("controls.poses"))
    session.commit("pose", edits.set_channels(session.history.present, "spine.chest", rotate_x=0.6))
    hand.click("button.pose.keep")
    kept = session.character.poses[-1]
    assert kept.picture is not None and kept.picture.data[:4] == b"\x89PNG"
    session.run("pose.rest_all")
    picture = hand.value(f"controls.pose.{kept.id}")
    hand.until(lambda: hand.value(f"controls.pose.{kept.id}").isVisible())
    picture = hand.value(f"controls.pose.{kept.id}")
    hand.bot.mouseClick(picture, LEFT)
    assert session.character.pose.values["spine.chest", "rotate_x"] == pytest.approx(0.6)
    session.run("pose.rest_all")
    pulled(hand.value(f"controls.pose.{kept.id}"), QPoint(10, 10), (70, 0))
    assert session.character.pose.values["spine.chest", "rotate_x"] == pytest.approx(0.3, abs=0.02)
    assert session.history.undo_name.startswith(f"{kept.name} by 50%")
    session.run("pose.rest_all")
    hand.c.store.put_setting(ShelfSettings, picked_only=True)
    session.select("control", "spine.head")
    hand.bot.mouseClick(hand.value(f"controls.pose.{kept.id}"), LEFT)
    assert ("spine.chest", "rotate_x") not in session.character.pose.values


def test_nobody_overlooks_auto_key(posing):
    hand, session = posing, posing.session
    hand.bot.wait(60)

    def edge():
        image = hand.window.grab().toImage()
        corner = hand.stage.mapTo(hand.window, QPoint(0, 0))
        ratio = image.devicePixelRatio()
        tall = int(hand.stage.height() * 0.6)
        return [image.pixelColor(int((corner.x() + 5) * ratio), int((corner.y() + 120 + k) * ratio)).lightness() for k in range(0, tall - 120, 2)]

    dark = edge()
    hand.click("controls.auto_key")
    hand.bot.wait(80)
    bright = edge()
    assert sum(b > d + 60 for b, d in zip(bright, dark, strict=True)) > 0.3 * len(dark), "stitches all along the view"
    # What is posed over a clip becomes a key at once.
    clip = next(c for c in session.character.clips if not c.tracks)
    hand.c.player.play_source(clip.id)
    session.settle()
    session.select("control", "body")
    session.set_view(tool=Tool.MOVE)
    before = len(session.clip.key_times)
    hand.c.store.put(time=0.5)
    hand.bot.wait(60)
    hand.drag(hand.at("control", "body"), (40, 10))
    assert len(session.clip.key_times) == before + 1


# Picking


def test_a_hidden_control_is_neither_drawn_nor_picked_and_isolating_leaves_the_picked(posing):
    hand, session = posing, posing.session
    at = hand.at("control", "spine.chest")
    session.select("control", "spine.chest")
    hand.key(Qt.Key.Key_N)
    assert hand.stage.thing_at(at.x(), at.y())[1] != "spine.chest"
    hand.key(Qt.Key.Key_N, SHIFT)
    assert hand.stage.thing_at(at.x(), at.y())[1] == "spine.chest"
    session.select("control", "arm.l.upper.fk", "arm.l.lower.fk")
    hand.key(Qt.Key.Key_N, CTRL)
    ids, _ = hand.stage.things("control")
    assert set(ids) == {"arm.l.upper.fk", "arm.l.lower.fk"}
    hand.click("stage.hidden")
    assert len(hand.stage.things("control")[0]) > 60


def test_a_set_is_kept_and_picked_by_a_click(posing):
    hand, session = posing, posing.session
    open_card(hand, hand.card("controls.poses"))
    session.select("control", "arm.l.upper.fk", "arm.r.upper.fk")
    hand.window.answers.name = lambda title, suggestion: "upper arms"
    hand.c.actions.run("sets.keep")
    session.select("")
    hand.click("sets.pick.upper arms")
    assert set(session.selection.ids) == {"arm.l.upper.fk", "arm.r.upper.fk"}
    hand.click("sets.drop.upper arms")
    assert "upper arms" not in session.character.control_sets


# The pick card


def card(hand) -> Sheet:
    hand.key(Qt.Key.Key_K)
    hand.until(lambda: (s := find(hand.window, QWidget, "pick.sheet")) is not None and s.isVisible() and s.page is not None)
    hand.bot.wait(60)
    return find(hand.window, QWidget, "pick.sheet")


def test_the_pick_card_picks_adds_boxes_and_takes_both_sides(posing):
    hand, session = posing, posing.session
    sheet = card(hand)

    def at(control):
        x, y = sheet.place(control)
        return QPoint(round(x), round(y))

    hand.bot.mouseClick(sheet, LEFT, pos=at("spine.head"))
    assert session.selection.ids == ("spine.head",)
    hand.bot.mouseClick(sheet, LEFT, SHIFT, pos=at("leg.l.pole"))
    assert session.selection.ids == ("spine.head", "leg.l.pole")
    hand.click("pick.both")
    hand.bot.mouseClick(sheet, LEFT, pos=at("leg.l.pole"))
    assert set(session.selection.ids) == {"leg.l.pole", "leg.r.pole"}
    hand.click("pick.both")
    pulled(sheet, QPoint(4, 4), (sheet.width() - 8, sheet.height() - 8))
    assert len(session.selection.ids) > 15
    hand.click("pick.page.left_hand")
    hand.until(lambda: sheet.page.key == "left hand")
    hand.bot.mouseClick(sheet, LEFT, pos=at("hand.l.index.2"))
    assert session.selection.ids == ("hand.l.index.2",)


def test_the_pick_card_is_walked_by_arrow_keys(posing):
    hand, session = posing, posing.session
    sheet = card(hand)
    sheet.setFocus()
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_Up):
        QTest.keyClick(sheet, key)
    assert sheet.focused
    QTest.keyClick(sheet, Qt.Key.Key_Return)
    assert session.selection.ids == (sheet.focused,)
    before = sheet.place(sheet.focused)
    QTest.keyClick(sheet, Qt.Key.Key_Down)
    assert sheet.place(sheet.focused)[1] > before[1]


def test_a_button_is_arranged_by_hand_and_limbs_switch_from_the_card(posing):
    hand, session = posing, posing.session
    sheet = card(hand)
    hand.click("pick.arranging")
    x, y = sheet.place("spine.head")
    pulled(sheet, QPoint(round(x), round(y)), (60, 20))
    assert session.character.card and session.character.card[0].control == "spine.head"
    assert session.history.undo_name == "Place head_fk on the pick card"
    hand.bot.wait(100)
    assert sheet.place("spine.head") == pytest.approx((x + 60, y + 20), abs=3)
    hand.click("pick.arranging")
    before = joints(hand)
    hand.click("pick.limb.arm.l")
    assert session.character.rig.value(session.character.pose, ("arm.l.goal", "blend")) == 1.0
    assert np.abs(joints(hand) - before).max() < 1e-6
    session.select("control", "arm.l.goal")
    hand.until(lambda: hand.value("pick.space").isEnabled() and hand.value("pick.space").count() > 1)


def test_the_pick_card_has_a_window_of_its_own(posing):
    hand, session = posing, posing.session
    card(hand)
    hand.click("pick.apart")
    hand.until(lambda: "pick.window" in hand.window.windows.shown and hand.window.windows.shown["pick.window"].isVisible())
    window = hand.window.windows.shown["pick.window"]
    assert window.isWindow() and window.windowTitle().startswith("Pick card")
    sheet = window.findChild(Sheet)
    hand.until(lambda: sheet.page is not None)
    hand.bot.wait(60)
    x, y = sheet.place("spine.head")
    hand.bot.mouseClick(sheet, LEFT, pos=QPoint(round(x), round(y)))
    assert session.selection.ids == ("spine.head",)
    window.close()
    assert not session.c.state.settings.of(PickSettings).open
    hand.c.store.put_setting(PickSettings, apart=False)


# The check, the Animator's view, a closed rig


def test_the_check_lists_shows_and_mends(posing):
    hand, session = posing, posing.session
    build(hand)
    document = edits.switch_channels(session.history.present, ["arm.l.upper.fk", "arm.r.upper.fk"], ["rotate_x", "rotate_y", "rotate_z"], locked=True)
    session.commit("spoilt", document)
    open_card(hand, hand.card("controls.check"))
    hand.click("button.rig.check")
    hand.until(lambda: session.c.state.settings.of(CheckSettings).done and not session.jobs.busy)
    found = session.c.state.settings.of(CheckSettings).found
    assert {f.check for f in found} == {"locked"}
    hand.click("check.show.0")
    assert session.selection.ids == (found[0].control,)
    hand.click("button.rig.mend")
    hand.until(lambda: not session.jobs.busy and not session.c.state.settings.of(CheckSettings).found)
    assert "rotate_x" in session.character.rig.control("arm.l.upper.fk").free
    hand.until(lambda: hand.card("controls.check").note.text() == "all holds")


def test_in_the_animators_view_only_controls_are_picked_and_changed(posing):
    hand, session = posing, posing.session
    session.commit("kept", edits.keep_from_animators(session.history.present, ("arm.l.pole", "arm.r.pole")))
    build(hand)
    hand.key(Qt.Key.Key_E, SHIFT)
    assert session.c.state.viewing.animators
    hand.until(lambda: hand.card("controls.pose").isVisible() and not hand.card("controls.build").isVisible())
    ids, _ = hand.stage.things("control")
    assert "arm.l.pole" not in ids and "arm.l.goal" in ids
    kinds = {hand.stage.thing_at(x, y)[0] for x in range(20, hand.stage.width(), 30) for y in range(20, hand.stage.height(), 30)}
    assert kinds <= {"", "control"}
    tree = hand.window.drawer.tree
    hand.until(lambda: tree.topLevelItem(0) is not None and tree.topLevelItem(0).text(0) == "controls")
    rig = session.character.rig
    assert not session.try_edit("Build", lambda d: edits.shape_controls(d, ("body",), size=2.0))
    assert session.character.rig is rig and "Animator's view" in hand.window.frame_.note.text()
    assert session.try_edit("Pose", lambda d: edits.set_channels(d, "body", move_y=-0.1))
    # Another area is not for animators.
    session.go(Area.WEIGHTS)
    assert not session.c.state.viewing.animators


def test_a_closed_rig_says_so_and_is_opened_by_a_step_that_tells_what_is_at_stake(posing):
    hand, session = posing, posing.session
    hand.c.actions.run("rig.close")
    hand.idle()
    assert session.character.closed and session.history.undo_name == "Close the rig"
    assert not session.try_edit("x", lambda d: edits.shape_controls(d, ("body",), size=2.0))
    assert "closed" in hand.window.frame_.note.text()
    session.go(Area.JOINTS)
    assert not session.try_edit("x", lambda d: edits.rename_joint(d, "arm.l.end", "paw"))
    hand.window.answers.asked.clear()
    hand.c.actions.run("rig.open_up")
    assert "kept by name" in hand.window.answers.asked[-1]
    assert not session.character.closed and session.history.undo_name == "Open the rig up"
    session.undo()
    assert session.character.closed


# The skin


def pixel(hand, point):
    x, y, _ = hand.stage.camera.project(np.array(point), *hand.stage.size_in_points)[0]
    return QPoint(round(x), round(y))


def test_the_skin_is_led_the_feet_stay_and_it_is_one_step_on_the_controls(posing):
    hand, session = posing, posing.session
    hand.key(Qt.Key.Key_V, SHIFT)
    assert session.tool == Tool.SKIN
    skeleton = session.character.skeleton
    wrist, feet = skeleton.index[skeleton.by_name("l_hand").id], [skeleton.index[skeleton.by_name(n).id] for n in ("l_foot", "r_foot")]
    before = joints(hand).copy()
    at = pixel(hand, before[wrist, :3, 3])
    part, hit = hand.stage.surface_at(at.x(), at.y())
    vertex = hand.stage.vertex_under(part, hit)
    start = pixel(hand, session.frame().points[part.id][vertex])
    steps = len(session.history.steps) if hasattr(session.history, "steps") else None
    hand.drag(at, (-30, -60))
    after = joints(hand)
    assert np.linalg.norm(after[wrist, :3, 3] - before[wrist, :3, 3]) > 0.1
    assert np.abs(after[feet] - before[feet]).max() < 1e-3
    assert session.history.undo_name == "Pose by the skin: l_hand"
    assert session.character.pose.values and all(r in session.character.rig.slots.index for r in session.character.pose.values)
    assert steps is None or len(session.history.steps) == steps + 1
    there = pixel(hand, session.frame().points[part.id][vertex])
    assert abs(there.x() - start.x() + 30) < 8 and abs(there.y() - start.y() + 60) < 8, "it is where the pointer let go"
    session.undo()
    assert np.abs(joints(hand) - before).max() < 1e-12


def test_a_click_pins_a_hand_and_another_lets_it_go(posing):
    hand, session = posing, posing.session
    hand.key(Qt.Key.Key_V, SHIFT)
    skeleton = session.character.skeleton
    wrist, palm = skeleton.by_name("r_hand"), skeleton.by_name("r_middle_1")
    at = pixel(hand, joints(hand)[skeleton.index[palm.id], :3, 3])
    hand.bot.mouseClick(hand.stage, LEFT, pos=at)
    assert session.c.state.tooling.pins == {wrist.id}
    before = joints(hand).copy()
    chest = skeleton.index[skeleton.by_name("chest").id]
    hand.drag(pixel(hand, before[chest, :3, 3] + [0, 0, 0.1]), (20, 30))
    after = joints(hand)
    assert np.linalg.norm(after[chest, :3, 3] - before[chest, :3, 3]) > 0.01
    i = skeleton.index[wrist.id]
    assert np.abs(after[i] - before[i]).max() < 5e-3
    hand.bot.mouseClick(hand.stage, LEFT, pos=pixel(hand, after[skeleton.index[palm.id], :3, 3]))
    assert not session.c.state.tooling.pins


def test_a_drag_of_the_skin_is_dropped_by_escape(posing):
    hand, session = posing, posing.session
    hand.key(Qt.Key.Key_V, SHIFT)
    skeleton = session.character.skeleton
    before = joints(hand).copy()
    at = pixel(hand, before[skeleton.index[skeleton.by_name("l_hand").id], :3, 3])
    QTest.mousePress(hand.stage, LEFT, NONE, at)
    hand._move(at + QPoint(-40, -40), LEFT, NONE)
    assert np.abs(joints(hand) - before).max() > 0.01
    hand.key(Qt.Key.Key_Escape)
    QTest.mouseRelease(hand.stage, LEFT, NONE, at + QPoint(-40, -40))
    assert np.abs(joints(hand) - before).max() < 1e-12
    assert not session.character.pose.values


# Bodies


def test_a_body_is_kept_and_worn_by_the_next_mesh(posing):
    hand, session = posing, posing.session
    session.go(Area.JOINTS)
    hand.c.actions.run("body.keep")
    name = session.character.name
    raw = edits.bring_in(Document(), session.character.parts, name="next", materials=session.character.materials, images=session.character.images)
    session.start_with(raw, None)
    session.go(Area.JOINTS)
    hand.card("joints.find").set_open(True)
    hand.card("joints.find").look_anew()
    box = hand.value("joints.own_body")
    assert box.findData(name) >= 0 or box.findText(name) >= 0
    box.setCurrentIndex(max(box.findData(name), box.findText(name)))
    hand.c.actions.run("body.wear")
    hand.idle()
    assert session.character.rig is not None and len(session.character.skeleton.joints) == 52
    assert session.history.undo_name.startswith("Wear")
    session.undo()
    assert session.character.rig is None
