"""Layers over the clip on the strip: on or off, and taken away."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout

from pegloom.app.areas.motion.actions import drop_layer, switch_layer
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.layouts import side_by_side
from pegloom.core.said import counted


class LayersCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Layers", "motion.layers",
            sentence="What lies over the clip; its keys stay under it. Pose over a clip, then Make a layer.", is_open=False,
        )  # fmt: skip
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip.layers if state.clip is not None else None,)

    def show_state(self, state: State) -> None:
        layers = state.clip.layers if state.clip is not None else ()
        self.note.setText(str(len(layers)) if layers else "none")
        clear(self.rows)
        for layer in layers:
            controls = {control for control, _ in layer.curves}
            count = "1 control" if len(controls) == 1 else counted(len(controls), "control")
            tick = QCheckBox(f"{layer.name}, {count}")
            tick.setObjectName(f"motion.layer.{layer.id}")
            tick.setAccessibleName(f"{layer.name} plays")
            tick.setChecked(layer.on)
            tick.clicked.connect(partial(switch_layer, self.c, layer.id))
            gone = button("Remove", f"motion.layer.{layer.id}.remove", partial(drop_layer, self.c, layer.id))
            line = side_by_side(tick, gone, stretch=0)
            line.setStretch(0, 1)
            self.rows.addLayout(line)
        if not layers:
            self.rows.addWidget(label("No layer lies over this clip.", "caption"))
