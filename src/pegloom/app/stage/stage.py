"""The stage: an OpenGL widget that shows the session and turns mouse and keys into edits.

Mouse (one table, shown in Help):
    right drag                orbit
    middle, Shift+right drag  pan
    wheel                     zoom to the pointer
    Ctrl+wheel, Shift+wheel   brush size, brush strength
    left                      pick; drag pegs, joints, controls and handles; paint with the brush
    left, turning (T) in Mesh turn the figure about its upright; Ctrl by 15 degrees
    left on empty ground      a box, with Alt a lasso; Shift adds
    left, drawing joints (J)  lay a joint in the middle of the mesh; Shift on the skin, Ctrl on the grid
"""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QPoint, QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QTabletEvent, QWheelEvent
from PyQt6.QtOpenGLWidgets import QOpenGLWidget
from PyQt6.QtWidgets import QWidget

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
    handle_for,
    handle_kind,
)
from pegloom.app.stage.lens import AnyStroke, difference, lens_key, lens_values
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import place_edges, triangulate, weld
from pegloom.core.geometry.subdivide import Smoothed, catmull_clark, loop
from pegloom.core.memo import by_identity
from pegloom.core.rig.evaluate import skin_matrices
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.skin.measures import edge_stretch
from pegloom.document import edits
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Image, Part, Subdivision
from pegloom.files.images import pixels
from pegloom.render.renderer import OTHER, Display, Look, Renderer
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.drawlist import DrawList
from pegloom.scene.handles import MOVE_SNAP, HandleDrag, HandleKind, grip_under, make_handle, on_view_plane
from pegloom.scene.lenses import Lens
from pegloom.scene.picking import NEAR_ENOUGH, Hit, all_hits, hit_surface, line_distance, middle_of_surface, nearest_dot
from pegloom.scene.stroke import MaskStroke, Stroke


class Stage(QOpenGLWidget):
    """See the module."""

    pointed = pyqtSignal(str)
    """What is under the pointer, in words."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("stage")
        self.setAccessibleName("Stage: the 3D view")
        self.session = session
        self.camera = Camera()
        self.renderer: Renderer | None = None
        self.companion: QWidget | None = None
        self.drag: Drag | None = None
        self.turning: str = ""
        self.last = QPointF()
        self.hovered = ""
        self.grip = ""
        self.even_held = False
        self.pointer: tuple[float, float] | None = None
        self.brush_hit: tuple[Part, Hit] | None = None
        self.stroke: AnyStroke = None
        self._ground_for: object = None
        self._framed: object | None = None
        self._matrices_of: object | None = None
        self._held_matrices: np.ndarray = np.zeros((0, 4, 4))
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 240)
        session.changed.connect(self._document_changed)
        session.selection_changed.connect(self.update)
        session.view_changed.connect(self.update)
        session.time_changed.connect(self.update)
        self._hover_timer = QTimer(self)
        self._hover_timer.setSingleShot(True)
        self._hover_timer.setInterval(12)
        self._hover_timer.timeout.connect(self._hover)

    # Drawing

    def update(self) -> None:
        """Ask for a frame; what lies over the stage is painted in the same pass, not in one more."""
        super().update()
        if self.companion is not None:
            self.companion.update()

    @property
    def size_in_points(self) -> tuple[int, int]:
        return max(self.width(), 1), max(self.height(), 1)

    def initializeGL(self) -> None:
        self.renderer = Renderer()

    def paintGL(self) -> None:
        renderer, session = self.renderer, self.session
        if renderer is None:
            return
        ratio = self.devicePixelRatioF()
        size = (int(self.width() * ratio), int(self.height() * ratio))
        character, frame = session.character, session.frame()
        looks: dict[str, list[Look]] = {}
        height = character.height if character else 1.7
        wanted = (height, "ground" in session.hidden, id(session.ghost), session.area is Area.MESH)
        if self._ground_for != wanted:
            ground = DrawList()
            if "ground" not in session.hidden:
                drawing.draw_ground(ground, height)
            renderer.set_lines("behind", ground.behind.packed())
            ghost = DrawList()
            if session.ghost is not None and session.area is Area.MESH:
                drawing.draw_ghost(ghost, session.ghost)
            renderer.set_lines("ghost", ghost.behind.packed())
            self._ground_for = wanted
        if character is not None and frame is not None:
            shown = {part.id for part in character.included}
            other, other_frame = session.other, session.other_frame()
            if other is not None:
                shown |= {part.id + OTHER for part in character.included}
            renderer.keep_parts(shown)
            for part in character.included:
                points = frame.points[part.id]
                if self.stroke is not None and self.stroke.part.id == part.id and character.skeleton is not None:
                    points = self.stroke.points(self._matrices(character, frame))
                self._send_part(character, part, part.id, frame, points, self.stroke)
                if other is not None and other_frame is not None:
                    self._send_part(other, part, part.id + OTHER, other_frame, other_frame.points[part.id], None)
            looks = self._looks(character)
        else:
            renderer.keep_parts(set())
        renderer.set_boards(self._boards(character))
        renderer.set_draw_list(self._marks(character))
        mode = {Lens.NONE: 0, Lens.INFLUENCE: 1}.get(session.lens, 2)
        if character is None or character.skin is None:
            mode = 0
        # Qt draws into a framebuffer of its own, which must be found anew each frame.
        target = renderer.gl.detect_framebuffer()
        renderer.frame(
            self.camera, size, looks, display=session.display,
            wire_over=session.wire_over, lens_mode=mode, framebuffer=target,
            seam=session.seam if session.other is not None else None,
        )  # fmt: skip
        renderer.gl.disable(moderngl.DEPTH_TEST)

    def _looks(self, character: Character) -> dict[str, list[Look]]:
        looks = []
        images = {image.name: image for image in character.images}
        for material in character.materials:
            key = None
            image = images.get(material.base_image or "")
            if image is not None and self.session.display is Display.TEXTURED:
                key = f"{id(image)}"
                if key not in self.renderer.pictures:
                    self.renderer.set_picture(key, pixels(image))
            r, g, b, a = material.base_colour
            looks.append(Look((r, g, b), a if material.see_through else 1.0, 1.0 - material.roughness, key))
        return {key: looks for part in character.included for key in (part.id, part.id + OTHER)}

    def _boards(self, character: Character | None) -> list[tuple[str, np.ndarray, float]]:
        """Reference pictures that face the way the camera looks."""
        made = []
        for reference in character.references if character else ():
            facing = {"x": self.camera.backward[0], "y": self.camera.backward[1], "z": self.camera.backward[2]}
            if abs(facing[reference.along]) < 0.5 or self.session.area is Area.HANDOVER:
                continue
            key = f"board {id(reference.image)}"
            if key not in self.renderer.pictures:
                self.renderer.set_picture(key, pixels(reference.image))
            wide, tall = self.renderer.pictures[key].size
            half = np.array([reference.height * wide / max(tall, 1), reference.height]) / 2
            right, up = {"x": ([0, 0, -1], [0, 1, 0]), "y": ([1, 0, 0], [0, 0, -1]), "z": ([1, 0, 0], [0, 1, 0])}[
                reference.along
            ]
            sign = -1.0 if facing[reference.along] < 0 else 1.0
            a, b = np.array(right) * half[0] * sign, np.array(up) * half[1]
            depth = 0.75 * character.height * np.array([reference.along == c for c in "xyz"]) * -sign
            c = np.array(reference.centre) + depth
            made.append((key, np.array([c - a - b, c + a - b, c + a + b, c - a + b]), reference.alpha))
        return made

    def _send_part(
        self, character: Character, part: Part, key: str, frame: PosedFrame, points: np.ndarray, stroke: AnyStroke
    ) -> None:
        """A part's points and lens to the card, smoothed where it is a cage."""
        fine = smoothed(part) if part.smooth is not Subdivision.NONE else None
        if fine is not None:
            self.renderer.show_part(key, fine.mesh, fine.matrix @ points)
        else:
            self.renderer.show_part(key, part.mesh, points)
        if self.session.lens is Lens.NONE:
            return
        told = lens_key(self.session, character, stroke, part, frame)
        if fine is None and self.renderer.surfaces[key].lens_from is told:
            return
        values = lens_values(self.session, character, stroke, part, frame, points)
        self.renderer.set_lens(
            key, values if fine is None else fine.matrix @ values, told if fine is None else object()
        )

    def _marks(self, character: Character | None) -> DrawList:
        draw = DrawList()
        session, frame = self.session, self.session.frame()
        if character is None or frame is None or session.clean_view:
            return draw
        wide = max(
            (float(np.abs(p.mesh.points[:, 0]).max()) for p in character.included if len(p.mesh.points)), default=0.5
        )
        drawing.draw_stick(draw, character.height, wide + 0.12 * character.height)
        marks = drawing.Marks(frozenset(session.selection.ids), self.hovered)
        if session.area is Area.MESH and session.middle_shown and character.standing is not None:
            drawing.draw_middle(
                draw, character.standing.middle, character.height, self._depth(character), self.hovered == "middle"
            )
        shown = session.hidden
        if session.area in (Area.JOINTS, Area.WEIGHTS) and character.skeleton is not None and "joints" not in shown:
            faint = session.area is Area.JOINTS and character.pegs is not None
            drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks, alpha=0.55 if faint else 0.95)
        if session.area is Area.JOINTS and character.pegs is not None and character.skeleton is not None:
            drawing.draw_plaques(draw, character.pegs, character.skeleton, character.height)
        if session.area is Area.JOINTS and session.moves:
            drawing.draw_moves(draw, session.moves)
        if session.area is Area.JOINTS and character.pegs is not None and "pegs" not in shown:
            drawing.draw_pegs(draw, character.pegs, marks, character.height)
        posing = session.area in (Area.CONTROLS, Area.MOTION) and not session.playing and not session.shown_pose.direct
        if posing and character.rig is not None and "controls" not in shown:
            drawing.draw_controls(draw, character.rig, frame.controls, character.pose, marks)
            held = handle_for(session, self.camera, self.size_in_points)
            if held is not None:
                drag, controls = held
                allowed = _axes_allowed(controls[-1], drag.handle.kind)
                drawing.draw_handle(draw, drag.handle, self.camera, self.grip, allowed)
        lines = session.reach()
        if lines:
            side = character.skeleton.joint(session.influence).side
            drawing.draw_reach(draw, lines, side, held=self.hovered == "reach")
        if session.area is Area.WEIGHTS:
            for part_id, chosen in session.vertices.items():
                points = frame.points.get(part_id)
                if points is None:
                    continue
                many = len(chosen) > 600
                for vertex in chosen[:: max(len(chosen) // 2500, 1)]:
                    # Of many only a fine grain, so that what the lens shows is not hidden.
                    draw.dots.add(points[vertex], drawing.LINEN, 1.2 if many else 2.2, alpha=0.5 if many else 0.9)
        return draw

    def _matrices(self, character: Character, frame: object) -> np.ndarray:
        """Skin matrices of the shown frame, the same object as long as the frame stays."""
        if self._matrices_of is not frame:
            self._matrices_of, self._held_matrices = frame, skin_matrices(character.skeleton, frame.joints)
        return self._held_matrices

    @staticmethod
    def _depth(character: Character) -> float:
        points = character.all_points()
        return float(points[:, 2].max()) + 0.02 * character.height if len(points) else 0.3

    def small_picture(self) -> Image:
        """What the stage shows, cut to a small PNG."""
        whole = self.grabFramebuffer()
        side = min(whole.width() * 3 // 4, whole.height())
        wide, tall = side * 4 // 3, side
        cut = whole.copy((whole.width() - wide) // 2, (whole.height() - tall) // 2, wide, tall)
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        smooth = Qt.TransformationMode.SmoothTransformation
        cut.scaled(144, 108, Qt.AspectRatioMode.IgnoreAspectRatio, smooth).save(buffer, "PNG")
        return Image("trial", "image/png", bytes(data))

    # Camera

    def show_all(self) -> None:
        """Everything in sight."""
        points = self._all_points()
        if len(points):
            # Room above for the chips.
            low, high = points.min(axis=0), points.max(axis=0)
            points = np.concatenate(
                [points, [(low + high) / 2 * [1, 0, 1] + [0, high[1] + 0.07 * (high[1] - low[1]), 0]]]
            )
        self.camera = self.camera.framing(points, aspect=self.width() / max(self.height(), 1))
        self.update()

    def show_selection(self) -> None:
        """Centre on what is selected, or on all."""
        points = self._selected_points()
        if len(points) == 0:
            self.show_all()
            return
        camera = self.camera.framing(points, aspect=self.width() / max(self.height(), 1))
        character = self.session.character
        nearest = 0.45 * (character.height if character else 1.0)
        self.camera = replace(camera, distance=max(camera.distance, nearest))
        self.update()

    def show_point(self, point: np.ndarray) -> None:
        """Centre on a place in space."""
        x, y, z = (float(v) for v in point)
        self.camera = replace(self.camera, target=(x, y, z), distance=0.8 * (self.session.character.height))
        self.update()

    def look_along(self, axis: str) -> None:
        self.camera = self.camera.along(axis)
        self.update()

    def toggle_perspective(self) -> None:
        self.camera = replace(self.camera, perspective=not self.camera.perspective)
        self.update()

    def _all_points(self) -> np.ndarray:
        frame = self.session.frame()
        if frame is None or not frame.points:
            return np.array([[-0.9, 0, -0.3], [0.9, 1.7, 0.3]])
        return np.concatenate(list(frame.points.values()))

    def _selected_points(self) -> np.ndarray:
        _, ids, points = self._things(self.session.selection.kind)
        chosen = [p for i, p in zip(ids, points, strict=True) if i in self.session.selection.ids]
        frame = self.session.frame()
        if not chosen and self.session.vertices and frame is not None:
            return np.concatenate([frame.points[p][v] for p, v in self.session.vertices.items() if p in frame.points])
        return np.array(chosen).reshape(-1, 3)

    def _document_changed(self, old: object, new: object) -> None:
        character = self.session.character
        parts = character.parts if character else None
        ids = tuple(id(p.mesh) for p in parts) if parts else None
        if character is not None and ids != self._framed and self.session.drag_free:
            first = self._framed is None
            self._framed = ids
            if first or self.session.area is Area.MESH:
                QTimer.singleShot(0, self.show_all)
        self.update()

    # What is where

    def _things(self, kind: str) -> tuple[str, list[str], np.ndarray]:
        character, frame = self.session.character, self.session.frame()
        none = (kind, [], np.zeros((0, 3)))
        if character is None or frame is None:
            return none
        if kind == "peg" and character.pegs is not None:
            return kind, [p.name for p in character.pegs.pegs], np.array([p.position for p in character.pegs.pegs])
        if kind == "joint" and character.skeleton is not None:
            return kind, [j.id for j in character.skeleton.joints], frame.joints[:, :3, 3]
        if kind == "control" and character.rig is not None:
            return kind, [c.id for c in character.rig.controls], frame.controls[:, :3, 3]
        return none

    def pickable(self) -> str:
        """The kind of thing a click picks in this area."""
        character = self.session.character
        if character is None:
            return ""
        hidden = self.session.hidden
        if self.session.area is Area.JOINTS:
            return (
                "peg"
                if character.pegs is not None and "pegs" not in hidden
                else "joint"
                if "joints" not in hidden
                else ""
            )
        if self.session.area is Area.WEIGHTS:
            return "joint" if "joints" not in hidden else ""
        if self.session.area in (Area.CONTROLS, Area.MOTION):
            return "control" if "controls" not in hidden else ""
        return "part"

    def thing_at(self, x: float, y: float) -> tuple[str, str]:
        """(kind, id) under a pixel, ("", "") for nothing. Joints and pegs are found through the mesh."""
        kind = self.pickable()
        size = self.size_in_points
        if kind in ("peg", "joint"):
            for option in dict.fromkeys([kind, *(["joint"] if "joints" not in self.session.hidden else [])]):
                _, ids, points = self._things(option)
                found = nearest_dot(points, x, y, self.camera, size)
                if found is not None:
                    return option, ids[found]
            return "", ""
        character, frame = self.session.character, self.session.frame()
        if kind == "control" and character.rig is not None and frame is not None:
            dim = drawing.out_of_use(character.rig, character.pose)
            best = (NEAR_ENOUGH * 0.75, "")
            for i, control in enumerate(character.rig.controls):
                extra = 3.0 if control.id in dim else 0.0
                for line in shape_lines(control):
                    world = line @ frame.controls[i][:3, :3].T + frame.controls[i][:3, 3]
                    best = min(best, (line_distance(world, x, y, self.camera, size) + extra, control.id))
            if best[1]:
                return "control", best[1]
            return "", ""
        if kind != "part":
            return "", ""
        hit = self.surface_at(x, y)
        return ("part", hit[0].id) if hit else ("", "")

    def surface_at(self, x: float, y: float) -> tuple[Part, Hit] | None:
        """The nearest part under a pixel."""
        character, frame = self.session.character, self.session.frame()
        if character is None or frame is None:
            return None
        ray = self.camera.ray(x, y, *self.size_in_points)
        best: tuple[Part, Hit] | None = None
        for part in character.included:
            hit = hit_surface(ray, frame.points[part.id], triangulate(part.mesh).vertices)
            if hit is not None and (best is None or hit.distance < best[1].distance):
                best = (part, hit)
        return best

    # Mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self.last = event.position()
        x, y = self.last.x(), self.last.y()
        button, shift = event.button(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if self.drag is not None:
            return
        if button == Qt.MouseButton.MiddleButton or (button == Qt.MouseButton.RightButton and shift):
            self.turning = "pan"
        elif button == Qt.MouseButton.RightButton:
            self.turning = "orbit"
        elif button == Qt.MouseButton.LeftButton:
            ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.drag = self._begin(x, y, shift, ctrl)
            if isinstance(self.drag, BoxDrag):
                self.drag.lasso = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self.session.drag_free = self.drag is None

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
            allowed = _axes_allowed(controls[-1], drag.handle.kind)
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

    def _middle_at(self, x: float, y: float) -> bool:
        session, character = self.session, self.session.character
        if session.area is not Area.MESH or not session.middle_shown or character is None or character.standing is None:
            return False
        line = drawing.middle_line(character.standing.middle, character.height, self._depth(character))
        return line_distance(line, x, y, self.camera, self.size_in_points) < NEAR_ENOUGH

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
        for part in character.included:
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
                    character, part, session.influence, both_sides=both, locked=session.locked, inside=inside
                )
            else:
                of = "dual" if session.painting is Painting.DUAL else "relax"
                self.stroke = MaskStroke(character, part, of, both_sides=both, inside=inside)
        except PegLoomError as error:
            session.say(str(error), error=True)
            return None
        drag = BrushDrag(session, self.stroke, self._seeds, self._facing, self.update)
        drag.move(x, y, snap=ctrl, even=self.even_held)
        return drag

    def _seam_at(self, x: float) -> bool:
        return self.session.other is not None and abs(x - self.session.seam * self.width()) < 7

    def _reach_at(self, x: float, y: float) -> bool:
        """Whether the drawn reach is under a pixel; the brush paints through it."""
        if self.session.tool in (Tool.BRUSH, Tool.SELECT):
            return False
        return any(line_distance(line, x, y, self.camera, self.size_in_points) < 6 for line in self.session.reach())

    @property
    def _radius(self) -> float:
        return self.session.brush.radius * self.session.character.height

    def _seeds(self, x: float, y: float) -> list[tuple[Part, np.ndarray]]:
        """Parts and vertices of the triangles under a pixel: the nearest, or with Through every layer."""
        found = self.surface_at(x, y)
        if found is None:
            return []
        part, hit = found
        triangles = triangulate(part.mesh).vertices
        seeds = [(part, triangles[hit.triangle])]
        if self.session.brush.through:
            ray = self.camera.ray(x, y, *self.size_in_points)
            points = self.session.frame().points[part.id]
            seeds = [(part, triangles[k]) for k in all_hits(ray, points, triangles)] or seeds
        return seeds

    def _facing(self, part: Part) -> np.ndarray | None:
        """Which vertices (n,) may be painted: with Front only, those turned to the eye."""
        brush = self.session.brush
        if not brush.front or brush.through:
            return None
        surface = self.renderer.surfaces.get(part.id) if self.renderer is not None else None
        if surface is None or len(surface.normals) != part.mesh.vertex_count:
            return None
        points = self.session.frame().points[part.id]
        to_eye = (
            self.camera.eye - points if self.camera.perspective else np.broadcast_to(self.camera.backward, points.shape)
        )
        # A little past the edge counts, so that a stroke along the outline is not broken.
        return np.einsum("nd,nd->n", surface.normals, to_eye) > -0.2 * np.linalg.norm(to_eye, axis=1)

    def tabletEvent(self, event: QTabletEvent) -> None:
        """A pen's pressure; the rest of the event goes on as a mouse's."""
        down = event.buttons() != Qt.MouseButton.NoButton
        self.session.pressure = float(event.pressure()) if down and event.pressure() > 0 else 1.0
        event.ignore()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        here = event.position()
        dx, dy = here.x() - self.last.x(), here.y() - self.last.y()
        self.last = here
        self.pointer = (here.x(), here.y())
        if self.turning == "orbit":
            self.camera = self.camera.orbit(dx, dy)
            self.update()
        elif self.turning == "pan":
            self.camera = self.camera.pan(dx, dy, self.height())
            self.update()
        elif self.drag is not None:
            ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.drag.move(here.x(), here.y(), snap=ctrl, even=self.even_held)
            if isinstance(self.drag, BrushDrag):
                self.brush_hit = self.surface_at(here.x(), here.y())
        else:
            self._hover_timer.start()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.turning = ""
        drag, self.drag = self.drag, None
        self.session.drag_free = True
        if drag is not None and event.button() == Qt.MouseButton.LeftButton:
            drag.release()
        self.stroke = None
        self.update()

    def cancel_drag(self) -> bool:
        """Drop the drag under way, if there is one (Esc)."""
        if self.drag is None:
            return False
        drag, self.drag = self.drag, None
        self.stroke = None
        self.session.drag_free = True
        drag.cancel()
        self.update()
        return True

    def leaveEvent(self, event: object) -> None:
        self.pointer, self.hovered, self.brush_hit = None, "", None
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = (event.angleDelta().y() or event.angleDelta().x()) / 120
        here, brush = event.position(), self.session.brush
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.session.set_view(brush=replace(brush, radius=float(np.clip(brush.radius * 1.12**steps, 0.003, 0.5))))
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            strength = float(np.clip(brush.strength + 0.05 * steps, 0.05, 1.0))
            self.session.set_view(brush=replace(brush, strength=strength))
        else:
            self.camera = self.camera.zoom(steps, here.x(), here.y(), *self.size_in_points)
        self.update()

    def _hover(self) -> None:
        if self.pointer is None or self.drag is not None:
            return
        x, y = self.pointer
        kind, found = ("", "")
        self.brush_hit = None
        self.setCursor(Qt.CursorShape.SplitHCursor if self._seam_at(x) else Qt.CursorShape.ArrowCursor)
        if self.session.area is Area.WEIGHTS:
            self.brush_hit = self.surface_at(x, y)
        if self.session.tool not in (Tool.BRUSH, Tool.SELECT):
            kind, found = self.thing_at(x, y) if self.pickable() != "part" else ("", "")
        if self._middle_at(x, y):
            found = "middle"
        elif not found and self._reach_at(x, y):
            found = "reach"
        grip = ""
        held = handle_for(self.session, self.camera, self.size_in_points) if self.pickable() == "control" else None
        if held is not None:
            grip = grip_under(held[0].handle, x, y, self.camera, self.size_in_points) or ""
        words = self._words(kind, found)
        changed = (found, grip) != (self.hovered, self.grip)
        self.hovered, self.grip = found, grip
        self.pointed.emit(words)
        if changed or self.session.tool in (Tool.BRUSH, Tool.SELECT):
            self.update()

    def _words(self, kind: str, found: str) -> str:
        character = self.session.character
        if self.pointer is not None and self._seam_at(self.pointer[0]):
            return "The seam: drag it to compare"
        if found == "reach":
            factor = character.reaches.get(self.session.influence, 1.0)
            return f"Reach of {character.skeleton.joint(self.session.influence).name}: {factor:.2f}, {100 * self.session.reach_radius:.1f} cm; drag it"
        if self.brush_hit is not None and character is not None and character.skin is not None:
            part, hit = self.brush_hit
            weights = character.skin.weights.get(part.id)
            if weights is not None and character.skeleton is not None:
                tri = triangulate(part.mesh).vertices[hit.triangle]
                vertex = int(
                    tri[np.argmin(np.linalg.norm(self.session.frame().points[part.id][tri] - hit.point, axis=1))]
                )
                row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
                pairs = sorted(zip(weights.values[row], weights.indices[row], strict=True), reverse=True)
                listed = ", ".join(
                    f"{character.skeleton.joint(weights.joint_ids[j]).name} {w:.2f}" for w, j in pairs[:4]
                )
                return f"vertex {vertex}: {listed}{self._lens_words(part, vertex)}"
        if kind == "control":
            control = character.rig.control(found)
            limb = character.rig.limb_of(found)
            if found in drawing.out_of_use(character.rig, character.pose) and limb is not None:
                side = "IK" if found in limb.fk else "FK"
                return f"{control.name}: out of use while this limb is on {side}; move its blend slider"
            return control.name
        if kind == "joint":
            return character.skeleton.joint(found).name
        if found == "middle":
            return "The centre line: drag it"
        return found.replace("_", " ") if kind == "peg" else ""

    def _lens_words(self, part: Part, vertex: int) -> str:
        """What the lens in hand says of one vertex, as a number."""
        session = self.session
        if session.lens is Lens.DIFFERENCE:
            found = difference(session, part.id)
            if found is None:
                return ""
            values, _, metres = found
            return f"; apart {1000 * values[vertex]:.1f} mm" if metres else f"; apart {values[vertex]:.2f} of weight"
        points = session.frame().points[part.id]
        if session.lens is Lens.STRAIN:
            g = weld(part.mesh)
            place = g.group[vertex]
            edges = place_edges(part.mesh)
            mine = edges[(edges == place).any(axis=1)]
            if len(mine):
                ratio = edge_stretch(part.mesh.points[g.first], points[g.first], mine)
                return f"; edges {ratio.min():.2f} to {ratio.max():.2f} of rest"
        return ""

    def influence_at_pointer(self) -> str:
        """The strongest joint of the vertex under the pointer, "" for none."""
        character = self.session.character
        if self.pointer is None or character is None or character.skin is None:
            return ""
        hit = self.surface_at(*self.pointer)
        if hit is None or hit[0].id not in character.skin.weights:
            return ""
        weights = character.skin.weights[hit[0].id]
        vertex = int(triangulate(hit[0].mesh).vertices[hit[1].triangle][0])
        row = slice(weights.indptr[vertex], weights.indptr[vertex + 1])
        return weights.joint_ids[int(weights.indices[row][int(np.argmax(weights.values[row]))])]

    def lead_pixel(self) -> QPoint | None:
        """Where the leading selected thing is drawn."""
        _, ids, points = self._things(self.session.selection.kind)
        lead = self.session.selection.lead
        if lead not in ids:
            return None
        x, y, depth = self.camera.project(points[ids.index(lead)], *self.size_in_points)[0]
        return QPoint(int(x), int(y)) if depth > 0 else None


@by_identity
def smoothed(part: Part) -> Smoothed:
    """A part's cage smoothed as it asks; the topology is worked out once, points follow by one product."""
    return (catmull_clark if part.smooth is Subdivision.CATMULL_CLARK else loop)(part.mesh, part.levels)


def _axes_allowed(control: object, kind: HandleKind) -> str:
    prefix = {HandleKind.MOVE: "move_", HandleKind.TURN: "turn_"}.get(kind)
    if prefix is None:
        return "xyz"
    return "".join(a for a in "xyz" if prefix + a in control.free)
