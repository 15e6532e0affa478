"""The slice window: while a peg or joint is selected, the mesh cut there from two directions. Drag in it to move."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from pegloom.app.placing import keep_placed
from pegloom.app.session import Area, Session
from pegloom.app.theme import INK
from pegloom.document import edits
from pegloom.document.edits.joints import surface_of
from pegloom.scene.drawing import side_colour_name
from pegloom.scene.slicing import SliceView, slice_joint, slice_peg

SIDE, HEAD = 148, 38
SNAP = 7.0
"""Pixels within which a drag catches the proper depth."""


class SliceWindow(QWidget):
    """Two square pictures side by side; the peg in the middle of each, its proper depth a ring."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("slice")
        self.setAccessibleName("Slice window: the mesh cut at the selected peg or joint")
        self.setFixedSize(2 * SIDE + 3 * 8, SIDE + HEAD + 8)
        self.session = session
        self.view: SliceView | None = None
        self.key: tuple[object, ...] = ()
        self.folded = False
        self.grabbed: tuple[int, object, SliceView] | None = None
        self.moved: object | None = None
        self.hide()
        for signal in (session.changed, session.selection_changed, session.view_changed):
            signal.connect(lambda *_: self.refresh())

    def refresh(self) -> None:
        session, character = self.session, self.session.character
        lead, kind = session.selection.lead, session.selection.kind
        shown = (
            character is not None and session.area is Area.JOINTS and lead and kind in ("peg", "joint")
            and not session.clean_view and any(p.mesh.face_count for p in character.included)
        )  # fmt: skip
        if kind == "peg" and shown:
            shown = character.pegs is not None and lead in character.pegs.by_name
        if kind == "joint" and shown:
            shown = character.skeleton is not None and lead in character.skeleton.index
        if not shown:
            self.hide()
            self.key = ()
            return
        key = (character.parts, character.pegs, character.skeleton, lead)
        if len(key) != len(self.key) or any(a is not b for a, b in zip(key, self.key, strict=False)):
            self.key = key
            points, triangles = surface_of(character)
            if kind == "peg":
                self.view = slice_peg(points, triangles, character.pegs, lead)
            else:
                self.view = slice_joint(points, triangles, character.skeleton, lead)
        self.setVisible(self.view is not None)
        self.update()

    def label(self) -> str:
        """The selected joint's name."""
        return self.session.character.skeleton.joint(self.session.selection.lead).name

    def square(self, number: int) -> QRectF:
        """Where a picture is drawn."""
        return QRectF(8 + number * (SIDE + 8), HEAD, SIDE, SIDE)

    def paintEvent(self, event: object) -> None:
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
        name = self.session.selection.lead
        colour = QColor(side_colour_name(name, self.session.character, self.session.selection.kind))
        for number, cut in enumerate(view.cuts):
            box = self.square(number)
            scale = box.width() / 2 / cut.reach
            middle = box.center()
            painter.setPen(QColor(INK.soft))
            word = cut.title if number else f"cut {cut.title}"
            painter.drawText(QRectF(box.left(), 20, box.width(), 16), Qt.AlignmentFlag.AlignLeft, word)
            if number == 0:
                where = name.replace("_", " ") if self.session.selection.kind == "peg" else self.label()
                state = "at its proper depth" if view.sound else "off its proper depth: drag it onto the ring"
                painter.setPen(QColor(INK.text if view.sound else INK.madder))
                words = f"{where}: {state}" if view.proper is not None else f"{where}: no depth of its own here"
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

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self.view is None:
            return
        for number in (0, 1):
            if self.square(number).contains(event.position()):
                self.grabbed = (number, self.session.history.present, self.view)
                self.start = event.position()
                self.moved = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.grabbed is None:
            return
        number, base, view = self.grabbed
        cut = view.cuts[number]
        scale = self.square(number).width() / 2 / cut.reach
        delta = event.position() - self.start
        away = np.array([delta.x(), -delta.y()]) / scale
        if self.moved is None and np.hypot(delta.x(), delta.y()) < 2.0:
            return
        if cut.proper is not None and np.linalg.norm((away - cut.proper) * scale) < SNAP:
            away = cut.proper
        place = view.place + cut.right * away[0] + cut.up * away[1]
        x, y, z = (float(v) for v in place)
        lead, both = self.session.selection.lead, self.session.both_sides
        if self.session.selection.kind == "peg":
            self.edit = lambda d: edits.place_peg(d, lead, (x, y, z), both_sides=both)
        else:
            along = self.session.with_children
            self.edit = lambda d: edits.move_joint(d, lead, (x, y, z), both_sides=both, with_children=along)
        self.moved = edits.drafted(base, self.edit)
        self.session.drag_free = False
        self.session.preview(self.moved)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        grabbed, self.grabbed = self.grabbed, None
        self.session.drag_free = True
        if grabbed is not None and self.moved is not None:
            name = f"Place {self.session.selection.lead} in the slice window"
            keep_placed(self.session, grabbed[1], name, self.edit)
        self.moved = None
