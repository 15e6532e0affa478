"""Export: for whom, which kind of file, what goes into it."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.handover.actions import choose_target
from pegloom.app.areas.handover.settings import ExportSettings, FileKind, WhichClips
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, narrow, tick
from pegloom.core.said import counted
from pegloom.document.delivery import Content
from pegloom.document.edits import DeliveredRest
from pegloom.files.targets import known_targets


class ExportCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Export", "handover.export", sentence="Choose whom it is for. What that means in detail is in the next card.")
        self.summary = label("", "soft", wrap=True, name="handover.summary")
        self.body.addWidget(self.summary)
        self.target = QComboBox()
        narrow(self.target)
        self.target.setObjectName("handover.target")
        self.target.activated.connect(lambda _: choose_target(c, self.target.currentData()))
        self.field("For", self.target)
        self.use = label("", "caption", wrap=True, name="handover.use")
        self.body.addWidget(self.use)
        self.field("File", choice(self, ExportSettings, "kind", [(kind.said, kind) for kind in FileKind], name="handover.kind"))
        self.holds = choice(self, ExportSettings, "content", [(some.value, some) for some in Content], name="handover.content")
        self.field("Holds", self.holds)
        self.which = choice(self, ExportSettings, "which", [(some.value, some) for some in WhichClips], name="handover.which")
        self.field("Clips", self.which)
        self.field("Rest", choice(self, ExportSettings, "rest", [(rest.value, rest) for rest in DeliveredRest], name="handover.rest"))
        tip = "All ticked in Figures, in Motion, where they stand, each with its prefix before its names, and one animation of all of them besides"
        self.together = tick(self, ExportSettings, "together", "All shown characters", name="handover.together", tip=tip)
        self.body.addWidget(self.together)
        self.body.addWidget(action_button(c.actions.qactions["file.export"], role="main"))

    def key(self, state: State) -> tuple[object, ...]:
        one, how = state.character, state.settings.of(ExportSettings)
        return () if one is None else (how.kind, how.target, how.content, *state.document.characters, one.parts, one.skin, one.skeleton, one.clips, one.images)

    def show_state(self, state: State) -> None:
        one, how = state.character, state.settings.of(ExportSettings)
        known = known_targets()
        fill(self.target, [(t.title or name, name) for name, t in known.items()], [t.use for t in known.values()])
        self.target.setCurrentIndex(max(self.target.findData(how.target), 0))
        self.use.setText(known[how.target].use if how.target in known else "")
        mesh_only = how.kind in (FileKind.PLY, FileKind.STL, FileKind.OBJ)
        self.which.setEnabled(how.content is not Content.CHARACTER)
        self.holds.setEnabled(how.kind is not FileKind.BVH)
        shown = sum(c.figure.shown for c in state.document.characters)
        self.together.setVisible(len(state.document.characters) > 1 and how.kind is not FileKind.BVH)
        self.together.setText(f"All shown characters ({shown})")
        if one is None:
            self.summary.setText("Nothing to deliver yet.")
            return
        joints = len(one.skeleton.joints) if one.skeleton else 0
        bound = len(one.skin.weights) if one.skin else 0
        text = f"{counted(len(one.included), 'part')} ({bound} bound), {counted(joints, 'joint')}, {counted(len(one.clips), 'clip')}, {counted(len(one.images), 'picture')}."
        if mesh_only and how.content is not Content.CHARACTER and one.clips:
            text += " A mesh for each frame; choose Holds: character for one mesh."
        self.summary.setText(text)
