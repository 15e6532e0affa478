"""Time: what the strip plays, and the clock that moves it. Playing changes the time and nothing else."""

from __future__ import annotations

import time

from PyQt6.QtCore import QObject, QTimer

from pegloom.app.state.state import RANGE_TEST
from pegloom.app.state.store import Store

TICK = 16
"""Milliseconds between two moments while playing."""
HOLDS = 0.9
"""Share of the rate that is shown from which on it counts as held."""
JUDGED = 0.8
"""Seconds over which pictures are counted."""
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
        self._since, self._shown, self._frame = 0.0, 0, -1
        store.changed.connect(self._follow)

    def play_source(self, source: str, at: float = 0.0) -> None:
        """Choose what the strip shows."""
        self.store.put(source=source, time=0.0, part=None if source != self.store.state.clock.source else self.store.state.clock.part)
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
        keyed = state.clip if state.layer is None else state.layer
        times = keyed.key_times if keyed is not None else ()
        ahead = [t for t in times if (t - state.clock.time) * direction > 1e-4]
        if ahead:
            self.go_to(min(ahead) if direction > 0 else max(ahead))

    def to_end(self, direction: int) -> None:
        """To the last frame (1) or the first (-1) of what is played."""
        first, last = self.store.state.played
        self.go_to(last if direction > 0 else first)

    def play_part(self, first: float | None = None, last: float | None = None) -> None:
        """Play and show a range alone; the end not given stays. Neither: all of it."""
        if first is None and last is None:
            self.store.put(part=None)
            return
        a, b = self.store.state.played
        a, b = a if first is None else first, b if last is None else last
        self.store.put(part=(min(a, b), max(a, b)) if abs(b - a) > 1e-6 else None)

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
        first, last = state.played
        inside = first - 1e-6 <= state.clock.time < last - 1e-6
        self.store.put(playing=True, time=state.clock.time if inside else first)

    def stop(self) -> None:
        """Stop playing."""
        self.store.put(playing=False)

    def _follow(self) -> None:
        playing = self.store.state.clock.playing
        if playing and not self.ticker.isActive():
            self._last = time.monotonic()
            self._since, self._shown, self._frame = self._last, 0, -1
            self.ticker.start()
        elif not playing and self.ticker.isActive():
            self.ticker.stop()
            if self.store.state.clock.shown_rate:
                self.store.put(shown_rate=0.0)

    def _tick(self) -> None:
        now = time.monotonic()
        state = self.store.state
        ahead = state.clock.time + min(now - self._last, LONGEST_STEP)
        self._last = now
        first, last = state.played
        if ahead >= last:
            if not state.hand.looping:
                self.store.put(playing=False, time=last)
                return
            ahead = first + (ahead - first) % max(last - first, 1e-6)
        self.go_to(max(ahead, first))
        self._count(now)

    def _count(self, now: float) -> None:
        """Tell how many frames a second are shown, where the machine does not come after: the time goes on as it should, and
        frames are left out."""
        state = self.store.state
        frame = int(state.clock.time * state.rate + 1e-6)
        self._shown += frame != self._frame
        self._frame = frame
        if now - self._since < JUDGED:
            return
        rate = self._shown / (now - self._since)
        # More frames than ticks are never shown.
        held = rate >= HOLDS * min(state.rate, 1000.0 / TICK)
        shown = 0.0 if held else round(rate, 1)
        if shown != state.clock.shown_rate:
            self.store.put(shown_rate=shown)
        self._since, self._shown = now, 0
