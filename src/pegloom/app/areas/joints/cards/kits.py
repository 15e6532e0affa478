"""Limb kits: how many joints each limb has; kits added and parented elsewhere."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QSpinBox

from pegloom.app.areas.joints.actions.kits import kind_of, kit_of, set_bent, set_count, set_roll, set_twist
from pegloom.app.areas.joints.settings import KitSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill
from pegloom.core.said import counted
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.patterns import kit_library


class KitsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Limb kits", "joints.kits", sentence="How many joints each limb has; kits added and parented elsewhere.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.kit = choice(self, KitSettings, "kit", (), name="joints.kit")
        self.field("Kit", self.kit)
        self.count, self.twist = QSpinBox(), QSpinBox()
        for box, name, low, high, put in (
            (self.count, "joints.count", 1, 64, set_count), (self.twist, "joints.twist", 0, 4, set_twist),
        ):  # fmt: skip
            box.setObjectName(name)
            box.setRange(low, high)
            box.setKeyboardTracking(False)
            box.setFixedWidth(58)
            box.valueChanged.connect(lambda value, p=put: None if self.showing else p(c, value))
        self.count.setAccessibleName("Joints of the kit")
        self.twist.setAccessibleName("Twist joints of each bone")
        line = self.row(label("Joints", "soft"), self.count, label("Twist", "soft"), self.twist, stretch=0)
        line.addStretch(1)
        self.roll = SliderRow(
            "joints.roll", -np.pi / 2, np.pi / 2, lambda v: f"{np.degrees(v):.0f}°", lambda v: None,
            lambda v: set_roll(c, v),
        )  # fmt: skip
        self.field("Roll", self.roll)
        self.bent = QCheckBox("Peg at the second knuckle")
        self.bent.setObjectName("joints.bent")
        self.bent.setToolTip("For a finger that is bent as it stands: its joints follow the bend")
        self.bent.clicked.connect(self._bend)
        self.body.addWidget(self.bent)
        self.row(
            action_button(q["joints.mirror_kit"], "Mirror kit"), action_button(q["joints.attach_kit"], "Parent here"),
            action_button(q["joints.remove_kit"], "Remove kit"),
        )  # fmt: skip
        library = kit_library()
        self.kit_kind = choice(
            self, KitSettings, "kind", [(entry["title"], kind) for kind, entry in library.items()],
            name="joints.kit_kind", tips=[entry["say"] for entry in library.values()],
        )  # fmt: skip
        self.kit_kind.setAccessibleName("Kind of kit to add")
        self.row(self.kit_kind, action_button(q["joints.add_kit"], "Add on picked joint"))
        self.kit_note = label("", "caption", wrap=True, name="joints.kit_note")
        self.body.addWidget(self.kit_note)

    def _bend(self, bends: bool) -> None:
        # The tick tells what is, not what is asked for: undone before it is shown, it would stay.
        self.bent.setChecked(not bends)
        set_bent(self.c, bends)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.pegs, one.skeleton) if one is not None else ()
        return (*pieces, kit_of(state), kind_of(state), state.selection.kind, state.selection.ids)

    def show_state(self, state: State) -> None:
        one = state.character
        kits = kits_in(one.pegs) if one is not None and one.pegs is not None else ()
        fill(self.kit, [(f"{kit.id}  ({len(kit.joints)})", kit.id) for kit in kits if kit.kind != "root" and kit.joints])
        self.kit.setCurrentIndex(self.kit.findData(kit_of(state)))
        self.kit_kind.setCurrentIndex(max(self.kit_kind.findData(kind_of(state)), 0))
        self.note.setText(counted(max(len(kits) - 1, 0), "kit") if kits else "")
        kit = next((k for k in kits if k.id == kit_of(state)), None)
        if kit is not None:
            self.count.setRange(kit.least, max(kit.most, kit.least))
            self.count.setValue(len(kit.joints))
            self.twist.setValue(kit.twist)
            self.roll.set(kit.roll)
        some = kit is not None and kit.most > kit.least
        self.count.setEnabled(some)
        self.count.setToolTip(
            f"{kit.least} to {counted(kit.most, 'joint')}" if some and kit is not None else "This kit has a fixed number of joints"
        )
        bent = kit is not None and bool(kit.twisted_bones)
        self.twist.setEnabled(bent)
        self.twist.setToolTip(
            "Joints along each bone that share its twist out" if bent else "Only limbs with two bones and necks twist"
        )
        finger = kit is not None and kit.kind == "finger"
        self.bent.setVisible(finger)
        self.bent.setChecked(finger and kit is not None and len(kit.pegs) == 3)
        self.roll.setEnabled(kit is not None and kit.kind != "root")
        skeleton, lead = one.skeleton if one is not None else None, state.selection.lead
        picked = state.selection.kind == "joint" and skeleton is not None and lead in skeleton.index
        self.kit_note.setText(
            f"Picked: {skeleton.joint(lead).name}" if picked and skeleton is not None
            else "Pick a joint in the view to add a kit to it."
        )  # fmt: skip
