"""Channels, couplings, follow-through, faces and props through the real window."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFormLayout

from pegloom.app.areas.controls.settings import HoldSettings, Work, WorkSettings
from pegloom.app.areas.controls.settings_made import ChannelSettings, CouplingSettings, FaceSettings
from pegloom.app.state.state import Area
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.couplings import What
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.edits import Read
from pegloom.document.model import Morph
from pegloom.files.expressions import read_expressions
from tests.app.test_controls_by_hand import build, choose, controls, held, joints, open_card, pin_and_pick  # noqa: F401


def type_into(hand, name, text, *, enter=True):
    field = hand.value(name)
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    if enter:
        QTest.keyClick(field, Qt.Key.Key_Return)
    hand.session.settle()


def rig(hand):
    return hand.session.character.rig


def test_channels_are_added_locked_for_all_picked_and_show_parts(controls):  # noqa: F811
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.channels"))
    session.select("control", "spine.head")
    type_into(hand, "controls.channel_title", "hat on")
    hand.c.store.put_setting(ChannelSettings, quantity=Quantity.SWITCH)
    hand.click("controls.add_channel")
    hand.until(lambda: rig(hand).control("spine.head").channel("hat_on") is not None)
    table = hand.value("controls.channel_table")
    rows = {table.item(r, 0).text(): r for r in range(table.rowCount())}
    assert "hat on" in rows
    # A tick of one channel goes to all that is picked.
    session.select("control", "arm.l.upper.fk")
    session.select("control", "arm.r.upper.fk", add=True)
    session.settle()
    rows = {table.item(r, 0).text(): r for r in range(table.rowCount())}
    table.item(rows["rotate z"], 1).setCheckState(Qt.CheckState.Checked)
    hand.until(lambda: all("rotate_z" not in rig(hand).control(f"arm.{s}.upper.fk").free for s in "lr"))
    # Limits are typed, in degrees.
    table.item(rows["rotate x"], 4).setText("45")
    hand.until(lambda: rig(hand).control("arm.r.upper.fk").channel("rotate_x").high is not None)
    assert rig(hand).control("arm.r.upper.fk").channel("rotate_x").high == pytest.approx(np.radians(45))
    # The hat is seen while the switch is on.
    session.select("control", "spine.head")
    session.settle()
    rows = {table.item(r, 0).text(): r for r in range(table.rowCount())}
    table.selectRow(rows["hat on"])
    hat = next(p for p in session.character.parts if "hat" in p.name)
    hand.c.store.put_setting(ChannelSettings, shown_thing=hat.id)
    session.settle()
    hand.click("controls.show_by")
    hand.until(lambda: len(rig(hand).shows) == 1)
    assert hat.id not in {p.id for p in hand.c.frames.seen_parts}
    hand.click("controls.work.pose")
    choose(hand.value("tag.hat_on"), 1)
    hand.until(lambda: hat.id in {p.id for p in hand.c.frames.seen_parts})


def test_a_coupling_is_made_by_a_pick_and_its_pane_shows_each_change_live(controls):  # noqa: F811
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.couplings"))
    session.select("control", "spine.head")
    pin_and_pick(hand, "controls.couplings", "controls.coupling_source", "arm.r.goal")
    hand.until(lambda: session.settings(CouplingSettings).source == "arm.r.goal")
    hand.c.store.put_setting(CouplingSettings, drives="rotate_z")
    hand.until(lambda: hand.value("controls.coupling_channel").findData("move_y") > 0)
    choose(hand.value("controls.coupling_channel"), "move_y")
    before = joints(hand)
    hand.click("controls.couple")
    hand.until(lambda: session.settings(CouplingSettings).open.startswith("couple."))
    assert np.abs(joints(hand) - before).max() < 1e-9
    told = session.settings(CouplingSettings).open
    # It stays while other things are picked.
    session.select("control", "arm.l.goal")
    assert hand.value("coupling.title").isVisible() and "head_fk" in hand.value("coupling.title").text()
    pose = edits.set_pose(session.history.present, Pose({("arm.r.goal", "move_y"): 0.2}))
    session.commit("pose", pose)
    slot = rig(hand).slots.index["spine.head", "rotate_z"]
    steps = len(session.history.steps)
    # A formula that is wrong says where, and nothing is changed by it.
    type_into(hand, "coupling.formula", "x * (", enter=False)
    assert "character" in hand.value("coupling.error").text()
    type_into(hand, "coupling.formula", "x + nobody", enter=False)
    assert "no reading nobody" in hand.value("coupling.error").text() and "▸nobody" in hand.value("coupling.error").text()
    assert len(session.history.steps) == steps
    # One that is right shows at once, and is a step when it is left.
    type_into(hand, "coupling.formula", "x * 3", enter=False)
    assert hand.c.frames.frame().values[slot] == pytest.approx(0.6) and len(session.history.steps) == steps
    QTest.keyClick(hand.value("coupling.formula"), Qt.Key.Key_Return)
    hand.until(lambda: len(session.history.steps) == steps + 1)
    assert rig(hand).coupling(told).formula == "x * 3"
    # A curve, dragged by a point.
    hand.click("coupling.curved")
    hand.until(lambda: rig(hand).coupling(told).curve is not None)
    box = hand.value("coupling.curve")
    curve = rig(hand).coupling(told).curve
    start = box.to_pixel(float(curve.times[1]), float(curve.values[1])).toPoint()
    QTest.mousePress(box, Qt.MouseButton.LeftButton, pos=start)
    box.mouseMoveEvent(_moved(box, start + QPointF(0, -25).toPoint()))
    live = hand.c.state.document.character.rig.coupling(told).curve
    assert live.values[1] > curve.values[1] and rig(hand) is not None
    QTest.mouseRelease(box, Qt.MouseButton.LeftButton, pos=start + QPointF(0, -25).toPoint())
    hand.until(lambda: session.history.present.character.rig.coupling(told).curve.values[1] > curve.values[1])
    session.undo()
    hand.click("coupling.drop")
    hand.until(lambda: not any(c.id == told for c in rig(hand).couplings))


def _moved(widget, at):
    where = QPointF(at)
    return QMouseEvent(QEvent.Type.MouseMove, where, widget.mapToGlobal(where), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)


def test_what_is_driven_looks_driven_and_leads_to_its_driver(controls):  # noqa: F811
    hand, session = controls, controls.session
    document, _ = edits.couple(session.history.present, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_x")], gain=0.5, name="nod")
    document = edits.set_pose(document, Pose({("spine.neck", "rotate_x"): 0.4}))
    session.commit("coupled", document)
    session.select("control", "spine.head")
    box = hand.value("tag.rotate_x")
    hand.until(lambda: box.value() == pytest.approx(np.degrees(0.2), abs=0.01))
    assert box.property("driven") and "nod" in box.toolTip()
    # A number typed is what it comes to: the hand's share is what is left.
    box.setValue(30.0)
    hand.until(lambda: session.character.pose.values.get(("spine.head", "rotate_x")) == pytest.approx(np.radians(30) - 0.2))
    caption = box.parentWidget().findChild(QFormLayout).labelForField(box)
    caption.linkActivated.emit("#")
    hand.until(lambda: session.selection.lead == "spine.neck")


def test_a_joint_is_held_by_a_constraint_made_in_the_view(controls):  # noqa: F811
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.hold"))
    session.select("joint", "leg.l.toes")
    hand.until(lambda: hand.card("controls.hold").note.text() == "l_toes")
    hand.c.store.put_setting(HoldSettings, target="joint:spine.chest")
    session.select("joint", "spine.neck")
    session.settle()
    hand.click("controls.hold_it")
    hand.until(lambda: len(held(hand)) == 1 or hand.window.frame_.note.text())
    assert held(hand)[0].held.id == "spine.neck" and held(hand)[0].targets[0].node.id == "spine.chest"
    hand.click("controls.work.pose")
    assert "joint" not in hand.stage.picker.kinds()


def test_a_chain_follows_through_live_and_is_baked(controls):  # noqa: F811
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.springs"))
    session.select("control", "hand.l.index.1")
    before = joints(hand)
    hand.click("button.controls.springs")
    hand.until(lambda: len(rig(hand).springs) == 1)
    assert np.abs(joints(hand) - before).max() < 1e-9
    group = rig(hand).spring_groups[0]
    slider = hand.value("controls.spring.stiffness")
    slider.setSliderDown(True)
    slider.setValue(30)
    hand.until(lambda: hand.c.state.document.character.rig.slots.rest[rig(hand).slots.index[group.stiffness]] < 60)
    stored = session.history.present.character.rig
    assert stored.slots.rest[stored.slots.index[group.stiffness]] == 160.0, "the drag is no step yet"
    slider.setSliderDown(False)
    slider.sliderReleased.emit()
    hand.until(lambda: session.history.present.character.rig.slots.rest[stored.slots.index[group.stiffness]] < 60)
    # Dragged, it lags; let go, it comes to rest by itself.
    hand.click("controls.work.pose")
    session.select("control", "body")
    point = hand.at("control", "body")
    QTest.mousePress(hand.stage, Qt.MouseButton.LeftButton, pos=point)
    for k in range(1, 7):
        hand._move(point + QPointF(14 * k, 0).toPoint(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        hand.bot.wait(30)
    assert hand.c.frames.live is not None
    QTest.mouseRelease(hand.stage, Qt.MouseButton.LeftButton, pos=point + QPointF(84, 0).toPoint())
    hand.until(lambda: (hand.stage.update(), hand.c.frames.frame(), hand.c.frames.live is None)[2])
    clip = session.character.clips[0]
    session.c.player.play_source(clip.id, 0.5)
    hand.c.actions.run("controls.bake_springs")
    hand.until(lambda: any(layer.name == "follow-through" for layer in session.character.clip(clip.id).layers))


def with_morphs(document):
    part = document.character.parts[0]
    deltas = np.zeros_like(part.mesh.points)
    deltas[part.mesh.points[:, 1] > 1.3, 2] = 0.01
    morphs = (Morph("grin", deltas), Morph("scowl", -deltas))
    return document.with_character(replace(document.character, expressions=(), parts=(replace(part, morphs=morphs), *document.character.parts[1:])))


def test_a_face_gets_a_handle_expressions_and_takes_them_to_a_file(controls, tmp_path):  # noqa: F811
    hand, session = controls, controls.session
    session.start_with(with_morphs(session.history.present), None)
    session.go(Area.CONTROLS)
    hand.click("controls.work.face")
    hand.until(lambda: session.settings(WorkSettings).work is Work.FACE)
    shown = [card for card in hand.window.benches[Area.CONTROLS].cards if card.isVisible()]
    assert {c.objectName() for c in shown} >= {"face.sliders", "face.expressions", "face.handles"}
    hand.card("face.handles").set_open(True)
    hand.c.store.put_setting(FaceSettings, name="mouth", up="grin", down="scowl")
    session.settle()
    hand.click("button.face.handle")
    hand.until(lambda: session.selection.kind == "control" and rig(hand).control(session.selection.lead).name == "mouth")
    mouth = session.selection.lead
    # Its place is picked on the mesh.
    before = rig(hand).control(mouth).matrix[:3, 3]
    hand.click("face.spot.pick")
    x, y, _ = hand.stage.camera.project(hand.c.frames.frame().joints[session.character.skeleton.index["spine.head"], :3, 3] + [0.0, 0.1, 0.0], *hand.stage.size_in_points)[0]
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
    hand.until(lambda: session.settings(FaceSettings).spot != "")
    hand.click("button.face.move")
    hand.until(lambda: np.abs(rig(hand).control(mouth).matrix[:3, 3] - before).max() > 0.01)
    assert abs(rig(hand).control(mouth).matrix[0, 3]) < 0.15
    rest = hand.c.frames.frame().points["part0"]
    slider = hand.value(f"face.{mouth}.move_y")
    slider.setSliderDown(True)
    slider.setValue(1000)
    hand.until(lambda: np.abs(hand.c.frames.frame().points["part0"] - rest).max() > 5e-3)
    slider.setSliderDown(False)
    slider.sliderReleased.emit()
    hand.until(lambda: (mouth, "move_y") in session.history.present.character.pose.values)
    hand.click("button.face.keep")
    hand.until(lambda: len(session.character.expressions) == 1)
    kept = session.character.expressions[0]
    assert kept.picture is not None and kept.values[mouth, "move_y"] > 0
    session.commit("rest", edits.set_pose(session.history.present, Pose()))
    hand.c.store.put_setting(FaceSettings, amount=0.5)
    session.settle()
    hand.click(f"face.add.{kept.id}")
    hand.until(lambda: session.character.pose.values.get((mouth, "move_y")) == pytest.approx(0.5 * kept.values[mouth, "move_y"]))
    hand.window.ask.save_path = str(tmp_path / "faces.json")
    hand.click("button.face.save")
    assert read_expressions(tmp_path / "faces.json")[0][0] == kept.name
    session.commit("none", edits.drop_expression(session.history.present, kept.id))
    hand.window.ask.open_path = str(tmp_path / "faces.json")
    hand.click("button.face.load")
    hand.until(lambda: len(session.character.expressions) == 1 or hand.window.frame_.note.text())
    assert len(session.character.expressions) == 1, hand.window.frame_.note.text()


def test_a_prop_is_taken_and_let_go_over_a_clip(controls):  # noqa: F811
    hand, session = controls, controls.session
    document, prop = edits.draw_joint(session.history.present, (0.4, 1.0, 0.3), parent="root", name="lamp", both_sides=False, tail=(0.4, 1.0, 0.5))
    session.start_with(edits.build_controls(document), None)
    session.go(Area.CONTROLS)
    clip = session.character.clips[0]
    session.c.player.play_source(clip.id, 1.0)
    lamp = next(d.node.id for d in rig(hand).drives if d.joint == prop)
    session.select("control", "arm.l.goal")
    session.select("control", lamp, add=True)
    hand.c.actions.run("hold.take")
    hand.until(lambda: any(ref[0] == lamp for ref in session.character.clip(clip.id).curves))
    assert "is held by" in hand.window.frame_.note.text()
    session.select("control", lamp)
    session.c.player.go_to(2.0)
    hand.c.actions.run("hold.let_go")
    weight = next(k for k in session.character.clip(clip.id).curves if k[0] == lamp and k[1].startswith("follow_"))
    curve = session.character.clip(clip.id).curves[weight]
    assert curve.at(0.5) == 0.0 and curve.at(1.5) == 1.0 and curve.at(2.5) == 0.0


def test_what_is_measured_can_be_chosen_in_the_card(controls):  # noqa: F811
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.couplings"))
    session.select("control", "spine.head")
    hand.c.store.put_setting(CouplingSettings, drives="rotate_z", source="joint:leg.l.lower", what=What.TURN, source_channel="x")
    session.settle()
    hand.click("controls.couple")
    hand.until(lambda: session.settings(CouplingSettings).open.startswith("couple."))
    one = rig(hand).coupling(session.settings(CouplingSettings).open)
    assert one.readings[0].measure.what is What.TURN and one.readings[0].measure.axis == (1.0, 0.0, 0.0)
    # Without what it needs it says so.
    hand.c.store.put_setting(CouplingSettings, source="")
    session.settle()
    hand.click("controls.couple")
    hand.until(lambda: "Fill in what is read" in hand.window.frame_.note.text())
