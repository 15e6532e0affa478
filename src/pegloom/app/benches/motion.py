"""Motion: keys on controls, clips, play."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QListWidget, QListWidgetItem, QSpinBox

from pegloom.app.benches.bench import Bench
from pegloom.app.session import RANGE_TEST
from pegloom.app.snagcard import SnagCard
from pegloom.app.widgets import action_button, label
from pegloom.document import edits


class MotionBench(Bench):
    title, line = "Motion", "try it, key it"

    def build(self) -> None:
        clips = self.card("Clips", "motion.clips", "Pick one to play it on the strip.")
        self.list = QListWidget()
        self.list.setObjectName("motion.list")
        self.list.setAccessibleName("Clips")
        self.list.setFixedHeight(92)
        self.list.itemClicked.connect(lambda item: self.session.play_source(item.data(Qt.ItemDataRole.UserRole)))
        clips.body.addWidget(self.list)
        clips.row(
            action_button(self.actions.qactions["motion.new_clip"], "New clip", role="main"),
            action_button(self.actions.qactions["motion.trial_clip"], "Trial clip"),
        )
        self.clips_card = clips

        keys = self.card("Keys", "motion.keys", "Pose controls, then write. Keys hold all free channels of a control.")
        keys.row(
            action_button(self.actions.qactions["keys.write"], "Write key", role="main"),
            action_button(self.actions.qactions["keys.write_all"], "Write all"),
        )
        keys.row(
            action_button(self.actions.qactions["keys.remove"], "Remove key"),
            action_button(self.actions.qactions["pose.rest"], "To rest"),
        )
        self.auto = QCheckBox("Auto-key: every change is written")
        self.auto.setObjectName("motion.auto")
        self.auto.clicked.connect(lambda on: self.session.set_view(auto_key=on))
        keys.body.addWidget(self.auto)
        self.keys_card = keys

        time = self.card("Time", "motion.time")
        self.length = QDoubleSpinBox()
        self.length.setObjectName("motion.length")
        self.length.setRange(0.05, 3600)
        self.length.setSuffix(" s")
        self.length.editingFinished.connect(self._set_length)
        self.rate = QSpinBox()
        self.rate.setObjectName("motion.rate")
        self.rate.setRange(1, 240)
        self.rate.setSuffix(" frames/s")
        self.rate.editingFinished.connect(self._set_length)
        time.field("Length", self.length)
        time.field("Rate", self.rate)
        self.loop = QCheckBox("Loop")
        self.loop.setObjectName("motion.loop")
        self.loop.clicked.connect(lambda on: self.session.set_view(looping=on))
        time.body.addWidget(self.loop)
        self.note = label("", "caption", wrap=True)
        time.body.addWidget(self.note)
        self.snags = SnagCard(self.session, self.actions, "motion", "Nothing is wrong with the clips.")
        self.column.addWidget(self.snags)

    def _set_length(self) -> None:
        clip = self.session.clip
        if clip is None or (abs(clip.length - self.length.value()) < 1e-6 and clip.rate == self.rate.value()):
            return
        length, rate = self.length.value(), float(self.rate.value())
        self.session.try_edit("Clip length", lambda d: edits.set_length(d, clip.id, length=length, rate=rate))

    def show_document(self) -> None:
        character, session = self.session.character, self.session
        self.list.clear()
        rows = [("range test", RANGE_TEST)] if character and character.skeleton else []
        rows += [(clip.name, clip.id) for clip in character.clips] if character else []
        for name, source in rows:
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, source)
            self.list.addItem(item)
            item.setSelected(source == session.source)
        clip = session.clip
        self.clips_card.note.setText(clip.name if clip else "")
        self.keys_card.note.setText(f"{len(clip.key_times)} key times" if clip else "no clip in hand")
        self.auto.setChecked(session.auto_key)
        self.loop.setChecked(session.looping)
        for box in (self.length, self.rate):
            box.setEnabled(clip is not None)
            box.blockSignals(True)
        if clip is not None and not self.length.hasFocus() and not self.rate.hasFocus():
            self.length.setValue(clip.length)
            self.rate.setValue(int(clip.rate))
        for box in (self.length, self.rate):
            box.blockSignals(False)
        self.note.setText(
            "Sampled motion from a file: it plays and exports as it came." if clip and clip.tracks else ""
        )
