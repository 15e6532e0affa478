"""The slice window: while a peg or joint is selected, the mesh cut there from two directions. Drag in it to move."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF

from pegloom.app.areas.joints.tools import placing
from pegloom.app.context import Context
from pegloom.app.stage.drags import PlaceDrag, Placing
from pegloom.app.stage.tools import Pointer
from pegloom.app.state.state import State
from pegloom.app.theme import INK
from pegloom.app.widgets.panel import Panel
from pegloom.core.arrays import FloatArray
from pegloom.document.edits.joints import surface_of
from pegloom.scene.drawing import side_colour_name
from pegloom.scene.slicing import SliceView, slice_joint, slice_peg

SIDE, HEAD = 148, 38
SNAP = 7.0
"""Pixels within which a drag catches the proper depth."""


class SliceWindow(Panel):
    """Two square pictures side by side; the peg in the middle of each, its proper depth a ring."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("slice")
        self.setAccessibleName("Slice window: the mesh cut at the selected peg or joint")
        self.setFixedSize(2 * SIDE + 3 * 8, SIDE + HEAD + 8)
        self.view: SliceView | None = None
        self.subject = self.colour = ""

    def key(self, state: State) -> tuple[object, ...]:
        character = state.character
        pieces = (character.parts, character.pegs, character.skeleton) if character is not None else ()
        return (*pieces, state.selection.lead)

    def show_state(self, state: State) -> None:
        # What is painted is what was shown last: what is picked may be gone by the time it is painted.
        self.view = slice_of(state)
        if self.view is not None:
            lead, kind = state.selection.lead, state.selection.kind
            self.subject = lead.replace("_", " ") if kind == "peg" else self.c.skeleton.joint(lead).name
            self.colour = side_colour_name(lead, self.c.character, kind)
        self.update()

    def square(self, number: int) -> QRectF:
        """Where a picture is drawn."""
        return QRectF(8 + number * (SIDE + 8), HEAD, SIDE, SIDE)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        view = self.view
        if view is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(INK.line), 1))
        painter.setBrush(QColor(20, 23, 31, 235))
        painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 8, 8)
        font = QFont("Figtree")
        font.setPixelSize(11)
        painter.setFont(font)
        colour = QColor(self.colour)
        for number, cut in enumerate(view.cuts):
            box = self.square(number)
            scale = box.width() / 2 / cut.reach
            middle = box.center()
            painter.setPen(QColor(INK.soft))
            word = cut.title if number else f"cut {cut.title}"
            painter.drawText(QRectF(box.left(), 20, box.width(), 16), Qt.AlignmentFlag.AlignLeft, word)
            if number == 0:
                state = "at its proper depth" if view.sound else "off its proper depth: drag it onto the ring"
                painter.setPen(QColor(INK.text if view.sound else INK.madder))
                words = f"{self.subject}: {state if view.proper is not None else 'no depth of its own here'}"
                painter.drawText(QRectF(box.left(), 4, self.width() - 16, 16), Qt.AlignmentFlag.AlignLeft, words)
            painter.save()
            painter.setClipRect(box)
            painter.fillRect(box, QColor("#1B202B"))
            painter.setPen(QPen(QColor(INK.line), 1))
            painter.drawLine(QPointF(middle.x(), box.top()), QPointF(middle.x(), box.bottom()))
            painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
            painter.setPen(QPen(QColor(INK.text), 1.4))
            fill = QColor(INK.soft)
            fill.setAlpha(46)
            for line in cut.lines:
                shape = QPolygonF([QPointF(middle.x() + x * scale, middle.y() - y * scale) for x, y in line])
                painter.setBrush(fill)
                painter.drawPolygon(shape)
            if cut.proper is not None:
                x, y = middle.x() + cut.proper[0] * scale, middle.y() - cut.proper[1] * scale
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(INK.text), 1.2, Qt.PenStyle.DotLine))
                painter.drawEllipse(QPointF(x, y), 7, 7)
                painter.drawLine(QPointF(x - 3, y), QPointF(x + 3, y))
                painter.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawEllipse(middle, 4.5, 4.5)
            painter.restore()
        painter.end()

    # Dragging in a picture moves the peg in its plane

    def _pointer(self, event: QMouseEvent) -> Pointer:
        return Pointer(event.position().x(), event.position().y())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() != Qt.MouseButton.LeftButton or self.view is None:
            return
        number = next((k for k in (0, 1) if self.square(k).contains(event.position())), None)
        if number is not None:
            scale = self.square(number).width() / 2 / self.view.cuts[number].reach
            selection = self.c.state.selection
            to_do = placing(self.c, selection.kind, selection.lead)
            self.c.view.hold(SliceDrag(self.c, self._pointer(event).at, to_do, self.view, number, scale))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.c.view.move_drag(self._pointer(event))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self.c.view.end_drag()


class SliceDrag(PlaceDrag):
    """In the plane of one picture, caught by the proper depth.

    view : the cuts as they were at the press.
    scale : pixels a metre.
    """

    def __init__(
        self, c: Context, start: tuple[float, float], to_do: Placing, view: SliceView, number: int, scale: float
    ) -> None:
        super().__init__(c, start, to_do)
        self.middle, self.cut, self.scale = view.place, view.cuts[number], scale

    def place_at(self, at: Pointer) -> FloatArray:
        away = np.array([at.x - self.start[0], self.start[1] - at.y]) / self.scale
        proper = self.cut.proper
        if proper is not None and np.linalg.norm((away - proper) * self.scale) < SNAP:
            away = proper
        return np.asarray(self.middle + self.cut.right * away[0] + self.cut.up * away[1])


def slice_of(state: State) -> SliceView | None:
    """The cuts at what is picked; None where there is nothing to cut."""
    character, lead, kind = state.character, state.selection.lead, state.selection.kind
    if character is None or not lead or not any(p.mesh.face_count for p in character.included):
        return None
    points, triangles = surface_of(character)
    if kind == "peg" and character.pegs is not None and lead in character.pegs.by_name:
        return slice_peg(points, triangles, character.pegs, lead)
    if kind == "joint" and character.skeleton is not None and lead in character.skeleton.index:
        return slice_joint(points, triangles, character.skeleton, lead)
    return None


def wanted(state: State) -> bool:
    """Whether something is picked that can be cut at."""
    character, lead, kind = state.character, state.selection.lead, state.selection.kind
    if character is None or not any(p.mesh.face_count for p in character.included):
        return False
    pegs = kind == "peg" and character.pegs is not None and lead in character.pegs.by_name
    joints = kind == "joint" and character.skeleton is not None and lead in character.skeleton.index
    return pegs or joints
