"""After a bind: the figure goes through a few seconds of the range test by itself, and asks whether that looks right."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.areas.weights.settings import BindSettings
from pegloom.app.context import Context
from pegloom.app.spec import Pane, Place
from pegloom.app.state.state import RANGE_TEST, State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel
from pegloom.scene.lenses import Lens

PANE = "weights.judged"
SECONDS = 8.0
"""How long the figure moves by itself."""


def begin(c: Context) -> None:
    """Move the figure and ask, unless that is not wanted."""
    if c.state.settings.of(BindSettings).shown_after:
        c.player.stop()
        c.player.play_source(RANGE_TEST)
        # How it bends is seen on the plain surface.
        c.store.put(panes=c.state.viewing.panes | {PANE}, playing=True, lens=Lens.NONE)


def wanted(state: State) -> bool:
    """While it is asked: as long as the range test is what the strip shows."""
    return PANE in state.viewing.panes and state.clock.source == RANGE_TEST


class Judged(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("judged")
        self.setProperty("role", "tag")
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 12, 10)
        column.setSpacing(8)
        column.addWidget(label("Bound. It moves through the range test: does it bend as it should?", "soft"))
        line = QHBoxLayout()
        line.setSpacing(8)
        line.addWidget(button("Looks right", "judged.right", lambda: self._end("The weights stay, kept as a weave"), role="main"))
        line.addWidget(button("Back to pegs", "judged.back", self._back))
        self.move_ = button("Stop", "judged.stop", lambda: c.actions.run("time.play"))
        line.addWidget(self.move_)
        line.addStretch(1)
        line.addWidget(button("Not after a bind again", "judged.never", self._never, role="plain"))
        column.addLayout(line)
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(int(1000 * SECONDS))
        self.timer.timeout.connect(self._still)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clock.playing, state.character)

    def show_state(self, state: State) -> None:
        self.move_.setText("Stop" if state.clock.playing else "Move again")
        if state.clock.playing and not self.timer.isActive():
            self.timer.start()
        elif not state.clock.playing:
            self.timer.stop()
        self.adjustSize()

    def _still(self) -> None:
        if wanted(self.c.state):
            self.c.player.stop()

    def _end(self, said: str) -> None:
        c = self.c
        c.player.stop()
        c.player.play_source("")
        c.store.put(panes=c.state.viewing.panes - {PANE}, lens=Lens.INFLUENCE)
        c.say(said)

    def _back(self) -> None:
        self._end("Move pegs where it bent wrongly, build joints again and bind again: weaves keep every bind")
        self.c.actions.run("area.joints")

    def _never(self) -> None:
        self.c.keep_setting(BindSettings, shown_after=False)
        self._end("It stays still after a bind; the Bind card has a tick to change that")


def judged_pane() -> Pane:
    """The question as a pane of the area."""
    return Pane(PANE, "Does it bend as it should?", Place.OVER, Judged, wanted)
