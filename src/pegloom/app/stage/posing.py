"""What the areas that pose share: controls and their handle drawn, dragged, picked; auto-key's sign."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter, QPen

from pegloom.app.stage.drags.handle import HandleTool, axes_allowed, begin_control, handle_for
from pegloom.app.stage.drags.pick import PickTool
from pegloom.app.stage.drags.skin import SkinTool
from pegloom.app.stage.tools import StageTool, StageView
from pegloom.app.state.state import MarkSettings, Tool
from pegloom.app.theme import INK
from pegloom.core.rig.pose import JointPose
from pegloom.scene import drawing, rig_drawing
from pegloom.scene.drawing import LINEN
from pegloom.scene.drawlist import DrawList

PIN_PIXELS = 11.0
"""Half the width of a pin's mark."""
STITCH = 3.0
"""Pixels the stitches round the view are wide."""
NOTHING_HELD = drawing.Marks(frozenset(), "")
TOOLS: tuple[StageTool, ...] = (SkinTool(), HandleTool(), PickTool({"control": begin_control}))


def joints(view: StageView, draw: DrawList) -> None:
    """Joints under the controls, faint, where they can be picked beside them."""
    c = view.c
    character, frame = c.state.character, c.frames.frame()
    if character is None or character.skeleton is None or frame is None or "joints" in c.state.viewing.hidden:
        return
    if "joint" not in c.area.passes_by(c.state):
        sizes = c.state.settings.of(MarkSettings).size
        marks = drawing.Marks(frozenset(c.state.selection.ids), view.hovered, sizes, character.mark_sizes)
        drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks, alpha=0.4)


def performers(view: StageView, draw: DrawList) -> None:
    """Figures beside the one in hand that are joints alone."""
    for one in view.c.frames.others():
        if one.character.bare and one.character.skeleton is not None:
            drawing.draw_skeleton(draw, one.character.skeleton, one.joints, NOTHING_HELD, alpha=0.85)


def bare_body(view: StageView, draw: DrawList) -> None:
    """The one in hand, where it is joints alone."""
    character, frame = view.c.state.character, view.c.frames.frame()
    if character is not None and frame is not None and character.bare and character.skeleton is not None:
        drawing.draw_skeleton(draw, character.skeleton, frame.joints, NOTHING_HELD)


def controls(view: StageView, draw: DrawList) -> None:
    """Controls and the handle of the picked ones; none while the pose is told by joints."""
    c = view.c
    character, frame = c.state.character, c.frames.frame()
    if character is None or character.rig is None or frame is None or "controls" in c.state.viewing.hidden:
        return
    if isinstance(c.frames.pose, JointPose):
        return
    marks = drawing.Marks(frozenset(c.state.selection.ids), view.hovered)
    skeleton = character.skeleton
    joints = {} if skeleton is None else {j.id: m for j, m in zip(skeleton.joints, frame.joints, strict=True)}
    rig_drawing.draw_controls(draw, character.rig, frame.shown, joints, c.frames.control_pose, marks, c.frames.unseen)
    handle = handle_for(c, view.camera, view.size_in_points)
    if handle is not None:
        drag, some = handle
        allowed = axes_allowed(some[-1], drag.handle.kind, c)
        drawing.draw_handle(draw, drag.handle, view.camera, view.grip, allowed)


def pins(view: StageView, draw: DrawList) -> None:
    """Joints that are pinned where they are, while the body is posed by its skin: a square ring, told from any control."""
    c, frame = view.c, view.c.frames.frame()
    skeleton = c.state.character.skeleton if c.state.character is not None else None
    if c.state.tooling.tool != Tool.SKIN or skeleton is None or frame is None:
        return
    size = PIN_PIXELS * view.camera.metres_a_pixel(np.array(view.camera.target), view.size_in_points[1])
    for joint in c.state.tooling.pins:
        if joint in skeleton.index:
            place = frame.joints[skeleton.index[joint], :3, 3]
            right, up = view.camera.right * size, view.camera.up * size
            draw.over.add(np.array([place + right + up, place - right + up, place - right - up, place + right - up, place + right + up]), LINEN, 2.6, 0.95)
            draw.dots.add(place, LINEN, 3.5)


def auto_key_sign(painter: QPainter, view: StageView) -> None:
    """Stitches all round the view and a label at its top while each change becomes a key: nobody overlooks it."""
    state = view.c.state
    if not state.hand.auto_key or state.character is None or state.character.rig is None or state.viewing.clean_view:
        return
    wide, tall = view.size_in_points
    waits = state.clip is None or bool(state.clip.tracks)
    colour = QColor(INK.woad if not waits else INK.soft)
    pen = QPen(colour, STITCH, Qt.PenStyle.CustomDashLine)
    pen.setDashPattern([5.0, 3.2])
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(QRectF(5, 5, wide - 10, tall - 10), 8, 8)
    text = "Auto-key waits: play a clip on controls" if waits else "Auto-key: each change sets a key"
    font = QFont(painter.font())
    font.setBold(True)
    painter.setFont(font)
    width = painter.fontMetrics().horizontalAdvance(text) + 26
    box = QRectF(wide - width - 16, tall - 40, width, 24)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour)
    painter.drawRoundedRect(box, 12, 12)
    painter.setPen(QColor(INK.on_woad))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    font.setBold(False)
    painter.setFont(font)
