"""Materials: as shown in Textured."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QColorDialog, QComboBox

from pegloom.app.areas.mesh.settings import MaterialSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, button
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import fill
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Document, Material

ALL = -1
"""What the list of materials holds for all of them."""


class MaterialCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Materials", "mesh.materials", sentence="As shown in Textured. Imports often arrive too shiny.",
            is_open=False,
        )  # fmt: skip
        self.slot = QComboBox()
        self.slot.setObjectName("mesh.slot")
        self.slot.activated.connect(lambda _: c.store.put_setting(MaterialSettings, slot=self.slot.currentData()))
        self.field("Material", self.slot)
        self.colour = button("", "mesh.colour", self._choose_colour, tip="Base colour")
        self.field("Base colour", self.colour)
        self.metallic = self._slider("metallic", "Metallic")
        self.roughness = self._slider("roughness", "Roughness")
        self.base_picture, self.normal_picture = self._picture("base"), self._picture("normal")
        self.field("Base colour", self.base_picture)
        self.field("Normals", self.normal_picture)
        self.like = QComboBox()
        self.like.setObjectName("mesh.like")
        self.like.activated.connect(lambda _: self._copy())
        self.field("Copy from", self.like)
        self.row(
            action_button(c.actions.qactions["mesh.picture"]),
            action_button(c.actions.qactions["mesh.look_from"], "From a file…"),
        )

    def _slider(self, name: str, word: str) -> SliderRow:
        panel = SliderRow(
            f"mesh.{name}", 0.0, 1.0, lambda v: f"{v:.2f}", lambda v: None, lambda v: self._change(word, **{name: v})
        )
        self.field(word, panel)
        return panel

    def _picture(self, which: str) -> QComboBox:
        box = QComboBox()
        box.setObjectName(f"mesh.{which}_picture")
        box.activated.connect(lambda _: self._change("Texture", **{f"{which}_image": box.currentData()}))
        return box

    @staticmethod
    def used(state: State) -> list[int]:
        """Numbers of the materials that some face has."""
        one = state.character
        some = {int(s) for p in one.parts for s in p.mesh.materials} if one is not None else set()
        return sorted(s for s in some if one is not None and s < len(one.materials))

    def number(self, state: State) -> int | None:
        """The number of the material the card shows; None where there is none."""
        used, slot = self.used(state), state.settings.of(MaterialSettings).slot
        return slot if slot in used else next(iter(used), None)

    def material(self, state: State) -> Material | None:
        number = self.number(state)
        return state.character.materials[number] if state.character is not None and number is not None else None

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.parts, one.materials, one.images) if one is not None else ()
        return (*pieces, state.settings.of(MaterialSettings).slot)

    def show_state(self, state: State) -> None:
        one, material, used = state.character, self.material(state), self.used(state)
        materials, images = (one.materials, one.images) if one is not None else ((), ())
        every = [("all of them", ALL)] if len(used) > 1 else []
        fill(self.slot, [*((materials[n].name, n) for n in used), *every])
        fill(self.like, [("another material", None), *((m.name, n) for n, m in enumerate(materials))])
        for box in (self.base_picture, self.normal_picture):
            fill(box, [("none", None), *((image.name, image.name) for image in images)])
        unlike = len({(m.base_colour, m.metallic, m.roughness) for m in (materials[n] for n in self.numbers(state))}) > 1
        self.note.setText("" if one is None else f"{len(used)}, they differ" if unlike else str(len(used)))
        if material is None:
            return
        self.slot.setCurrentIndex(self.slot.findData(ALL if self._all(state) else self.number(state)))
        r, g, b, _ = material.base_colour
        tint = QColor.fromRgbF(*(float(np.clip(v, 0, 1)) for v in (r, g, b)))
        self.colour.setStyleSheet(f"background: {tint.name()}; min-height: 16px;")
        self.metallic.set(material.metallic)
        self.roughness.set(material.roughness)
        self.base_picture.setCurrentIndex(max(self.base_picture.findData(material.base_image), 0))
        self.normal_picture.setCurrentIndex(max(self.normal_picture.findData(material.normal_image), 0))

    def _all(self, state: State) -> bool:
        return state.settings.of(MaterialSettings).slot == ALL and len(self.used(state)) > 1

    def numbers(self, state: State) -> list[int]:
        """The materials that what is changed goes to: the one shown, or all."""
        number = self.number(state)
        return self.used(state) if self._all(state) else [] if number is None else [number]

    def _change(self, word: str, **changes: object) -> None:
        material, numbers = self.material(self.c.state), self.numbers(self.c.state)

        def edit(document: Document) -> Document:
            for number in numbers:
                document = edits.set_material(document, number, **changes)
            return document

        if material is not None:
            which = material.name if len(numbers) == 1 else counted(len(numbers), "material")
            self.c.try_edit(f"{word} of {which}", edit)

    def _choose_colour(self) -> None:
        material = self.material(self.c.state)
        if material is None:
            return
        r, g, b, a = material.base_colour
        picked = QColorDialog.getColor(QColor.fromRgbF(r, g, b), self, "Base colour")
        if picked.isValid():
            self._change("Base colour", base_colour=(picked.redF(), picked.greenF(), picked.blueF(), a))

    def _copy(self) -> None:
        source, number, material = self.like.currentData(), self.number(self.c.state), self.material(self.c.state)
        if source is not None and number is not None and material is not None:
            self.c.try_edit(
                f"{material.name} like {self.like.currentText()}", lambda d: edits.copy_material(d, source, number)
            )
