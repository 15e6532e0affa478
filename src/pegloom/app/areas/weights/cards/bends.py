"""Bends: where the skin bends badly in the trial on the strip, the worst first, each with a way there."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.state.state import RANGE_TEST, TRIAL_FRAMES, State
from pegloom.app.watch.quality import Doubt
from pegloom.app.widgets import button, label
from pegloom.app.widgets.card import Card
from pegloom.checks.quality import STRETCH_LIMIT
from pegloom.core.said import counted

MOST = 5


class BendRow(QWidget):
    """One bend in words with its Show; the card has a few of them and fills them anew."""

    def __init__(self, rank: int, show: Callable[[int], None]) -> None:
        super().__init__()
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(8)
        self.words = label("", "snag", wrap=True)
        line.addWidget(self.words, 1)
        line.addWidget(button("Show", f"weights.bends.show.{rank}", lambda: show(rank)))
        self.hide()


class BendCard(Card):
    """Filled as the quality graph's figures come in."""

    def __init__(self, c: Context) -> None:
        super().__init__(c, "Trouble spots", "weights.bends", is_open=False)
        self.watch = c.quality
        self.bends: list[tuple[str, int, str]] = []
        self.rows = [BendRow(rank, self._go) for rank in range(MOST)]
        for row in self.rows:
            self.body.addWidget(row)
        self.said = label("", "caption", wrap=True)
        self.body.addWidget(self.said)
        self.run = button("Run the range test", "weights.bends.run", lambda: c.player.play_source(RANGE_TEST))
        self.body.addWidget(self.run)
        # Figures come in many a second; the list is looked through a few times a second at most.
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.setInterval(150)
        self.later.timeout.connect(self.look_anew)
        self.watch.changed.connect(lambda: self.later.isActive() or self.later.start())

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.skin if one is not None else None, one.skeleton if one is not None else None, state.clock.source, state.clip)

    def show_state(self, state: State) -> None:
        bound = state.character is not None and state.character.skin is not None
        looking = bound and bool(self.watch.times)
        doubts = self.watch.doubts(self._group) if looking else []
        self.bends = [(doubt.joint, doubt.at, self._said(doubt)) for doubt in doubts]
        for rank, row in enumerate(self.rows):
            row.setVisible(rank < len(self.bends))
            if rank < len(self.bends):
                row.words.setText(self.bends[rank][2])
        self.run.setVisible(bound and not looking)
        count, finished = len(self.bends), self.watch.finished
        if not looking:
            self.note.setText("")
            said = "Where the skin bends badly in a trial; the range test has them all." if bound else "Bind first."
        elif count:
            self.note.setText(counted(count, "snag"))
            said = f"and {count - MOST} more" if count > MOST else ""
        else:
            self.note.setText("sound" if finished else "looking")
            said = "No joint is past its limits in this trial." if finished else "The figures are coming in."
        self.said.setText(said)
        self.said.setVisible(bool(said))

    def _group(self, joint: str, k: int) -> object:
        """Of the range test each trial is one doubt, of a clip each joint."""
        return self._trial(k) if self.c.state.clock.source == RANGE_TEST else joint

    def _trial(self, k: int) -> int:
        return min(int(self.watch.times[k] * self.c.state.rate // TRIAL_FRAMES), len(self.c.state.trials) - 1)

    def _said(self, doubt: Doubt) -> str:
        figures, others = doubt.figures, len(doubt.joints) - 1
        if figures.stretch / STRETCH_LIMIT > doubt.past - 1e-9:
            what = f"edges {figures.stretch:.1f} times as long"
        else:
            kept = [
                f"{v:.0%} of its {n}" for v, n in ((figures.girth, "girth"), (figures.area, "area")) if v is not None
            ]
            what = f"{' and '.join(kept)} left"
        where = self.c.skeleton.joint(doubt.joint).name
        if self.c.state.clock.source == RANGE_TEST:
            more = f"; {others} joints more" if others > 1 else "; 1 joint more" if others else ""
            return f"{self.c.state.trials[self._trial(doubt.at)].label}: {where}, {what}{more}"
        return f"{where}: {what} at frame {round(self.watch.times[doubt.at] * self.c.state.rate)}"

    def _go(self, rank: int) -> None:
        """The joint active, the time its worst, the view on it."""
        if rank >= len(self.bends) or self.bends[rank][1] >= len(self.watch.times):
            return
        joint, k, _ = self.bends[rank]
        c = self.c
        c.store.select("joint", joint)
        c.player.go_to(self.watch.times[k])
        frame = c.frames.frame()
        if frame is not None:
            c.view.show_point(frame.joints[c.skeleton.index[joint]][:3, 3])
