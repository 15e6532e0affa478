"""Joints and controls: which of the two the clip on the strip is told by."""

from __future__ import annotations

from pegloom.app.areas.motion.bringing import BringSettings, Limbs
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice


class BringCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Joints and controls", "motion.bring",
            sentence="Motion from a file is on joints. On the controls it can be keyed and layered.", is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.limbs = choice(self, BringSettings, "limbs", [(limbs.value, limbs) for limbs in Limbs], name="motion.bring.limbs")
        self.field("Limbs", self.limbs)
        self.row(action_button(q["motion.to_controls"], "Onto controls", role="main"), action_button(q["motion.to_joints"], "Bake to joints"))
        self.row(action_button(q["motion.come_back"], "Bring back edited motion"))
        self.words = label("", "caption", wrap=True, name="motion.bring.words")
        self.body.addWidget(self.words)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip,)

    def show_state(self, state: State) -> None:
        clip = state.clip
        on = "" if clip is None else "on joints" if clip.tracks else "on controls"
        self.note.setText(on or "no clip shown")
        waits = [] if clip is None or clip.tracks else [name for track in clip.morphs for name in track.names]
        self.words.setText(f"Sampled weights wait for a channel: {', '.join(waits[:6])}" if waits else "")
        self.words.setVisible(bool(waits))
