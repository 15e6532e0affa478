"""Export: what goes into the file."""

from __future__ import annotations

from pegloom.app.areas.handover.settings import ExportSettings, FileKind
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, tick
from pegloom.core.said import counted
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.edits import DeliveredRest


class ExportCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Export", "handover.export", sentence="One file with the character, its weights, textures and clips."
        )
        self.summary = label("", "soft", wrap=True, name="handover.summary")
        self.body.addWidget(self.summary)
        self.field("File", choice(self, ExportSettings, "kind", [(kind.said, kind) for kind in FileKind], name="handover.kind"))
        names = [("as they are", None), *((f"like {style.value}", style) for style in SideStyle)]
        self.names = choice(self, ExportSettings, "names", names, name="handover.names")
        self.field("Joint names", self.names)
        which = [(some.value, some) for some in HandedJoints]
        self.joints = choice(self, ExportSettings, "joints", which, name="handover.joints")
        self.field("Joints", self.joints)
        rests = [(rest.value, rest) for rest in DeliveredRest]
        self.field("Rest", choice(self, ExportSettings, "rest", rests, name="handover.rest"))
        tip = "Geometry and skeleton apart under it; without, each mesh is a root of its own, which the standard's validator prefers"
        self.one_top = tick(self, ExportSettings, "one_top", "One node over all", name="handover.one_top", tip=tip)
        self.body.addWidget(self.one_top)
        tip = "All ticked in Figures, in Motion, where they stand, each with its prefix before its names, and one animation of all of them besides"
        self.together = tick(self, ExportSettings, "together", "All shown characters", name="handover.together", tip=tip)
        self.body.addWidget(self.together)
        self.body.addWidget(action_button(c.actions.qactions["file.export"], role="main"))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return () if one is None else (state.settings.of(ExportSettings).kind, *state.document.characters, one.parts, one.skin, one.skeleton, one.clips, one.images)

    def show_state(self, state: State) -> None:
        one = state.character
        kind = state.settings.of(ExportSettings).kind
        for box in (self.names, self.joints, self.one_top):
            box.setEnabled(kind is FileKind.GLB)
        shown = sum(c.figure.shown for c in state.document.characters)
        self.together.setVisible(len(state.document.characters) > 1 and kind is not FileKind.BVH)
        self.together.setText(f"All shown characters ({shown})")
        if one is None:
            self.summary.setText("Nothing to deliver yet.")
            return
        joints = len(one.skeleton.joints) if one.skeleton else 0
        bound = len(one.skin.weights) if one.skin else 0
        self.summary.setText(
            f"{counted(len(one.included), 'part')} ({bound} bound), {counted(joints, 'joint')}, {counted(len(one.clips), 'clip')}, "
            f"{counted(len(one.images), 'texture')}. Clips on controls are baked to joints."
        )
