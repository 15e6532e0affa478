"""What a file brings, to be taken or left before it comes in."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QRadioButton, QScrollArea, QVBoxLayout, QWidget

from pegloom.app.widgets import label
from pegloom.core.said import counted
from pegloom.files.import_choice import ImportChoice
from pegloom.files.imported import Imported


class ImportSheet(QDialog):
    def __init__(self, imported: Imported, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("import")
        self.setWindowTitle("What comes in")
        self.setMinimumWidth(400)
        column = QVBoxLayout(self)
        column.setSpacing(7)
        column.addWidget(label("What comes in", "area"))
        column.addWidget(
            label("Untick what should stay in the file. What is taken can be dropped later, too.", "soft", wrap=True)
        )
        column.addWidget(label("Parts", "heading"))
        inner = QWidget()
        rows = QVBoxLayout(inner)
        rows.setContentsMargins(0, 0, 0, 0)
        self.parts: dict[str, QCheckBox] = {}
        for part in imported.parts:
            self.parts[part.id] = self._box(
                f"{part.name}, {counted(part.mesh.vertex_count, 'vertex', 'vertices')}", f"import.part.{part.id}"
            )
            rows.addWidget(self.parts[part.id])
        rows.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inner)
        scroll.setFixedHeight(min(10 + 24 * len(imported.parts), 180))
        column.addWidget(scroll)
        column.addWidget(label("With them", "heading"))
        joints = len(imported.skeleton.joints) if imported.skeleton else 0
        morphs = sum(len(p.morphs) for p in imported.parts)
        names = ", ".join(c.name for c in imported.clips[:3]) + (" and more" if len(imported.clips) > 3 else "")
        options = (
            ("skeleton", f"Skeleton, {counted(joints, 'joint')}", joints),
            ("weights", f"Weights of {len(imported.weights or {})} parts", len(imported.weights or {})),
            ("clips", f"Clips: {names}", len(imported.clips)),
            ("morphs", f"Morph targets, {morphs}", morphs),
            ("looks", f"Materials and textures, {len(imported.materials)}", len(imported.materials)),
        )
        self.options: dict[str, QCheckBox] = {}
        for name, text, count in options:
            if count:
                self.options[name] = self._box(text, f"import.{name}")
                column.addWidget(self.options[name])
        self.stored, self.first = QRadioButton("The rest is the bind the file stored"), QRadioButton()
        self.stored.setObjectName("import.rest.stored")
        self.first.setObjectName("import.rest.first")
        self.stored.setChecked(True)
        if imported.clips:
            self.first.setText(f"The rest is the first frame of {imported.clips[0].name}")
            column.addSpacing(4)
            column.addWidget(self.stored)
            column.addWidget(self.first)
        if "skeleton" in self.options:
            self.options["skeleton"].toggled.connect(self._without_skeleton)
        buttons = QDialogButtonBox()
        take = buttons.addButton("Import", QDialogButtonBox.ButtonRole.AcceptRole)
        take.setObjectName("import.take")
        take.setProperty("role", "main")
        leave = buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        leave.setObjectName("import.leave")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addSpacing(6)
        column.addWidget(buttons)

    @staticmethod
    def _box(text: str, name: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setObjectName(name)
        box.setChecked(True)
        return box

    def _without_skeleton(self, on: bool) -> None:
        """Weights and clips mean nothing without their joints."""
        for name in ("weights", "clips"):
            if name in self.options:
                self.options[name].setEnabled(on)
        self.first.setEnabled(on)

    @property
    def choice(self) -> ImportChoice:
        """What is ticked."""
        on = {name: box.isChecked() and box.isEnabled() for name, box in self.options.items()}
        return ImportChoice(
            frozenset(k for k, box in self.parts.items() if box.isChecked()),
            **{name: on.get(name, True) for name in ("skeleton", "weights", "morphs", "clips", "looks")},
            rest_from_clip=self.first.isChecked() and self.first.isEnabled() and on.get("clips", False),
        )
