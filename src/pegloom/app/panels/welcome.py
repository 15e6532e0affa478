"""What stands in the view before anything is open."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.demos import DEMO, DEMOS
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.panel import Panel


class Welcome(Panel):
    always = True

    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(c, parent)
        self.setObjectName("welcome")
        column = QVBoxLayout(self)
        column.setContentsMargins(26, 20, 26, 20)
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
        self.setFixedSize(420, 492)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character is None,)

    def show_state(self, state: State) -> None:
        self.setVisible(state.character is None)
