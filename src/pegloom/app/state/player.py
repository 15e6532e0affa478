"""Time: what the strip plays, and the clock that moves it. Playing changes the time and nothing else."""

from __future__ import annotations

import time

from PyQt6.QtCore import QObject, QTimer

from pegloom.app.state.state import RANGE_TEST
from pegloom.app.state.store import Store

TICK = 16
"""Milliseconds between two moments while playing."""
LONGEST_STEP = 0.2
"""Seconds a step may take at most: after a stall the motion goes on where it was."""


class Player(QObject):
    def __init__(self, store: Store) -> None:
        super().__init__(store)
        self.store = store
        self.ticker = QTimer(self)
        self.ticker.setInterval(TICK)
        self.ticker.timeout.connect(self._tick)
        self._last = 0.0
        store.changed.connect(self._follow)

    def play_source(self, source: str, at: float = 0.0) -> None:
        """Choose what the strip shows."""
        self.store.put(source=source, time=0.0)
        self.go_to(at)

    def go_to(self, seconds: float) -> None:
        """Go to a time, within what is played."""
        self.store.put(time=float(min(max(seconds, 0.0), self.store.state.length)))

    def step(self, frames: int) -> None:
        """Some frames on or back."""
        state = self.store.state
        self.go_to(round(state.clock.time * state.rate + frames) / state.rate)

    def to_key(self, direction: int) -> None:
        """To the next key (1) or the one before (-1)."""
        state = self.store.state
        times = state.clip.key_times if state.clip is not None else ()
        ahead = [t for t in times if (t - state.clock.time) * direction > 1e-4]
        if ahead:
            self.go_to(min(ahead) if direction > 0 else max(ahead))

    def toggle(self) -> None:
        """Play or stop."""
        if self.store.state.clock.playing:
            self.stop()
            return
        state, character = self.store.state, self.store.state.character
        source = state.clock.source
        if not source:
            source = character.clips[0].id if character is not None and character.clips else RANGE_TEST
        self.store.put(source=source)
        state = self.store.state
        self.store.put(playing=True, time=0.0 if state.clock.time >= state.length - 1e-6 else state.clock.time)

    def stop(self) -> None:
        """Stop playing."""
        self.store.put(playing=False)

    def _follow(self) -> None:
        playing = self.store.state.clock.playing
        if playing and not self.ticker.isActive():
            self._last = time.monotonic()
            self.ticker.start()
        elif not playing and self.ticker.isActive():
            self.ticker.stop()

    def _tick(self) -> None:
        now = time.monotonic()
        state = self.store.state
        ahead = state.clock.time + min(now - self._last, LONGEST_STEP)
        self._last = now
        if ahead >= state.length:
            if not state.hand.looping:
                self.store.put(playing=False, time=state.length)
                return
            ahead = ahead % max(state.length, 1e-6)
        self.go_to(ahead)
