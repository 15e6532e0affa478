"""What the shape card and its tool do: looks of controls put, tried, drawn by hand, copied."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields

import numpy as np

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import CONTROL_PICKED, WITH_RIG
from pegloom.app.areas.controls.settings import ShapeSettings
from pegloom.app.context import Context
from pegloom.app.stage.drags.base import DocumentDrag
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import Tool
from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.controls import Control, Lines, Shape
from pegloom.core.rig.shapes import own_lines, shape_axes
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Vector
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.drawing import LINEN
from pegloom.scene.drawlist import DrawList
from pegloom.scene.handles import on_view_plane
from pegloom.scene.picking import nearest_dot
from pegloom.scene.rig_drawing import control_colour


@dataclass(frozen=True, slots=True)
class Look:
    """What of a look is put on; None stays. See `edits.shape_controls`."""

    shape: Shape | None = None
    size: float | None = None
    stretch: Vector | None = None
    thickness: float | None = None
    offset: Vector | None = None
    tilt: Vector | None = None
    colour: str | None = None
    hidden: bool | None = None


def _edit(ids: tuple[str, ...], look: Look) -> Callable[[Document], Document]:
    def edit(document: Document) -> Document:
        if look.hidden is not None:
            return edits.keep_from_animators(document, ids, look.hidden)
        told = {f.name: getattr(look, f.name) for f in fields(look) if f.name != "hidden"}
        return edits.shape_controls(document, ids, **told)

    return edit


def put_look(c: Context, said: str, ids: tuple[str, ...], look: Look) -> None:
    """A look on some controls, as one step."""
    if ids:
        name = c.character.require_rig().control(ids[-1]).name if len(ids) == 1 else counted(len(ids), "control")
        c.try_edit(f"{said}: {name}", _edit(ids, look))


def preview_look(c: Context, ids: tuple[str, ...], look: Look) -> None:
    """The same while a slider is dragged."""
    if ids:
        c.preview(_edit(ids, look))


def points(c: Context) -> None:
    """Begin or end moving the points of the picked control's shape."""
    c.store.put(tool=Tool.PICK if c.state.tooling.tool == Tool.POINTS else Tool.POINTS)


def as_built(c: Context) -> None:
    ids = c.state.selection.ids
    c.try_edit("Shape as built", lambda d: edits.shape_as_built(d, ids))


def copy(c: Context) -> None:
    ids = c.state.selection.ids
    if len(ids) < 2:
        raise EditError("Pick the controls that are to change, then with Shift the one they are to look like")
    c.try_edit("Shapes alike", lambda d: edits.copy_shape(d, ids[-1], ids[:-1]))


def across(c: Context) -> None:
    ids = c.state.selection.ids
    c.try_edit("Shape to the other side", lambda d: edits.shape_across(d, ids))


def _world_points(control: Control, world: FloatArray) -> FloatArray:
    """Where the points of a control's shape are drawn (n, 3)."""
    lines = control.lines or own_lines(control.shape)
    axes = world @ shape_axes(control)
    flat = np.array([p for line in lines for p in line])
    return np.asarray(flat @ axes[:3, :3].T + axes[:3, 3])


def _lead(view: StageView) -> tuple[Control, FloatArray] | None:
    """The picked control and where it stands, while its points are moved."""
    c, frame = view.c, view.c.frames.frame()
    rig, picked = (c.state.character.rig if c.state.character is not None else None), c.state.selection
    if c.state.tooling.tool != Tool.POINTS or rig is None or frame is None or picked.kind != "control" or picked.lead not in rig.index:
        return None
    return rig.control(picked.lead), frame.shown[rig.index[picked.lead]]


class PointsDrag(DocumentDrag):
    """A point of a shape, and with it those near along and beside its line."""

    def __init__(self, view: StageView, at: Pointer, control: Control, world: FloatArray, number: int) -> None:
        super().__init__(view.c, at.at)
        self.view, self.control, self.number = view, control, number
        self.camera, self.size = view.camera, view.size_in_points
        self.lines = control.lines or own_lines(control.shape)
        self.axes = world @ shape_axes(control)
        self.place = _world_points(control, world)[number]
        flat = np.array([p for line in self.lines for p in line])
        away = np.linalg.norm(flat - flat[number], axis=1)
        reach = 2.0 * view.c.state.settings.of(ShapeSettings).reach
        # A closed line has its first point once more at its end: they go as one.
        self.shares = np.where(away < 1e-9, 1.0, 0.0)
        if reach > 0.04:
            self.shares = np.maximum(self.shares, np.clip(1.0 - (away / reach) ** 2, 0.0, 1.0) ** 2)

    def drafted(self, at: Pointer) -> Document:
        here = on_view_plane(self.camera, self.place, at.x, at.y, self.size)
        start = on_view_plane(self.camera, self.place, *self.start, self.size)
        move = np.linalg.solve(self.axes[:3, :3], here - start)
        flat = np.array([p for line in self.lines for p in line]) + self.shares[:, None] * move
        counts = np.cumsum([0, *(len(line) for line in self.lines)])
        lines: Lines = tuple(
            tuple((float(x), float(y), float(z)) for x, y, z in flat[a:b]) for a, b in zip(counts, counts[1:], strict=False)
        )
        one = self.control.id
        result = edits.shape_controls(self.base, (one,), lines=lines)
        rig = self.c.character.require_rig()
        if self.c.state.hand.both_sides and rig.other_side(one) not in (None, one):
            result = edits.shape_across(result, (one,))
        return result

    def keep(self, moved: Document) -> None:
        self.c.store.commit(f"Points of {self.control.name}", moved)


class PointsTool(StageTool):
    """Points of the picked control's shape, while they are moved."""

    id = "points"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._at(view, at.x, at.y) is not None

    def _at(self, view: StageView, x: float, y: float) -> int | None:
        found = _lead(view)
        return None if found is None else nearest_dot(_world_points(*found), x, y, view.camera, view.size_in_points)

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        found, number = _lead(view), self._at(view, at.x, at.y)
        if found is None or number is None:
            return None
        return PointsDrag(view, at, *found, number)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        number = self._at(view, x, y)
        return ("", "") if number is None else (f"point {number}", "Drag the point; “Points near” lets others go along")


def draw_points(view: StageView, draw: DrawList) -> None:
    """The points of the picked control's shape."""
    found = _lead(view)
    if found is None:
        return
    for number, place in enumerate(_world_points(*found)):
        held = view.hovered == f"point {number}"
        draw.dots.add(place, LINEN if held else control_colour(found[0]), 5.0 if held else 3.6, hollow=0.0 if held else 1.0)


SHAPING = (
    Action("shape.points", "Edit the shape's points", "Controls", "Move the points of the picked control's shape in the view", points, needs=(*WITH_RIG, CONTROL_PICKED), on=lambda s: s.tooling.tool == Tool.POINTS),
    Action("shape.as_built", "Shape as built", "Controls", "Forget what was changed on the picked controls' shapes", as_built, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("shape.copy", "Shapes like the last picked", "Controls", "The look of the control picked last on the others", copy, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("shape.across", "Shape to the other side", "Controls", "The picked controls' looks on their partners", across, needs=(*WITH_RIG, CONTROL_PICKED)),
)  # fmt: skip
