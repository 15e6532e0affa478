"""What is drawn in the view in Joints."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter

from pegloom.app.areas.joints.settings import BodySettings
from pegloom.app.stage.tools import StageView
from pegloom.app.theme import INK
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.body_words import chain_title, chains
from pegloom.core.skeleton.joints import Origin
from pegloom.scene import drawing
from pegloom.scene.drawlist import DrawList


def skeleton(view: StageView, draw: DrawList) -> None:
    """Joints and cords, fainter under pegs."""
    character, frame = view.c.state.character, view.c.frames.frame()
    if character is None or frame is None or character.skeleton is None:
        return
    if "joints" not in view.c.state.viewing.hidden:
        faint = character.pegs is not None
        drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks_of(view), alpha=0.55 if faint else 0.95)


def pegs(view: StageView, draw: DrawList) -> None:
    """Pegs, the planes of their bends, and moves that are proposed."""
    state, character = view.c.state, view.c.state.character
    if character is None:
        return
    if character.pegs is not None and character.skeleton is not None:
        drawing.draw_plaques(draw, character.pegs, character.skeleton, character.height)
    if state.viewing.moves:
        drawing.draw_moves(draw, list(state.viewing.moves))
    if character.pegs is not None and "pegs" not in state.viewing.hidden:
        drawing.draw_pegs(draw, character.pegs, marks_of(view), character.height)


def chain_names(painter: QPainter, view: StageView) -> None:
    """What the chains of a file's skeleton were recognised as, each beside its middle joint."""
    state, character, frame = view.c.state, view.c.state.character, view.c.frames.frame()
    skeleton = character.skeleton if character is not None else None
    if skeleton is None or frame is None or state.viewing.clean_view or state.dragging or "joints" in state.viewing.hidden:
        return
    if not state.settings.of(BodySettings).named or not any(j.origin is Origin.FILE for j in skeleton.joints):
        return
    metrics, taken = painter.fontMetrics(), list[QRectF]()
    for chain, joints in chains(body_of(skeleton).joint_of).items():
        middle = joints[(len(joints) - 1) // 2]
        x, y, depth = view.camera.project(frame.joints[skeleton.index[middle], :3, 3], *view.size_in_points)[0]
        if depth <= 0:
            continue
        text = chain_title(chain)
        wide = metrics.horizontalAdvance(text) + 12
        left = x - 12 - wide if x < view.size_in_points[0] / 2 else x + 12
        box = QRectF(left, y - 9, wide, 18)
        while any(box.intersects(other) for other in taken):
            box.translate(0, 20)
        taken.append(box)
        picked = set(joints) & set(state.selection.ids)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(20, 23, 31, 225 if picked else 165))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(QColor(INK.text if picked else INK.soft))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def marks_of(view: StageView) -> drawing.Marks:
    """What is picked and what is under the pointer."""
    return drawing.Marks(frozenset(view.c.state.selection.ids), view.hovered)
