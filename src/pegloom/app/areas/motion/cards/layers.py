"""Layers over the clip on the strip: which is in hand, how much of each plays, how it meets what is below."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from pegloom.app.areas.motion.layering import (
    drop_layer,
    move_layer,
    rename_layer,
    set_mode,
    show_alone,
    switch_layer,
    take_in_hand,
    try_weigh,
    weigh,
)
from pegloom.app.context import Context
from pegloom.app.state.state import LayerSettings, State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.layouts import side_by_side
from pegloom.app.widgets.sliders import SliderRow
from pegloom.core.motion.layers import Layer, LayerMode
from pegloom.core.said import counted

MODES = (("turns further", LayerMode.TURN), ("adds up", LayerMode.ADD), ("replaces", LayerMode.SET))


class LayersCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Layers", "motion.layers",
            sentence="What lies over the clip; its keys stay under it. Keys go to the one in hand.", is_open=False,
        )  # fmt: skip
        self.listed: tuple[tuple[Layer, ...], Layer | None] | None = None
        q = c.actions.qactions
        self.row(action_button(q["layers.add"], "New layer"), action_button(q["layers.mix"], "Mix down"))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        self.body.addLayout(self.rows)
        self.about = QWidget()
        column = QVBoxLayout(self.about)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(6)
        whole, self.body = self.body, column
        self.name = QLineEdit()
        self.name.setObjectName("motion.layer.name")
        self.name.editingFinished.connect(lambda: rename_layer(c, self.name.text()))
        self.field("Name", self.name)
        self.mode = QComboBox()
        self.mode.setObjectName("motion.layer.mode")
        for text, mode in MODES:
            self.mode.addItem(text, mode)
        self.mode.setToolTip("How it meets what is below; at each of its keys it shows what it showed")
        self.mode.activated.connect(lambda _: set_mode(c, self.mode.currentData()))
        self.field("Effect", self.mode)
        self.amount = SliderRow("motion.layer.amount", 0.0, 1.0, lambda v: f"{v:.0%}", self._moved, lambda v: weigh(c, v))
        self.field("Amount", self.amount)
        self.row(action_button(q["layers.key_amount"], "Key amount"), action_button(q["layers.same_amount"], "Same throughout"))
        self.row(
            button("Up", "motion.layer.up", partial(move_layer, c, 1)), button("Down", "motion.layer.down", partial(move_layer, c, -1)),
            button("Remove", "motion.layer.remove", lambda: drop_layer(c)),
        )
        self.body = whole
        self.body.addWidget(self.about)

    def key(self, state: State) -> tuple[object, ...]:
        amount = state.layer.amount.at(state.clock.time) if state.layer is not None else None
        return (state.clip.layers if state.clip is not None else None, state.settings.of(LayerSettings).layer, amount)

    def _moved(self, amount: float) -> None:
        """Under the mouse it is shown and becomes a step when let go; by keys each press is one."""
        (try_weigh if self.amount.slider.isSliderDown() else weigh)(self.c, amount)

    def show_state(self, state: State) -> None:
        layers = state.clip.layers if state.clip is not None else ()
        self.note.setText(str(len(layers)) if layers else "none")
        hand = state.layer
        if (layers, hand) != self.listed:
            self.listed = layers, hand
            self._list(layers, hand)
        self.about.setVisible(hand is not None)
        if hand is not None:
            if not self.name.hasFocus():
                self.name.setText(hand.name)
            self.mode.setCurrentIndex(self.mode.findData(hand.mode))
            self.amount.set(hand.amount.at(state.clock.time))

    def _list(self, layers: tuple[Layer, ...], hand: Layer | None) -> None:
        """A row a layer, the highest first; not made anew at every frame that plays."""
        clear(self.rows)
        for layer in reversed(layers):
            self._show_row(layer.id, layer.name, len({control for control, _ in layer.curves}), on=layer.on, alone=layer.alone, held=layer is hand)
        if layers:
            own = self._chip("the clip's own keys", "motion.layer.own", "", held=hand is None)
            self.rows.addWidget(own)
        else:
            self.rows.addWidget(label("No layer lies over this clip.", "caption"))

    def _show_row(self, layer: str, name: str, controls: int, *, on: bool, alone: bool, held: bool) -> None:
        tick = QCheckBox()
        tick.setObjectName(f"motion.layer.{layer}")
        tick.setAccessibleName(f"{name} plays")
        tick.setToolTip("Whether it plays")
        tick.setChecked(on)
        tick.clicked.connect(partial(switch_layer, self.c, layer))
        chip = self._chip(f"{name}, {counted(controls, 'control')}" if controls else f"{name}, empty", f"motion.layer.{layer}.hand", layer, held=held)
        only = QPushButton("Alone")
        only.setObjectName(f"motion.layer.{layer}.alone")
        only.setAccessibleName(f"{name} alone")
        only.setToolTip("Show nothing else of the clip")
        only.setCheckable(True)
        only.setChecked(alone)
        only.clicked.connect(partial(show_alone, self.c, layer))
        line = side_by_side(tick, chip, only, stretch=0)
        line.setStretch(1, 1)
        self.rows.addLayout(line)

    def _chip(self, text: str, name: str, layer: str, *, held: bool) -> QPushButton:
        chip = QPushButton(text)
        chip.setObjectName(name)
        chip.setCheckable(True)
        chip.setChecked(held)
        chip.setToolTip("Take it in hand: keys are set in it")
        chip.clicked.connect(lambda: take_in_hand(self.c, layer))
        return chip
