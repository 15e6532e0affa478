"""A road without a map: the next step is always in view, the figure shows what was done, and nothing has to be known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QApplication, QSplitter, QWidget

from pegloom.app.areas.weights.judged import PANE
from pegloom.app.areas.weights.settings import BindSettings
from pegloom.app.dialogs.question import ChoiceSheet, QuestionSheet, ask_name, ask_share
from pegloom.app.panels.next_step import GuideSettings
from pegloom.app.state.kept import keep_layout, read_layout, read_usual
from pegloom.app.state.state import RANGE_TEST, Area
from pegloom.core.motion.trials import trials_of
from tests.app.conftest import find
from tests.support.figures import as_mesh, document_of, human, wick


def do_next(hand, says):
    button = hand.value("next.do")
    hand.until(lambda: says in button.text())
    hand.click("next.do")
    hand.idle()


def test_the_next_step_leads_from_a_mesh_to_an_export(hand, tmp_path):
    session = hand.session
    hand.window.answers.save_path = str(tmp_path / "out.glb")
    assert hand.value("next.do").text() == "Next: import a mesh"
    session.start_with(document_of(as_mesh(human(down=0.3)[0])), None)
    session.go(Area.MESH)
    do_next(hand, "stand it up")
    assert session.character.standing is not None
    do_next(hand, "find pegs, in Joints")
    assert session.area == Area.JOINTS and session.character.pegs is not None
    hand.until(lambda: "weak" in hand.value("next.words").text())
    do_next(hand, "build joints")
    do_next(hand, "bind the skin, in Weights")
    assert session.character.skin is not None
    do_next(hand, "build controls, in Controls")
    assert session.area == Area.CONTROLS and session.character.rig is not None
    do_next(hand, "try it with a sample clip, in Motion")
    do_next(hand, "export it, in Handover")
    hand.until(lambda: (tmp_path / "out.glb").is_file())


def test_the_next_step_is_in_view_however_far_the_cards_are_scrolled(rigged):
    for area in Area:
        rigged.session.go(area)
        button = rigged.value("next.do")
        assert button.visibleRegion().boundingRect() == button.rect()


def test_after_a_bind_the_figure_moves_and_asks(rigged):
    hand, session = rigged, rigged.session
    hand.c.store.put_setting(BindSettings, shown_after=True)
    session.go(Area.WEIGHTS)
    hand.card("weights.bind").set_open(True)
    hand.click("button.weights.bind")
    hand.until(lambda: session.source == RANGE_TEST and session.playing)
    hand.until(lambda: session.time > 0.2)
    hand.click("judged.stop")
    hand.until(lambda: not session.playing)
    hand.click("judged.right")
    assert session.source == "" and PANE not in session.panes
    hand.click("button.weights.bind")
    hand.until(lambda: session.source == RANGE_TEST)
    hand.click("judged.back")
    hand.until(lambda: session.area == Area.JOINTS and not session.playing)
    session.go(Area.WEIGHTS)
    hand.click("button.weights.bind")
    hand.until(lambda: session.source == RANGE_TEST)
    hand.click("judged.never")
    assert not read_usual((BindSettings,)).of(BindSettings).shown_after
    hand.click("button.weights.bind")
    hand.idle()
    assert session.source == ""


def test_controls_show_what_was_built_and_not_a_trial(rigged):
    hand, session = rigged, rigged.session
    session.go(Area.WEIGHTS)
    hand.c.player.play_source(RANGE_TEST, 0.5)
    said = []
    session.said.connect(lambda text, *_: said.append(text))
    session.go(Area.CONTROLS)
    assert session.source == ""
    assert said == ["Showing the current pose; trials are on the strip"]
    hand.c.player.play_source(RANGE_TEST, 0.5)
    hand.c.actions.run("controls.build")
    hand.until(lambda: session.source == "")


def test_the_picture_makes_room_for_raised_arms(rigged):
    hand, session = rigged, rigged.session
    session.go(Area.WEIGHTS)
    stage, rest = hand.window.stage, session.character.skeleton.positions

    stage.cameras.frame(rest, stage.width() / stage.height())
    before = stage.camera.distance
    up = next(k for k, t in enumerate(trials_of(session.character.skeleton)) if t.id == "arm_up")
    hand.c.player.play_source(RANGE_TEST, (up + 0.5) * 40 / 30)
    hand.until(lambda: stage.camera.distance > before)
    x, y, _ = stage.camera.project(hand.c.frames.reached(), *stage.size_in_points).T
    assert x.min() > 0 and x.max() < stage.width() and y.min() > 0 and y.max() < stage.height()
    # Who looks at a shoulder goes on doing so.
    stage.camera = close = replace(stage.camera, distance=0.3 * stage.camera.distance)
    hand.c.player.play_source("")
    hand.c.player.play_source(RANGE_TEST)
    hand.idle()
    assert stage.camera == close


def test_walking_by_key_from_joint_to_joint(rigged):
    hand, session = rigged, rigged.session
    session.go(Area.JOINTS)
    session.select("joint", "arm.l.lower")
    alt = Qt.KeyboardModifier.AltModifier
    for key, wanted in (
        (Qt.Key.Key_Up, "arm.l.upper"), (Qt.Key.Key_Down, "arm.l.lower"), (Qt.Key.Key_Down, "arm.l.end"),
        (Qt.Key.Key_U, "arm.r.end"),
    ):  # fmt: skip
        hand.key(key, alt)
        assert session.selection.lead == wanted
    session.select("joint", "hand.l.index.1")
    hand.key(Qt.Key.Key_PageDown, alt)
    assert session.selection.lead == "hand.l.middle.1"
    session.go(Area.WEIGHTS)
    first = session.influence
    hand.key(Qt.Key.Key_I, alt)
    assert session.influence not in ("", first)
    assert session.selection.lead == session.influence


def test_the_strip_takes_no_room_while_it_has_nothing_to_show(hand):
    assert not hand.window.strip.isVisible()
    hand.session.start_with(document_of(as_mesh(human()[0])), None)
    assert not hand.window.strip.isVisible()
    hand.session.start_with(wick(), None)
    hand.until(lambda: hand.window.strip.isVisible())


def test_what_is_dragged_to_size_is_so_the_next_time(qapp, hand):
    hand.session.start_with(wick(), None)
    upper = find(hand.window, QSplitter, "upper")
    upper.setSizes([380, 900])
    upper.splitterMoved.emit(380, 1)
    hand.until(lambda: read_layout().get("upper", [0])[0] == upper.sizes()[0])
    from pegloom.app.window import Window

    other = Window(hand.window.answers)
    other.show()
    assert abs(find(other, QSplitter, "upper").sizes()[0] - upper.sizes()[0]) < 4
    assert other.close()
    keep_layout("upper", [-5, "wide"])
    assert "upper" not in read_layout(), "what is damaged counts as nothing"


def test_questions_say_what_will_happen(qapp, qtbot):
    sheet = QuestionSheet("The post has <b>unsaved</b> changes.", "Leave it without saving", "Stay here", None)
    qtbot.addWidget(sheet)
    assert [sheet.yes.text(), sheet.no.text()] == ["Leave it without saving", "Stay here"]
    assert sheet.no.isDefault(), "Return loses nothing"
    choice = ChoiceSheet("Which one?", ["a", "b"], None)
    qtbot.addWidget(choice)
    choice.list.setCurrentRow(1)
    assert choice.chosen == 1
    assert np.isfinite(sheet.sizeHint().width())
    # A name and a number are asked for in the same way.
    for ask, field, given, wanted in (
        (lambda: ask_name("Keep the pose", "trial 1", None), "field.name", "high wave", "high wave"),
        (lambda: ask_share("A rung", 0.3, None), "field.number", 0.45, 0.45),
    ):
        def fill_in(field=field, given=given):
            sheet = QApplication.activeModalWidget()
            box = sheet.findChild(QWidget, field)
            box.setText(given) if isinstance(given, str) else box.setValue(given)
            sheet.yes.click()

        QTimer.singleShot(50, fill_in)
        assert ask() == wanted
        QTimer.singleShot(50, lambda: QApplication.activeModalWidget().reject())
        assert not ask()


def test_a_guide_explains_what_is_missing_until_it_is_put_away(qapp, hand):
    session, says, count = hand.session, hand.value("next.guide"), hand.value("next.count")
    assert not says.isVisible(), "an empty window has a sheet of its own"
    session.start_with(document_of(as_mesh(human(down=0.3)[0])), None)
    hand.until(lambda: says.isVisible() and count.text() == "Step 1 of 5")
    session.start_with(wick(), None)
    hand.until(lambda: not says.isVisible()), "of what is done nothing is explained"
    session.start_with(document_of(as_mesh(human()[0])), None)
    hand.click("next.away")
    hand.until(lambda: not says.isVisible())
    assert not read_usual((GuideSettings,)).of(GuideSettings).shown
    assert hand.value("next.do").isVisible()


def test_a_tag_opens_clear_of_what_it_tells_of(rigged):
    hand, session = rigged, rigged.session
    session.go(Area.CONTROLS)
    stage, tag = hand.window.stage, hand.window.frame_.tag
    stage.camera = replace(stage.camera, distance=0.6 * stage.camera.distance)
    made_way = 0
    for control in session.character.rig.controls:
        session.select("control", control.id)
        hand.until(lambda: tag.isVisible())
        pixel = stage.pixel_of(tag.subject)
        if pixel is not None and stage.rect().contains(pixel):
            made_way += tag.y() != 64
            assert not tag.geometry().contains(pixel), control.id
    assert made_way, "some of them stand where it usually opens"
