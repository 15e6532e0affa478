"""Surface relax and dual quaternions, per part; and their bake into weights any target plays."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QComboBox, QSpinBox

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, SliderRow, action_button, label, tip


class RelaxCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__(
            "Relax and bake", "weights.relax",
            sentence="Surface relax smooths what skinning crumples. Few targets play it: bake it into weights.",
            is_open=False,
        )  # fmt: skip
        self.session = session
        q = actions.qactions
        self.part = QComboBox()
        self.part.setObjectName("weights.relax.part")
        self.part.activated.connect(lambda _: self.show_document())
        self.field("Part", self.part)
        self.steps = QSpinBox()
        self.steps.setObjectName("weights.relax.steps")
        self.steps.setRange(1, 200)
        self.steps.setValue(12)
        self.field("Steps", self.steps)
        self.strength = SliderRow("weights.relax.strength", 0.05, 1.0, lambda v: f"{v:.2f}", lambda v: None)
        self.strength.set(1.0)
        self.field("Strength", self.strength)
        self.row(action_button(q["relax.put"], "Put relax on"), action_button(q["relax.off"], "Take it off"))
        self.dual = SliderRow("weights.dual", 0.0, 1.0, lambda v: f"{v:.2f}", lambda v: None)
        self.field("Dual quat.", self.dual)
        self.body.addWidget(
            label(
                "0 linear blend, 1 dual quaternion: keeps volume in twists. On the selected vertices, else the whole part.",
                "caption",
                wrap=True,
            )
        )
        self.row(action_button(q["relax.dual"], "Set the blend mode"))
        self.influences = QSpinBox()
        self.influences.setObjectName("weights.bake.influences")
        self.influences.setRange(1, 16)
        self.influences.setValue(4)
        self.influences.setSuffix(" a vertex")
        self.field("Bake to", self.influences)
        self.clips = QCheckBox("Follow the clips as well")
        self.clips.setObjectName("weights.bake.clips")
        self.body.addWidget(self.clips)
        self.body.addWidget(action_button(q["relax.bake"], "Bake into weights", role="main"))
        self.report = label("", "caption", wrap=True, name="weights.bake.report")
        self.body.addWidget(self.report)
        self.listed: object = None

    def show_document(self) -> None:
        character = self.session.character
        skin = character.skin if character else None
        parts = tuple((p.name, p.id) for p in character.parts if skin and p.id in skin.weights) if character else ()
        if parts != self.listed:
            self.listed = parts
            kept = self.part.currentData()
            self.part.clear()
            for name, part_id in parts:
                self.part.addItem(name, part_id)
            self.part.setCurrentIndex(max(self.part.findData(kept), 0))
        on = [name for name, part_id in parts if part_id in skin.relax] if skin else []
        dual = [name for name, part_id in parts if part_id in skin.dual] if skin else []
        told = ([f"relax on {', '.join(on)}"] if on else []) + ([f"dual on {', '.join(dual)}"] if dual else [])
        self.note.setText("; ".join(told) or "off")
        self.note.setToolTip(tip(self.note.text()))
        here = skin.relax.get(self.part.currentData()) if skin else None
        if here is not None and not self.steps.hasFocus():
            self.steps.setValue(here.steps)
