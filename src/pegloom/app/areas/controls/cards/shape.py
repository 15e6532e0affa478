"""Shape: how the picked controls look."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from math import degrees, radians
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QSize
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QCheckBox, QColorDialog, QGridLayout, QToolButton

from pegloom.app.areas.controls.settings import ShapeSettings
from pegloom.app.areas.controls.shaping import Look, preview_look, put_look
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets import SliderRow, action_button, button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import slider
from pegloom.app.widgets.numbers import SEVERAL, Triple
from pegloom.core.rig.changes import ControlChange
from pegloom.core.rig.controls import Control, Shape
from pegloom.core.rig.shapes import unit_lines
from pegloom.scene.colours import taken_for

A_ROW = 8
SIDE = 27
"""Pixels of a shape's button."""
LEAST, MOST = 0.2, 4.0
TILTED = np.array([[0.94, -0.34, 0.0], [0.22, 0.5, 0.84]])
"""From a shape's own space to its picture: a solid one is looked at from above and aside."""
FLAT = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])


def _with(field: str, value: Any) -> Look:
    return replace(Look(), **{field: value})


class ShapeButton(QToolButton):
    """A shape drawn on its button."""

    def __init__(self, shape: Shape) -> None:
        super().__init__()
        self.shape = shape
        self.setObjectName(f"controls.shape.{shape.name.lower()}")
        self.setAccessibleName(shape.value)
        self.setToolTip(shape.value.capitalize())
        self.setProperty("role", "shape")
        self.setCheckable(True)
        self.setFixedSize(QSize(SIDE, SIDE))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(current().text if self.isEnabled() else current().faint), 1.4))
        lines = unit_lines(self.shape)
        every = np.concatenate(lines)
        view = FLAT if np.ptp(every[:, 1]) < 1e-9 else TILTED
        flat = [line @ view.T for line in lines]
        both = np.concatenate(flat)
        low, high = both.min(axis=0), both.max(axis=0)
        scale = 0.66 * SIDE / max(float((high - low).max()), 1e-9)
        middle = (low + high) / 2
        for line in flat:
            at = (line - middle) * scale * [1, -1] + SIDE / 2
            painter.drawPolyline(QPolygonF([QPointF(float(x), float(y)) for x, y in at]))
        painter.end()


class ShapeCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Shape", "controls.shape", is_open=False,
            sentence="How the picked controls look. Kept when controls are built again.",
        )  # fmt: skip
        self.stays_on("control")
        grid = QGridLayout()
        grid.setSpacing(3)
        self.shapes: dict[Shape, ShapeButton] = {}
        for k, option in enumerate(Shape):
            one = ShapeButton(option)
            one.clicked.connect(partial(self._put, "Shape", Look(shape=option)))
            grid.addWidget(one, k // A_ROW, k % A_ROW)
            self.shapes[option] = one
        self.body.addLayout(grid)
        self.size_ = self._factor("Size", "size")
        self.thick = self._factor("Thickness", "thickness")
        self.stretch = Triple("controls.stretch", "Stretch", self._stretched, low=0.05, high=20.0, step=0.05, decimals=2)
        self.place = Triple("controls.offset", "Offset", self._moved, low=-1e4, high=1e4, step=0.5, suffix=" cm")
        self.tilt = Triple("controls.tilt", "Tilt", self._tilted, low=-360.0, high=360.0, step=5.0, suffix="°", decimals=0)
        self.field("Stretch", self.stretch)
        self.field("Offset", self.place)
        self.field("Tilt", self.tilt)
        self.colour = button("", "controls.colour", self._choose, tip="A colour of its own")
        self.colour.setAccessibleName("A colour of its own")
        self.sides = button("Side's own", "controls.colour.side", partial(self._put, "Colour", Look(colour="")), tip="The colour of its side again")
        self.row(label("Colour", "soft"), self.colour, self.sides)
        self.warning = label("", "caption", wrap=True, name="controls.colour.warning")
        self.body.addWidget(self.warning)
        self.hidden = QCheckBox("Keep from animators")
        self.hidden.setObjectName("controls.keep_from_animators")
        self.hidden.setAccessibleName("Keep from animators")
        self.hidden.setToolTip("In the Animator's view it is neither shown nor picked")
        self.hidden.clicked.connect(lambda on: self._put("Keep from animators" if on else "Show to animators", Look(hidden=bool(on))))
        self.body.addWidget(self.hidden)
        q = c.actions.qactions
        self.row(action_button(q["shape.points"], "Edit points"), action_button(q["shape.as_built"], "As built"))
        self.reach = slider(self, ShapeSettings, "reach", 0.0, 1.0, lambda v: "alone" if v < 0.02 else f"{v:.0%}", name="controls.shape_reach")
        self.field("Points near", self.reach)
        self.row(action_button(q["shape.copy"], "Like the last picked"), action_button(q["shape.across"], "To the other side"))

    def _factor(self, said: str, field: str) -> SliderRow:
        row = SliderRow(
            f"controls.{field}", LEAST, MOST, lambda v: f"{v:.2f} x", lambda v: self._preview(said, _with(field, v)),
            lambda v: self._put(said, _with(field, v)),
        )  # fmt: skip
        self.field(said, row)
        return row

    def ids(self, state: State) -> tuple[str, ...]:
        """What every field acts on: all that is picked, or what the card stays on."""
        lead = self.subject_id(state)
        picked = state.selection.ids if state.selection.kind == "control" else ()
        return picked if lead in picked else (lead,) if lead else ()

    def _put(self, said: str, look: Look, *_: object) -> None:
        put_look(self.c, said, self.ids(self.c.state), look)

    def _preview(self, said: str, look: Look) -> None:
        if self.size_.slider.isSliderDown() or self.thick.slider.isSliderDown():
            preview_look(self.c, self.ids(self.c.state), look)

    def _one_axis(self, field: str, axis: int, value: float, now: tuple[float, float, float]) -> None:
        numbers = [*now]
        numbers[axis] = value
        self._put(field.capitalize(), _with(field, (numbers[0], numbers[1], numbers[2])))

    def _lead(self) -> tuple[Control, ControlChange] | None:
        one, lead = self.c.state.character, self.subject_id(self.c.state)
        if one is None or one.rig is None or lead not in one.rig.index:
            return None
        return one.rig.control(lead), one.rig_changes.controls.get(lead, ControlChange())

    def _stretched(self, axis: int, value: float) -> None:
        found = self._lead()
        if found is not None:
            self._one_axis("stretch", axis, value, found[1].stretch)

    def _moved(self, axis: int, value: float) -> None:
        found = self._lead()
        if found is not None:
            self._one_axis("offset", axis, value / 100.0, found[0].offset)

    def _tilted(self, axis: int, value: float) -> None:
        found = self._lead()
        if found is not None:
            self._one_axis("tilt", axis, radians(value), found[0].tilt)

    def _choose(self) -> None:
        found = self._lead()
        if found is None:
            return
        chosen = QColorDialog.getColor(QColor(found[0].colour or "#ffffff"), self, "Colour of the control")
        if chosen.isValid():
            self._put("Colour", Look(colour=chosen.name()))

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.rig, one.rig_changes) if one is not None else ()
        return (*pieces, self.ids(state))

    def show_state(self, state: State) -> None:
        one = state.character
        rig = one.rig if one is not None else None
        ids = [i for i in self.ids(state) if rig is not None and i in rig.index]
        there = bool(ids)
        widgets = (*self.shapes.values(), self.size_, self.thick, self.stretch, self.place, self.tilt, self.colour, self.sides, self.hidden)
        for widget in widgets:
            widget.setEnabled(there)
        if not there or rig is None or one is None:
            self.note.setText("select a control")
            self.warning.hide()
            return
        controls = [rig.control(i) for i in ids]
        changes = [one.rig_changes.controls.get(i, ControlChange()) for i in ids]
        lead = controls[-1]
        self.note.setText(lead.name if len(ids) == 1 else f"{lead.name} and {len(ids) - 1} more")
        alike = len({(c.shape, bool(c.lines)) for c in controls}) == 1
        for shape, one_button in self.shapes.items():
            one_button.setChecked(alike and shape is lead.shape and not lead.lines)
        for row, values in ((self.size_, [c.size for c in changes]), (self.thick, [c.thickness for c in changes])):
            row.set(min(max(values[-1], LEAST), MOST))
            if len(set(values)) > 1:
                row.figure.setText(SEVERAL)
        self.stretch.show_numbers([c.stretch for c in changes])
        self.place.show_numbers([[100 * v for v in c.offset] for c in controls])
        self.tilt.show_numbers([[degrees(v) for v in c.tilt] for c in controls])
        colours = {c.colour for c in controls}
        self.colour.setText(SEVERAL if len(colours) > 1 else lead.colour or "its side's")
        own = lead.colour if len(colours) == 1 else ""
        self.colour.setStyleSheet(f"background: {own}; color: {'#14171F' if QColor(own).lightnessF() > 0.5 else '#F2ECE0'}" if own else "")
        said = taken_for(own, lead.side) if own else ""
        self.warning.setText(said)
        self.warning.setVisible(bool(said))
        self.hidden.setChecked(all(c.hidden for c in controls))
        self.hidden.setText("Keep from animators" + (f" ({SEVERAL})" if len({c.hidden for c in controls}) > 1 else ""))
