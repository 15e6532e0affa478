"""IK and FK: a slider a limb."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.actions.posing import blend_limb, preview_blend
from pegloom.app.areas.controls.actions import hold_root
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.solvers import BodyIk

ENDS = 0.03
"""Within this of an end a limb is let to be there."""


class LimbsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "IK and FK", "controls.limbs",
            sentence="Slide a limb between FK and IK. The side you switch to is matched: nothing jumps.",
        )  # fmt: skip
        self.sliders: dict[str, SliderRow] = {}
        self.root: SliderRow | None = None
        self.rows = QVBoxLayout()
        self.rows.setSpacing(4)
        self.body.addLayout(self.rows)
        q = c.actions.qactions
        self.row(
            action_button(q["controls.arms_ik"], "Arms to IK"), action_button(q["controls.arms_fk"], "Arms to FK")
        )

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.rig if state.character is not None else None, self.c.frames.control_pose)

    def show_state(self, state: State) -> None:
        rig = state.character.rig if state.character is not None else None
        self._fit(rig)
        pose = self.c.frames.control_pose
        for limb in rig.solvers if rig is not None else ():
            if limb.id in self.sliders and rig is not None:
                self.sliders[limb.id].set(rig.value(pose, limb.amount))
            if isinstance(limb, BodyIk) and limb.root_held is not None and rig is not None and self.root is not None:
                self.root.set(rig.value(pose, limb.root_held))

    def _fit(self, rig: ControlRig | None) -> None:
        """One slider a limb of the present rig."""
        wanted = [limb.id for limb in rig.solvers] if rig is not None else []
        named = {s.id: (s.name[:1].upper() + s.name[1:]) or limb_title(s.id) for s in rig.solvers} if rig is not None else {}
        if list(self.sliders) == wanted:
            return
        clear(self.rows)
        self.sliders, self.root = {}, None
        for limb in wanted:
            name = named[limb]
            words = amount_text if rig is not None and isinstance(rig.solver(limb), BodyIk) else blend_text
            slider = SliderRow(
                f"controls.blend.{limb}", 0.0, 1.0, words, partial(self._preview, limb),
                partial(self._blend, limb, name),
            )  # fmt: skip
            slider.setAccessibleName(name)
            line = QHBoxLayout()
            line.setSpacing(8)
            caption = label(name, "soft")
            caption.setFixedWidth(86)
            line.addWidget(caption)
            line.addWidget(slider, 1)
            self.rows.addLayout(line)
            self.sliders[limb] = slider
            if rig is not None and isinstance(rig.solver(limb), BodyIk):
                self._root()

    def _root(self) -> None:
        """How much a whole body's root keeps its place."""
        self.root = SliderRow("controls.root_held", 0.0, 1.0, amount_text, lambda v: None, lambda v: hold_root(self.c, v))
        self.root.setAccessibleName("Hold the root")
        line = QHBoxLayout()
        line.setSpacing(8)
        caption = label("Hold root", "soft")
        caption.setFixedWidth(86)
        line.addWidget(caption)
        line.addWidget(self.root, 1)
        self.rows.addLayout(line)

    def _preview(self, limb: str, value: float) -> None:
        """The limb follows the slider while it is dragged."""
        if self.sliders[limb].slider.isSliderDown():
            preview_blend(self.c, limb, value)

    def _blend(self, limb: str, name: str, value: float) -> None:
        self.c.store.drop_draft()
        value = 0.0 if value < ENDS else 1.0 if value > 1.0 - ENDS else value
        blend_limb(self.c, f"{name} to {blend_text(value)}", limb, value)


def amount_text(value: float) -> str:
    return f"{value:.0%}"


def blend_text(value: float) -> str:
    return "FK" if value <= 0.001 else "IK" if value >= 0.999 else f"{value:.0%} IK"


def limb_title(limb_id: str) -> str:
    """`arm.l` as a person says it: Left arm."""
    stem, _, side = limb_id.rpartition(".")
    word = {"l": "Left ", "r": "Right "}.get(side, "")
    return (word + (stem or limb_id).replace("_", " ")).strip().capitalize()
