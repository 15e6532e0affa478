"""Bends: where the skin bends badly in the trial on the strip, the worst first, each with a way there."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.actions import Actions
from pegloom.app.quality import Doubt, QualityWatch
from pegloom.app.session import RANGE_TEST, TRIAL_FRAMES, Session
from pegloom.app.widgets import Card, button, clear, label
from pegloom.checks.quality import STRETCH_LIMIT

MOST = 5


class BendCard(Card):
    """Filled as the quality graph's figures come in; `follow` says whose."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__("Bends", "weights.bends", is_open=False)
        self.session = session
        self.rows = QVBoxLayout()
        self.rows.setSpacing(5)
        self.body.addLayout(self.rows)
        # Figures come in many a second; the list is looked through a few times a second at most.
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.setInterval(150)
        self.later.timeout.connect(self.show_document)
        self.watch: QualityWatch | None = None
        self.shown: object = None

    def follow(self, watch: QualityWatch) -> None:
        """List what this watch finds."""
        self.watch = watch
        watch.changed.connect(lambda: self.later.isActive() or self.later.start())

    def show_document(self) -> None:
        """The rows are made anew only where they say something else."""
        if self.watch is None or not self.isVisible():
            return
        character = self.session.character
        bound = character is not None and character.skin is not None
        doubts = self.watch.doubts(self._group) if bound and self.watch.times else []
        rows = [(doubt.joint, doubt.at, self._said(doubt)) for doubt in doubts]
        state = (bound, bool(self.watch.times), self.watch.finished, tuple(rows))
        if state == self.shown:
            return
        self.shown = state
        clear(self.rows)
        if not bound or not self.watch.times:
            self.note.setText("")
            said = "Where the skin bends badly in a trial; the range test has them all." if bound else "Bind first."
            self.rows.addWidget(label(said, "caption", wrap=True))
            if bound:
                self.rows.addWidget(button("Run the range test", "weights.bends.run", self._run))
            return
        self.note.setText(f"{len(rows)} doubtful" if rows else "sound" if self.watch.finished else "looking")
        for rank, (joint, k, text) in enumerate(rows[:MOST]):
            line = QHBoxLayout()
            line.setSpacing(8)
            line.addWidget(label(text, "snag", wrap=True), 1)
            line.addWidget(button("Show", f"weights.bends.show.{rank}", lambda j=joint, at=k: self._go(j, at)))
            self.rows.addLayout(line)
        if len(rows) > MOST:
            self.rows.addWidget(label(f"and {len(rows) - MOST} more", "caption"))
        if not rows:
            said = "No joint is past its limits in this trial." if self.watch.finished else "The figures are coming in."
            self.rows.addWidget(label(said, "caption", wrap=True))

    def _group(self, joint: str, k: int) -> object:
        """Of the range test each trial is one doubt, of a clip each joint."""
        return self._trial(k) if self.session.source == RANGE_TEST else joint

    def _trial(self, k: int) -> int:
        assert self.watch is not None
        return min(int(self.watch.times[k] * self.session.rate // TRIAL_FRAMES), len(self.session.trials) - 1)

    def _said(self, doubt: Doubt) -> str:
        assert self.session.character is not None and self.session.character.skeleton is not None
        assert self.watch is not None
        figures, others = doubt.figures, len(doubt.joints) - 1
        if figures.stretch / STRETCH_LIMIT > doubt.past - 1e-9:
            what = f"edges {figures.stretch:.1f} times as long"
        else:
            kept = [
                f"{v:.0%} of its {n}" for v, n in ((figures.girth, "girth"), (figures.area, "area")) if v is not None
            ]
            what = f"{' and '.join(kept)} left"
        where = self.session.character.skeleton.joint(doubt.joint).name
        if self.session.source == RANGE_TEST:
            more = f"; {others} joints more" if others > 1 else "; 1 joint more" if others else ""
            return f"{self.session.trials[self._trial(doubt.at)].label}: {where}, {what}{more}"
        return f"{where}: {what} at frame {round(self.watch.times[doubt.at] * self.session.rate)}"

    def _run(self) -> None:
        self.session.play_source(RANGE_TEST)

    def _go(self, joint: str, k: int) -> None:
        """The joint in hand, the time its worst, the view on it."""
        session = self.session
        if self.watch is None or k >= len(self.watch.times):
            return
        session.select("joint", joint)
        session.go_to(self.watch.times[k])
        frame = session.frame()
        if frame is not None and session.character is not None and session.character.skeleton is not None:
            session.look_at.emit(frame.joints[session.character.skeleton.index[joint]][:3, 3])
