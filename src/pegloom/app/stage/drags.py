"""Drags on the stage. Each keeps a snapshot from the press, previews while moving, commits once on release."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

import numpy as np

from pegloom.app.jobs import Job
from pegloom.app.placing import keep_placed
from pegloom.app.session import BrushMode, Session
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import place_lengths, weld
from pegloom.core.rig.channels import MOVE, ROTATE, SCALE
from pegloom.core.rig.controls import Control, with_values
from pegloom.core.rig.evaluate import place_control
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.skin.brush import dab
from pegloom.document import edits
from pegloom.document.model import Part
from pegloom.scene.camera import Camera
from pegloom.scene.handles import MOVE_SNAP, HandleDrag, HandleKind, make_handle, on_view_plane
from pegloom.scene.picking import inside_box, inside_lasso
from pegloom.scene.stroke import Facing, MaskStroke, Paint, Stroke

START_AFTER = 3.0
"""Pixels: a press that moves less only selects."""

Size = tuple[int, int]


class Drag(Protocol):
    """What a pressed button does until it is let go."""

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None: ...
    def release(self) -> None: ...
    def cancel(self) -> None: ...


class PointDrag:
    """A peg or a joint moved in the plane that faces the eye."""

    def __init__(
        self, session: Session, camera: Camera, size: Size, point: np.ndarray, start: tuple[float, float],
        edit: Callable[[object, tuple[float, float, float]], object], name: str,
    ) -> None:  # fmt: skip
        self.session, self.camera, self.size = session, camera, size
        self.point, self.start, self.edit, self.name = point, start, edit, name
        self.base = session.history.present
        self.grab = on_view_plane(camera, point, *start, size)
        self.moved: object | None = None
        self.place = (0.0, 0.0, 0.0)

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        if self.moved is None and np.hypot(x - self.start[0], y - self.start[1]) < START_AFTER:
            return
        place = self.point + on_view_plane(self.camera, self.point, x, y, self.size) - self.grab
        if snap:
            place = np.round(place / MOVE_SNAP) * MOVE_SNAP
        a, b, c = (float(v) for v in place)
        try:
            self.moved = edits.drafted(self.base, lambda document: self.edit(document, (a, b, c)))
        except PegLoomError as error:
            self.session.say(str(error), error=True)
            return
        self.place = (a, b, c)
        self.session.preview(self.moved)

    def release(self) -> None:
        if self.moved is not None:
            edit, place = self.edit, self.place
            keep_placed(self.session, self.base, self.name, lambda document: edit(document, place))

    def cancel(self) -> None:
        self.session.drop_preview()


class TurnDrag:
    """The whole mesh turned about its upright by a drag sideways."""

    def __init__(self, session: Session, start: tuple[float, float]) -> None:
        self.session, self.start = session, start
        self.base = session.history.present
        self.degrees = 0.0
        self.moved: object | None = None

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        degrees = (x - self.start[0]) * 0.5
        if self.moved is None and abs(x - self.start[0]) < START_AFTER:
            return
        self.degrees = round(degrees / 15) * 15 if snap else degrees
        try:
            self.moved = edits.turn_by(self.base, self.degrees, draft=True)
        except PegLoomError as error:
            self.session.say(str(error), error=True)
            return
        self.session.preview(self.moved)

    def release(self) -> None:
        if self.moved is not None:
            self._settle(f"Turn {self.degrees:+.0f}°")

    def _settle(self, name: str) -> None:
        """The turn as one step. What is built already is built anew for it, which takes a moment: as a job."""
        session, base, degrees = self.session, self.base, self.degrees

        def done(result: object) -> None:
            if session.history.present is base:
                session.commit(name, result)
            else:
                session.say(f"{name} is left: something else was changed meanwhile", error=True)

        # The draft goes first: a job that is cancelled or fails leaves what was there.
        session.drop_preview()
        job = Job(name, lambda progress: edits.turn_by(base, degrees), done)
        if session.character.skeleton is None:
            session.commit(name, edits.turn_by(base, degrees))
        else:
            session.jobs.start(job)

    def cancel(self) -> None:
        self.session.drop_preview()


class MiddleDrag:
    """The centre line dragged sideways."""

    def __init__(
        self, session: Session, camera: Camera, size: Size, point: np.ndarray, start: tuple[float, float]
    ) -> None:
        self.session, self.camera, self.size, self.point, self.start = session, camera, size, point, start
        self.base = session.history.present
        self.grab = on_view_plane(camera, point, *start, size)
        self.moved: object | None = None

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        away = on_view_plane(self.camera, self.point, x, y, self.size) - self.grab
        place = float(self.point[0] + away[0])
        if snap:
            place = round(place / MOVE_SNAP) * MOVE_SNAP
        self.moved = edits.set_middle(self.base, place)
        self.session.preview(self.moved)

    def release(self) -> None:
        if self.moved is not None:
            self.session.commit("Drag the centre line", self.moved)

    def cancel(self) -> None:
        self.session.drop_preview()


class ControlDrag:
    """Controls moved, turned or grown by a handle's grip or by their own shape."""

    def __init__(self, session: Session, controls: list[Control], drag: HandleDrag, worlds: np.ndarray) -> None:
        self.session, self.controls, self.drag = session, controls, drag
        character = session.character
        assert character is not None and character.rig is not None
        self.character = character
        self.base = edits.posed(character)
        self.worlds = {c.id: worlds[character.rig.index[c.id]] for c in controls}
        self.pose: Pose | None = None

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        start = self.drag.start
        if self.pose is None and np.hypot(x - start[0], y - start[1]) < START_AFTER:
            return
        change = self.drag.change(x, y, snap=snap)
        pose = self.base
        rig, skeleton = self.character.rig, self.character.skeleton
        assert rig is not None and skeleton is not None
        for control in self.controls:
            if self.drag.handle.kind is HandleKind.GROW:
                now = rig.value(self.base, ChannelRef(control.id, SCALE))
                factor = float(np.linalg.norm(change[:3, 0]))
                if SCALE in control.free:
                    pose = with_values(rig, pose, control.id, **{SCALE: now * factor})
                continue
            keep: tuple[str, ...] = ()
            if self.drag.handle.kind is HandleKind.MOVE:
                keep = ROTATE
            elif self.drag.handle.kind is HandleKind.TURN:
                keep = MOVE
            pose = place_control(skeleton, rig, pose, control, change @ self.worlds[control.id], keep=keep)
        self.pose = pose
        document = self.session.document
        self.session.preview(document.with_character(replace(document.require_character(), pose=pose)))

    def release(self) -> None:
        if self.pose is None:
            return
        verb = {"move": "Move", "turn": "Turn", "grow": "Grow"}[self.drag.handle.kind.value]
        names = ", ".join(c.name for c in self.controls[:2]) + (" and more" if len(self.controls) > 2 else "")
        self.session.commit_pose(f"{verb} {names}", self.pose, tuple(c.id for c in self.controls))

    def cancel(self) -> None:
        self.session.drop_preview()


class SeamDrag:
    """The compare seam dragged across the stage."""

    def __init__(self, session: Session, width: int) -> None:
        self.session, self.width = session, width
        self.before = session.seam

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        self.session.set_view(seam=float(np.clip(x / max(self.width, 1), 0.02, 0.98)))

    def release(self) -> None:
        pass

    def cancel(self) -> None:
        self.session.set_view(seam=self.before)


class ReachDrag:
    """A joint's reach pulled wider or narrower, away from its bone or toward it."""

    def __init__(self, session: Session, camera: Camera, size: Size, start: tuple[float, float]) -> None:
        self.session, self.camera, self.size, self.start = session, camera, size, start
        self.base, self.joint = session.history.present, session.influence
        self.factor = session.character.reaches.get(self.joint, 1.0)
        self.moved: object | None = None
        frame, skeleton = session.frame(), session.character.skeleton
        ends = [skeleton.index[c.id] for c in skeleton.children(self.joint)] or [skeleton.index[self.joint]]
        places = np.array([frame.joints[skeleton.index[self.joint]][:3, 3], frame.joints[ends[0]][:3, 3]])
        self.bone = camera.project(places, *size)[:, :2]
        self.away = max(self._away(*start), 4.0)

    def _away(self, x: float, y: float) -> float:
        """Pixels from the bone."""
        a, b = self.bone
        way = b - a
        t = float(np.clip((np.array([x, y]) - a) @ way / max(float(way @ way), 1e-9), 0.0, 1.0))
        return float(np.hypot(*(np.array([x, y]) - a - t * way)))

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        if self.moved is None and np.hypot(x - self.start[0], y - self.start[1]) < START_AFTER:
            return
        factor = float(np.clip(self.factor * self._away(x, y) / self.away, 0.1, 10.0))
        factor = round(factor * 4) / 4 or 0.25 if snap else factor
        self.moved = edits.set_reach(self.base, self.joint, factor, both_sides=self.session.both_sides)
        self.session.preview(self.moved)

    def release(self) -> None:
        if self.moved is not None:
            name = self.session.character.skeleton.joint(self.joint).name
            factor = self.session.character.reaches.get(self.joint, 1.0)
            self.session.commit(f"Reach of {name} {factor:.2f}", self.moved)

    def cancel(self) -> None:
        self.session.drop_preview()


Seeds = Callable[[float, float], list[tuple[Part, np.ndarray]]]
PAINTS = {
    BrushMode.ADD: Paint.ADD,
    BrushMode.TAKE: Paint.TAKE,
    BrushMode.SET: Paint.SET,
    BrushMode.SCALE: Paint.SCALE,
    BrushMode.EVEN: Paint.EVEN,
    BrushMode.SHARPEN: Paint.SHARPEN,
    BrushMode.ALONG: Paint.ALONG,
}


class BrushDrag:
    """A stroke on the posed surface: of weights, or of a painted share."""

    def __init__(
        self, session: Session, stroke: Stroke | MaskStroke, seeds: Seeds,
        facing: Callable[[Part], Facing | None], refresh: Callable[[], None],
    ) -> None:  # fmt: skip
        self.session, self.stroke, self.seeds, self.facing, self.refresh = session, stroke, seeds, facing, refresh
        self.last: tuple[float, float] | None = None

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        if self.last is not None and np.hypot(x - self.last[0], y - self.last[1]) < 2.5:
            return
        self.last = (x, y)
        brush, character = self.session.brush, self.session.character
        mode = Paint.EVEN if even else Paint.TAKE if snap else PAINTS[brush.mode]
        assert character is not None
        facing = self.facing(self.stroke.part)
        for part, seed in self.seeds(x, y):
            if part.id == self.stroke.part.id:
                self.stroke.dab(
                    seed, brush.radius * character.height, mode, strength=brush.strength * self.session.pressure,
                    value=brush.value, hardness=brush.hardness, facing=facing,
                )  # fmt: skip
        self.refresh()

    def release(self) -> None:
        stroke = self.stroke
        if not stroke.touched:
            return
        if isinstance(stroke, MaskStroke):
            put = edits.set_dual_mask if stroke.of == "dual" else edits.set_relax_mask
            self.session.try_edit(
                f"Brush the {self.session.painting.value} of {stroke.part.name}",
                lambda d: put(d, stroke.part.id, stroke.mask),
            )
            return
        skeleton = self.session.character.skeleton
        name = skeleton.joint(stroke.joint).name
        sides = " (both sides)" if stroke.other and stroke.other != stroke.joint else ""
        done = self.session.try_edit(
            f"Brush {name}{sides}", lambda d: edits.set_part_weights(d, stroke.part.id, stroke.weights())
        )
        given = stroke.given()[:4] if done else []
        if given:
            told = ", ".join(f"{skeleton.joint(j).name} {w:+.1f}" for j, w in given)
            self.session.say(f"Weight moved, in vertices' worth: {told}")

    def cancel(self) -> None:
        self.refresh()


class SelectDrag:
    """Vertices selected by painting over them; with Ctrl taken out of the selection."""

    def __init__(self, session: Session, seeds: Seeds, radius: float, add: bool, *, take: bool) -> None:
        self.session, self.seeds, self.radius, self.take = session, seeds, radius, take
        self.before = dict(session.vertices)
        self.chosen = dict(session.vertices) if add else {}

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        for part, seed in self.seeds(x, y):
            g = weld(part.mesh)
            rows, _ = dab(part.mesh.points[g.first], place_lengths(part.mesh), np.unique(g.group[seed]), self.radius)
            touched = np.flatnonzero(np.isin(g.group, rows))
            there = self.chosen.get(part.id, np.zeros(0, dtype=np.int64))
            self.chosen[part.id] = np.setdiff1d(there, touched) if self.take else np.union1d(there, touched)
        self.session.vertices = {p: v for p, v in self.chosen.items() if len(v)}
        self.session.selection_changed.emit()

    def release(self) -> None:
        pass

    def cancel(self) -> None:
        self.session.vertices = self.before
        self.session.selection_changed.emit()


class BoxDrag:
    """A box over vertices (in Weights) or over pegs, joints and controls; with `lasso` a line drawn round them."""

    lasso = False

    def __init__(self, session: Session, camera: Camera, size: Size, start: tuple[float, float], add: bool,
                 things: tuple[str, list[str], np.ndarray], vertices: bool, refresh: Callable[[], None]) -> None:  # fmt: skip
        self.session, self.camera, self.size, self.start = session, camera, size, start
        self.add, self.things, self.vertices, self.refresh = add, things, vertices, refresh
        self.corner = start
        self.path = [start]

    @property
    def drawn(self) -> bool:
        return max(max(abs(x - self.start[0]), abs(y - self.start[1])) for x, y in self.path) > START_AFTER

    def move(self, x: float, y: float, *, snap: bool, even: bool) -> None:
        self.corner = (x, y)
        self.path.append((x, y))
        self.refresh()

    def inside(self, points: np.ndarray) -> np.ndarray:
        """Which points (n, 3) are drawn inside."""
        if self.lasso:
            return inside_lasso(points, self.path, self.camera, self.size)
        return inside_box(points, self.start, self.corner, self.camera, self.size)

    def release(self) -> None:
        if not self.drawn:
            if not self.add:
                self.session.vertices = {}
                self.session.select("")
            return
        if self.vertices:
            self._take_vertices()
            return
        kind, ids, points = self.things
        inside = self.inside(points) if len(ids) else np.zeros(0, bool)
        chosen = [i for i, there in zip(ids, inside, strict=True) if there]
        self.session.select(kind, *chosen, add=self.add)

    def _take_vertices(self) -> None:
        frame, character = self.session.frame(), self.session.character
        if frame is None or character is None:
            return
        chosen = dict(self.session.vertices) if self.add else {}
        for part in self.session.shown_parts:
            inside = np.flatnonzero(self.inside(frame.points[part.id]))
            if len(inside):
                chosen[part.id] = np.union1d(chosen.get(part.id, np.zeros(0, dtype=np.int64)), inside)
        self.session.vertices = chosen
        self.session.selection_changed.emit()

    def cancel(self) -> None:
        self.refresh()


def handle_for(session: Session, camera: Camera, size: Size) -> tuple[HandleDrag, list[Control]] | None:
    """The handle of the selected controls, as a drag waiting for its start; None without one."""
    character, frame = session.character, session.frame()
    if character is None or character.rig is None or frame is None or session.selection.kind != "control":
        return None
    rig = character.rig
    controls = [rig.control(i) for i in session.selection.ids if i in rig.index]
    if not controls:
        return None
    lead = controls[-1]
    kind = handle_kind(session, lead)
    handle = make_handle(kind, frame.controls[rig.index[lead.id]], camera, size)
    return HandleDrag(handle, "", camera, size, (0.0, 0.0)), controls


def handle_kind(session: Session, control: Control) -> HandleKind:
    """The kind of handle: the tool's where the control can do it, else what it can do."""
    wanted = {"move": HandleKind.MOVE, "turn": HandleKind.TURN, "grow": HandleKind.GROW}.get(session.tool.value)
    can = {
        HandleKind.MOVE: "move_x" in control.free,
        HandleKind.TURN: "rotate_x" in control.free,
        HandleKind.GROW: SCALE in control.free,
    }
    if wanted is not None and can[wanted]:
        return wanted
    return HandleKind.MOVE if can[HandleKind.MOVE] else HandleKind.TURN


def axes_allowed(control: object, kind: HandleKind) -> str:
    """The axes of a control's handle that its free channels allow."""
    prefix = {HandleKind.MOVE: "move_", HandleKind.TURN: "rotate_"}.get(kind)
    if prefix is None:
        return "xyz"
    return "".join(a for a in "xyz" if prefix + a in control.free)
