"""Mesh: bring it in and stand it up."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox

from pegloom.app.benches.bench import Bench
from pegloom.app.widgets import action_button, clear, label
from pegloom.checks import mesh_snags
from pegloom.core.geometry.mesh import is_watertight
from pegloom.core.geometry.standing import Direction
from pegloom.document import edits
from pegloom.document.model import PartKind


class MeshBench(Bench):
    title, line = "Mesh", "bring it in, stand it up"

    def build(self) -> None:
        card = self.card("Bring in", "mesh.bring_in", "An unrigged OBJ, glTF or GLB. Or drop a file on the window.")
        card.body.addWidget(action_button(self.actions.qactions["file.open"], "Open a mesh or project", role="main"))
        self.what = label("", "soft", wrap=True, name="mesh.what")
        card.body.addWidget(self.what)
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
        self.stand = action_button(self.actions.qactions["mesh.stand_up"], role="main")
        stand.body.addWidget(self.stand)
        self.figures = label("", "caption", wrap=True, name="mesh.figures")
        stand.body.addWidget(self.figures)
        self.stand_card = stand

        self.parts = self.card(
            "Parts", "mesh.parts", "What each is decides how it is bound; left out parts stay behind."
        )
        self.sound = self.card("Soundness", "mesh.soundness", "What would hurt later. Seams and shells bind well here.")

    def show_document(self) -> None:
        character = self.session.character
        self._clear_rows(self.parts)
        self._clear_rows(self.sound)
        if character is None:
            self.what.setText("Nothing is open yet.")
            self.figures.setText("")
            self.bring.note.setText("")
            return
        count = sum(p.mesh.vertex_count for p in character.parts)
        faces = sum(p.mesh.face_count for p in character.parts)
        self.what.setText(f"{character.name}: {count:,} vertices, {faces:,} faces".replace(",", " "))
        self.bring.note.setText(f"{len(character.parts)} parts")
        standing = character.standing
        if standing is None:
            points = character.all_points()
            tall = float(points[:, 1].max() - points[:, 1].min()) if len(points) else 0.0
            self.figures.setText(f"Not stood up yet. {tall:.4g} units along the file's Y.")
            self.stand_card.note.setText("")
        else:
            even = "very even" if standing.symmetry > 0.9 else "even" if standing.symmetry > 0.6 else "lopsided"
            self.figures.setText(
                f"Was up {standing.up}, facing {standing.facing}. Now {standing.height:.3f} m tall; "
                f"the two halves are {even} ({standing.symmetry:.2f})."
            )
            self.stand_card.note.setText(f"{standing.height:.3f} m")
        for part in character.parts:
            box = QComboBox()
            box.setObjectName(f"mesh.kind.{part.id}")
            for kind in PartKind:
                box.addItem(kind.value, kind)
            box.addItem("left out", None)
            box.setCurrentIndex(box.findData(part.kind) if part.included else box.count() - 1)
            box.activated.connect(lambda _, b=box, p=part: self._set_kind(p.id, p.name, b.currentData()))
            box.setAccessibleName(f"What {part.name} is")
            name = label(part.name, "soft")
            name.setToolTip(f"{part.mesh.vertex_count} vertices, {part.mesh.face_count} faces")
            self.parts.row(name, box)
        for part in character.included:
            for snag in mesh_snags(part.mesh, part.name):
                self.sound.body.addWidget(label(snag.message, "caption", wrap=True))
            if is_watertight(part.mesh):
                self.sound.body.addWidget(label(f"{part.name}: closed", "caption"))

    def _clear_rows(self, card: object) -> None:
        while card.body.count() > 1:
            item = card.body.takeAt(1)
            if item.widget() is not None:
                item.widget().hide()
                item.widget().deleteLater()
            elif item.layout() is not None:
                clear(item.layout())

    def _set_kind(self, part_id: str, name: str, kind: PartKind | None) -> None:
        if kind is None:
            self.session.try_edit(f"Leave out {name}", lambda d: edits.include_part(d, part_id, False))
        else:
            self.session.try_edit(
                f"{name} is {kind.value}",
                lambda d: edits.set_part_kind(edits.include_part(d, part_id, True), part_id, kind),
            )
