"""What stands in the view before anything is open."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.actions.common.file import open_path
from pegloom.app.context import Context
from pegloom.app.demos import DEMO, DEMOS
from pegloom.app.dialogs.pictured import pictured
from pegloom.app.state.kept import picture_of, recent
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel


class Welcome(Panel):
    always = True

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(c, parent)
        self.setObjectName("welcome")
        outer = QHBoxLayout(self)
        outer.setContentsMargins(26, 20, 26, 20)
        outer.setSpacing(24)
        column = QVBoxLayout()
        outer.addLayout(column, 1)
        outer.addWidget(self._lately())
        column.setSpacing(9)
        column.addWidget(label("Begin with a mesh", "area"))
        words = label(
            "Drop a mesh here, or open one: OBJ, glTF, GLB, PLY, STL, USD or a ZIP. Then work down the six areas on the left."
        )
        words.setWordWrap(True)
        column.addWidget(words)
        column.addWidget(
            button("Open a mesh or project", "welcome.open", lambda: c.actions.run("file.open"), role="main")
        )
        column.addSpacing(4)
        column.addWidget(label("Or try somebody of Saltmarsh Post", "heading"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        grid.setColumnStretch(0, 1)
        for row, (name, title) in enumerate(DEMOS.items()):
            grid.addWidget(label(title, "soft"), row, 0)
            if (DEMO / f"{name}.obj").exists():
                unrigged = button("Unrigged", f"welcome.mesh_{name}", partial(c.actions.run, f"file.mesh_{name}"))
                grid.addWidget(unrigged, row, 1)
            grid.addWidget(
                button("Rigged", f"welcome.demo_{name}", partial(c.actions.run, f"file.demo_{name}")), row, 2
            )
        column.addLayout(grid)
        column.addWidget(
            button(
                "Lay out a body pattern without a mesh",
                "welcome.pattern",
                lambda: c.actions.run("joints.lay_out"),
                role="plain",
            )
        )

    def _lately(self) -> QWidget:
        """What was opened and saved lately, with pictures; filled each time it comes into view."""
        self.lately = QWidget()
        column = QVBoxLayout(self.lately)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        column.addWidget(label("Go on with", "area"))
        self.list = QListWidget()
        self.list.setObjectName("welcome.recent")
        self.list.setAccessibleName("Files opened and saved lately")
        self.list.setIconSize(QSize(80, 60))
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemClicked.connect(self._open)
        self.list.itemActivated.connect(self._open)
        column.addWidget(self.list, 1)
        return self.lately

    def _fill(self) -> None:
        files = recent()
        self.list.clear()
        for path in files:
            item = QListWidgetItem(pictured(picture_of(path)), f"{path.name}\n{path.parent.name}")
            item.setToolTip(str(path))
            item.setData(Qt.ItemDataRole.UserRole, str(path))
            item.setSizeHint(QSize(0, 68))
            self.list.addItem(item)
        self.lately.setVisible(bool(files))
        self.setFixedSize(720 if files else 420, 492)

    def _open(self, item: QListWidgetItem) -> None:
        if not self.c.jobs.busy:  # a click and the activation it may come with open one file
            open_path(self.c, Path(item.data(Qt.ItemDataRole.UserRole)))

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character is None,)

    def show_state(self, state: State) -> None:
        if state.character is None:
            self._fill()
        self.setVisible(state.character is None)
