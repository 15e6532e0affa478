"""Drawer, rail, strip, hint line and recent files: what they show, and where a click on them leads."""

import json

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QLineEdit, QTreeWidget, QWidget

from pegloom.app.state.kept import keep_theme, read_theme, recent, remember
from pegloom.app.state.state import RANGE_TEST, Area
from pegloom.app.theme import INK, LINEN
from pegloom.document import edits
from pegloom.document.model import Document
from tests.app.conftest import find, widgets
from tests.support.figures import DEMO, as_mesh, capsule_figure, document_of, unrigged_wick


def rows(tree):
    found = []

    def walk(item):
        found.append(item)
        for i in range(item.childCount()):
            walk(item.child(i))

    for i in range(tree.topLevelItemCount()):
        walk(tree.topLevelItem(i))
    return found


def row(tree, text):
    return next(r for r in rows(tree) if r.text(0) == text)


def tap(hand, tree, text):
    item = row(tree, text)
    tree.scrollToItem(item)
    hand.bot.wait(20)
    spot = tree.visualItemRect(item)
    QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(spot.left() + 12, spot.center().y()))


# The parts drawer


def test_the_drawer_lists_all_there_is_and_finds_by_name(rigged):
    tree, box = find(rigged.window, QTreeWidget, "parts.tree"), find(rigged.window, QLineEdit, "parts.find")
    character = rigged.session.character
    names = {r.text(0) for r in rows(tree)}
    assert {p.name for p in character.parts} <= names
    assert {j.name for j in character.skeleton.joints} <= names
    assert {c.name for c in character.rig.handles} <= names
    assert {c.name for c in character.clips} <= names
    rigged.bot.keyClicks(box, "thigh")
    shown = [r.text(0) for r in rows(tree) if not r.isHidden() and "thigh" in r.text(0)]
    assert {"l_thigh", "r_thigh"} <= set(shown)
    assert row(tree, "l_hand").isHidden()
    assert not row(tree, "hips").isHidden(), "what a found joint hangs on is shown as well"
    box.clear()
    assert not row(tree, "l_hand").isHidden()


@pytest.mark.parametrize(
    ("text", "kind", "thing", "area"),
    [("l_forearm", "joint", "arm.l.lower", Area.JOINTS), ("body", "part", "part0", Area.MESH)],
)
def test_a_row_is_picked_where_it_can_be_worked_on(rigged, text, kind, thing, area):
    tree = find(rigged.window, QTreeWidget, "parts.tree")
    rigged.session.go(Area.MESH)
    tap(rigged, tree, text)
    assert (rigged.session.selection.kind, rigged.session.selection.lead) == (kind, thing)
    assert rigged.session.area is area


def test_a_clip_in_the_drawer_is_played_in_motion(rigged):
    tree = find(rigged.window, QTreeWidget, "parts.tree")
    clip = rigged.session.character.clips[0]
    tap(rigged, tree, clip.name)
    assert rigged.session.area is Area.MOTION
    assert rigged.session.source == clip.id


def test_what_is_picked_in_the_view_is_marked_in_the_drawer(rigged):
    tree = find(rigged.window, QTreeWidget, "parts.tree")
    rigged.session.go(Area.JOINTS)
    rigged.session.select("joint", "leg.r.lower")
    assert [r.text(0) for r in rows(tree) if r.isSelected()] == ["r_shin"]
    rigged.session.select("joint", "leg.r.lower", "leg.l.lower")
    assert {r.text(0) for r in rows(tree) if r.isSelected()} == {"r_shin", "l_shin"}


# The rail


def test_the_rail_fills_as_the_work_goes_on(hand):
    rail = hand.window.rail
    assert set(rail.fullness.values()) <= {0.0}
    document = edits.stand_up(document_of(as_mesh(capsule_figure())))
    hand.session.start_with(document, None)
    assert rail.fullness[Area.MESH] == 1.0
    assert rail.fullness[Area.JOINTS] == 0.0
    document = edits.set_pegs(document, edits.find_pegs(document, fingers=0))
    hand.session.commit("pegs", document)
    assert rail.fullness[Area.JOINTS] == 0.5
    document = edits.bind(edits.build_joints(document))
    hand.session.commit("bound", document)
    assert (rail.fullness[Area.JOINTS], rail.fullness[Area.WEIGHTS], rail.fullness[Area.CONTROLS]) == (1.0, 1.0, 0.0)
    hand.session.undo()
    assert rail.fullness[Area.WEIGHTS] == 0.0


def test_a_press_on_the_rail_goes_there_and_snags_are_counted(hand):
    document = unrigged_wick()
    hand.session.start_with(document, None)
    rail = hand.window.rail
    for area in Area:
        QTest.mouseClick(rail, Qt.MouseButton.LeftButton, pos=rail.centre(area).toPoint())
        assert hand.session.area is area
    QTest.keyClick(rail, Qt.Key.Key_Down)
    assert hand.session.area is Area.MESH, "round from the last to the first"
    hand.until(lambda: rail.counts.get(Area.MESH, 0) >= 1)


# The strip


def test_dragging_along_the_strip_scrubs_and_a_dip_leads_to_its_joint(rigged):
    rigged.session.go(Area.WEIGHTS)
    rigged.session.select("joint", "arm.l.upper")
    rigged.session.play_source(RANGE_TEST)
    ruler, graph = rigged.window.strip.ruler, find(rigged.window, QWidget, "strip.quality")
    rigged.until(
        lambda: len(graph.watch.row("arm.l.upper")) > 3 and all(f is not None for f in graph.watch.row("arm.l.upper"))
    )
    at = QPoint(round(ruler.x_of(4.0)), 12)
    QTest.mouseClick(ruler, Qt.MouseButton.LeftButton, pos=at)
    assert rigged.session.time == pytest.approx(4.0, abs=1 / 15)
    dips = graph.dips()
    assert dips, "an arm straight up is doubtful at the shoulder"
    target = rigged.stage.camera.looks_at
    spot = QPoint(round(graph.x_of(graph.watch.times[dips[0]])), graph.height() - 20)
    QTest.mouseClick(graph, Qt.MouseButton.LeftButton, pos=spot)
    assert rigged.session.time == pytest.approx(graph.watch.times[dips[0]], abs=1e-6)
    assert rigged.stage.camera.looks_at != target
    shoulder = rigged.session.frame().joints[rigged.session.character.skeleton.index["arm.l.upper"]][:3, 3]
    assert np.linalg.norm(np.array(rigged.stage.camera.target) - shoulder) < 0.05


def test_a_key_is_dragged_to_another_frame(rigged):
    rigged.session.go(Area.MOTION)
    clip = rigged.session.character.clips[0]
    rigged.session.play_source(clip.id)
    rigged.bot.wait(30)
    ruler = rigged.window.strip.ruler
    old = clip.key_times[2]
    start, end = (QPoint(round(ruler.x_of(t)), 38) for t in (old, old + 4 / clip.rate))
    QTest.mousePress(ruler, Qt.MouseButton.LeftButton, pos=start)
    assert rigged.session.time == pytest.approx(old)
    rigged.session.go_to(ruler.time_at(end.x()))
    QTest.mouseRelease(ruler, Qt.MouseButton.LeftButton, pos=end)
    times = rigged.session.clip.key_times
    assert not any(abs(t - old) < 1e-6 for t in times)
    assert any(abs(t - old - 4 / clip.rate) < 1.5 / clip.rate for t in times)
    assert rigged.session.history.undo_name == "Move keys"


# What the window says


def test_the_hint_names_the_users_own_keys(rigged):
    hint = find(rigged.window, QLabel, "stage.hint") or rigged.window.frame_.hint.words
    rigged.session.go(Area.WEIGHTS)
    rigged.session.set_view(vertices={})
    assert "B takes the brush" in hint.text()
    assert rigged.window.actions_.rebind("tool.brush", "F6") == ""
    rigged.session.settle()
    assert "F6 takes the brush" in hint.text()


def test_every_area_says_what_to_do_next_on_an_empty_window(hand):
    for area in Area:
        hand.session.go(area)
        hand.bot.wait(20)
        words = " ".join(w.text() for w in widgets(hand.window.benches[area], QLabel) if w.isVisible() and w.text())
        assert len(words) > 40, area
    hand.session.start_with(Document(), None)
    assert hand.window.frame_.welcome.isVisible()


def test_light_and_dark_are_both_whole(rigged):
    first = rigged.window.palette().window().color().lightness()
    rigged.session.run("view.theme")
    rigged.bot.wait(30)
    second = rigged.window.palette().window().color().lightness()
    assert abs(first - second) > 120
    rigged.session.run("view.theme")
    assert rigged.window.palette().window().color().lightness() == first


# Recent files


def test_recent_files_are_the_last_opened_that_are_still_there(tmp_path):
    paths = [tmp_path / f"{n}.obj" for n in range(13)]
    for path in paths:
        path.write_text("v 0 0 0\n")
        remember(path)
    assert recent()[0] == paths[-1].resolve()
    assert len(recent()) == 10
    remember(paths[5])
    assert recent()[0] == paths[5].resolve()
    paths[12].unlink()
    assert paths[12].resolve() not in recent()
    remember(DEMO / "wick.obj")
    assert all("assets" not in p.parts for p in recent()), "the shipped demo is no file of the user's"


def test_a_damaged_list_of_recent_files_is_as_none(tmp_path):
    remember(tmp_path / "a.obj")
    kept = next(tmp_path.rglob("recent.json"))
    for text in ("{", json.dumps({"a": 1}), json.dumps([1, None, "nowhere.obj"])):
        kept.write_text(text)
        assert recent() == []


def test_hiding_is_a_thing_of_the_view(rigged):
    """Parts, limbs and faces are hidden, isolated and shown again with a sign; the character stays as it is."""
    hand, session = rigged, rigged.session
    session.go(Area.WEIGHTS)
    document, sign = session.document, hand.value("stage.hidden")
    body = max(session.character.included, key=lambda part: part.mesh.vertex_count)
    shown = lambda: {part.id: part.mesh.face_count for part in hand.c.state.shown_parts}  # noqa: E731
    whole = shown()
    assert not sign.isVisible()
    session.select("joint", "arm.l.upper")
    hand.key(Qt.Key.Key_N)
    hand.until(lambda: sign.isVisible())
    assert 0.7 * whole[body.id] < shown()[body.id] < whole[body.id]
    hand.key(Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    assert shown() == whole
    hand.key(Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    assert 0 < shown()[body.id] < 0.3 * whole[body.id]
    hand.click("stage.hidden")
    assert shown() == whole
    hand.c.store.pick_vertices({body.id: np.arange(200)})
    hand.key(Qt.Key.Key_N)
    assert 0 < whole[body.id] - shown()[body.id] < 300
    hand.c.store.pick_vertices({})
    session.select("part", body.id)
    hand.key(Qt.Key.Key_N)
    assert body.id not in shown()
    assert session.document is document
    hand.click("stage.hidden")
    assert shown() == whole
    hand.until(lambda: not sign.isVisible())


def test_the_theme_follows_the_desktop_until_one_is_chosen(rigged, monkeypatch):
    window = rigged.window
    window.follow_desktop()
    assert window.theme is INK, "a desktop that says nothing is dark"
    rigged.session.run("view.theme")
    assert window.theme is LINEN and read_theme() == "linen"
    window.follow_desktop()
    assert window.theme is LINEN, "what was chosen is there the next time"
    rigged.session.run("view.theme")
    assert window.theme is INK and read_theme() == "ink"
    keep_theme("")
    window.follow_desktop()
    assert window.theme is INK and read_theme() == ""
