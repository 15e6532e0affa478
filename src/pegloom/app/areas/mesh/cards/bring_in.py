"""Bring in: open a file, see what it brought, replace the mesh or add to it."""

from __future__ import annotations

from PyQt6.QtWidgets import QMenu, QPushButton

from pegloom.app.actions.common.file import open_path
from pegloom.app.areas.mesh.settings import ReportSettings
from pegloom.app.context import Context
from pegloom.app.dialogs.pictured import pictured
from pegloom.app.state.kept import picture_of, recent
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.core.said import counted

MOST_LINES = 9


class BringInCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Import", "mesh.bring_in",
            sentence="OBJ, glTF, GLB, PLY, STL, USD, or a ZIP of a mesh and its textures. Or drop a file on the window.",
        )  # fmt: skip
        q = c.actions.qactions
        self.recent = QPushButton("Recent")
        self.recent.setObjectName("mesh.recent")
        self.menu_ = QMenu(self.recent)
        self.recent.setMenu(self.menu_)
        self.menu_.aboutToShow.connect(self._fill_recent)
        line = self.row(action_button(q["file.open"], "Open a mesh or project", role="main"), self.recent, stretch=0)
        line.setStretch(0, 1)
        self.what = label("", "soft", wrap=True, name="mesh.what")
        self.body.addWidget(self.what)
        self.brought = label("", "caption", wrap=True, name="mesh.brought")
        self.body.addWidget(self.brought)
        self.row(action_button(q["mesh.replace"], "Revised file"), action_button(q["mesh.add_parts"], "Add parts"))
        self.watched = label("", "caption", wrap=True, name="mesh.watched")
        self.body.addWidget(self.watched)
        self.again = action_button(q["file.take_again"], "Take it in again")
        self.body.addWidget(self.again)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        watched = (self.c.revised.path, self.c.revised.fresh)
        return watched if one is None else (one.parts, one.import_notes, one.name, state.settings.of(ReportSettings).report, watched)

    def show_state(self, state: State) -> None:
        one, file = state.character, self.c.revised
        for widget in (self.watched, self.again):
            widget.setVisible(one is not None and file.path is not None)
        if file.path is not None:
            self.watched.setText(f"{file.path.name} {'has changed since it was taken in' if file.fresh else 'is watched: as it was taken in'}")
        if one is None:
            self.what.setText("Nothing is open yet.")
            self.brought.setText("")
            self.note.setText("")
            return
        count = sum(p.mesh.vertex_count for p in one.parts)
        faces = sum(p.mesh.face_count for p in one.parts)
        self.what.setText(f"{one.name}: {counted(count, 'vertex', 'vertices')}, {counted(faces, 'face')}")
        brought = state.settings.of(ReportSettings)
        every = brought.report if brought.of is one.parts else one.import_notes
        lines, more = every[:MOST_LINES], len(every) - MOST_LINES
        self.brought.setText("\n".join(lines) + (f"\nand {more} lines more" if more > 0 else ""))
        parts = len(one.parts)
        self.note.setText(f"{parts} part" + ("s" if parts != 1 else ""))

    def _fill_recent(self) -> None:
        menu = self.menu_
        menu.clear()
        for path in recent():
            menu.addAction(pictured(picture_of(path)), f"{path.name}    {path.parent}", lambda p=path: open_path(self.c, p))
        if menu.isEmpty():
            action = menu.addAction("Nothing opened yet")
            assert action is not None
            action.setEnabled(False)
