"""Handover: deliver it."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox

from pegloom.app.benches.bench import Bench
from pegloom.app.widgets import action_button, label
from pegloom.checks import Severity
from pegloom.core.skeleton.names import SideStyle
from pegloom.document.edits import DeliveredRest


class HandoverBench(Bench):
    title, line = "Handover", "deliver it"

    def build(self) -> None:
        export = self.card("Export", "handover.export", "A GLB with the character, its weights, pictures and clips.")
        self.summary = label("", "soft", wrap=True, name="handover.summary")
        export.body.addWidget(self.summary)
        self.names = QComboBox()
        self.names.setObjectName("handover.names")
        self.names.addItem("as they are", None)
        for style in SideStyle:
            self.names.addItem(f"like {style.value}", style)
        export.field("Joint names", self.names)
        self.rest = QComboBox()
        self.rest.setObjectName("handover.rest")
        for rest in DeliveredRest:
            self.rest.addItem(rest.value, rest)
        export.field("Rest", self.rest)
        export.body.addWidget(action_button(self.actions.qactions["file.export"], role="main"))
        proof = self.card(
            "Proof", "handover.proof", "Writes the file, opens it again, and measures it against the live rig."
        )
        proof.body.addWidget(action_button(self.actions.qactions["handover.prove"]))
        self.proof = label("Not measured yet.", "soft", wrap=True, name="handover.result")
        proof.body.addWidget(self.proof)
        self.snags = self.card("Snags", "handover.snags", "Doubts left in any area.")
        self.listed = label("", "caption", wrap=True, name="handover.snag_list")
        self.snags.body.addWidget(self.listed)
        save = self.card("Save", "handover.save", "The project keeps everything: recipe, weights, controls, keys.")
        save.row(
            action_button(self.actions.qactions["file.save"]), action_button(self.actions.qactions["file.save_as"])
        )

        self.session.snag_watch.changed.connect(self.refresh)

    def show_document(self) -> None:
        character = self.session.character
        if character is None:
            self.summary.setText("Nothing to deliver yet.")
            return
        joints = len(character.skeleton.joints) if character.skeleton else 0
        bound = len(character.skin.weights) if character.skin else 0
        self.summary.setText(
            f"{len(character.included)} parts ({bound} bound), {joints} joints, {len(character.clips)} clips, "
            f"{len(character.images)} pictures. Clips on controls are baked to joints."
        )
        found = [s for s in self.session.snag_watch.snags if s.severity is not Severity.NOTE]
        self.snags.note.setText(str(len(found)))
        self.listed.setText("\n".join(s.message for s in found[:10]) or "None.")
