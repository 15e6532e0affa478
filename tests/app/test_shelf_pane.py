"""The clip shelf in the window: words, looking at a clip on this character, taking it, favourites, likeness, own clips."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLineEdit, QListWidget, QPushButton

from pegloom.app.areas.motion import shelving
from pegloom.app.areas.motion.shelf_pane import ROLE_ROW, ShelfPane
from pegloom.app.areas.motion.shelving import LOOKED_AT, SHELF, ShelfSettings
from pegloom.app.state.state import Area
from pegloom.files.shelf import Shelf
from tests.app.conftest import find
from tests.support.figures import DEMO, wick


@pytest.fixture
def shelf(hand, tmp_path, monkeypatch):
    one = Shelf(tmp_path / "shelf")
    monkeypatch.setattr(shelving, "shelf", lambda: one)
    monkeypatch.setattr("pegloom.app.areas.motion.shelf_pane.shelf", lambda: one)
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.c.actions.run("shelf.open")
    hand.session.settle()
    return hand


def rows(hand):
    box = find(hand.window, QListWidget, "shelf.list")
    return [(k, box.item(k).data(ROLE_ROW)) for k in range(box.count()) if box.item(k).data(ROLE_ROW) is not None]


def search(hand, words):
    line = find(hand.window, QLineEdit, "shelf.search")
    line.setFocus()
    line.clear()
    QTest.keyClicks(line, words)
    QTest.keyClick(line, Qt.Key.Key_Return)
    waited(hand, lambda: shelving.settings(hand.c.state).words == words)


def waited(hand, done):
    for _ in range(900):
        hand.session.settle()
        if done():
            break
        QTest.qWait(10)
    assert done()
    hand.session.settle()


def look_at(hand, card_id):
    box = find(hand.window, QListWidget, "shelf.list")
    row = next(k for k, r in rows(hand) if r.card.id == card_id)
    box.setCurrentRow(row)
    for _ in range(900):
        hand.session.settle()
        QTest.qWait(10)
        if hand.c.state.clock.source == LOOKED_AT and not hand.c.background.running:
            break
    assert hand.c.state.clock.source == LOOKED_AT


def test_a_clip_is_found_looked_at_and_taken(shelf):
    assert next(r.card.kinds[0] for _, r in rows(shelf)) == "walk" and len(rows(shelf)) >= 48
    search(shelf, "jemand winkt")
    assert rows(shelf)[0][1].card.kinds[0] == "wave" and "winkt = wave" in find(shelf.window, ShelfPane, "shelf.pane").words.text()
    before = shelf.session.history.present
    look_at(shelf, "wave")
    hand = shelf.session.character.skeleton.index["arm.r.end"]
    shelf.c.player.stop()
    heights = []
    for k in range(8):
        shelf.session.go_to(0.3 * k)
        heights.append(shelf.session.frame().joints[hand, 1, 3])
    assert np.ptp(heights) > 0.3 and shelf.session.history.present is before
    shelf.c.store.put_setting(ShelfSettings, mirror=True)
    shelf.c.actions.run("shelf.take")
    shelf.idle()
    clip = shelf.c.state.clip
    assert clip.name.startswith("Wave hello") and clip.origin.licence == "CC0-1.0" and shelf.session.history.present is not before
    other = shelf.session.character.skeleton.index["arm.l.end"]
    shelf.c.player.stop()
    shelf.session.go_to(1.0)
    frame = shelf.session.frame().joints
    assert frame[other, 1, 3] > frame[hand, 1, 3] + 0.3
    assert "wave" in shelving.shelf().recent
    shelf.session.undo()
    assert shelf.session.history.present is before


def test_closing_the_shelf_leaves_nothing_behind(shelf):
    before = shelf.session.history.present
    look_at(shelf, "bow")
    shelf.c.actions.run("shelf.open")
    shelf.session.settle()
    assert SHELF not in shelf.c.state.viewing.panes and shelf.c.state.document is before and shelf.c.state.clock.source != LOOKED_AT


def test_favourites_likeness_and_a_partner(shelf):
    look_at(shelf, "hand_over_give")
    find(shelf.window, QPushButton, "shelf.star").click()
    shelf.session.settle()
    assert shelving.shelf().favourites == ("hand_over_give",)
    shelf.c.store.put_setting(ShelfSettings, group="favourites")
    shelf.session.settle()
    assert [r.card.id for _, r in rows(shelf)] == ["hand_over_give"]
    find(shelf.window, QPushButton, "shelf.partner").click()
    shelf.session.settle()
    assert shelving.settings(shelf.c.state).picked == "hand_over_take"
    shelf.c.store.put_setting(ShelfSettings, group="", picked="run")
    shelf.c.actions.run("shelf.like")
    waited(shelf, lambda: shelving.settings(shelf.c.state).like == "run")
    assert "jog" in [r.card.id for _, r in rows(shelf)][:6]


def test_own_clips_join_and_leave(shelf, monkeypatch):
    monkeypatch.setattr(shelf.c.ask, "open_takes", lambda: [str(DEMO / "takes" / "pier_walk.bvh")], raising=False)
    shelf.c.actions.run("shelf.put")
    shelf.idle()
    own = [r.card for _, r in rows(shelf)]
    assert len(own) == 1 and own[0].own and "walk" in own[0].kinds
    shelf.c.store.put_setting(ShelfSettings, picked=own[0].id)
    monkeypatch.setattr(shelf.c.ask, "confirm", lambda *a, **k: True, raising=False)
    shelf.c.actions.run("shelf.drop")
    shelf.session.settle()
    assert not shelving.shelf().own_cards


def test_clips_are_mirrored_and_joined(shelf, monkeypatch):
    shelf.c.store.put_setting(ShelfSettings, picked="nod")
    shelf.c.actions.run("shelf.take")
    shelf.idle()
    shelf.c.store.put_setting(ShelfSettings, picked="bow")
    shelf.c.actions.run("shelf.take")
    shelf.idle()
    bow = shelf.c.state.clip
    shelf.c.actions.run("clips.mirror")
    shelf.idle()
    assert shelf.c.state.clip.name == f"{bow.name}, other side"
    shelf.c.player.play_source(bow.id)
    names = [c.name for c in shelf.c.character.clips if c.tracks or c.every_curve]
    monkeypatch.setattr(shelf.c.ask, "one_of", lambda title, options: options.index("Nod"), raising=False)
    shelf.c.actions.run("clips.join")
    shelf.idle()
    joined = shelf.c.state.clip
    assert joined.name.startswith("Bow, Nod") and names and joined.length > bow.length + 1.0
