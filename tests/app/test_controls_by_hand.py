"""Controls built and posed in the window: trials spring back, IK and constraints by hand, spaces, everything mirrored."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QWidget

from pegloom.app.areas.controls.settings import HoldSettings, Ik, IkSettings, Work, WorkSettings
from pegloom.app.state.state import Area, Tool
from pegloom.app.widgets.card import Card
from pegloom.core.rig.constraints import Follow
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.solvers import BendIk, BodyIk, LimbIk
from pegloom.document import edits
from pegloom.files.project import open_project
from tests.support.figures import DEMO


@pytest.fixture
def controls(rigged):
    """Wick with controls of today's recipe, at rest, in Controls."""
    session = rigged.session
    document = edits.set_pose(edits.build_controls(session.history.present), Pose())
    session.start_with(document, None)
    session.go(Area.CONTROLS)
    rigged.stage.show_all()
    rigged.bot.wait(50)
    return rigged


def open_card(hand, card) -> None:
    """The card alone, unfolded and in sight."""
    for other in hand.window.findChildren(Card):
        if other.objectName().startswith("controls.") and other.isVisible() and not other.head.isHidden():
            other.set_open(other is card)
    hand.session.settle()


def build(hand):
    hand.click("controls.work.build")
    hand.until(lambda: hand.session.settings(WorkSettings).work is Work.BUILD)


def choose(box: QComboBox, data) -> None:
    box.setCurrentIndex(box.findData(data))
    box.activated.emit(box.currentIndex())


def shown(hand, name):
    """A pane, made when it is first wanted."""
    hand.until(lambda: (found := hand.window.findChild(QWidget, name)) is not None and found.isVisible())
    return hand.window.findChild(QWidget, name)


def held(hand):
    """Constraints made by hand that are no spaces."""
    return [c for c in hand.session.character.rig.constraints if c.id.startswith("hold.") and not c.spaces]


def joints(hand):
    return hand.c.frames.frame().joints


def pin_and_pick(hand, card, field, control):
    """Keep a card on what is picked, then fill one of its fields by a click on a control in the view."""
    hand.card(card).pin.click()
    hand.click(f"{field}.pick")
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=hand.at("control", control))


def test_what_is_dragged_while_building_springs_back_and_stays_while_posing(controls):
    hand, session = controls, controls.session
    before = joints(hand)
    session.select("control", "body")
    session.set_view(tool=Tool.PICK)
    build(hand)
    hand.until(lambda: "spring back" in hand.value("hint").text())
    hand.drag(hand.at("control", "body"), (60, 30))
    hand.until(lambda: "sprang back" in hand.window.frame_.note.text())
    hand.until(lambda: np.abs(joints(hand) - before).max() < 1e-12)
    assert not session.character.pose.values
    hand.click("controls.work.pose")
    hand.drag(hand.at("control", "body"), (60, 30))
    hand.until(lambda: np.abs(joints(hand) - before).max() > 1e-3)
    assert session.character.pose.values


def test_posing_shows_four_cards_at_most_and_no_tag_outgrows_the_view(controls):
    hand, session = controls, controls.session
    cards = hand.window.findChildren(Card)
    shown = [card.objectName() for card in cards if card.isVisible() and not card.head.isHidden()]
    assert 2 <= len(shown) <= 4, shown
    build(hand)
    hand.until(lambda: hand.card("controls.ik").isVisible() and not hand.card("controls.pose").isVisible())
    tag, stage = hand.window.frame_.tag, hand.stage
    for control in session.character.rig.controls:
        session.select("control", control.id)
        hand.until(lambda c=control: tag.isVisible() and tag.name.text() == c.name)
        for title in list(tag.groups):
            if tag.open_group != title:
                tag.groups[title][0].click()
            assert tag.height() < stage.height(), (control.id, title)
            assert tag.geometry().bottom() <= stage.height()


def test_a_control_out_of_use_says_why_and_offers_the_switch(controls):
    hand, session = controls, controls.session
    session.commit("pose", edits.set_pose(session.history.present, Pose({("arm.l.upper.fk", "rotate_z"): 0.6, ("arm.l.lower.fk", "rotate_x"): 0.8})))
    session.select("control", "arm.l.goal")
    hand.until(lambda: hand.value("tag.state").text() == "out of use: left arm on FK")
    before = joints(hand)
    hand.click("button.controls.use")
    hand.until(lambda: session.character.rig.value(session.character.pose, ("arm.l.goal", "blend")) == 1.0)
    hand.until(lambda: hand.value("tag.state").text() == "in use")
    assert np.abs(joints(hand) - before).max() < 1e-6 * session.character.height
    hand.c.actions.run("controls.use")
    assert "in use already" in hand.window.frame_.note.text()
    session.select("control", "arm.r.goal")
    session.set_view(tool=Tool.PICK)
    hand.drag(hand.at("control", "arm.r.goal"), (30, 20))
    hand.until(lambda: "moves nothing while right arm is on FK" in hand.window.frame_.note.text())
    hand.click("note.offer")
    hand.until(lambda: session.character.rig.value(session.character.pose, ("arm.r.goal", "blend")) == 1.0)


def test_ik_is_put_on_picked_turners_and_dropped_again(controls):
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.ik"))
    hand.click("button.controls.add_ik")
    hand.until(lambda: "first and the last turner" in hand.window.frame_.note.text() or "Pick" in hand.window.frame_.note.text())
    session.select("control", "hand.l.index.1")
    session.select("control", "hand.l.index.3", add=True)
    hand.until(lambda: hand.value("controls.ik_chosen").text() == "l_index_1_fk to l_index_3_fk")
    before = joints(hand)
    hand.click("button.controls.add_ik")
    hand.until(lambda: session.selection.ids and session.selection.lead.startswith("own."))
    assert np.abs(joints(hand) - before).max() < 1e-9
    solver = session.character.rig.solvers[-1]
    assert session.character.rig.value(session.character.pose, solver.amount) == 1.0
    hand.c.store.put_setting(IkSettings, kind=Ik.CURVE)
    hand.click(f"controls.drop.{solver.id}")
    hand.until(lambda: solver.id not in {s.id for s in session.character.rig.solvers})
    session.undo()
    assert solver.id in {s.id for s in session.character.rig.solvers}


def test_a_constraint_is_made_by_a_pick_in_the_view_and_by_two_picked_controls(controls):
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.hold"))
    session.select("control", "arm.l.goal")
    pin_and_pick(hand, "controls.hold", "controls.hold_target", "arm.r.goal")
    hand.until(lambda: session.settings(HoldSettings).target == "arm.r.goal")
    session.select("control", "spine.head")
    before = joints(hand)
    hand.click("controls.hold_it")
    hand.until(lambda: len(held(hand)) == 1)
    made = held(hand)[0]
    assert made.held.id == "arm.l.goal" and made.targets[0].node.id == "arm.r.goal" and made.follow is Follow.PARENT
    assert np.abs(joints(hand) - before).max() < 1e-9
    session.select("control", "body")
    session.select("control", "arm.l.pole", add=True)
    hand.c.actions.run("controls.constrain")
    hand.until(lambda: len(held(hand)) == 2)
    # A loop is refused, and named.
    session.select("control", "arm.l.goal")
    session.select("control", "arm.r.goal", add=True)
    hand.c.actions.run("controls.constrain")
    hand.until(lambda: "loop" in hand.window.frame_.note.text() and "l_hand_goal" in hand.window.frame_.note.text())
    assert len(held(hand)) == 2


def test_spaces_are_switched_and_nothing_jumps(controls):
    hand, session = controls, controls.session
    pose = Pose({("arm.l.goal", "blend"): 1.0, ("body", "rotate_z"): 0.4, ("root", "rotate_y"): 0.7, ("arm.l.goal", "move_y"): 0.2})
    session.commit("pose", edits.set_pose(session.history.present, pose))
    session.select("control", "arm.l.goal")
    box = hand.value("controls.follows_space")
    hand.until(box.isEnabled)
    before = joints(hand)
    for space in ("chest", "world", ""):
        choose(box, space)
        hand.until(lambda s=space: hand.value("controls.follows_space").currentData() == s)
        assert np.abs(joints(hand) - before).max() < 1e-6


def test_what_bends_a_limb_is_chosen_at_any_time(hand):
    session = hand.session
    session.start_with(edits.build_controls(open_project(DEMO / "dumble.pegloom")), None)
    session.go(Area.CONTROLS)
    build(hand)
    open_card(hand, hand.card("controls.kits"))
    before = session.character.rig
    assert isinstance(before.solver("leg.l"), BendIk)
    choose(hand.value("controls.kit"), "leg.l")
    hand.until(lambda: hand.value("controls.kit").currentData() == "leg.l")
    rest = session.character.skeleton.world
    for words, kind in (("IK, two bones", LimbIk), ("IK with a hock", BendIk)):
        box = hand.value("controls.kit_solver")
        box.setCurrentIndex(box.findText(words))
        box.activated.emit(box.currentIndex())
        hand.until(lambda k=kind: isinstance(session.character.rig.solver("leg.l"), k))
        assert isinstance(session.character.rig.solver("leg.r"), kind), "both sides at once"
        assert np.abs(session.character.skeleton.world - rest).max() == 0.0


def test_the_whole_body_is_added_and_everything_is_mirrored(controls):
    hand, session = controls, controls.session
    build(hand)
    hand.c.actions.run("controls.add_body")
    hand.until(lambda: isinstance(session.character.rig.solvers[0], BodyIk))
    assert session.character.rig.value(session.character.pose, ("rig", "whole_body")) == 1.0
    before = joints(hand)
    session.commit("x", edits.constrain(session.history.present, "l_elbow_pole", ["head_fk"])[0])
    hand.c.actions.run("controls.mirror_left")
    hand.until(lambda: "Mirrored" in hand.window.frame_.note.text())
    assert len(held(hand)) >= 2
    assert np.abs(joints(hand) - before).max() < 1e-9


def test_limits_are_typed_and_taken_away_and_the_root_of_a_body_is_held(controls):
    hand, session = controls, controls.session
    build(hand)
    open_card(hand, hand.card("controls.limits"))
    session.select("control", "hand.l.index.2")
    hand.until(lambda: hand.value("controls.limit.high.x").isEnabled())
    hand.value("controls.limit.high.x").setValue(90)
    hand.until(lambda: "hand.l.index.2" in session.character.rig.limit_of)
    hand.value("controls.limit.stiffness.y").setValue(50)
    hand.until(lambda: session.character.rig.limit_of["hand.l.index.2"].stiffness == (0.0, 0.5, 0.0))
    assert abs(session.character.rig.limit_of["hand.l.index.2"].high[0] - np.pi / 2) < 1e-9
    hand.click("controls.limit.free")
    hand.until(lambda: "hand.l.index.2" not in session.character.rig.limit_of)
    hand.c.actions.run("controls.add_body")
    hand.click("controls.work.pose")
    card = hand.card("controls.limbs")
    hand.until(lambda: card.root is not None and card.root.isVisible())
    card.root.slider.setValue(card.root.slider.maximum())
    card.root.slider.sliderReleased.emit()
    hand.until(lambda: session.character.rig.value(session.character.pose, ("rig", "root_held")) == 1.0)


def test_a_copy_of_the_character_is_tried_and_left_again(controls):
    hand, session = controls, controls.session
    name = session.character.name
    hand.c.actions.run("character.duplicate")
    hand.until(lambda: session.character.name == f"{name} 2")
    session.commit("x", edits.drop_controls(session.history.present))
    hand.c.actions.run("character.next")
    hand.until(lambda: session.character.name == name and session.character.rig is not None)
    assert joints(hand) is not None
    session.undo()
    hand.until(lambda: session.character.rig is None)


def test_a_goal_that_is_not_met_says_by_how_much(controls):
    hand, session = controls, controls.session
    session.commit("pose", edits.set_pose(session.history.present, Pose({("arm.l.goal", "blend"): 1.0, ("arm.l.goal", "move_x"): 2.0})))
    session.select("control", "arm.l.goal")
    hand.until(lambda: "missed by" in hand.value("tag.state").text())
    session.commit("pose", edits.set_pose(session.history.present, Pose({("arm.l.goal", "blend"): 1.0, ("arm.l.goal", "move_y"): 0.02})))
    hand.until(lambda: hand.value("tag.state").text() == "in use")


def test_a_constraint_has_a_pane_that_stays_on_it_and_shows_each_change_at_once(controls):
    hand, session = controls, controls.session
    build(hand)
    session.select("control", "arm.r.goal")
    session.select("control", "arm.l.goal", add=True)
    hand.c.actions.run("controls.constrain")
    pane = shown(hand, "hold")
    hand.until(lambda: hand.value("hold.title").text() == "l_hand_goal follows")
    made = held(hand)[0]
    # It stays on its constraint while other things are picked.
    session.select("control", "spine.head")
    hand.until(lambda: hand.value("hold.title").text() == "l_hand_goal follows")
    # A field is filled by a pick in the view.
    hand.click("hold.more.pick")
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=hand.at("control", "body"))
    hand.until(lambda: hand.value("hold.more").currentData() == "body")
    hand.click("hold.add")
    hand.until(lambda: [t.node.id for t in held(hand)[0].targets] == ["arm.r.goal", "body"])
    # Dragging a share shows it before it is let go, and one undo takes it back.
    pose = Pose({("body", "move_y"): -0.1})
    session.commit("pose", edits.set_pose(session.history.present, pose))
    hand.until(lambda: hand.value("hold.share.2") is not None)
    index = session.character.rig.index["arm.l.goal"]
    before, steps = hand.c.frames.frame().controls[index].copy(), len(session.history.steps)
    slider = hand.value("hold.share.2")
    slider.setSliderDown(True)
    slider.setValue(1000)
    hand.until(lambda: np.abs(hand.c.frames.frame().controls[index] - before).max() > 0.01)
    assert len(session.history.steps) == steps, "not a step yet"
    slider.setSliderDown(False)
    hand.until(lambda: len(session.history.steps) == steps + 1)
    share = held(hand)[0].targets[1].weight
    assert session.character.rig.value(Pose(), share) == 1.0
    choose(hand.value("hold.follow"), Follow.POSITION)
    hand.until(lambda: held(hand)[0].follow is Follow.POSITION)
    hand.click("hold.axis.x")
    hand.until(lambda: held(hand)[0].axes == "yz")
    hand.click("hold.less.1")
    hand.until(lambda: [t.node.id for t in held(hand)[0].targets] == ["body"])
    # It opens from where its thing is picked, too.
    hand.click("hold.close")
    hand.until(lambda: not pane.isVisible())
    session.select("control", "arm.l.goal")
    hand.until(hand.window.frame_.tag.isVisible)
    hand.click("button.controls.edit_hold")
    hand.until(lambda: pane.isVisible())
    hand.click("hold.drop")
    hand.until(lambda: not held(hand) and not pane.isVisible())
    assert made.id not in {c.id for c in session.character.rig.constraints}


def test_ik_has_a_pane_with_what_it_rests_at_and_its_joints_limits(controls):
    hand, session = controls, controls.session
    build(hand)
    session.select("control", "hand.l.index.1")
    session.select("control", "hand.l.index.3", add=True)
    hand.c.actions.run("controls.add_ik")
    pane = shown(hand, "ik")
    hand.until(lambda: "l_index" in hand.value("ik.title").text().lower())
    solver = session.character.rig.solvers[-1]
    assert hand.value("ik.met").text() == "its goals are met"
    box = hand.value("ik.joint")
    box.setCurrentIndex(box.findData("hand.l.index.2"))
    hand.until(lambda: hand.value("ik.joint").currentData() == "hand.l.index.2")
    hand.value("ik.limit.high.x").setValue(30)
    hand.until(lambda: "hand.l.index.2" in session.character.rig.limit_of)
    slider = hand.value("ik.rest.2")
    slider.setValue(1000)
    hand.until(lambda: session.character.rig.value(Pose(), solver.stretch) == 1.0)
    hand.click("ik.use")
    hand.until(lambda: session.character.rig.value(session.character.pose, solver.amount) == 0.0)
    # Opened for a built limb from its goal; the other pane makes way.
    session.select("control", "leg.l.goal")
    hand.c.actions.run("controls.edit_ik")
    hand.until(lambda: hand.value("ik.title").text() == "Left leg" and not hand.value("ik.limit.high.x").isVisible())
    hand.c.actions.run("controls.edit_hold")
    hand.until(lambda: hand.value("hold").isVisible() and not pane.isVisible())
