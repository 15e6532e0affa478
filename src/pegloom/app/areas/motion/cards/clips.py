"""Clips: which one the strip plays."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from pegloom.app.areas.motion.shelving import ShelfSettings
from pegloom.app.context import Context
from pegloom.app.state.state import RANGE_TEST, State
from pegloom.app.widgets import action_button
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number


class ClipsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Clips", "motion.clips", sentence="Pick one to play it on the strip.")
        self.list = QListWidget()
        self.list.setObjectName("motion.list")
        self.list.setAccessibleName("Clips")
        self.list.setFixedHeight(92)
        for signal in (self.list.itemClicked, self.list.itemActivated):
            signal.connect(lambda item: c.player.play_source(item.data(Qt.ItemDataRole.UserRole)))
        self.body.addWidget(self.list)
        q = c.actions.qactions
        self.row(
            action_button(q["shelf.open"], "Clip shelf", role="main"),
            action_button(q["motion.new_clip"], "New clip"),
            action_button(q["motion.trial_clip"], "Sample clip"),
        )
        self.row(action_button(q["clips.rename"], "Rename"), action_button(q["clips.copy"], "Duplicate"), action_button(q["clips.drop"], "Delete"))
        self.row(
            action_button(q["clips.up"], "Up"), action_button(q["clips.down"], "Down"),
            action_button(q["clips.slower"], "Slower"), action_button(q["clips.faster"], "Faster"),
        )
        self.row(action_button(q["clips.trim"], "Trim"), action_button(q["clips.mirror"], "Mirror"), action_button(q["clips.in_place"], "In place"))
        self.row(action_button(q["clips.join"], "Join with the next"))
        seconds = number(self, ShelfSettings, "seconds", 0.0, 5.0, name="clips.join_seconds", suffix=" s", step=0.1)
        seconds.setToolTip("How long two joined clips flow into each other")
        self.field("Flow over", seconds)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        clips = tuple((clip.id, clip.name) for clip in one.clips) if one is not None else ()
        return (clips, one is not None and one.skeleton is not None, state.clock.source)

    def show_state(self, state: State) -> None:
        one = state.character
        self.list.clear()
        rows = [("range test", RANGE_TEST)] if one is not None and one.skeleton is not None else []
        rows += [(clip.name, clip.id) for clip in one.clips] if one is not None else []
        for name, source in rows:
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, source)
            self.list.addItem(item)
            item.setSelected(source == state.clock.source)
        self.note.setText(state.clip.name if state.clip is not None else "")
