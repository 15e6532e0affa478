"""Mesh: bring it in, stand it up, make it sound."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QCheckBox, QColorDialog, QComboBox, QDoubleSpinBox, QLineEdit, QMenu, QPushButton, QSpinBox

from pegloom.app.benches.bench import Bench
from pegloom.app.recent import recent
from pegloom.app.widgets import SliderRow, action_button, button, clear, label
from pegloom.checks import mesh_snags
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import is_watertight
from pegloom.core.geometry.standing import Direction
from pegloom.document import edits
from pegloom.document.model import Character, Part, PartKind, Subdivision
from pegloom.files.images import read_picture

FIXES = {
    "unwelded": ("weld", "Weld"),
    "loose-vertices": ("loose", "Drop"),
    "doubled-faces": ("doubles", "Drop"),
    "zero-area-faces": ("doubles", "Drop"),
    "inward-faces": ("outward", "Turn"),
}


class MeshBench(Bench):
    title, line = "Mesh", "bring it in, stand it up"

    def build(self) -> None:
        q = self.actions.qactions
        self.report: tuple[str, ...] = ()
        card = self.card(
            "Bring in",
            "mesh.bring_in",
            "OBJ, glTF, GLB, PLY, STL, USD, or a ZIP of a mesh and its textures. Or drop a file on the window.",
        )
        self.recent = QPushButton("Recent")
        self.recent.setObjectName("mesh.recent")
        self.recent.setMenu(QMenu(self.recent))
        self.recent.menu().aboutToShow.connect(self._fill_recent)
        card.row(
            action_button(q["file.open"], "Open a mesh or project", role="main"), self.recent, stretch=0
        ).setStretch(0, 1)
        self.what = label("", "soft", wrap=True, name="mesh.what")
        card.body.addWidget(self.what)
        self.arrival = label("", "caption", wrap=True, name="mesh.arrival")
        card.body.addWidget(self.arrival)
        card.row(action_button(q["mesh.replace"], "Replace mesh"), action_button(q["mesh.add_parts"], "Add parts"))
        self.bring = card

        stand = self.card(
            "Stand up", "mesh.stand", "Feet on the floor, facing you, a plausible height; settled into the points."
        )
        self.up, self.facing = QComboBox(), QComboBox()
        for box, name in ((self.up, "mesh.up"), (self.facing, "mesh.facing")):
            box.setObjectName(name)
            box.addItem("as the shape says", None)
            for direction in Direction:
                box.addItem(f"{direction.value} of the file", direction)
        self.height_ = QDoubleSpinBox()
        self.height_.setObjectName("mesh.height")
        self.height_.setRange(0.0, 500.0)
        self.height_.setDecimals(3)
        self.height_.setSuffix(" m")
        self.height_.setSpecialValueText("a plausible one")
        stand.field("Up axis", self.up)
        stand.field("Facing", self.facing)
        stand.field("Height", self.height_)
        self.units = QComboBox()
        self.units.setObjectName("mesh.units")
        self.units.activated.connect(lambda _: self._take_unit())
        self.units.addItem("take a plausible unit", None)
        stand.field("Or units", self.units)
        self.stand = action_button(q["mesh.stand_up"], role="main")
        stand.row(
            self.stand,
            action_button(q["mesh.turn_left"], "↶ 90°"),
            action_button(q["mesh.turn_right"], "↷ 90°"),
            stretch=0,
        ).setStretch(0, 1)
        self.figures = label("", "caption", wrap=True, name="mesh.figures")
        stand.body.addWidget(self.figures)
        self.stand_card = stand

        self.parts = self.card(
            "Parts", "mesh.parts", "What each is decides how it is bound; left out parts stay behind."
        )
        self._part_card()
        self._halves_card()
        self.snags = self.sound = self.card(
            "Soundness", "mesh.soundness", "What would hurt later. Seams and shells bind well here."
        )
        self._material_card()
        self._reference_card()
        clean = self.card(
            "Start clean",
            "mesh.clean",
            "Keep the mesh at rest; drop what you do not want. One undo each.",
            is_open=False,
        )
        clean.row(
            action_button(q["mesh.clean_all"], "All but the mesh"), action_button(q["mesh.clean_weights"], "Weights")
        )
        clean.row(
            action_button(q["mesh.clean_controls"], "Controls"),
            action_button(q["mesh.clean_clips"], "Clips"),
            action_button(q["mesh.clean_morphs"], "Morphs"),
        )
        self.seen: tuple[object, ...] = ()
        self.looked_at: tuple[object, ...] = ()
        self.session.snag_watch.looked.connect(self.refresh)

    def _part_card(self) -> None:
        q = self.actions.qactions
        card = self.card("Picked part", "mesh.picked", "Click a part in the view; Shift picks more.", is_open=False)
        self.part_name = QLineEdit()
        self.part_name.setObjectName("mesh.part_name")
        self.part_name.editingFinished.connect(self._rename_part)
        card.field("Name", self.part_name)
        self.detail = QSpinBox()
        self.detail.setObjectName("mesh.detail")
        self.detail.setRange(0, 9)
        self.detail.setSpecialValueText("the body itself")
        self.detail.setKeyboardTracking(False)
        self.detail.valueChanged.connect(
            lambda v: self._on_part(f"Detail level {v}", lambda d, p: edits.set_detail(d, p, v))
        )
        card.field("Detail level", self.detail)
        self.smooth = QComboBox()
        self.smooth.setObjectName("mesh.smooth")
        for option in Subdivision:
            self.smooth.addItem("as it is" if option is Subdivision.NONE else option.value, option)
        self.levels = QSpinBox()
        self.levels.setObjectName("mesh.levels")
        self.levels.setRange(1, 3)
        self.levels.setPrefix("x ")
        self.levels.setKeyboardTracking(False)
        self.smooth.activated.connect(lambda _: self._smooth())
        self.levels.valueChanged.connect(lambda _: self._smooth())
        card.field("Cage", self.smooth)
        card.field("Smoothed", self.levels)
        card.row(
            action_button(q["mesh.join"], "Join"),
            action_button(q["mesh.split"], "Split"),
            action_button(q["mesh.remove"], "Take out"),
        )
        card.row(action_button(q["mesh.pass_on"], "Pass weights on"), action_button(q["mesh.level"], "Next level"))
        self.part_card = card

    def _halves_card(self) -> None:
        q = self.actions.qactions
        card = self.card("Halves", "mesh.halves", "The mirror plane, and how even the two halves are.", is_open=False)
        self.middle_on = QCheckBox("Show the centre line, to drag")
        self.middle_on.setObjectName("mesh.middle_on")
        self.middle_on.clicked.connect(lambda on: self.session.set_view(middle_shown=on))
        card.body.addWidget(self.middle_on)
        self.middle = QDoubleSpinBox()
        self.middle.setObjectName("mesh.middle")
        self.middle.setRange(-1e5, 1e5)
        self.middle.setDecimals(2)
        self.middle.setSuffix(" cm")
        self.middle.setKeyboardTracking(False)
        self.middle.valueChanged.connect(
            lambda v: self.session.try_edit("Move the centre line", lambda d: edits.set_middle(d, v / 100))
        )
        card.field("Centre at", self.middle)
        self.even_text = label("", "caption", wrap=True, name="mesh.evenness")
        card.body.addWidget(self.even_text)
        card.body.addWidget(action_button(q["mesh.even_out"]))
        self.halves_card = card

    def _material_card(self) -> None:
        card = self.card(
            "Materials", "mesh.materials", "As shown in Textured. Imports often arrive too shiny.", is_open=False
        )
        self.slot = QComboBox()
        self.slot.setObjectName("mesh.slot")
        self.slot.activated.connect(lambda _: self._show_material())
        card.field("Material", self.slot)
        self.colour = button("", "mesh.colour", self._choose_colour, tip="Base colour")
        self.colour.setAccessibleName("Base colour")
        card.field("Base colour", self.colour)
        self.metallic = SliderRow(
            "mesh.metallic",
            0.0,
            1.0,
            lambda v: f"{v:.2f}",
            lambda v: None,
            lambda v: self._material("Metallic", metallic=v),
        )
        self.roughness = SliderRow(
            "mesh.roughness",
            0.0,
            1.0,
            lambda v: f"{v:.2f}",
            lambda v: None,
            lambda v: self._material("Roughness", roughness=v),
        )
        card.field("Metallic", self.metallic)
        card.field("Roughness", self.roughness)
        self.base_picture, self.normal_picture = QComboBox(), QComboBox()
        for box, name, key in (
            (self.base_picture, "mesh.base_picture", "base_image"),
            (self.normal_picture, "mesh.normal_picture", "normal_image"),
        ):
            box.setObjectName(name)
            box.activated.connect(lambda _, b=box, k=key: self._material("Picture", **{k: b.currentData()}))
        card.field("Colour map", self.base_picture)
        card.field("Normal map", self.normal_picture)
        self.like = QComboBox()
        self.like.setObjectName("mesh.like")
        self.like.activated.connect(lambda _: self._copy_material())
        card.field("Copy from", self.like)
        card.row(
            button("Bring a picture in", "mesh.add_picture", self._add_picture),
            action_button(self.actions.qactions["mesh.look_from"], "From a file…"),
        )
        self.material_card = card

    def _reference_card(self) -> None:
        card = self.card(
            "Reference pictures", "mesh.references", "Behind the view, for comparing. Never delivered.", is_open=False
        )
        card.body.addWidget(action_button(self.actions.qactions["mesh.reference"], "Add a picture"))
        self.references = card

    # Showing

    def show_document(self) -> None:
        character = self.session.character
        if character is None:
            self._clear_rows(self.parts)
            self._clear_rows(self.sound)
            self.looked_at = ()
            self.what.setText("Nothing is open yet.")
            self.arrival.setText("")
            self.figures.setText("")
            self.bring.note.setText("")
            return
        self.middle_on.setChecked(self.session.middle_shown)
        self._show_part()
        self._show_soundness(character)
        key = (character.parts, character.standing, character.materials, character.images, character.references)
        if len(self.seen) == len(key) and all(a is b for a, b in zip(key, self.seen, strict=True)):
            return
        self.seen = key
        self._clear_rows(self.parts)
        self._clear_rows(self.references, 2)
        count = sum(p.mesh.vertex_count for p in character.parts)
        faces = sum(p.mesh.face_count for p in character.parts)
        self.what.setText(f"{character.name}: {count:,} vertices, {faces:,} faces".replace(",", " "))
        lines = list(self.report or character.arrival)
        self.report = ()
        self.arrival.setText("\n".join(lines[:9]) + (f"\nand {len(lines) - 9} lines more" if len(lines) > 9 else ""))
        count = len(character.parts)
        self.bring.note.setText(f"{count} part" + ("s" if count != 1 else ""))
        self._show_standing(character)
        for part in character.parts:
            box = QComboBox()
            box.setObjectName(f"mesh.kind.{part.id}")
            for kind in PartKind:
                box.addItem(kind.value, kind)
            box.addItem("left out", None)
            box.setCurrentIndex(box.findData(part.kind) if part.included else box.count() - 1)
            box.activated.connect(lambda _, b=box, p=part: self._set_kind(p.id, p.name, b.currentData()))
            box.setAccessibleName(f"What {part.name} is")
            name = label(part.name + (f"  · level {part.detail}" if part.detail else ""), "soft")
            name.setToolTip(
                f"{part.mesh.vertex_count} vertices, {part.mesh.face_count} faces, {len(part.morphs)} morph targets"
            )
            self.parts.row(name, box)
        self._show_materials(character)
        for number, reference in enumerate(character.references):
            along = QComboBox()
            along.setObjectName(f"mesh.reference.{number}.along")
            for axis in "xyz":
                along.addItem(f"seen along {axis}", axis)
            along.setCurrentIndex("xyz".index(reference.along))
            along.activated.connect(lambda _, n=number, b=along: self._reference(n, along=b.currentData()))
            fade = SliderRow(
                f"mesh.reference.{number}.alpha",
                0.05,
                1.0,
                lambda v: f"{v:.0%}",
                lambda v: None,
                lambda v, n=number: self._reference(n, alpha=v),
            )
            fade.set(reference.alpha)
            size = QDoubleSpinBox()
            size.setObjectName(f"mesh.reference.{number}.height")
            size.setRange(0.01, 500)
            size.setValue(reference.height)
            size.setSuffix(" m tall")
            size.setKeyboardTracking(False)
            size.valueChanged.connect(
                lambda v, n=number, r=reference: self._reference(n, height=v, centre=(r.centre[0], v / 2, r.centre[2]))
            )
            self.references.body.addWidget(label(reference.image.name, "soft"))
            self.references.row(along, size)
            self.references.row(
                fade,
                button(
                    "Remove",
                    f"mesh.reference.{number}.remove",
                    lambda n=number: self.session.try_edit(
                        "Remove a reference picture", lambda d: edits.remove_reference(d, n)
                    ),
                ),
            )
        self.references.note.setText(str(len(character.references) or ""))

    def _show_standing(self, character: Character) -> None:
        standing = character.standing
        points = character.all_points()
        size = np.ptp(points, axis=0) if len(points) else np.zeros(3)
        if standing is None:
            self.figures.setText(f"Not stood up yet: {size[0]:.4g} x {size[1]:.4g} x {size[2]:.4g} units.")
            self.stand_card.note.setText("")
        else:
            even = "very even" if standing.symmetry > 0.9 else "even" if standing.symmetry > 0.6 else "lopsided"
            scale = float(np.cbrt(abs(np.linalg.det(np.array(standing.file_to_character).reshape(4, 4)[:3, :3]))))
            self.figures.setText(
                f"Was up {standing.up}, facing {standing.facing}, {standing.height / max(scale, 1e-12):.4g} units tall. "
                f"Now {size[0]:.2f} x {size[1]:.2f} x {size[2]:.2f} m; the halves are {even} ({standing.symmetry:.2f})."
            )
            self.stand_card.note.setText(f"{size[1]:.3f} m")
        self.units.clear()
        self.units.addItem("take a plausible unit", None)
        for unit, height in edits.unit_guesses(self.session.document):
            self.units.addItem(f"{unit}? then {height:.2f} m tall", height)
        self.halves_card.note.setText(f"{standing.symmetry:.2f}" if standing else "")
        self.middle.blockSignals(True)
        self.middle.setValue(100 * (standing.middle if standing else 0.0))
        self.middle.blockSignals(False)
        self.middle.setEnabled(standing is not None)

    def _show_soundness(self, character: Character) -> None:
        """What the watch has found on its thread; until it has, that it is looking."""
        current = self.session.snag_watch.current
        key = (character.parts, character.standing, current)
        if len(self.looked_at) == len(key) and all(a is b for a, b in zip(key, self.looked_at, strict=True)):
            return
        self.looked_at = key
        self._clear_rows(self.sound)
        if not current:
            self.sound.note.setText("looking")
            self.even_text.setText("The halves are being compared.")
            return
        share, mean, worst = edits.evenness(self.session.document)
        self.even_text.setText(
            f"{share:.0%} of the vertices have a partner; pairs are {1000 * mean:.2f} mm apart on average, {1000 * worst:.2f} at most."
        )
        total = 0
        for part in character.included:
            for snag in mesh_snags(part.mesh, part.name):
                total += 1
                row = [label(snag.message, "caption", wrap=True)]
                if snag.where is not None:
                    row.append(
                        button("Show", f"mesh.show.{part.id}.{snag.code}", lambda w=snag.where: self._show_place(w))
                    )
                if snag.code in FIXES:
                    name, text = FIXES[snag.code]
                    row.append(button(text, f"mesh.fix.{part.id}.{snag.code}", lambda n=name, p=part: self._mend(n, p)))
                line = self.sound.row(*row, stretch=0)
                line.setStretch(0, 1)
            if is_watertight(part.mesh):
                self.sound.body.addWidget(label(f"{part.name}: closed", "caption"))
        self.sound.note.setText(f"{total} to look at" if total else "sound")
        self.sound.body.addWidget(action_button(self.actions.qactions["mesh.edge_rows"]))

    def _show_materials(self, character: Character) -> None:
        held = self.slot.currentIndex()
        used = {int(s) for p in character.parts for s in p.mesh.materials}
        for box in (self.slot, self.like):
            box.clear()
        self.like.addItem("another material", None)
        for number, material in enumerate(character.materials):
            if number in used:
                self.slot.addItem(material.name, number)
            self.like.addItem(material.name, number)
        self.slot.setCurrentIndex(min(max(held, 0), self.slot.count() - 1))
        for box in (self.base_picture, self.normal_picture):
            box.clear()
            box.addItem("none", None)
            for image in character.images:
                box.addItem(image.name, image.name)
        self.material_card.note.setText(f"{len(used)}")
        self._show_material()

    def _show_material(self) -> None:
        character, slot = self.session.character, self.slot.currentData()
        if character is None or slot is None or slot >= len(character.materials):
            return
        material = character.materials[slot]
        r, g, b, _ = material.base_colour
        tint = QColor.fromRgbF(*(float(np.clip(v, 0, 1)) for v in (r, g, b)))
        self.colour.setStyleSheet(f"background: {tint.name()}; min-height: 16px;")
        self.metallic.set(material.metallic)
        self.roughness.set(material.roughness)
        self.base_picture.setCurrentIndex(max(self.base_picture.findData(material.base_image), 0))
        self.normal_picture.setCurrentIndex(max(self.normal_picture.findData(material.normal_image), 0))

    def _show_part(self) -> None:
        character, selection = self.session.character, self.session.selection
        part = None
        if selection.kind == "part":
            part = next((p for p in character.parts if p.id == selection.lead), None)
        self.part_card.note.setText(part.name if part else "none picked")
        for box in (self.part_name, self.detail, self.smooth, self.levels):
            box.setEnabled(part is not None)
            box.blockSignals(True)
        if part is not None:
            if not self.part_name.hasFocus():
                self.part_name.setText(part.name)
            self.detail.setValue(part.detail)
            self.smooth.setCurrentIndex(self.smooth.findData(part.smooth))
            self.levels.setValue(part.levels)
        for box in (self.part_name, self.detail, self.smooth, self.levels):
            box.blockSignals(False)

    def _clear_rows(self, card: object, keep: int = 1) -> None:
        while card.body.count() > keep:
            item = card.body.takeAt(keep)
            if item.widget() is not None:
                item.widget().hide()
                item.widget().deleteLater()
            elif item.layout() is not None:
                clear(item.layout())

    # Doing

    def _fill_recent(self) -> None:
        menu = self.recent.menu()
        menu.clear()
        for path in recent():
            menu.addAction(f"{path.name}    {path.parent}", lambda p=path: self.window().open_path(p))
        if menu.isEmpty():
            menu.addAction("Nothing opened yet").setEnabled(False)

    def _take_unit(self) -> None:
        height = self.units.currentData()
        self.height_.setValue(height or 0.0)
        if height:
            self.stand.click()

    def _on_part(self, name: str, edit: object) -> None:
        part = self.session.selection.lead
        if self.session.selection.kind == "part":
            self.session.try_edit(name, lambda d: edit(d, part))

    def _rename_part(self) -> None:
        text, part = self.part_name.text().strip(), self.session.selection.lead
        if self.session.selection.kind == "part" and text and text != self.session.character.part(part).name:
            self.session.try_edit(f"Rename to {text}", lambda d: edits.rename_part(d, part, text))

    def _smooth(self) -> None:
        kind, levels = self.smooth.currentData(), self.levels.value()
        self._on_part("Smooth the cage", lambda d, p: edits.set_subdivision(d, p, kind, levels=levels))

    def _mend(self, name: str, part: Part) -> None:
        self.window().mesh_verbs.mend(name, part)

    def _show_place(self, where: tuple[float, float, float]) -> None:
        self.window().stage.show_point(np.array(where))

    def _material(self, word: str, **changes: object) -> None:
        slot = self.slot.currentData()
        if slot is not None:
            self.session.try_edit(
                f"{word} of {self.slot.currentText()}", lambda d: edits.set_material(d, slot, **changes)
            )

    def _choose_colour(self) -> None:
        slot = self.slot.currentData()
        if slot is None:
            return
        r, g, b, a = self.session.character.materials[slot].base_colour
        picked = QColorDialog.getColor(QColor.fromRgbF(r, g, b), self, "Base colour")
        if picked.isValid():
            self._material("Base colour", base_colour=(picked.redF(), picked.greenF(), picked.blueF(), a))

    def _copy_material(self) -> None:
        source, slot = self.like.currentData(), self.slot.currentData()
        if source is not None and slot is not None:
            self.session.try_edit(
                f"{self.slot.currentText()} like {self.like.currentText()}",
                lambda d: edits.copy_material(d, source, slot),
            )

    def _add_picture(self) -> None:
        path = self.window().ask.open_picture()
        if not path:
            return
        try:
            image = read_picture(Path(path))
        except PegLoomError as error:
            self.session.say(str(error), error=True)
        else:
            self.session.try_edit(f"Bring in {image.name}", lambda d: edits.add_picture(d, image))

    def _reference(self, number: int, **changes: object) -> None:
        self.session.try_edit("Change a reference picture", lambda d: edits.change_reference(d, number, **changes))

    def _set_kind(self, part_id: str, name: str, kind: PartKind | None) -> None:
        if kind is None:
            self.session.try_edit(f"Leave out {name}", lambda d: edits.include_part(d, part_id, False))
        else:
            self.session.try_edit(
                f"{name} is {kind.value}",
                lambda d: edits.set_part_kind(edits.include_part(d, part_id, True), part_id, kind),
            )
