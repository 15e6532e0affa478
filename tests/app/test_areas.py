"""Work areas plug into the window: it is made from their specs and knows none of them."""

import gc
import re
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QLabel, QVBoxLayout, QWidget

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.common import ACTIONS as COMMON
from pegloom.app.actions.registry import Actions
from pegloom.app.areas import AREAS
from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.areas.handover.settings import ExportSettings
from pegloom.app.areas.joints.settings import PatternSettings
from pegloom.app.areas.weights.settings import BindSettings, InfluenceSettings, TransferSettings
from pegloom.app.context import Context
from pegloom.app.jobs import JobRunner
from pegloom.app.panels.lanes import TimeWidget
from pegloom.app.spec import AreaSpec, Lane, Pane, Place
from pegloom.app.stage.tools import StageTool
from pegloom.app.state.kept import keep_usual, read_usual
from pegloom.app.state.settings import Setting, as_plain, from_plain
from pegloom.app.state.state import RANGE_TEST, Area, BrushSettings
from pegloom.app.state.store import Store
from pegloom.app.watch.revised import RevisedFile
from pegloom.app.watch.snapshots import Snapshots
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import whole
from pegloom.app.widgets.panel import Panel
from pegloom.app.window import Window
from pegloom.core.skin.bind import BindMethod
from pegloom.document import edits
from pegloom.files.project import open_project
from tests.app.conftest import Answers, Hand, find
from tests.support.figures import DEMO, unrigged_wick, wick

SOURCE = Path(__file__).parents[2] / "src" / "pegloom" / "app"


# A made-up area, added here and nowhere else


@dataclass(frozen=True, slots=True)
class StampSettings(Setting):
    ID = "stamps.stamp"

    count: int = 3


class StampCard(Card):
    def __init__(self, c):
        super().__init__(c, "Stamps", "stamps.card", sentence="As many as you like.")
        self.field("Count", whole(self, StampSettings, "count", 1, 9, name="stamps.count"))
        self.said = QLabel()
        self.said.setObjectName("stamps.said")
        self.body.addWidget(self.said)

    def key(self, state):
        return (state.selection.ids,)

    def show_state(self, state):
        self.said.setText(f"{state.settings.of(StampSettings).count} stamps, {len(state.selection.ids)} picked")


class Album(Panel):
    def __init__(self, c):
        super().__init__(c)
        self.setObjectName("stamps.album")
        column = QVBoxLayout(self)
        self.words = QLabel()
        column.addWidget(self.words)

    def key(self, state):
        return (state.document.name,)

    def show_state(self, state):
        self.words.setText(f"album of {state.document.name}")


class StampLane(TimeWidget):
    def __init__(self, c):
        super().__init__(c)
        self.setObjectName("stamps.lane")


class StampDrag:
    def __init__(self, view):
        self.view, self.moves = view, 0

    def move(self, at):
        self.moves += 1

    def release(self):
        self.view.c.say(f"stamped after {self.moves} moves")

    def cancel(self):
        self.view.c.say("no stamp")


class StampTool(StageTool):
    id = "stamp"

    def wants(self, view, at):
        return view.c.state.tooling.tool == "stamp"

    def press(self, view, at):
        return StampDrag(view)


def take_stamp(c):
    c.store.put(tool="stamp")


STAMPS = AreaSpec(
    "stamps", "Stamps", "for letters",
    actions=(Action("stamps.take", "Take the stamp", "Tools", "Stamp in the view", take_stamp, key="Ctrl+Alt+S"),),
    settings=(StampSettings,), cards=(StampCard,),
    panes=(
        Pane("stamps.album", "Album", Place.SIDE, Album, size=180),
        Pane("stamps.tray", "Tray", Place.LOWER, Album, lambda s: s.settings.of(StampSettings).count > 5, size=40),
    ),
    lanes=(Lane("stamps.lane", StampLane, 100),), tools=(StampTool(),), hint=lambda state: "Press <stamps.take>",
)  # fmt: skip


@pytest.fixture
def post(qapp, qtbot, tmp_path):
    """A window with one area more than the program ships."""
    answers = Answers()
    made = Window(answers, autosave_folder=tmp_path / "autosave", areas=(*AREAS, STAMPS))
    made.answers = answers
    made.show()
    made.activateWindow()
    qtbot.waitUntil(made.isActiveWindow)
    made.session.start_with(wick(), None)
    yield Hand(qtbot, made)
    made.store.put(saved=made.store.history.present)
    assert made.close()
    made.deleteLater()
    QApplication.sendPostedEvents(made, QEvent.Type.DeferredDelete.value)
    del made
    gc.collect()


def test_a_made_up_area_shows_up_and_works_without_a_change_of_the_window(post):
    session, window = post.session, post.window
    assert "stamps" in window.rail.areas
    strip = window.strip.height()
    QTest.mouseClick(window.rail, Qt.MouseButton.LeftButton, pos=window.rail.centre("stamps").toPoint())
    session.settle()
    assert session.area == "stamps"
    count = post.value("stamps.count")
    assert count.isVisible()
    count.setValue(5)
    session.settle()
    assert post.value("stamps.said").text() == "5 stamps, 0 picked"
    album, lane = post.value("stamps.album"), post.value("stamps.lane")
    assert album.isVisible()
    assert album.width() == 180
    assert "Wick" in album.words.text()
    assert lane.isVisible()
    assert lane.height() == 100
    assert window.strip.height() > strip, "the strip makes room for the lane"
    session.play_source(RANGE_TEST)
    QTest.mouseClick(lane, Qt.MouseButton.LeftButton, pos=QPoint(round(lane.x_of(2.0)), 20))
    assert session.time == pytest.approx(2.0, abs=1 / 20)
    session.run("stamps.take")
    said = []
    session.said.connect(lambda text, *_: said.append(text))
    post.drag(QPoint(300, 300), (30, 10))
    assert said == ["stamped after 6 moves"]
    assert "Ctrl+Alt+S" in window.frame_.hint.words.text()
    count.setValue(6)
    session.settle()
    assert window.c.area.panes[1].shown(window.c.state)
    assert len([w for w in window.findChildren(Album) if w.isVisible()]) == 2
    session.go(Area.MESH)
    assert not album.isVisible()
    assert not lane.isVisible()
    assert window.strip.height() == strip
    post.key(Qt.Key.Key_7)
    assert session.area == "stamps"


def test_nothing_in_the_window_climbs_back_or_names_an_area():
    source = {path: path.read_text() for path in SOURCE.rglob("*.py")}
    for path, text in source.items():
        assert "self.window()" not in text, path
        assert "benches[" not in text, path
    window = (SOURCE / "window.py").read_text()
    for area in Area:
        assert not re.search(rf"Area\.|[\"']{area.value}[\"'.]", window), area
    for folder in ("panels", "stage", "widgets", "state", "watch"):
        for path in (SOURCE / folder).rglob("*.py"):
            if path.name != "state.py":
                assert not re.search(r"\bArea\.[A-Z]", source[path]), path


# Actions without any window


class NoView:
    """A view that shows nothing."""

    def __getattr__(self, name):
        return lambda *args: {"influence_at_pointer": "", "stroke_made": None}.get(name, False)


@pytest.fixture
def bare(qapp, qtbot):
    """A context with no window, no card and no view behind it."""
    owner = QWidget()
    jobs = JobRunner(owner)
    answers = Answers()
    answers.take = None
    c = Context(Store(parent=owner), answers, jobs, AREAS, owner)
    c.view, c.frame = NoView(), NoView()
    c.autosave = NoView()
    c.autosave.folder = Path("/nowhere")
    c.revised = RevisedFile(owner)
    c.snapshots = Snapshots(owner, folder=Path("/nowhere"))
    c.actions = Actions(owner, c)
    c.actions.add(*COMMON, *(action for area in AREAS for action in area.actions))
    c.enter(AREAS[0].id)
    yield c
    jobs.shut_down()
    owner.deleteLater()
    QApplication.sendPostedEvents(owner, QEvent.Type.DeferredDelete.value)


QUIET = {"file.demo", "file.mesh", "file.recover"}


@pytest.mark.parametrize("area", [None, *AREAS], ids=lambda a: a.id if a else "common")
def test_every_action_runs_or_says_why_on_an_empty_document_without_a_card_built(bare, area):
    said = []
    bare.said.connect(lambda text, error, offer: said.append((text, error, offer)))
    for action in COMMON if area is None else area.actions:
        if action.id.startswith(tuple(QUIET)):
            continue
        said.clear()
        missing = action.missing(bare.state)
        before = bare.store.history.present
        bare.actions.run(action.id)
        if missing is not None:
            assert said == [(missing.says, True, missing.offer if missing.offer != action.id else "")]
            assert bare.store.history.present is before
        assert action.tip
        assert len(action.title) > 2
        bare.store.start_with(before, None)


def test_needs_have_one_wording_each_and_offers_lead_somewhere():
    every = [action for area in AREAS for action in area.actions] + list(COMMON)
    ids = {action.id for action in every} | {f"area.{area.id}" for area in AREAS}
    wordings: dict[str, set[str]] = {}
    for action in every:
        for need in action.needs:
            assert isinstance(need, Need)
            wordings.setdefault(need.id, set()).add(need.says)
            assert not need.offer or need.offer in ids, need.offer
    assert {name: w for name, w in wordings.items() if len(w) > 1} == {}
    assert len({action.id for action in every}) == len(every)
    said = [next(iter(w)) for w in wordings.values()]
    assert len(said) == len(set(said)), "two needs say the same"


def test_a_note_offers_what_is_missing_and_does_it(hand):
    hand.session.start_with(edits.stand_up(edits.start_clean(wick())), None)
    hand.session.run("weights.bind")
    assert hand.window.frame_.note.text() == "Build joints first, in Joints"
    hand.click("note.offer")
    assert hand.window.frame_.note.text() == "Find pegs first, in Joints", "one step back on the road, said alike"


# Settings


KINDS = tuple(kind for area in AREAS for kind in area.settings)


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.ID)
def test_every_settings_record_survives_its_file_and_a_damaged_one(kind):
    record = kind()
    assert from_plain(kind, as_plain(record)) == replace(record, **{n: getattr(record, n) for n in kind.PASSING})
    for damaged in (None, [], {"nothing": 1}, dict.fromkeys(as_plain(record), object()), dict.fromkeys(as_plain(record), "?")):
        read = from_plain(kind, damaged)
        for name, value in as_plain(read).items():
            default = as_plain(record)[name]
            assert value == default or (isinstance(default, str) and value == "?"), name


def test_a_setting_is_kept_as_usual_put_back_and_there_in_the_next_window(hand, tmp_path):
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.WEIGHTS)
    card = hand.card("weights.bind")
    card.set_open(True)
    hand.value("weights.influences").setValue(8)
    hand.value("weights.method").setCurrentIndex(list(BindMethod).index(BindMethod.BY_REACH))
    assert session.settings(BindSettings).influences == 8
    card.keep(BindSettings, "influences")
    card.reset_all()
    session.settle()
    assert session.settings(BindSettings) == BindSettings()
    assert hand.value("weights.influences").value() == 4
    card.take_usual()
    session.settle()
    assert hand.value("weights.influences").value() == 8, "one by one: the number was kept"
    assert session.settings(BindSettings).method is BindMethod.SEGMENT, "the method was not"
    card.reset(BindSettings, "influences")
    assert session.settings(BindSettings).influences == 4
    assert read_usual((BindSettings,)).of(BindSettings).influences == 8, "the next window begins with it"
    second = Window(hand.window.answers, autosave_folder=tmp_path / "other")
    assert second.c.state.settings.of(BindSettings).influences == 8
    assert second.close()


def test_the_menu_of_a_cards_settings_names_each_and_works(hand):
    hand.session.start_with(wick(), None)
    hand.session.go(Area.JOINTS)
    card = hand.card("joints.find")
    card.set_open(True)
    assert card.more.isVisible()
    hand.session.put_setting(PatternSettings, fingers=3)
    card.menu.aboutToShow.emit()
    titles = [a.text() for a in card.menu.actions() if not a.isSeparator()]
    assert titles[:3] == ["All back to their defaults", "All back to my defaults", "Keep all as my defaults"]
    assert "Fingers  •" in titles, "what differs from its default is marked"
    one = next(a.menu() for a in card.menu.actions() if a.text() == "Fingers  •")
    one.actions()[0].trigger()
    assert hand.session.settings(PatternSettings).fingers == PatternSettings().fingers
    hand.session.put_setting(PatternSettings, pairs=4)
    card.menu.actions()[2].trigger()
    assert read_usual((PatternSettings,)).of(PatternSettings).pairs == 4
    keep_usual(read_usual(()))


def test_a_field_is_filled_by_a_pick_in_the_view_and_the_selection_stays(hand):
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.WEIGHTS)
    session.select("joint", "arm.l.upper")
    hand.stage.show_all()
    hand.bot.wait(50)
    hand.click("weights.heir.pick")
    assert "Pick a joint" in hand.window.frame_.hint.words.text()
    spot = hand.at("joint", "leg.r.lower")
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=spot)
    session.settle()
    assert session.settings(InfluenceSettings).heir == "leg.r.lower"
    assert hand.value("weights.heir").currentData() == "leg.r.lower"
    assert session.selection.ids == ("arm.l.upper",), "the card stays on its subject"
    card = hand.card("weights.carry")
    card.set_open(True)
    hand.click("weights.transfer.to.pick")
    x, y, _ = hand.stage.camera.project(np.array([0.0, 1.1, 0.12]), *hand.stage.size_in_points)[0]
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
    assert session.settings(TransferSettings).target == "part0"
    hand.click("weights.heir.pick")
    hand.key(Qt.Key.Key_Escape)
    assert session.c.state.tooling.wanted is None


# Panels


class Counting(Panel):
    def __init__(self, c):
        super().__init__(c)
        self.seen = []

    def key(self, state):
        return (state.selection.ids, state.document)

    def show_state(self, state):
        self.seen.append(state.selection.ids)


def test_a_panel_is_called_once_for_the_changes_of_one_turn_and_not_for_others(hand):
    hand.session.start_with(wick(), None)
    panel = Counting(hand.c)
    hand.c.store.select("joint", "arm.l.upper")
    hand.session.settle()
    assert panel.seen == [], "what cannot be seen does not look"
    panel.show()
    assert panel.seen == [("arm.l.upper",)]
    for joint in ("arm.l.lower", "arm.r.lower", "leg.l.upper"):
        hand.c.store.select("joint", joint)
    assert len(panel.seen) == 1
    hand.until(lambda: len(panel.seen) == 2)
    assert panel.seen[-1] == ("leg.l.upper",)
    hand.c.store.put(wire_over=True)
    hand.c.store.put(time=0.0, seam=0.3)
    hand.session.settle()
    assert len(panel.seen) == 2
    panel.deleteLater()


def test_the_state_refuses_a_name_it_does_not_have_and_tells_one_change_once(hand):
    with pytest.raises(AttributeError, match="colour"):
        hand.c.store.put(colour="red")
    heard = []
    hand.c.store.changed.connect(lambda old, new: heard.append((old, new)))
    hand.c.store.put(wire_over=True, tool="move", time=0.0)
    assert len(heard) == 1
    hand.c.store.put(wire_over=True)
    assert len(heard) == 1, "what is so already is no change"
    assert find(hand.window, QWidget, "nothing at all") is None


def test_a_card_stays_on_its_subject_while_other_things_are_picked(hand):
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.CONTROLS)
    session.put_setting(WorkSettings, work=Work.BUILD)
    session.settle()
    session.select("control", "spine.head")
    card = hand.card("controls.shape")
    hand.bot.mouseClick(card.pin, Qt.MouseButton.LeftButton)
    session.select("control", "arm.l.goal")
    assert card.note.text() == session.character.rig.control("spine.head").name
    card.size_.slider.setValue(1000)
    card.size_.slider.sliderReleased.emit()
    assert session.history.undo_name == "Size: head_fk"
    assert session.selection.ids == ("arm.l.goal",)
    hand.bot.mouseClick(card.pin, Qt.MouseButton.LeftButton)
    session.settle()
    assert card.note.text() == session.character.rig.control("arm.l.goal").name
    hand.bot.mouseClick(card.pin, Qt.MouseButton.LeftButton)
    session.start_with(unrigged_wick(), None)
    assert card.note.text() == "select a control", "what it stayed on is gone"


def test_the_tick_boxes_of_cards_are_settings_like_all_others(hand):
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.WEIGHTS)
    card = hand.card("weights.brush")
    card.set_open(True)
    for name in ("weights.both", "weights.front"):
        hand.click(name)
    hand.click("weights.ladder.0.3")
    assert not session.both_sides and not session.brush.front and session.brush.value == 0.3
    titles = {card.field_word(kind, name) for kind, name, _ in card.settings_shown}
    assert {"Both sides", "Front only", "Through", "Size", "Strength", "Falloff"} <= titles
    card.reset_all()
    session.settle()
    assert session.both_sides and session.brush.front
    assert find(hand.window, QCheckBox, "weights.both").isChecked()
    assert session.brush == BrushSettings()


def test_what_is_about_one_document_goes_with_it(hand):
    session = hand.session
    session.start_with(wick(), None)
    session.put_setting(ExportSettings, report="exact")
    session.put_setting(BindSettings, influences=6, some_joints=True)
    session.set_view(locked=frozenset({"spine.head"}))
    session.start_with(wick(), None)
    assert session.settings(ExportSettings).report == ""
    assert session.settings(BindSettings) == BindSettings(influences=6, shown_after=False)
    assert session.locked == frozenset()


def test_settings_nobody_has_changed_are_always_the_same_record(hand):
    assert hand.c.state.hand is hand.c.state.hand


def test_every_fix_an_area_offers_is_an_action_that_there_is(hand):
    fixes = [fix for area in hand.c.areas for fix in area.fixes]
    named = {action for fix in fixes for action in (fix.action, *(way for way, _ in fix.others))}
    assert named <= set(hand.c.actions.entries)
    assert len({fix.action for fix in fixes}) == len(fixes)


def test_no_card_is_wider_than_its_column(hand):
    """At 1280 pixels nothing scrolls sideways, whichever card is open."""
    hand.session.start_with(wick(), None)
    for area in Area:
        hand.session.go(area)
        _fits(hand, area)


def _fits(hand, area):
    bench = hand.window.benches[area]
    for card in bench.cards:
        for other in bench.cards:
            other.set_open(other is card)
        card.look()
        hand.session.settle()
        assert bench.widget().minimumSizeHint().width() <= bench.viewport().width(), card.objectName()


def test_no_card_of_a_full_character_is_wider_than_its_column(hand):
    hand.session.start_with(open_project(DEMO / "harl.pegloom"), None)
    hand.session.select("control", "wing.l.lower.fk")
    for area in Area:
        hand.session.go(area)
        _fits(hand, area)
    hand.session.go(Area.CONTROLS)
    for work in Work:
        hand.c.store.put_setting(WorkSettings, work=work)
        _fits(hand, Area.CONTROLS)
