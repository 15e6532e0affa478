"""The chips over the view: how surfaces show, what shows, the lens."""

from __future__ import annotations

from enum import Enum

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.spec import SHOWN_AS
from pegloom.app.state.state import State
from pegloom.app.widgets import Choices, button
from pegloom.app.widgets.panel import Panel
from pegloom.scene.display import Display
from pegloom.scene.lenses import Lens


class Kind(Enum):
    """What can be shown and picked, or not."""

    JOINTS = "joints"
    PEGS = "pegs"
    CONTROLS = "controls"
    MESH = "mesh"
    GROUND = "ground"


class Chips(Panel):
    def __init__(self, c: Context, parent: QWidget) -> None:
        super().__init__(c, parent)
        self.setObjectName("chips")
        both = QVBoxLayout(self)
        both.setContentsMargins(0, 0, 0, 0)
        both.setSpacing(6)
        line, below = QHBoxLayout(), QHBoxLayout()
        line.setSpacing(14)
        both.addLayout(line)
        both.addLayout(below)
        displays = [
            ("Clay", Display.CLAY), ("Textured", Display.TEXTURED), ("Wireframe", Display.WIRE),
            ("See-through", Display.SEE_THROUGH),
        ]  # fmt: skip
        lenses = [
            ("No lens", Lens.NONE), ("Influence", Lens.INFLUENCE), ("All influences", Lens.ALL), ("Strain", Lens.STRAIN),
            ("Volume", Lens.VOLUME), ("Difference", Lens.DIFFERENCE), ("Influences per vertex", Lens.COUNT),
            ("Strays", Lens.STRAYS),
        ]  # fmt: skip
        self.display = Choices("stage.display", displays, lambda value: c.store.put(display=value), role="chip")
        kinds = [(kind.value.capitalize(), kind) for kind in Kind]
        self.kinds = Choices("stage.show", kinds, lambda kind: c.actions.run(f"view.{kind.value}"), role="chip")
        self.kinds.group.setExclusive(False)
        self.lens = Choices("stage.lens", lenses, lambda value: c.store.put(lens=value), role="chip", flows=True)
        line.addWidget(self.display)
        line.addWidget(self.kinds)
        self.hidden = button("Some is hidden: show all", "stage.hidden", lambda: c.actions.run("view.show_hidden"), role="chip")
        self.hidden.setToolTip("Parts or faces are hidden in the view; they are delivered all the same")
        line.addWidget(self.hidden)
        self.animators = button("Animator's view: leave", "stage.animators", lambda: c.actions.run("view.animators"), role="chip")
        self.animators.setToolTip("Only controls are picked and changed; press to change everything again")
        line.addStretch(1)
        # In the place of lenses, which are for who weighs and builds.
        below.addWidget(self.animators)
        below.addWidget(self.lens)
        below.addStretch(1)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (self.c.area.passes_by(state), state.viewing.display, state.viewing.lens, state.viewing.hidden, state.something_hidden, state.viewing.animators, state.area, one is None, one is not None and one.skin is not None)

    def show_state(self, state: State) -> None:
        one, area = state.character, self.c.area
        self.display.set(state.viewing.display)
        self.lens.set(state.viewing.lens)
        self.lens.setVisible(one is not None and one.skin is not None and area.lenses and not state.viewing.animators)
        passed = {SHOWN_AS.get(kind) for kind in area.passes_by(state)}
        for kind, button_ in self.kinds.buttons.items():
            button_.setChecked(kind.value not in state.viewing.hidden)
            button_.setVisible(kind.value in area.shows and kind.value not in passed)
        self.kinds.setVisible(one is not None)
        self.hidden.setVisible(state.something_hidden)
        self.animators.setVisible(state.viewing.animators)
        self.adjustSize()

    def flow(self, width: int) -> None:
        """Lay the lenses out in as many rows as `width` asks for."""
        self.lens.flow(width)
        self.adjustSize()
