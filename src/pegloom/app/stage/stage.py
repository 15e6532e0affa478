"""The stage: an OpenGL widget that shows the session and turns mouse and keys into edits.

Mouse (one table, shown in Help):
    right drag                orbit
    middle, Shift+right drag  pan
    wheel                     zoom to the pointer
    Ctrl+wheel, Shift+wheel   brush size, brush strength
    left                      pick; drag pegs, joints, controls and handles; paint with the brush
    left, turning (T) in Mesh turn the figure about its upright; Ctrl by 15 degrees
    left on empty ground      a box, with Alt a lasso; Shift adds
    left with the brush       paint; held Ctrl takes away, held A evens out
    left, drawing joints (J)  lay a joint in the middle of the mesh; Shift on the skin, Ctrl on the grid
"""

from __future__ import annotations

from dataclasses import replace
from threading import Thread

import moderngl
import numpy as np
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QTabletEvent, QWheelEvent
from PyQt6.QtOpenGLWidgets import QOpenGLWidget
from PyQt6.QtWidgets import QWidget

from pegloom.app.session import Area, Session, Tool
from pegloom.app.stage.beginning import Beginning
from pegloom.app.stage.drags import (
    BoxDrag,
    BrushDrag,
    Drag,
    axes_allowed,
    handle_for,
)
from pegloom.app.stage.lens import AnyStroke, lens_key, lens_values
from pegloom.app.stage.pointing import Pointing
from pegloom.core.geometry.subdivide import Smoothed, catmull_clark, loop
from pegloom.core.memo import by_identity
from pegloom.core.rig.evaluate import skin_matrices
from pegloom.core.rig.pose import JointPose
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Image, Part, Subdivision
from pegloom.files.images import pixels
from pegloom.render.renderer import OTHER, Display, Look, Renderer
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.drawlist import DrawList
from pegloom.scene.handles import grip_under
from pegloom.scene.lenses import Lens
from pegloom.scene.picking import Hit
from pegloom.scene.stroke import Stroke, get_ready


class Stage(Pointing, Beginning, QOpenGLWidget):
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
        self._hit_of = None
        self._marks_for: tuple[list[object], tuple[object, ...]] | None = None
        self.painted: Stroke | None = None
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
        session.changed.connect(lambda *_: self._get_ready())
        session.view_changed.connect(self._get_ready)
        self._ready_for: object = None
        self._hover_timer = QTimer(self)
        self._hover_timer.setSingleShot(True)
        self._hover_timer.setInterval(12)
        self._hover_timer.timeout.connect(self._hover)

    def _get_ready(self) -> None:
        """With the brush in hand, what the next stroke begins with is worked out while nothing is pressed."""
        character = self.session.character
        if self.session.tool is not Tool.BRUSH or self.drag is not None or character is None or character.skin is None:
            return
        if self._ready_for is not character.skin:
            self._ready_for = character.skin
            stroke = self.stroke if isinstance(self.stroke, Stroke) else self.painted
            made = stroke.made if stroke is not None else None
            Thread(target=get_ready, args=(character,), kwargs={"apart_from": made}, daemon=True).start()

    # Drawing

    def update(self) -> None:
        """Ask for a frame; what lies over the stage is painted in the same pass, not in one more."""
        super().update()
        if self.companion is not None:
            self.companion.update()

    @property
    def size_in_points(self) -> tuple[int, int]:
        return max(self.width(), 1), max(self.height(), 1)

    @property
    def mesh_hidden(self) -> bool:
        """Whether only the skeleton and its controls are looked at; where the mesh is worked on it always shows."""
        return "mesh" in self.session.hidden and self.session.area not in (Area.MESH, Area.WEIGHTS)

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
        if character is not None and frame is not None and not self.mesh_hidden:
            shown = {part.id for part in session.shown_parts}
            other, other_frame = session.other, session.other_frame()
            if other is not None:
                shown |= {part.id + OTHER for part in session.shown_parts}
            renderer.keep_parts(shown)
            for part in session.shown_parts:
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
        if not self._marks_stand(character, frame):
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

    def _marks_stand(self, character: Character | None, frame: PosedFrame | None) -> bool:
        """Whether the marks on the card are still those wanted: in Weights they stay while one orbits or paints."""
        s = self.session
        things = [character, frame, *s.vertices.values()]
        told = (s.clean_view, s.selection, self.hovered, s.hidden, s.influence, s.reach_shown, tuple(s.vertices))
        held, self._marks_for = self._marks_for, (things, told) if s.area is Area.WEIGHTS else None
        if held is None or self._marks_for is None or len(held[0]) != len(things):
            return False
        return held[1] == told and all(a is b for a, b in zip(held[0], things, strict=True))

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
        posing = session.area in (Area.CONTROLS, Area.MOTION) and not session.playing and not isinstance(session.shown_pose, JointPose)
        if posing and character.rig is not None and "controls" not in shown:
            drawing.draw_controls(draw, character.rig, frame.controls, character.pose, marks)
            held = handle_for(session, self.camera, self.size_in_points)
            if held is not None:
                drag, controls = held
                allowed = axes_allowed(controls[-1], drag.handle.kind)
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

    @property
    def _radius(self) -> float:
        return self.session.brush.radius * self.session.character.height

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
        self.painted = self.stroke if isinstance(self.stroke, Stroke) and self.stroke.made is not None else None
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
        self.pointed.emit("")
        self.update()

    def look_again(self) -> None:
        """What lies under the pointer may be another thing now."""
        self._hover_timer.start()

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
        if self.drag is not None:
            return
        if self.pointer is None:
            self.pointed.emit("")
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


@by_identity
def smoothed(part: Part) -> Smoothed:
    """A part's cage smoothed as it asks; the topology is worked out once, points follow by one product."""
    return (catmull_clark if part.smooth is Subdivision.CATMULL_CLARK else loop)(part.mesh, part.levels)
