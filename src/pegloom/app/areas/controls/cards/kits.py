"""Limbs: what bends each limb kit, and what its goal may follow."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QCheckBox, QComboBox

from pegloom.app.areas.controls.actions import bend_kit
from pegloom.app.areas.controls.cards.limbs import limb_title
from pegloom.app.areas.controls.settings import KitRigSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, tick
from pegloom.core.rig.recipe import KitRig, KitSolver
from pegloom.core.rig.recipe.choices import SPACES, USUAL_SPACES, has_ik, hock_joints, solver_of_kit
from pegloom.core.rig.recipe.comfort import FEET
from pegloom.core.rig.recipe.machines import PINNED
from pegloom.core.skeleton.kits import Kit
from pegloom.document.edits.rebuild import kits_of

WORDS = {
    KitSolver.NONE: "FK alone", KitSolver.LIMB: "IK, two bones", KitSolver.HOCK: "IK with a hock", KitSolver.CHAIN: "IK, a chain",
    KitSolver.CURVE: "a curve",
}  # fmt: skip


class KitRigCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Limbs", "controls.kits", sentence="What bends each limb; changed at any time, nothing moves.", is_open=False
        )
        self.kit = choice(self, KitRigSettings, "kit", (), name="controls.kit")
        self.field("Limb", self.kit)
        self.body.addWidget(tick(self, KitRigSettings, "both", "Both sides at once", tip="What is chosen goes to the other side, too"))
        self.solver = QComboBox()
        self.solver.setObjectName("controls.kit_solver")
        self.solver.activated.connect(lambda _: self._put(solver=self.solver.currentData()))
        self.field("Bent by", self.solver)
        self.at_rest = QCheckBox("On IK at rest")
        self.at_rest.setObjectName("controls.kit_ik")
        self.at_rest.clicked.connect(lambda on: self._put(ik_at_rest=on))
        self.body.addWidget(self.at_rest)
        self.comfort: dict[str, QCheckBox] = {}
        for key, word, tip in (
            ("roll", "foot roll", "Heel, ball and toe roll, bank and swings on the foot's goal"),
            ("curl", "curl and spread", "A control beside the hand for all fingers"),
            ("twist", "spread twist", "Over the twist joints along its bones"),
            ("rolls", "rolls", "The wheel turns with the way it goes over the ground"),
            ("one_axis", "one axis", "It turns about its pin alone"),
        ):
            box = QCheckBox(word)
            box.setObjectName(f"controls.kit_{key}")
            box.setToolTip(tip)
            box.clicked.connect(lambda on, k=key: self._put(**{k: on}))
            self.comfort[key] = box
        self.row(*self.comfort.values())
        self.spaces: dict[str, QCheckBox] = {}
        boxes = []
        for space in SPACES:
            box = QCheckBox(space)
            box.setObjectName(f"controls.space.{space}")
            box.clicked.connect(lambda _: self._put(spaces=tuple(s for s, b in self.spaces.items() if b.isChecked())))
            self.spaces[space] = box
            boxes.append(box)
        self.follows = label("Its goal may follow", "caption")
        self.body.addWidget(self.follows)
        self.row(*boxes[:2])
        self.row(*boxes[2:])
        for box, space in zip(boxes, SPACES, strict=True):
            box.setToolTip(f"The goal may follow the {space}")

    def _chosen(self, state: State) -> Kit | None:
        kits = [] if state.character is None else [k for k in kits_of(state.character) if k.joints and k.kind != "root"]
        wanted = state.settings.of(KitRigSettings).kit
        return next((k for k in kits if k.id == wanted), next((k for k in kits if len(k.ik) == 3), kits[0] if kits else None))

    def _put(self, **values: object) -> None:
        kit = self._chosen(self.c.state)
        if kit is not None and not self.showing:
            how = self.c.character.rig_recipe.get(kit.id, KitRig())
            bend_kit(self.c, kit.id, replace(how, **values))  # type: ignore[arg-type]
            self.look_anew()

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return () if one is None else (one.pegs, one.skeleton, one.rig_recipe, one.rig)

    def show_state(self, state: State) -> None:
        one, kit = state.character, self._chosen(state)
        kits = [] if one is None else [k for k in kits_of(one) if k.joints and k.kind != "root"]
        fill(self.kit, [(limb_title(k.id), k.id) for k in kits])
        self.kit.setCurrentIndex(self.kit.findData(kit.id) if kit is not None else -1)
        for widget in (self.solver, self.at_rest, *self.spaces.values()):
            widget.setEnabled(kit is not None)
        if kit is None or one is None:
            return
        how = one.rig_recipe.get(kit.id, KitRig())
        possible = [KitSolver.NONE]
        if len(kit.ik) == 3:
            possible.append(KitSolver.LIMB)
        if hock_joints(kit):
            possible.append(KitSolver.HOCK)
        if len(kit.joints) >= 3:
            possible += [KitSolver.CHAIN, KitSolver.CURVE]
        fill(self.solver, [(WORDS[p], p) for p in possible])
        now = solver_of_kit(kit, one.rig_recipe)
        self.solver.setCurrentIndex(self.solver.findData(now))
        self.note.setText(WORDS[now])
        limb = has_ik(kit, one.rig_recipe)
        self.at_rest.setVisible(limb)
        self.at_rest.setChecked(kit.ik_at_rest if how.ik_at_rest is None else how.ik_at_rest)
        self.comfort["roll"].setVisible(kit.kind in FEET and limb)
        self.comfort["curl"].setVisible(kit.kind in ("arm", "hand"))
        self.comfort["twist"].setVisible(bool(kit.twisted_bones))
        self.comfort["rolls"].setVisible(kit.kind == "wheel")
        self.comfort["one_axis"].setVisible(kit.kind in PINNED)
        for key, box in self.comfort.items():
            box.setChecked(getattr(how, key))
        self.follows.setVisible(limb or now is KitSolver.CHAIN)
        usual = USUAL_SPACES.get(kit.part or kit.kind, ("world", "body"))
        for space, box in self.spaces.items():
            box.setVisible(limb or now is KitSolver.CHAIN)
            box.setChecked(space in (usual if how.spaces is None else how.spaces))
