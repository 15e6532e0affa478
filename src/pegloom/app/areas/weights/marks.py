"""What is drawn and painted in the view in Weights."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from pegloom.app.stage.lens import difference
from pegloom.app.stage.tools import StageView
from pegloom.app.state.state import MarkSettings, Tool
from pegloom.app.theme import INK
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.skin.measures import edge_stretch
from pegloom.document.edits.weaves import kept_as
from pegloom.document.model import Part
from pegloom.scene import drawing
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import Lens, thickness_kept

MOST_DOTS = 2500


def skeleton(view: StageView, draw: DrawList) -> None:
    character, frame = view.c.state.character, view.c.frames.frame()
    if character is None or frame is None or character.skeleton is None:
        return
    if "joints" not in view.c.state.viewing.hidden:
        size = view.c.state.settings.of(MarkSettings).size
        marks = drawing.Marks(frozenset(view.c.state.selection.ids), view.hovered, size, character.mark_sizes)
        drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks, alpha=0.95)


def reach(view: StageView, draw: DrawList) -> None:
    lines = view.c.frames.reach()
    if lines:
        side = view.c.skeleton.joint(view.c.state.viewing.influence).side
        drawing.draw_reach(draw, lines, side, held=view.hovered == "reach")


def vertices(view: StageView, draw: DrawList) -> None:
    """Picked vertices; of many only a fine grain, so that what the lens shows is not hidden."""
    frame = view.c.frames.frame()
    for part_id, chosen in view.c.state.vertices.items():
        points = frame.points.get(part_id) if frame is not None else None
        if points is None:
            continue
        many = len(chosen) > 600
        for vertex in chosen[:: max(len(chosen) // MOST_DOTS, 1)]:
            draw.dots.add(points[vertex], drawing.LINEN, 1.2 if many else 2.2, alpha=0.5 if many else 0.9)


def brush_ring(painter: QPainter, view: StageView) -> None:
    """The brush: its radius, and inside it what its strength is."""
    tools, brush, character = view.c.state.tooling, view.c.state.brush, view.c.state.character
    if tools.tool not in (Tool.BRUSH, Tool.SELECT) or view.pointer is None or character is None:
        return
    centre, radius = QPointF(*view.pointer), 12.0
    if view.brush_hit is not None:
        metres = brush.radius * character.height
        radius = metres / view.camera.metres_a_pixel(view.brush_hit[1].point, view.size_in_points[1])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(0, 0, 0, 120), 3))
    painter.drawEllipse(centre, radius, radius)
    painter.setPen(QPen(QColor(INK.text), 1.4))
    painter.drawEllipse(centre, radius, radius)
    painter.setPen(QPen(QColor(INK.text), 1, Qt.PenStyle.DotLine))
    painter.drawEllipse(centre, radius * brush.strength, radius * brush.strength)


def seam(painter: QPainter, view: StageView) -> None:
    """The compare seam with the names of what stands either side of it."""
    c, character = view.c, view.c.state.character
    if c.frames.other is None or character is None:
        return
    width, height = view.size_in_points
    x = c.state.viewing.seam * width
    painter.setPen(QPen(QColor(0, 0, 0, 130), 4))
    painter.drawLine(QPointF(x, 0), QPointF(x, height))
    painter.setPen(QPen(QColor(INK.text), 1.4, Qt.PenStyle.DashLine))
    painter.drawLine(QPointF(x, 0), QPointF(x, height))
    # A spool on the thread to take it by.
    grip = QRectF(x - 7, height / 2 - 15, 14, 30)
    painter.setPen(QPen(QColor(INK.text), 1.2))
    painter.setBrush(QColor(INK.card))
    painter.drawRoundedRect(grip, 4, 4)
    for k in (-6, 0, 6):
        painter.drawLine(QPointF(x - 3.5, grip.center().y() + k), QPointF(x + 3.5, grip.center().y() + k))
    kept = kept_as(character)
    weave = next(w for w in character.weaves if w.id == c.state.viewing.compared)
    here = f"current: {kept.name}" if kept else "current"
    metrics = painter.fontMetrics()
    for text, right in ((here, False), (weave.name, True)):
        text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, 170)
        wide = metrics.horizontalAdvance(text) + 16
        box = QRectF(x + 12 if right else x - 12 - wide, 84, wide, 22)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(20, 23, 31, 200))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(QColor(INK.text))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def surface_words(view: StageView, kind: str, found: str) -> str:
    """The strongest joints of the vertex under the pointer, and what the lens says of it."""
    character = view.c.state.character
    if view.brush_hit is None or character is None or character.skin is None or character.skeleton is None:
        return ""
    part, hit = view.brush_hit
    weights = character.skin.weights.get(part.id)
    if weights is None:
        return ""
    vertex = view.vertex_under(part, hit)
    row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
    pairs = sorted(zip(weights.values[row], weights.indices[row], strict=True), reverse=True)
    listed = ", ".join(f"{character.skeleton.joint(weights.joint_ids[j]).name} {w:.2f}" for w, j in pairs[:4])
    return f"vertex {vertex}: {listed}{_lens_words(view, part, vertex)}"


def _lens_words(view: StageView, part: Part, vertex: int) -> str:
    """What the lens says of one vertex, as a number."""
    c, lens, frame = view.c, view.c.state.viewing.lens, view.c.frames.frame()
    assert frame is not None
    if lens is Lens.DIFFERENCE:
        found = difference(c, part.id)
        if found is None:
            return ""
        values, _, metres = found
        return f"; apart {1000 * values[vertex]:.1f} mm" if metres else f"; apart {values[vertex]:.2f} of weight"
    points = frame.points[part.id]
    if lens is Lens.VOLUME:
        weights = c.character.require_skin().weights[part.id]
        kept = thickness_kept(part, weights, c.skeleton, points, frame.joints, np.array([vertex]))
        return f"; {100 * float(kept[0]):.0f} % of its girth kept"
    if lens is Lens.STRAIN:
        g = weld(part.mesh)
        edges = place_edges(part.mesh)
        mine = edges[(edges == g.group[vertex]).any(axis=1)]
        if len(mine):
            ratio = edge_stretch(part.mesh.points[g.first], points[g.first], mine)
            return f"; edges {ratio.min():.2f} to {ratio.max():.2f} of rest"
    return ""
