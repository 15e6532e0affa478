"""Keys of the user's own, and tags that stay."""

import json
import sys

import numpy as np
import platformdirs
import pytest
from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QDoubleSpinBox,
    QLabel,
    QLineEdit,
    QScrollBar,
    QTreeWidget,
    QWidget,
)

from pegloom.app.dialogs.keysheet import KeySheet
from pegloom.app.state.kept import keep_keys, read_keys
from pegloom.app.state.state import Area, Tool
from pegloom.app.window import Window
from pegloom.document import edits
from tests.app.conftest import Answers, find, widgets


@pytest.fixture
def sheet(rigged):
    rigged.session.run("help.sheet")
    made = next(w for w in QApplication.topLevelWidgets() if isinstance(w, KeySheet))
    rigged.bot.waitExposed(made)
    yield made
    if not sip.isdeleted(made):
        made.close()


def row_of(sheet, action):
    table = sheet.table
    return next(r for r in range(table.rowCount()) if table.item(r, 0).data(Qt.ItemDataRole.UserRole) == action)


def give(rigged, sheet, action, key, modifiers=Qt.KeyboardModifier.NoModifier):
    """As a user does: the row, the button, the keys."""
    sheet.table.selectRow(row_of(sheet, action))
    rigged.bot.mouseClick(sheet.change, Qt.MouseButton.LeftButton)
    QTest.keyClick(sheet.table, key, modifiers)


def test_a_key_is_changed_works_at_once_and_is_kept(rigged, sheet):
    actions = rigged.window.actions_
    usual = actions.entries["tool.brush"].key
    give(rigged, sheet, "tool.brush", Qt.Key.Key_K, Qt.KeyboardModifier.AltModifier)
    assert actions.key("tool.brush") == "Alt+K"
    assert "Alt+K" in sheet.answer.text()
    assert "Alt+K" in actions.qactions["tool.brush"].toolTip()
    sheet.close()
    rigged.session.go(Area.WEIGHTS)
    rigged.session.set_view(tool=Tool.PICK)
    rigged.key(Qt.Key.Key_B)
    assert usual == "B" and rigged.session.tool is Tool.PICK, "the usual key is free now"
    rigged.key(Qt.Key.Key_K, Qt.KeyboardModifier.AltModifier)
    assert rigged.session.tool is Tool.BRUSH
    assert read_keys() == {"tool.brush": "Alt+K"}
    rigged.session.set_view(tool=Tool.PICK)
    assert "Alt+K takes the brush" in rigged.window.frame_.hint.words.toolTip(), "the hint names the key as it stands"


def test_a_taken_or_held_key_is_refused_in_words(rigged, sheet):
    actions = rigged.window.actions_
    before = actions.key("tool.brush")
    give(rigged, sheet, "tool.brush", Qt.Key.Key_M)
    assert actions.key("tool.brush") == before
    assert actions.entries["tool.move"].title in sheet.answer.text()
    give(rigged, sheet, "tool.brush", Qt.Key.Key_A)
    assert actions.key("tool.brush") == before and "evens out" in sheet.answer.text()
    give(rigged, sheet, "tool.brush", Qt.Key.Key_Escape)
    assert actions.key("tool.brush") == before
    assert read_keys() == {}


def test_keys_are_taken_away_and_come_back(rigged, sheet):
    actions = rigged.window.actions_
    sheet.table.selectRow(row_of(sheet, "tool.move"))
    rigged.bot.mouseClick(sheet.none, Qt.MouseButton.LeftButton)
    assert actions.key("tool.move") == ""
    give(rigged, sheet, "tool.brush", Qt.Key.Key_M)
    assert actions.key("tool.brush") == "M", "it is free now"
    sheet.table.selectRow(row_of(sheet, "tool.move"))
    rigged.bot.mouseClick(sheet.usual, Qt.MouseButton.LeftButton)
    assert actions.key("tool.move") == "", "its usual key is the brush's now"
    rigged.bot.mouseClick(sheet.all_usual, Qt.MouseButton.LeftButton)
    assert {a: actions.key(a) for a in ("tool.brush", "tool.move")} == {"tool.brush": "B", "tool.move": "M"}
    assert read_keys() == {}


def test_the_table_shows_the_mouse_too_and_is_searched(rigged, sheet):
    texts = [sheet.table.item(r, 1).text() for r in range(sheet.table.rowCount())]
    assert "right drag" in texts
    sheet.search.setText("weave")
    seen = [r for r in range(sheet.table.rowCount()) if not sheet.table.isRowHidden(r)]
    assert 0 < len(seen) < 30
    assert all("weave" in sheet.table.item(r, 0).text().lower() for r in seen)
    sheet.table.selectRow(texts.index("right drag"))
    assert not sheet.change.isEnabled()


def test_kept_keys_are_there_in_the_next_window_and_bad_ones_passed_by(qapp, qtbot, tmp_path):
    keep_keys({"tool.brush": "Alt+K", "no.such": "Q", "tool.move": "A", "tool.turn": "V"})
    window = Window(Answers(), autosave_folder=tmp_path / "autosave")
    try:
        actions = window.actions_
        assert actions.key("tool.brush") == "Alt+K"
        assert actions.key("tool.move") == "M", "A is held for evening out"
        assert actions.key("tool.turn") == "R", "V is taken"
        # One that is passed by does not come back on a usual key that another has been given.
        actions.rebind_all({"tool.move": "A", "tool.brush": "M"}, keep=False)
        assert (actions.key("tool.brush"), actions.key("tool.move")) == ("M", "")
        keys = [actions.key(a) for a in actions.entries if actions.key(a)]
        assert len(keys) == len(set(keys))
    finally:
        window.session.saved = window.session.history.present
        assert window.close()
        window.deleteLater()


@pytest.mark.parametrize("text", ["", "{", "[1, 2]", '{"tool.brush": 3}', "null"])
def test_a_damaged_file_of_keys_is_as_none(text):
    keep_keys({"x": "Y"})
    (platformdirs.user_data_path("pegloom") / "keys.json").write_text(text)
    assert read_keys() == {}
    keep_keys({"tool.brush": "K"})
    assert json.loads((platformdirs.user_data_path("pegloom") / "keys.json").read_text()) == {"tool.brush": "K"}


def test_a_pinned_tag_stays_while_another_joint_is_picked_and_still_edits_its_own(rigged):
    session, frame = rigged.session, rigged.window.frame_
    rigged.session.go(Area.JOINTS)
    session.select("joint", "arm.l.lower")
    rigged.click("tag.pin")
    assert not frame.tag.isVisible(), "one tag is enough for one joint"
    session.select("joint", "leg.r.lower")
    rigged.bot.wait(30)
    assert frame.tag.isVisible()
    names = [find(rigged.window, QLabel, f"{stem}.name").text() for stem in ("tag", "pinned.1")]
    assert names == [session.character.skeleton.joint(j).name for j in ("leg.r.lower", "arm.l.lower")]
    assert not frame.tag.geometry().intersects(frame.pinned[0].geometry())
    field = find(rigged.window, QDoubleSpinBox, "pinned.1.y")
    before = np.array(session.character.skeleton.joint("arm.l.lower").position)
    leg = session.character.skeleton.joint("leg.r.lower").position
    field.setValue(field.value() + 2.0)
    session.settle()
    after = np.array(session.character.skeleton.joint("arm.l.lower").position)
    assert after - before == pytest.approx([0, 0.02, 0], abs=1e-4)
    assert session.character.skeleton.joint("leg.r.lower").position == pytest.approx(leg)
    session.undo()
    assert field.value() == pytest.approx(100 * before[1], abs=0.006)


def test_pinned_tags_are_several_go_with_what_they_hold_and_are_let_go(rigged):
    session, frame = rigged.session, rigged.window.frame_
    rigged.session.go(Area.JOINTS)
    for joint in ("arm.l.lower", "arm.r.lower"):
        session.select("joint", joint)
        rigged.click("tag.pin")
    session.select("joint", "spine.head")
    rigged.bot.wait(30)
    shown = [frame.tag, *frame.pinned]
    assert all(tag.isVisible() for tag in shown) and len(shown) == 3
    assert not any(a.geometry().intersects(b.geometry()) for a in shown for b in shown if a is not b)
    session.try_edit("Delete", lambda d: edits.delete_joint(d, "arm.l.lower"))
    rigged.bot.wait(30)
    assert [tag.isVisible() for tag in frame.pinned] == [False, False], "the joints are gone on both sides"
    session.undo()
    rigged.bot.wait(30)
    assert all(tag.isVisible() for tag in frame.pinned)
    for stem in ("pinned.1", "pinned.2"):
        rigged.click(f"{stem}.pin")
    rigged.bot.wait(30)
    assert frame.pinned == []
    assert find(rigged.window, QWidget, "pinned.1.name") is None
    # What is gone hears no more of what changes.
    heard = []
    hook, sys.excepthook = sys.excepthook, lambda *error: heard.append(error)
    try:
        session.try_edit("Move", lambda d: edits.move_joint(d, "arm.l.lower", (0.4, 1.0, 0.0)))
        session.select("joint", "arm.l.lower")
        rigged.bot.wait(30)
    finally:
        sys.excepthook = hook
    assert not heard
    assert find(rigged.window, QLabel, "tag.name").text() == session.character.skeleton.joint("arm.l.lower").name


# By keyboard alone


@pytest.mark.parametrize("area", list(Area))
def test_everything_that_takes_input_is_reached_with_tab_and_has_a_name(rigged, area):
    rigged.session.go(area)
    for card in rigged.window.benches[area].cards:
        card.set_open(True)
    rigged.bot.wait(50)
    kinds = (QAbstractButton, QComboBox, QAbstractSpinBox, QLineEdit, QAbstractItemView, QAbstractSlider)
    inputs = [w for w in widgets(rigged.window) if isinstance(w, kinds) and w.isVisible() and w.objectName()]
    assert len(inputs) > 20
    for widget in inputs:
        if widget.objectName().startswith("qt_") or isinstance(widget.parent(), (QComboBox, QAbstractSpinBox)):
            continue
        if isinstance(widget, QScrollBar):
            continue
        assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus, f"{widget.objectName()} cannot be reached with Tab"
        named = widget.accessibleName() or getattr(widget, "text", str)()
        assert named, f"{widget.objectName()} has no name for a screen reader"


def test_things_are_picked_and_panes_closed_by_keys(rigged):
    session = rigged.session
    session.go(Area.WEIGHTS)
    tree = find(rigged.window, QTreeWidget, "parts.tree")
    joint = tree.findItems("l_forearm", Qt.MatchFlag.MatchRecursive | Qt.MatchFlag.MatchExactly)[0]
    tree.setFocus()
    tree.setCurrentItem(joint)
    QTest.keyClick(tree, Qt.Key.Key_Return)
    assert session.selection.lead == "arm.l.lower"
    assert session.influence == "arm.l.lower"
    session.vertices = {"part0": np.arange(40)}
    rigged.key(Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    assert find(rigged.window, QWidget, "numbers").isVisible()
    rigged.key(Qt.Key.Key_Escape)
    assert not find(rigged.window, QWidget, "numbers").isVisible(), "Esc closes what stands beside the view"
    assert session.vertices, "and leaves the rest"
    rigged.key(Qt.Key.Key_Escape)
    assert not session.vertices
