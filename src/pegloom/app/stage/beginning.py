"""What a press of the left button on the stage begins."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.app.session import Area, Painting, Session, Tool
from pegloom.app.stage.drags import (
    BoxDrag,
    BrushDrag,
    ControlDrag,
    Drag,
    MiddleDrag,
    PointDrag,
    ReachDrag,
    SeamDrag,
    SelectDrag,
    TurnDrag,
    axes_allowed,
    handle_for,
    handle_kind,
)
from pegloom.app.stage.lens import AnyStroke
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import triangulate
from pegloom.document import edits
from pegloom.document.model import Character
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.handles import MOVE_SNAP, HandleDrag, grip_under, make_handle, on_view_plane
from pegloom.scene.picking import hit_surface, middle_of_surface, nearest_dot
from pegloom.scene.stroke import MaskStroke, Stroke


class Beginning:
    """The stage's hand: a part of `Stage`, which has the session, the camera and what is under the pointer."""

    session: Session
    camera: Camera
    size_in_points: tuple[int, int]
    stroke: AnyStroke
    painted: Stroke | None
    even_held: bool

    def _begin(self, x: float, y: float, shift: bool, ctrl: bool) -> Drag | None:
        session, size = self.session, self.size_in_points
        character = session.character
        if character is None:
            return None
        if self._seam_at(x):
            return SeamDrag(session, self.width())
        if self._reach_at(x, y):
            return ReachDrag(session, self.camera, size, (x, y))
        if session.area is Area.WEIGHTS and session.tool is Tool.SELECT:
            return SelectDrag(session, self._seeds, self._radius, shift or ctrl, take=ctrl)
        if session.area is Area.WEIGHTS and session.tool is Tool.BRUSH:
            return self._begin_stroke(character, x, y, ctrl)
        if session.area is Area.JOINTS and session.tool is Tool.DRAW:
            self._draw_joint(character, x, y, shift, ctrl)
            return None
        if session.area is Area.MESH and session.tool is Tool.TURN:
            return TurnDrag(session, (x, y))
        if self._middle_at(x, y):
            point = drawing.middle_line(character.standing.middle, character.height, self._depth(character)).mean(
                axis=0
            )
            return MiddleDrag(session, self.camera, size, point, (x, y))
        held = handle_for(session, self.camera, size) if self.pickable() == "control" else None
        frame = session.frame()
        if held is not None and frame is not None:
            drag, controls = held
            grip = grip_under(drag.handle, x, y, self.camera, size)
            allowed = axes_allowed(controls[-1], drag.handle.kind)
            if grip is not None and (grip == "view" or grip in allowed):
                return ControlDrag(session, controls, replace(drag, grip=grip, start=(x, y)), frame.controls)
        kind, found = self.thing_at(x, y)
        if found and kind != "part":
            if shift or found not in session.selection.ids or kind != session.selection.kind:
                session.select(kind, found, add=shift)
            return self._begin_thing(character, kind, found, x, y)
        if kind == "part" and session.area in (Area.MESH, Area.HANDOVER):
            session.select("part", found, add=shift)
            return None
        things = self._things(self.pickable())
        return BoxDrag(session, self.camera, size, (x, y), shift, things, session.area is Area.WEIGHTS, self.update)

    def _draw_joint(self, character: Character, x: float, y: float, shift: bool, ctrl: bool) -> None:
        """One click of the drawing tool: begin at a joint, or lay the next one."""
        session, size = self.session, self.size_in_points
        _, ids, points = self._things("joint")
        found = nearest_dot(points, x, y, self.camera, size)
        if found is not None and not shift:
            session.select("joint", ids[found])
            session.say(f"Drawing on from {character.skeleton.joint(ids[found]).name}")
            return
        ray = self.camera.ray(x, y, *size)
        place = None
        for part in session.shown_parts:
            triangles = triangulate(part.mesh).vertices
            if shift:
                hit = hit_surface(ray, part.mesh.points, triangles)
                option = None if hit is None else hit.point
            else:
                option = middle_of_surface(ray, part.mesh.points, triangles)
            if option is not None and (
                place is None or np.linalg.norm(option - ray.origin) < np.linalg.norm(place - ray.origin)
            ):
                place = option
        parent = session.selection.lead if session.selection.kind == "joint" else None
        if place is None:
            base = points[ids.index(parent)] if parent in ids else np.array(self.camera.target)
            place = on_view_plane(self.camera, base, x, y, size)
        if ctrl:
            place = np.round(place / MOVE_SNAP) * MOVE_SNAP
        if session.both_sides and abs(place[0]) < 0.015 * character.height:
            place = place * [0.0, 1.0, 1.0]
        made = ""

        def edit(document: object) -> object:
            nonlocal made
            a, b, c = (float(v) for v in place)
            document, made = edits.draw_joint(document, (a, b, c), parent=parent, both_sides=session.both_sides)
            return document

        if session.try_edit("Draw a joint", edit):
            session.select("joint", made)

    def _begin_thing(self, character: Character, kind: str, found: str, x: float, y: float) -> Drag | None:
        session, size = self.session, self.size_in_points
        both = session.both_sides
        if kind == "peg":
            point = np.array(character.pegs.by_name[found].position)
            name = f"Place {found}" + (" (both sides)" if both and found[:2] in ("l_", "r_") else "")
            return PointDrag(
                session, self.camera, size, point, (x, y),
                lambda d, p: edits.place_peg(d, found, p, both_sides=both), name,
            )  # fmt: skip
        if kind == "joint" and session.area is Area.JOINTS and session.tool is Tool.MOVE:
            point = np.array(character.skeleton.joint(found).position)
            name = f"Move {character.skeleton.joint(found).name}"
            return PointDrag(
                session, self.camera, size, point, (x, y),
                lambda d, p: edits.move_joint(d, found, p, both_sides=both, with_children=session.with_children), name,
            )  # fmt: skip
        if kind == "control":
            frame, rig = session.frame(), character.rig
            controls = [rig.control(i) for i in session.selection.ids if i in rig.index]
            if not controls:
                return None
            kind_ = handle_kind(session, rig.control(found))
            handle = make_handle(kind_, frame.controls[rig.index[found]], self.camera, size)
            return ControlDrag(session, controls, HandleDrag(handle, "view", self.camera, size, (x, y)), frame.controls)
        return None

    def _begin_stroke(self, character: Character, x: float, y: float, ctrl: bool) -> Drag | None:
        session = self.session
        hit = self.surface_at(x, y)
        if hit is None:
            return None
        weights = session.painting is Painting.WEIGHTS
        if weights and not session.influence:
            session.say("Take a joint first: click one in the view, or I picks the one under the pointer", error=True)
            return None
        part = hit[0]
        inside = session.vertices.get(part.id)
        both = session.both_sides
        try:
            if weights:
                self.stroke = Stroke(
                    character, part, session.influence, both_sides=both, locked=session.locked, inside=inside,
                    after=self.painted,
                )  # fmt: skip
                self.painted = None
            else:
                of = "dual" if session.painting is Painting.DUAL else "relax"
                self.stroke = MaskStroke(character, part, of, both_sides=both, inside=inside)
        except PegLoomError as error:
            session.say(str(error), error=True)
            return None
        drag = BrushDrag(session, self.stroke, self._seeds, self._facing, self.update)
        drag.move(x, y, snap=ctrl, even=self.even_held)
        return drag
