"""The real window on a real (virtual) screen; Qt's offscreen platform has no OpenGL."""

from __future__ import annotations

import gc
import os
import weakref

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from pegloom.app.areas.weights.settings import BindSettings
from pegloom.app.main import make_application
from pegloom.app.widgets.card import Card
from pegloom.app.window import Window
from pegloom.files.import_choice import ImportChoice
from tests.app.screens import own_screen
from tests.support.figures import wick
from tests.support.session import Session

if os.environ.get("PYTEST_XDIST_WORKER"):
    own_screen()

Window.session = property(Session)
"""Tests reach what the window knows by short names."""


class Answers:
    """Stands in for the dialogs: says what the test told it to."""

    def __init__(self) -> None:
        self.open_path, self.save_path, self.given_name, self.yes = "", "", "", True
        self.asked: list[str] = []
        self.take: object = ImportChoice()
        self.pairs: object = None
        self.take_number, self.take_way = 0, 0
        self.shown_folder: object = None
        self.revise: object = None
        self.offered: list[object] = []

    def open_file(self) -> str:
        return self.open_path

    def open_master(self) -> str:
        return self.open_path

    def open_figure(self) -> str:
        return self.open_path

    def open_expressions(self) -> str:
        return self.open_path

    def open_body(self) -> str:
        return self.open_path

    def open_picture(self) -> str:
        return self.open_path

    def choose_import(self, imported: object) -> object:
        self.offered.append(imported)
        return self.take

    def pair_joints(self, other: object, ours: object) -> object:
        self.offered.append(other)
        return self.pairs

    def open_motion(self) -> str:
        return self.open_path

    def open_takes(self) -> list[str]:
        return [self.open_path] if isinstance(self.open_path, str) else list(self.open_path)

    def open_pairing(self) -> str:
        return self.open_path

    def name(self, title: str, suggestion: str) -> str:
        self.asked.append(title)
        return self.given_name or suggestion

    def one_of(self, title: str, options: list[str]) -> int:
        self.offered.append(options)
        return self.take_number

    def choose_way(self, told: object) -> int:
        self.offered.append(told)
        return self.take_number

    def open_sculpted(self) -> str:
        return self.open_path

    def open_revised(self) -> str:
        return self.open_path

    def choose_revised(self, ours: object, arrived: object, taking: object, rows: object) -> object:
        self.offered.append(rows)
        return (self.revise or (lambda taking: taking))(taking) if self.yes else None

    def pictured(self, title: str, words: str, rows: list[tuple[str, bytes]], ways: list[str]) -> tuple[int, int]:
        self.offered.append((rows, ways))
        return self.take_number, self.take_way

    def show_folder(self, folder: object) -> None:
        self.shown_folder = folder

    def save_file(self, title: str, name: str, kind: str) -> str:
        return self.save_path

    def recover(self, found: list[object]) -> int:
        self.offered.append(found)
        return 0 if self.yes else -1

    def confirm(self, question: str, yes: str, no: str) -> bool:
        assert yes != no and len(yes) > 4
        self.asked.append(f"{question} {yes}?")
        return self.yes


NAMED = weakref.WeakSet()
"""Widgets that Python gave a name, as long as they live. Looked up here, no object is touched that Qt made and destroyed
on its own: such wrappers ended the program now and then."""


def _named(widget, name, *, set_name=QWidget.setObjectName):
    set_name(widget, name)
    NAMED.add(widget)


QWidget.setObjectName = _named


def widgets(window, kind=QWidget):
    """The widgets of a kind in a window, named or not. Where a name is known `find` is the safer way."""
    found = [w for w in QApplication.allWidgets() if isinstance(w, kind)]
    return [w for w in found if w is window or window.isAncestorOf(w)]


def find(window, kind, name):
    """A widget of a window by its name, one that can be seen before others; None where there is none."""
    there = [w for w in NAMED if not sip.isdeleted(w) and isinstance(w, kind) and w.objectName() == name]
    mine = [w for w in there if w is window or window.isAncestorOf(w)]
    return next((w for w in mine if w.isVisible()), mine[0] if mine else None)


class Hand:
    """Mouse and keys through the real widgets."""

    def __init__(self, qtbot, window: Window) -> None:
        self.bot, self.window = qtbot, window
        self.stage, self.session, self.c = window.stage, Session(window), window.c

    def click(self, name: str) -> None:
        from PyQt6.QtWidgets import QAbstractButton, QCheckBox

        # A row that has just been made anew is laid out by the next turn of the event loop.
        seen = lambda: (w := find(self.window, QWidget, name)) is not None and w.isVisible()  # noqa: E731
        self.bot.waitUntil(seen)
        widget = find(self.window, QWidget, name)
        assert widget is not None, f"there is no widget {name}"
        assert widget.isVisible(), f"{name} cannot be seen"
        if isinstance(widget, QAbstractButton):
            assert widget.isEnabled(), f"{name} is disabled"
        # A tick box takes clicks on its box and word alone, however wide it is.
        at = QPoint(8, widget.height() // 2) if isinstance(widget, QCheckBox) else widget.rect().center()
        self.bot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at)
        self.session.settle()

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        self.stage.setFocus()
        QTest.keyClick(self.window, key, modifiers)
        self.session.settle()

    def card(self, name: str):
        """A card of the present area by its name."""
        found = find(self.window, Card, name)
        assert found is not None, f"there is no card {name}"
        return found

    def value(self, name: str):
        """A field of the present area by its name."""
        found = find(self.window, QWidget, name)
        assert found is not None, f"there is no field {name}"
        return found

    def at(self, kind: str, thing: str) -> QPoint:
        """Where a peg, joint or control is drawn; a control by a point of its shape."""
        size = self.stage.size_in_points
        if kind == "control":
            from pegloom.core.rig.shapes import shape_lines

            rig, frame = self.session.character.rig, self.session.frame()
            world = frame.shown[rig.index[thing]]
            for line in shape_lines(rig.control(thing)):
                for point in line:
                    x, y, _ = self.stage.camera.project(world[:3, :3] @ point + world[:3, 3], *size)[0]
                    if self.stage.thing_at(x, y) == (kind, thing):
                        return QPoint(round(x), round(y))
            found = {self.stage.thing_at(*self.stage.camera.project(world[:3, :3] @ p + world[:3, 3], *size)[0, :2])[1] for line in shape_lines(rig.control(thing)) for p in line}
            raise AssertionError(f"no point of {thing} can be picked, but {found}")
        ids, points = self.stage.things(kind)
        x, y, _ = self.stage.camera.project(points[ids.index(thing)], *size)[0]
        return QPoint(round(x), round(y))

    def drag(self, start: QPoint, way: tuple[int, int], button=Qt.MouseButton.LeftButton,
             modifiers=Qt.KeyboardModifier.NoModifier, steps: int = 6) -> None:  # fmt: skip
        QTest.mouseMove(self.stage, start)
        QTest.mousePress(self.stage, button, modifiers, start)
        for i in range(1, steps + 1):
            here = start + QPoint(way[0] * i // steps, way[1] * i // steps)
            self._move(here, button, modifiers)
        QTest.mouseRelease(self.stage, button, modifiers, start + QPoint(*way))
        self.session.settle()

    def _move(self, here: QPoint, button: Qt.MouseButton, modifiers: Qt.KeyboardModifier) -> None:
        # QTest.mouseMove carries no buttons, so a drag's moves are sent as events.
        from PyQt6.QtCore import QEvent
        from PyQt6.QtGui import QMouseEvent
        from PyQt6.QtWidgets import QApplication

        there = QPointF(here)
        event = QMouseEvent(
            QEvent.Type.MouseMove,
            there,
            QPointF(self.stage.mapToGlobal(here)),
            Qt.MouseButton.NoButton,
            button,
            modifiers,
        )
        QApplication.sendEvent(self.stage, event)

    def until(self, condition, timeout: int = 60_000) -> None:
        self.bot.waitUntil(condition, timeout=timeout)

    def idle(self) -> None:
        self.until(lambda: not self.session.jobs.busy)
        self.session.settle()


@pytest.fixture(scope="session")
def qapp():
    """One application for the whole run, held: one let go and made anew met a screen that was starting over."""
    return make_application(["pegloom-test"])


class PatientBot(QtBot):
    """Waits long where a test names no time: how soon a thing comes depends on the machine, that it comes does not."""

    def waitUntil(self, callback, *, timeout=60_000):
        super().waitUntil(callback, timeout=timeout)

    def waitSignal(self, signal, *, timeout=60_000, **more):
        return super().waitSignal(signal, timeout=timeout, **more)

    def waitActive(self, widget, *, timeout=60_000):
        return super().waitActive(widget, timeout=timeout)

    def waitExposed(self, widget, *, timeout=60_000):
        return super().waitExposed(widget, timeout=timeout)


@pytest.fixture
def qtbot(qapp, request):
    return PatientBot(request)


@pytest.fixture(autouse=True)
def own_folder(monkeypatch, tmp_path):
    """What a user keeps between sessions (recent files, ladder, keys) is no other test's."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "kept"))


@pytest.fixture
def window(qapp, qtbot, tmp_path):
    answers = Answers()
    made = Window(answers, autosave_folder=tmp_path / "autosave")
    made.answers = answers
    # Tests of other things find the figure as they left it; what happens after a bind has tests of its own.
    made.store.put_setting(BindSettings, shown_after=False)
    # What is drawn when the view rests is drawn for tests that look at it; it would take others' time.
    made.stage.passes = 0
    made.show()
    made.activateWindow()
    qtbot.waitUntil(made.isActiveWindow)
    yield made
    answers.yes = True
    made.store.put(saved=made.store.history.present)
    # The window does not close while a file is written; a test may have seen the file before the job was over.
    jobs = made.c.jobs
    qtbot.waitUntil(lambda: not jobs.must_end)
    assert made.close()
    assert not jobs.busy
    jobs = None
    assert not made.c.player.ticker.isActive()
    # Gone before the next one comes, and on this thread: widgets left in rings of references would otherwise be
    # collected whenever memory is next asked for.
    made.deleteLater()
    QApplication.sendPostedEvents(made, QEvent.Type.DeferredDelete.value)
    del made
    gc.collect()


@pytest.fixture
def hand(qtbot, window):
    return Hand(qtbot, window)


@pytest.fixture
def rigged(hand):
    """The demo character open in the window."""
    hand.session.start_with(wick(), None)
    hand.stage.show_all()
    hand.bot.wait(50)
    return hand
