"""What the areas that pose share: controls and their handle drawn, dragged, picked."""

from __future__ import annotations

from pegloom.app.stage.drags.handle import HandleTool, axes_allowed, begin_control, handle_for
from pegloom.app.stage.drags.pick import PickTool
from pegloom.app.stage.tools import StageTool, StageView
from pegloom.app.state.state import MarkSettings
from pegloom.core.rig.pose import JointPose
from pegloom.scene import drawing, rig_drawing
from pegloom.scene.drawlist import DrawList

TOOLS: tuple[StageTool, ...] = (HandleTool(), PickTool({"control": begin_control}))


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
    rig_drawing.draw_controls(draw, character.rig, frame.shown, joints, c.frames.control_pose, marks, frame.unseen)
    handle = handle_for(c, view.camera, view.size_in_points)
    if handle is not None:
        drag, some = handle
        allowed = axes_allowed(some[-1], drag.handle.kind)
        drawing.draw_handle(draw, drag.handle, view.camera, view.grip, allowed)
