"""The view with everything that floats over it: chips, tags, hint, notes, the job, and panes of the area."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.panels.chips import Chips
from pegloom.app.panels.hint import Hint
from pegloom.app.panels.jobcard import JobCard
from pegloom.app.panels.notes import Note
from pegloom.app.panels.tag import Tag
from pegloom.app.panels.welcome import Welcome
from pegloom.app.spec import Pane, Place
from pegloom.app.stage.paper import Paper
from pegloom.app.stage.stage import Stage
from pegloom.app.state.state import State
from pegloom.app.widgets.panel import Panel

EDGE = 12


class StageFrame(Panel):
    always = True

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.stage = Stage(c)
        column.addWidget(self.stage)
        self.tag = Tag(c, self.stage)
        self.pinned: list[Tag] = []
        self.tag.others = self.tags
        self.tag.pixel_of = self.stage.pixel_of
        self.tag.pin_pressed.connect(self._pin)
        self.paper = Paper(c, self.stage, self.tags)
        self.chips = Chips(c, self.stage)
        self.hint = Hint(c, self.stage)
        self.note = Note(c, self.stage)
        self.job = JobCard(c, self.stage)
        self.welcome = Welcome(c, self.stage)
        self.panes: dict[str, tuple[Pane, Panel]] = {}
        self.flowed = 0
        self.stage.companion = self.paper
        self.stage.pointed.connect(self._point)
        self.note.changed.connect(self.lay_out)
        self.job.changed.connect(self.lay_out)

    def tags(self) -> list[Tag]:
        return [self.tag, *self.pinned]

    def _pin(self) -> None:
        """A tag of its own for what is selected, that stays while other things are picked."""
        used = {tag.stem for tag in self.pinned}
        stem = next(f"pinned.{k}" for k in range(1, len(used) + 2) if f"pinned.{k}" not in used)
        panel = Tag(self.c, self.stage, holds=self.c.state.selection, stem=stem)
        panel.others = self.tags
        panel.pixel_of = self.stage.pixel_of
        panel.move(self.tag.pos())
        panel.moved_by_hand = True
        panel.pin_pressed.connect(lambda: self._let_go(panel))
        self.pinned.append(panel)
        panel.look_anew()
        self.tag.moved_by_hand = False
        self.tag.look_anew()
        self.paper.update()

    def _let_go(self, tag: Tag) -> None:
        self.pinned.remove(tag)
        tag.hide()
        tag.deleteLater()
        self.tag.look_anew()
        self.paper.update()

    # Panes over the view

    def _wanted(self, state: State) -> tuple[str, ...]:
        if state.character is None or state.viewing.clean_view:
            return ()
        return tuple(p.id for p in self.c.area.panes if p.place is Place.OVER and p.shown(state))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (
            self._wanted(state), state.area, state.viewing.lens, one is None, one is not None and one.skin is not None,
            state.selection.kind, state.selection.ids,
        )  # fmt: skip

    def show_state(self, state: State) -> None:
        wanted = self._wanted(state)
        for pane in self.c.area.panes:
            if pane.id in wanted and pane.id not in self.panes:
                panel = pane.make(self.c)
                panel.setParent(self.stage)
                self.panes[pane.id] = (pane, panel)
        for pane_id, (_, panel) in self.panes.items():
            panel.setVisible(pane_id in wanted)
        self.lay_out()
        # Tags take their size from what they hold now.
        QTimer.singleShot(0, self.lay_out)

    def _point(self, words: str) -> None:
        self.hint.point(words)
        self.lay_out()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.lay_out()
        # When the view itself has its new size.
        QTimer.singleShot(0, self.stage.keep_all)

    def lay_out(self) -> None:
        """Everything in its place."""
        w, h = self.stage.width(), self.stage.height()
        self.paper.setGeometry(0, 0, w, h)
        if self.flowed != w:
            self.flowed = w
            self.hint.fit(w)
            self.chips.flow(w - 2 * EDGE)
        self.chips.adjustSize()
        self.chips.move(EDGE, 10)
        self.hint.move(EDGE, h - self.hint.height() - 10)
        below = self.hint.height() + 18
        # The metre stick says the height over its end.
        self.stage.make_margins(self.chips.y() + self.chips.height() + 24, below)
        for pane, panel in self.panes.values():
            if not panel.isVisibleTo(self.stage):
                continue
            panel.adjustSize()
            x = (w - panel.width()) // 2 if pane.middle else EDGE
            panel.move(x, h - panel.height() - (below + 6 if pane.middle else below))
            panel.raise_()
        # Under the chips: what is said covers none of them.
        self.note.move((w - self.note.width()) // 2, self.chips.y() + self.chips.height() + 10)
        self.job.move((w - self.job.width()) // 2, h - self.job.height() - 52)
        self.welcome.move((w - self.welcome.width()) // 2, (h - self.welcome.height()) // 2)
        for tag in self.tags():
            tag.place()
