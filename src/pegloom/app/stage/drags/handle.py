"""Controls moved, turned or grown by a handle's grip or by their own shape."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.app.actions.posing import commit_pose, show_pose
from pegloom.app.context import Context
from pegloom.app.stage.tools import Drag, Pointer, Size, StageTool, StageView, far
from pegloom.app.state.state import Axes, PosingSettings, Tool
from pegloom.core.arrays import FloatArray
from pegloom.core.rig.channels import MOVE, ROTATE, SCALE
from pegloom.core.rig.cone import planes_kept
from pegloom.core.rig.controls import Control, with_values
from pegloom.core.rig.evaluate import evaluate_rig, place_control
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.use import idle
from pegloom.scene.camera import Camera
from pegloom.scene.handles import HandleDrag, HandleKind, grip_under, make_handle
from pegloom.scene.rig_drawing import limb_words

VERBS = {HandleKind.MOVE: "Move", HandleKind.TURN: "Rotate", HandleKind.GROW: "Scale"}


class ControlDrag:
    """Shows the pose while moving and keeps it on release; over a clip it stays a draft that holds at every frame, so a
    control may be dragged while the clip plays."""

    def __init__(self, c: Context, controls: list[Control], drag: HandleDrag, worlds: FloatArray) -> None:
        self.c, self.controls, self.drag = c, controls, drag
        rig = c.character.require_rig()
        self.base = c.frames.control_pose
        self.worlds = {control.id: worlds[rig.index[control.id]] for control in controls}
        self.lead = controls[-1].id
        own = c.state.settings.of(PosingSettings).axes is Axes.OWN and drag.grip in ("x", "y", "z")
        self.each = len(controls) > 1 and own
        if len(controls) > 1:
            self.controls = self._in_turn(controls)
        self.pose: Pose | None = None

    def _in_turn(self, controls: list[Control]) -> list[Control]:
        """Controls, each after what carries it. What is carried goes along already where all move as one."""
        rig = self.c.character.require_rig()
        picked = {control.id for control in controls}

        def carriers(control: Control) -> list[str]:
            found, above = [], rig.handle_above(control.id)
            while above is not None:
                found.append(above)
                above = rig.handle_above(above)
            return found

        above = {control.id: carriers(control) for control in controls}
        some = controls if self.each else [c for c in controls if not picked & set(above[c.id])]
        return sorted(some, key=lambda control: len(above[control.id]))

    def move(self, at: Pointer) -> None:
        if self.pose is None and not far(at.at, self.drag.start):
            return
        snapping = self.c.state.settings.of(PosingSettings).snapping
        change = self.drag.change(at.x, at.y, snap=at.ctrl is not snapping)
        rig, skeleton = self.c.character.require_rig(), self.c.skeleton
        pose = self.base
        kind = self.drag.handle.kind
        for control in self.controls:
            if kind is HandleKind.GROW:
                now = rig.value(self.base, ChannelRef(control.id, SCALE))
                factor = float(np.linalg.norm(change[:3, 0]))
                if SCALE in control.free:
                    pose = with_values(rig, pose, control.id, **{SCALE: now * factor})
                continue
            kept: tuple[str, ...] = {HandleKind.MOVE: ROTATE, HandleKind.TURN: MOVE}.get(kind, ())
            pose = place_control(skeleton, rig, pose, control, self._goal(control, change, pose), keep=kept)
        # A limb whose goal comes near the line through its pole keeps its plane.
        self.pose = pose = planes_kept(skeleton, rig, self.pose or self.base, pose)
        show_pose(self.c, pose, self._touched())

    def _goal(self, control: Control, change: FloatArray, pose: Pose) -> FloatArray:
        """Where a control is to stand (4, 4). Several along their own axes each turn about their own: fingers curl."""
        if not self.each:
            return np.asarray(change @ self.worlds[control.id])
        rig = self.c.character.require_rig()
        now = evaluate_rig(self.c.skeleton, rig, pose).controls[rig.index[control.id]]
        axes = self.drag.handle.frame[:3, :3]
        own = now[:3, :3] / np.maximum(np.linalg.norm(now[:3, :3], axis=0), 1e-12)
        result = now.copy()
        if self.drag.handle.kind is HandleKind.TURN:
            result[:3, :3] = own @ (axes.T @ change[:3, :3] @ axes) @ own.T @ now[:3, :3]
        else:
            result[:3, 3] += own @ axes.T @ change[:3, 3]
        return np.asarray(result)

    def release(self) -> None:
        if self.pose is None:
            return
        if self.c.area.springs_back(self.c.state):
            self.c.store.drop_draft()
            self.c.say("A trial: it sprang back. Choose Pose to keep what you pose")
            return
        names = ", ".join(c.name for c in self.controls[:2]) + (" and more" if len(self.controls) > 2 else "")
        commit_pose(self.c, f"{VERBS[self.drag.handle.kind]} {names}", self.pose, self._touched())
        self._say_idle()

    def _say_idle(self) -> None:
        """What was dragged and moves nothing says why, and offers the switch."""
        assert self.pose is not None
        rig, lead = self.c.character.require_rig(), self.c.character.require_rig().control(self.lead)
        solver = idle(rig, self.pose).get(lead.id)
        if solver is not None:
            side = "IK" if lead.id in solver.fk else "FK"
            self.c.say(f"{lead.name} moves nothing while {limb_words(solver)} is on {side}", offer="controls.use")

    def _touched(self) -> tuple[str, ...]:
        """The controls that were dragged, and those of poles whose swivel was written."""
        assert self.pose is not None
        written = {o for (o, key), v in self.pose.values.items() if key == "swivel" and v != self.base.values.get((o, key))}
        return tuple(dict.fromkeys([*(c.id for c in self.controls), *sorted(written)]))

    def cancel(self) -> None:
        self.c.store.drop_draft()


class HandleTool(StageTool):
    """The grips of the picked controls' handle."""

    id = "handle"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return view.pickable() == "control" and bool(grip_at(view, at.x, at.y))

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        handle, frame = handle_for(view.c, view.camera, view.size_in_points), view.c.frames.frame()
        if handle is None or frame is None:
            return None
        drag, controls = handle
        grip = grip_at(view, at.x, at.y)
        return ControlDrag(view.c, controls, replace(drag, grip=grip, start=at.at), frame.shown)


def grip_at(view: StageView, x: float, y: float) -> str:
    """The grip under a pixel that the picked control allows, "" for none."""
    handle = handle_for(view.c, view.camera, view.size_in_points)
    if handle is None:
        return ""
    drag, controls = handle
    grip = grip_under(drag.handle, x, y, view.camera, view.size_in_points) or ""
    return grip if grip == "view" or grip in axes_allowed(controls[-1], drag.handle.kind, view.c) else ""


def begin_control(view: StageView, kind: str, found: str, at: Pointer) -> Drag | None:
    """A control dragged by its own shape, in the plane that faces the eye."""
    c, frame, rig = view.c, view.c.frames.frame(), view.c.character.require_rig()
    controls = [rig.control(i) for i in c.state.selection.ids if i in rig.index]
    if not controls or frame is None:
        return None
    handle = make_handle(
        handle_kind(c, rig.control(found)), frame.shown[rig.index[found]], view.camera, view.size_in_points
    )
    chosen = c.state.settings.of(PosingSettings)
    steps = (chosen.move_step / 100.0, float(np.radians(chosen.turn_step)))
    drag = HandleDrag(handle, "view", view.camera, view.size_in_points, at.at, *steps)
    return ControlDrag(c, controls, drag, frame.shown)


def handle_for(c: Context, camera: Camera, size: Size) -> tuple[HandleDrag, list[Control]] | None:
    """The handle of the picked controls, as a drag waiting for its start; None without one."""
    character, frame = c.state.character, c.frames.frame()
    if character is None or character.rig is None or frame is None or c.state.selection.kind != "control":
        return None
    if c.state.tooling.tool in (Tool.POINTS, Tool.SKIN):
        return None
    rig = character.rig
    controls = [rig.control(i) for i in c.state.selection.ids if i in rig.index]
    if not controls:
        return None
    lead = controls[-1]
    chosen, row = c.state.settings.of(PosingSettings), rig.index[lead.id]
    place = turned_to(chosen.axes, frame.shown[row], frame.bases[row], camera)
    handle = make_handle(handle_kind(c, lead), place, camera, size)
    return HandleDrag(handle, "", camera, size, (0.0, 0.0), chosen.move_step / 100.0, float(np.radians(chosen.turn_step))), controls


def turned_to(axes: Axes, world: FloatArray, base: FloatArray, camera: Camera) -> FloatArray:
    """A control's place (4, 4) with the axes a handle is to have. base : the control's without its own channels."""
    result = world.copy()
    if axes is Axes.PARENT:
        result[:3, :3] = base[:3, :3]
    elif axes is Axes.WORLD:
        result[:3, :3] = np.eye(3)
    elif axes is Axes.VIEW:
        result[:3, :3] = np.stack([camera.right, camera.up, camera.backward], axis=1)
    return result


def handle_kind(c: Context, control: Control) -> HandleKind:
    """The kind of handle: the tool's where the control can do it, else what it can do."""
    wanted = {kind.value: kind for kind in HandleKind}.get(str(c.state.tooling.tool))
    can = {
        HandleKind.MOVE: "move_x" in control.free,
        HandleKind.TURN: "rotate_x" in control.free,
        HandleKind.GROW: SCALE in control.free,
    }
    if wanted is not None and can[wanted]:
        return wanted
    return HandleKind.MOVE if can[HandleKind.MOVE] else HandleKind.TURN


def axes_allowed(control: Control, kind: HandleKind, c: Context) -> str:
    """The axes of a control's handle that its free channels allow; along other axes than its own all, unless all are locked."""
    prefix = {HandleKind.MOVE: "move_", HandleKind.TURN: "rotate_"}.get(kind)
    axes = c.state.settings.of(PosingSettings).axes
    if prefix is None or (axes in (Axes.WORLD, Axes.VIEW) and any(prefix + a in control.free for a in "xyz")):
        return "xyz"
    return "".join(a for a in "xyz" if prefix + a in control.free)
