"""The base of everything that shows a piece of the state."""

from __future__ import annotations

import weakref
from collections.abc import Callable
from enum import Enum
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QFrame, QWidget

from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State

PLAIN = (str, int, float, bool, type(None), Enum, frozenset)


def same(a: object, b: object) -> bool:
    """Whether two pieces are one: plain values by what they say, records and arrays by identity."""
    if a is b:
        return True
    if isinstance(a, tuple) and isinstance(b, tuple):
        return len(a) == len(b) and all(same(x, y) for x, y in zip(a, b, strict=True))
    return isinstance(a, PLAIN) and type(a) is type(b) and a == b


class Refresher(QObject):
    """Collects the changes of one turn of the event loop into one look of each panel."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.panels: list[weakref.ref[Panel]] = []
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(0)
        self.timer.timeout.connect(self.now)
        c.store.changed.connect(lambda *_: self.timer.isActive() or self.timer.start())
        c.stale.connect(self.forget)

    def now(self) -> None:
        """Let every panel look at once."""
        self.timer.stop()
        for reference in tuple(self.panels):
            panel = reference()
            if panel is None or sip.isdeleted(panel):
                self.panels.remove(reference)
            else:
                panel.look()

    def forget(self) -> None:
        """Every panel shows everything again at its next look, soon."""
        for reference in self.panels:
            panel = reference()
            if panel is not None and not sip.isdeleted(panel):
                panel.shown_key = None
        self.timer.start()

    def anew(self) -> None:
        """Let every panel show everything again at once, as after another theme."""
        self.forget()
        self.now()


class Panel(QFrame):
    """Shows the pieces of the state its key names.

    Subclasses say in `key` what they depend on and in `show_state` how they show it. They are called only while they can
    be seen, once for all changes of one turn, and only when the key has changed; what they write into widgets then is no
    input of the user's (`showing`).
    """

    always = False
    """Looks even while it cannot be seen: for what hides and shows itself."""

    def __init__(self, c: Context, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.c = c
        self.showing = False
        self.shown_key: tuple[object, ...] | None = None
        self.settings_shown: list[tuple[type[Setting], str, Callable[[Any], None]]] = []
        self.field_widgets: dict[tuple[type[Setting], str], QWidget] = {}
        refresher_of(c).panels.append(weakref.ref(self))

    def key(self, state: State) -> tuple[object, ...]:
        """The pieces that are shown."""
        return ()

    def show_state(self, state: State) -> None:
        """Show them."""

    def look(self) -> None:
        """Show the state if it can be seen and has changed."""
        if not (self.always or self.isVisible()):
            return
        state = self.c.store.state
        key = (*(getattr(state.settings.of(kind), name) for kind, name, _ in self.settings_shown), *self.key(state))
        if self.shown_key is not None and same(key, self.shown_key):
            return
        self.shown_key = key
        self.showing = True
        try:
            for kind, name, put in self.settings_shown:
                put(getattr(state.settings.of(kind), name))
            self.show_state(state)
        finally:
            self.showing = False

    def look_anew(self) -> None:
        """Show the state again, changed or not."""
        self.shown_key = None
        self.look()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.look()


def refresher_of(c: Context) -> Refresher:
    """The one of a context, made with its first panel."""
    if c.refresher is None:
        c.refresher = Refresher(c)
    return c.refresher
