"""Parts: what each is."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QVBoxLayout

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.layouts import side_by_side
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import PartKind


class PartsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Parts", "mesh.parts", sentence="What each is decides how it is bound; left out parts stay behind."
        )
        self.rows = QVBoxLayout()
        self.rows.setSpacing(6)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.parts,) if state.character is not None else ()

    def show_state(self, state: State) -> None:
        clear(self.rows)
        for part in state.character.parts if state.character is not None else ():
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
                f"{counted(part.mesh.vertex_count, 'vertex', 'vertices')}, {counted(part.mesh.face_count, 'face')}, {len(part.morphs)} morph targets"
            )
            self.rows.addLayout(side_by_side(name, box))

    def _set_kind(self, part_id: str, name: str, kind: PartKind | None) -> None:
        if kind is None:
            self.c.try_edit(f"Leave out {name}", lambda d: edits.include_part(d, part_id, False))
        else:
            self.c.try_edit(
                f"{name} is {kind.value}",
                lambda d: edits.set_part_kind(edits.include_part(d, part_id, True), part_id, kind),
            )
