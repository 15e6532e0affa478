"""Pulling the skin: in a bad pose it is taken hold of and led where it belongs; on release the weights follow."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen

from pegloom.app.actions.locks import around_locks
from pegloom.app.areas.weights.settings import PullSettings
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView, far
from pegloom.app.state.state import Tool
from pegloom.app.theme import INK
from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.jobs import Progress
from pegloom.core.skin.flesh.pull import around
from pegloom.document import edits
from pegloom.document.edits.pull import PullReport
from pegloom.document.model import Document, Part
from pegloom.scene.handles import on_view_plane
from pegloom.scene.picking import Hit

DEEPER = 0.004
"""Shares of the distance to the eye a pixel leads toward the eye or away, with Shift held."""
MOST_LINES = 1500
"""Edges of the wished surface that are drawn."""


class PullTool(StageTool):
    """The posed skin, in Weights."""

    id = "pull"

    def _found(self, view: StageView, x: float, y: float) -> tuple[Part, Hit] | None:
        c = view.c
        character = c.state.character
        if c.state.tooling.tool != Tool.PULL or character is None or character.skin is None:
            return None
        hit = view.surface_at(x, y)
        return hit if hit is not None and hit[0].id in character.skin.weights else None

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._found(view, at.x, at.y) is not None

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        found = self._found(view, at.x, at.y)
        return None if found is None else PullDrag(view, at, *found)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        found = self._found(view, x, y)
        return ("skin", f"{found[0].name}: drag the skin where it belongs in this pose; on release its weights follow") if found else ("", "")

    def through(self, view: StageView) -> bool:
        return view.c.state.tooling.tool == Tool.PULL


class PullDrag:
    """Shows where the skin is wished while it is led in the plane that faces the eye, with Shift toward the eye and away; the weights are
    worked out once, on release."""

    def __init__(self, view: StageView, at: Pointer, part: Part, hit: Hit) -> None:
        self.c, self.camera, self.size, self.start, self.view = view.c, view.camera, view.size_in_points, at.at, view
        self.part, self.hit, self.pose = part, hit, view.c.frames.pose
        self.by = np.zeros(3)
        self.last, self.flat, self.deep = at.at, (0.0, 0.0), 0.0
        frame = self.c.frames.frame()
        assert frame is not None
        g = weld(part.mesh)
        self.places = frame.points[part.id][g.first]
        place = int(np.argmin(((self.places - hit.point) ** 2).sum(axis=1)))
        self.share = around(part.mesh, place, self.c.state.settings.of(PullSettings).radius * self.c.character.height)
        edges = place_edges(part.mesh)
        edges = edges[(self.share[edges] > 0.0).any(axis=1)]
        self.rows, numbers = np.unique(edges[:: max(len(edges) // MOST_LINES, 1)], return_inverse=True)
        self.edges = numbers.reshape(-1, 2)

    @property
    def wished(self) -> FloatArray:
        """Where the places at the ends of the drawn edges would be, (r, 3)."""
        return np.asarray(self.places[self.rows] + self.share[self.rows][:, None] * self.by)

    def move(self, at: Pointer) -> None:
        if not self.by.any() and not far(at.at, self.start):
            return
        dx, dy = at.x - self.last[0], at.y - self.last[1]
        self.last = at.at
        if at.shift:
            self.deep -= dy * DEEPER * float(np.linalg.norm(self.camera.eye - self.hit.point))
            self.flat = (self.flat[0] + dx, self.flat[1])
        else:
            self.flat = (self.flat[0] + dx, self.flat[1] + dy)
        there = self.start[0] + self.flat[0], self.start[1] + self.flat[1]
        self.by = on_view_plane(self.camera, self.hit.point, *there, self.size) - on_view_plane(self.camera, self.hit.point, *self.start, self.size)
        self.by = self.by - self.camera.backward * self.deep
        self.c.say(f"{100 * float(np.linalg.norm(self.by)):.1f} cm")
        self.view.update()

    def release(self) -> None:
        c, chosen = self.c, self.c.state.settings.of(PullSettings)
        self.view.update()
        if not self.by.any():
            c.say("Drag the skin where it belongs; a click alone leads it nowhere")
            return
        still = c.state.vertices.get(self.part.id, ()) if chosen.still else ()
        radius, both = chosen.radius * c.character.height, c.state.hand.both_sides
        part, at, by, pose = self.part.id, self.hit.point, self.by, self.pose

        def edit(document: Document, progress: Progress) -> object:
            return edits.pull_skin(
                document, part, at, by, pose=pose, radius=radius, both_sides=both, still=[int(v) for v in still], keep_width=chosen.keep_width,
                under_cloth=chosen.under_cloth, shape=chosen.shape, progress=progress,
            )  # fmt: skip

        def told(report: PullReport) -> None:
            c.store.put_setting(PullSettings, report=report.says)
            c.say(report.says)

        c.job("Pull the skin", around_locks(c, edit), title="Pulling the skin", then=told)

    def cancel(self) -> None:
        self.by = np.zeros(3)
        self.view.update()


def paint(painter: QPainter, view: StageView) -> None:
    """The reach of a pull under the pointer; while the skin is led, the surface that is wished for."""
    c = view.c
    if c.state.tooling.tool != Tool.PULL or c.state.character is None:
        return
    if isinstance(view.drag, PullDrag):
        _wish(painter, view, view.drag)
        return
    if view.brush_hit is None or view.pointer is None:
        return
    metres = c.state.settings.of(PullSettings).radius * c.character.height
    radius = metres / view.camera.metres_a_pixel(view.brush_hit[1].point, view.size_in_points[1])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((QColor(0, 0, 0, 110), 3.0), (QColor(INK.text), 1.3)):
        painter.setPen(QPen(colour, width, Qt.PenStyle.DashLine))
        painter.drawEllipse(QPointF(*view.pointer), radius, radius)


def _wish(painter: QPainter, view: StageView, drag: PullDrag) -> None:
    wide, tall = view.size_in_points
    flat = view.camera.project(drag.wished, wide, tall)
    path = QPainterPath()
    for a, b in drag.edges:
        path.moveTo(QPointF(flat[a, 0], flat[a, 1]))
        path.lineTo(QPointF(flat[b, 0], flat[b, 1]))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(INK.woad), 1.0))
    painter.drawPath(path)
    ends = view.camera.project(np.array([drag.hit.point, drag.hit.point + drag.by]), wide, tall)
    start, end = QPointF(ends[0, 0], ends[0, 1]), QPointF(ends[1, 0], ends[1, 1])
    painter.setPen(QPen(QColor(0, 0, 0, 150), 4.0))
    painter.drawLine(start, end)
    painter.setPen(QPen(QColor(INK.text), 1.8))
    painter.drawLine(start, end)
    painter.setBrush(QColor(INK.text))
    painter.drawEllipse(end, 4.0, 4.0)
