"""Stand up: how the figure stands, and how large it is."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.mesh.settings import StandSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, number
from pegloom.core.geometry.standing import Direction
from pegloom.document import edits


class StandCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Stand up", "mesh.stand",
            sentence="Feet on the floor, facing you, a plausible height; settled into the points.",
        )  # fmt: skip
        q = c.actions.qactions
        ways = [("as the shape says", None), *((f"{d.value} of the file", d) for d in Direction)]
        self.field("Up axis", choice(self, StandSettings, "up", ways, name="mesh.up"))
        self.field("Facing", choice(self, StandSettings, "facing", ways, name="mesh.facing"))
        height = number(
            self, StandSettings, "height", 0.0, 500.0, name="mesh.height", suffix=" m", special="a plausible one",
            decimals=3,
        )  # fmt: skip
        self.field("Height", height)
        self.units = QComboBox()
        self.units.setObjectName("mesh.units")
        self.units.activated.connect(lambda _: self._take_unit())
        self.units.addItem("take a plausible unit", None)
        self.field("Or units", self.units)
        self.stand = action_button(q["mesh.stand_up"], role="main")
        line = self.row(
            self.stand, action_button(q["mesh.turn_left"], "↶ 90°"), action_button(q["mesh.turn_right"], "↷ 90°"),
            stretch=0,
        )  # fmt: skip
        line.setStretch(0, 1)
        self.figures = label("", "caption", wrap=True, name="mesh.figures")
        self.body.addWidget(self.figures)

    def _take_unit(self) -> None:
        height = self.units.currentData()
        self.c.store.put_setting(StandSettings, height=height or 0.0)
        if height:
            self.c.actions.run("mesh.stand_up")

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return () if one is None else (one.parts, one.standing)

    def show_state(self, state: State) -> None:
        one = state.character
        self.units.clear()
        self.units.addItem("take a plausible unit", None)
        if one is None:
            self.figures.setText("")
            self.note.setText("")
            return
        for unit, height in edits.unit_guesses(state.document):
            self.units.addItem(f"{unit}? then {height:.2f} m tall", height)
        standing, points = one.standing, one.all_points()
        size = np.ptp(points, axis=0) if len(points) else np.zeros(3)
        if standing is None:
            self.figures.setText(f"Not stood up yet: {size[0]:.4g} x {size[1]:.4g} x {size[2]:.4g} units.")
            self.note.setText("")
            return
        even = "very even" if standing.symmetry > 0.9 else "even" if standing.symmetry > 0.6 else "lopsided"
        scale = float(np.cbrt(abs(np.linalg.det(np.array(standing.file_to_character).reshape(4, 4)[:3, :3]))))
        self.figures.setText(
            f"Was up {standing.up}, facing {standing.facing}, {standing.height / max(scale, 1e-12):.4g} units tall. "
            f"Now {size[0]:.2f} x {size[1]:.2f} x {size[2]:.2f} m; the halves are {even} ({standing.symmetry:.2f})."
        )
        self.note.setText(f"{size[1]:.3f} m")
