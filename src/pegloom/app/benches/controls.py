"""Controls: build the rig animators hold."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout

from pegloom.app.benches.bench import Bench
from pegloom.app.session import Tool
from pegloom.app.snagcard import SnagCard
from pegloom.app.widgets import Choices, SliderRow, action_button, clear, label
from pegloom.core.rig.controls import ControlRig, Shape
from pegloom.document import edits


class ControlsBench(Bench):
    title, line = "Controls", "the rig animators hold"

    def build(self) -> None:
        build = self.card(
            "Build", "controls.build", "All controls from the limb kits. Nothing moves; every control reads zero."
        )
        build.body.addWidget(action_button(self.actions.qactions["controls.build"], role="main"))
        self.built = label("", "caption", wrap=True, name="controls.built")
        build.body.addWidget(self.built)
        self.build_card = build

        pose = self.card("Pose", "controls.pose", "Drag a control in the view, or a grip of its handle. Ctrl snaps.")
        tools = [("Pick", Tool.PICK), ("Move", Tool.MOVE), ("Turn", Tool.TURN), ("Grow", Tool.GROW)]
        self.tools = Choices("controls.tool", tools, lambda tool: self.session.set_view(tool=tool))
        pose.body.addWidget(self.tools)
        pose.row(
            action_button(self.actions.qactions["pose.rest"], "To rest"),
            action_button(self.actions.qactions["pose.rest_all"], "All to rest"),
            action_button(self.actions.qactions["pose.mirror"], "Mirror pose"),
        )

        limbs = self.card(
            "IK and FK",
            "controls.limbs",
            "Slide a limb between FK and IK. The side you switch to is matched: nothing jumps.",
        )
        self.sliders: dict[str, SliderRow] = {}
        self.slider_rows = QVBoxLayout()
        self.slider_rows.setSpacing(4)
        limbs.body.addLayout(self.slider_rows)
        limbs.row(
            action_button(self.actions.qactions["controls.arms_ik"], "Arms to IK"),
            action_button(self.actions.qactions["controls.arms_fk"], "Arms to FK"),
        )

        shape = self.card(
            "Shape", "controls.shape", "How the selected control looks. Kept when controls are built again."
        )
        self.shape = QComboBox()
        self.shape.setObjectName("controls.shape_choice")
        for option in Shape:
            self.shape.addItem(option.value, option)
        self.shape.activated.connect(lambda _: self._reshape())
        self.size = SliderRow(
            "controls.size", 0.25, 3.0, lambda v: f"{v:.2f} x", lambda v: None, lambda v: self._resize(v)
        )
        shape.field("Shape", self.shape)
        shape.field("Size", self.size)
        self.shape_card = shape
        self.snags = SnagCard(self.session, self.actions, "controls", "Nothing is wrong with the controls.")
        self.column.addWidget(self.snags)

    @staticmethod
    def _blend_text(value: float) -> str:
        return "FK" if value <= 0.001 else "IK" if value >= 0.999 else f"{value:.0%} IK"

    def _blend(self, limb: str, name: str, value: float) -> None:
        value = 0.0 if value < 0.03 else 1.0 if value > 0.97 else value
        self.session.try_edit(
            f"{name} to {self._blend_text(value)}",
            lambda d: edits.switch_limb(edits.set_pose(d, self.session.character.pose), limb, value),
        )

    def _reshape(self) -> None:
        lead, shape = self.session.selection.lead, self.shape.currentData()
        if self.session.selection.kind == "control":
            self.session.try_edit(f"Shape of {lead}", lambda d: edits.reshape_control(d, lead, shape=shape))

    def _resize(self, value: float) -> None:
        lead = self.session.selection.lead
        if self.session.selection.kind == "control":
            self.session.try_edit(f"Size of {lead}", lambda d: edits.reshape_control(d, lead, size=value))

    def _fit_sliders(self, rig: ControlRig | None) -> None:
        """One slider a limb of the present rig."""
        wanted = [limb.id for limb in rig.limbs] if rig else []
        if list(self.sliders) == wanted:
            return
        clear(self.slider_rows)
        self.sliders = {}
        for limb in wanted:
            name = limb_title(limb)
            slider = SliderRow(
                f"controls.blend.{limb}", 0.0, 1.0, self._blend_text, lambda v: None,
                lambda v, x=limb, n=name: self._blend(x, n, v),
            )  # fmt: skip
            line = QHBoxLayout()
            line.setSpacing(8)
            caption = label(name, "soft")
            caption.setFixedWidth(86)
            slider.setAccessibleName(name)
            line.addWidget(caption)
            line.addWidget(slider, 1)
            self.slider_rows.addLayout(line)
            self.sliders[limb] = slider

    def show_document(self) -> None:
        character = self.session.character
        rig = character.rig if character else None
        self.tools.set(self.session.tool)
        self.built.setText(
            f"{len(rig.controls)} controls, {len(rig.limbs)} IK limbs."
            if rig
            else "No controls yet: build joints and bind, then build them."
        )
        self.build_card.note.setText("built" if rig else "")
        self._fit_sliders(rig)
        for limb, slider in self.sliders.items():
            found = next((x for x in rig.limbs if x.id == limb), None) if rig else None
            slider.setEnabled(found is not None)
            if found is not None:
                slider.set(rig.value(edits.posed(character), found.amount))
        lead = self.session.selection.lead if self.session.selection.kind == "control" else ""
        held = bool(lead and rig and lead in rig.index)
        self.shape.setEnabled(held)
        self.size.setEnabled(held)
        self.shape_card.note.setText(rig.control(lead).name if held else "select a control")
        if held:
            self.shape.setCurrentIndex(self.shape.findData(rig.control(lead).shape))
            change = character.rig_changes.controls.get(lead)
            self.size.set(change.size if change else 1.0)


def limb_title(limb_id: str) -> str:
    """`arm.l` as a person says it: Left arm."""
    stem, _, side = limb_id.rpartition(".")
    word = {"l": "Left ", "r": "Right "}.get(side, "")
    return (word + (stem or limb_id).replace("_", " ")).strip().capitalize()
