"""The view: an OpenGL widget that shows the state and hands mouse and keys to the camera and to tools."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
from PyQt6.QtCore import QBuffer, QByteArray, QEvent, QIODevice, QPoint, QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QTabletEvent, QWheelEvent
from PyQt6.QtOpenGLWidgets import QOpenGLWidget
from PyQt6.QtWidgets import QWidget

from pegloom.app.context import Context
from pegloom.app.stage.buffers import Buffers
from pegloom.app.stage.camera_control import CameraControl
from pegloom.app.stage.drags.handle import grip_at
from pegloom.app.stage.picker import Picker, facing_of
from pegloom.app.stage.tools import AnyStroke, Drag, Pointer, StageTool
from pegloom.app.stage.words import words_of
from pegloom.app.state.state import MarkSettings, Selection, State
from pegloom.app.widgets.panel import same
from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.skin.weights import Weights
from pegloom.document.model import Image, Part
from pegloom.render.finer import MOST, SPREAD
from pegloom.render.renderer import Look, Renderer
from pegloom.scene import drawing
from pegloom.scene.camera import Camera
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import Lens
from pegloom.scene.picking import Hit
from pegloom.scene.stroke import Facing, Stroke

STAGE_TABLE = (
    ("right drag", "orbit"),
    ("middle, Shift+right drag", "pan"),
    ("wheel", "zoom to the pointer"),
    ("Ctrl+wheel, Shift+wheel", "brush size, brush strength"),
    ("left", "pick; drag pegs, joints, controls and handles; paint with the brush"),
    ("double click on another figure", "take it in hand"),
    ("left, placing figures", "drag them on the ground; Shift turns, Ctrl in steps"),
    ("left, rotating (R) in Mesh", "rotate the figure about its upright; Ctrl by 15 degrees"),
    ("left on empty ground", "a box, with Alt a lasso; Shift adds"),
    ("left with the brush", "paint; held Ctrl takes away, held A evens out"),
    ("left, drawing joints (J)", "lay a joint in the middle of the mesh; Shift on the skin, Ctrl on the grid"),
)
"""What mouse and held keys do in the view."""
SETTLED = 350
"""Milliseconds without a change after which a view is one to go back to."""

CLOSE = 1.03
"""How much more than the figure is shown when all of it is."""
STILL = 140
"""Milliseconds without a change after which the view is drawn finer."""
NEXT_FRAME = 15
"""Milliseconds until the next frame where something moves by itself."""
ROOM = 24
"""Pixels from the view's edge within which a joint counts as out of sight."""


class Stage(QOpenGLWidget):
    """See the module. What an area's tools, marks and painters may use of it is in `tools.StageView`."""

    pointed = pyqtSignal(str)
    """What is under the pointer, in words."""

    def __init__(self, c: Context, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("stage")
        self.setAccessibleName("The 3D view")
        self.c = c
        self.cameras = CameraControl(c.store, self._camera_changed)
        self.cameras.placed = lambda: c.frames.placed
        self.picker = Picker(c)
        self.buffers = Buffers(c)
        self.renderer: Renderer | None = None
        self.companion: QWidget | None = None
        self.drag: Drag | None = None
        self.turning = ""
        self.last = QPointF()
        self.hovered = ""
        self.grip = ""
        self.even_held = False
        self.pointer: tuple[float, float] | None = None
        self.brush_hit: tuple[Part, Hit] | None = None
        self.stroke: AnyStroke = None
        self.painted: Stroke | None = None
        self._marks_for: tuple[object, ...] | None = None
        self._all: Camera | None = None
        """The camera as it was put when all was last shown."""
        self.margins = (60, 40)
        """Pixels above and below that what lies over the view takes."""
        self._roomy: tuple[Camera, Camera] | None = None
        self.passes = MOST
        self._pass = 0
        self._still = QTimer(self)
        self._still.setSingleShot(True)
        self._still.setInterval(STILL)
        self._still.timeout.connect(self._finer)
        self._then = QTimer(self)
        self._then.setSingleShot(True)
        self._then.setInterval(0)
        self._then.timeout.connect(self._finer)
        self._framed: tuple[int, ...] | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 240)
        c.store.changed.connect(self._state_changed)
        c.store.leaving.connect(self.cameras.forget)
        self._hover_timer = QTimer(self)
        self._hover_timer.setSingleShot(True)
        self._hover_timer.setInterval(12)
        self._hover_timer.timeout.connect(self._hover)
        self._settle_timer = QTimer(self)
        self._settle_timer.setSingleShot(True)
        self._settle_timer.setInterval(SETTLED)
        self._settle_timer.timeout.connect(self.cameras.settle)

    # What tools, marks and painters may ask

    @property
    def camera(self) -> Camera:
        return self.cameras.present

    @camera.setter
    def camera(self, camera: Camera) -> None:
        self.cameras.take(camera)

    @property
    def size_in_points(self) -> tuple[int, int]:
        return max(self.width(), 1), max(self.height(), 1)

    @property
    def mesh_hidden(self) -> bool:
        """Whether only the skeleton and its controls are looked at; where the mesh is worked on it always shows."""
        return "mesh" in self.c.state.viewing.hidden and not self.c.area.mesh_always

    def pickable(self) -> str:
        """The kind of thing a press picks first."""
        return next(iter(self.picker.kinds()), "")

    def things(self, kind: str) -> tuple[list[str], FloatArray]:
        return self.picker.things(kind)

    def thing_at(self, x: float, y: float) -> tuple[str, str]:
        return self.picker.thing_at(x, y, self.camera, self.size_in_points, mesh=not self.mesh_hidden)

    @property
    def _instead(self) -> tuple[str, FloatArray] | None:
        """The stroke's own surface: a brush is led along what it has made, not along what was there before."""
        stroke, character, frame = self.stroke, self.c.state.character, self.c.frames.frame()
        if stroke is None or character is None or frame is None or character.skeleton is None:
            return None
        return stroke.part.id, stroke.points(self.buffers.matrices(character, frame))

    def surface_at(self, x: float, y: float) -> tuple[Part, Hit] | None:
        if self.mesh_hidden:
            return None
        return self.picker.surface_at(x, y, self.camera, self.size_in_points, instead=self._instead)

    def seeds(self, x: float, y: float) -> list[tuple[Part, IntArray]]:
        through = self.c.state.brush.through
        return self.picker.seeds(x, y, self.camera, self.size_in_points, through=through, instead=self._instead)

    def vertex_under(self, part: Part, hit: Hit) -> int:
        return self.picker.vertex_under(part, hit)

    def facing(self, part: Part) -> Facing | None:
        """Which vertices may be painted: with Front only, those turned to the eye; None for all."""
        brush, frame = self.c.state.brush, self.c.frames.frame()
        if not brush.front or brush.through or frame is None:
            return None
        surface = self.renderer.surfaces.get(part.id) if self.renderer is not None else None
        if surface is None or len(surface.normals) != part.mesh.vertex_count:
            return None
        instead = self._instead
        points = instead[1] if instead is not None and instead[0] == part.id else frame.points[part.id]
        return facing_of(points, surface.normals, self.camera)

    def pixel_of(self, selection: Selection) -> QPoint | None:
        """Where the leading thing of a selection is drawn."""
        ids, points = self.things(selection.kind)
        if selection.lead not in ids:
            return None
        x, y, depth = self.camera.project(points[ids.index(selection.lead)], *self.size_in_points)[0]
        return QPoint(int(x), int(y)) if depth > 0 else None

    # Drawing

    def update(self, *_: object) -> None:
        """Something has changed: a frame at once, and a finer one when the view rests.

        What lies over the view is painted in the same pass, not in one more.
        """
        self._pass = 0
        self._then.stop()
        self._still.start()
        super().update()
        if self.companion is not None:
            self.companion.update()

    def initializeGL(self) -> None:
        self.renderer = Renderer()

    def paintGL(self) -> None:
        renderer, state = self.renderer, self.c.state
        if renderer is None:
            return
        ratio = self.devicePixelRatioF()
        size = (int(self.width() * ratio), int(self.height() * ratio))
        character, frame, viewing = state.character, self.c.frames.frame(), state.viewing
        looks: dict[str, list[Look]] = {}
        self.buffers.send_ground(renderer)
        self.buffers.send_shadow(renderer, character, frame if not self.mesh_hidden else None)
        if character is not None and frame is not None and not self.mesh_hidden:
            self.buffers.send_parts(renderer, self.stroke)
            looks = self.buffers.looks(renderer, character)
        else:
            renderer.keep_parts(set())
        renderer.set_boards(self.buffers.boards(renderer, character, self.camera))
        self._send_marks(renderer)
        mode = {Lens.NONE: 0, Lens.INFLUENCE: 1}.get(viewing.lens, 2)
        if character is None or character.skin is None:
            mode = 0
        # Qt draws into a framebuffer of its own, which must be found anew each frame.
        target = renderer.gl.detect_framebuffer()
        number, finer = self._pass, renderer.finer
        if number == 0 or finer.done != number or finer.size != size:
            # A pass that follows none of this size begins the mean anew.
            number = self._pass = min(number, 1) if finer.size != size else number
            renderer.frame(
                self.camera, size, looks, display=viewing.display, wire_over=viewing.wire_over, lens_mode=mode,
                framebuffer=finer.begin(size) if number else target, ratio=ratio,
                seam=viewing.seam if self.c.frames.other is not None else None,
                aside=SPREAD[number - 1] if number else (0.0, 0.0),
            )  # fmt: skip
            if number:
                finer.add(number)
            else:
                finer.done = 0
        if number:
            finer.show(target)
            if number < self.passes:
                self._then.start()
        renderer.gl.disable(moderngl.DEPTH_TEST)
        if self.c.frames.behind or self.c.frames.live is not None:
            # What follows through is on its way: the next frame shows it farther on.
            QTimer.singleShot(NEXT_FRAME, self.update)

    def _finer(self) -> None:
        """The next pass of a finer picture."""
        if self._pass < self.passes and self.isVisible():
            self._pass += 1
            super().update()

    def _send_marks(self, renderer: Renderer) -> None:
        """The marks of the area, drawn anew only where something they show has changed."""
        state = self.c.state
        key = (
            state.character, self.c.frames.frame(), state.selection.kind, state.selection.ids, state.viewing, state.area,
            state.vertices, state.tooling.tool, state.clock.playing, self.hovered, self.grip, state.settings.of(MarkSettings),
            tuple(state.settings.of(kind) for kind in self.c.area.settings) if self.c.area.marks_face_the_eye else (), state.clip,
            (self.camera, self.size_in_points) if self.c.area.marks_face_the_eye else (),
        )  # fmt: skip
        if self._marks_for is not None and same(key, self._marks_for):
            return
        self._marks_for = key
        draw = DrawList()
        character = state.character
        if character is not None and not state.viewing.clean_view:
            wide = [float(np.abs(p.mesh.points[:, 0]).max()) for p in character.included if len(p.mesh.points)]
            drawing.draw_stick(draw, character.height, max(wide, default=0.5) + 0.12 * character.height)
            for mark in self.c.area.marks:
                mark(self, draw)
        renderer.set_draw_list(draw)

    def small_picture(self) -> Image:
        """What the view shows, cut to a small PNG."""
        whole = self.grabFramebuffer()
        side = min(whole.width() * 3 // 4, whole.height())
        wide, tall = side * 4 // 3, side
        middle = whole.copy((whole.width() - wide) // 2, (whole.height() - tall) // 2, wide, tall)
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        smooth = Qt.TransformationMode.SmoothTransformation
        middle.scaled(144, 108, Qt.AspectRatioMode.IgnoreAspectRatio, smooth).save(buffer, "PNG")
        return Image("trial", "image/png", data.data())

    # Camera

    def _camera_changed(self) -> None:
        self._settle_timer.start()
        self.update()

    @property
    def _aspect(self) -> float:
        return self.width() / max(self.height(), 1)

    def show_all(self) -> None:
        """Everything in sight."""
        frame = self.c.frames.frame()
        if frame is None or not (frame.points or len(frame.joints)):
            points = np.array([[-0.9, 0, -0.3], [0.9, 1.7, 0.3]])
        else:
            points = np.concatenate(frame.places)
            points = np.concatenate([points, *(p for one in self.c.frames.others() for p in one.places)])
            more = self.c.area.beside(self.c)
            if more is not None:
                points = np.concatenate([points, more])
        if len(points):
            # Room above for the chips, and below for the hint, along the world's upright.
            placed = self.camera.world_from_figure
            points = points @ placed[:3, :3].T + placed[:3, 3]
            low, high = points.min(axis=0), points.max(axis=0)
            top, bottom = self.margins
            tall = float(high[1] - low[1]) / max(self.height() - top - bottom, 80)
            middle = (low + high) / 2 * [1, 0, 1]
            points = np.concatenate([points, [middle + [0, high[1] + top * tall, 0], middle + [0, low[1] - bottom * tall, 0]]])
            back = np.linalg.inv(placed)
            points = points @ back[:3, :3].T + back[:3, 3]
        self.cameras.frame(points, self._aspect, room=CLOSE)
        self._all = self.camera

    def make_margins(self, top: int, bottom: int) -> None:
        """What lies over the view takes so much now; where all of the figure was shown, all of it is again."""
        if self.margins != (top, bottom):
            self.margins = (top, bottom)
            if self._all is not None and self.camera == self._all:
                self.show_all()

    def keep_all(self) -> None:
        """The view has another size: where all of the figure was shown, all of it is again."""
        if self._all is not None and self.camera == self._all:
            self.show_all()

    def make_room(self) -> None:
        """Draw back where joints of what the strip plays leave the picture: a raised arm stays in sight.

        A view that shows a piece of the figure alone is meant to, and stays.
        """
        character, places, frame = self.c.state.character, self.c.frames.reached(), self.c.frames.frame()
        if character is None or character.skeleton is None or frame is None or len(places) == 0:
            return
        w, h = self.size_in_points

        def inside(points: FloatArray) -> bool:
            x, y, depth = self.camera.project(points, w, h).T
            return bool(((depth > 0) & (x > ROOM) & (x < w - ROOM) & (y > ROOM) & (y < h - ROOM)).all())

        if inside(character.skeleton.positions) and not inside(places):
            shown = [points[:: max(len(points) // 2000, 1)] for points in frame.places]
            # Hands and feet go on beyond their joints.
            beyond = np.concatenate([places + 0.06 * character.height * np.eye(3)[k] * sign for k in range(3) for sign in (1, -1)])
            before = self.camera
            self.cameras.frame(np.concatenate([*shown, beyond]), self._aspect)
            self._roomy = (before, self.camera)

    def show_selection(self) -> None:
        """Centre on what is picked, or on all."""
        points = self.picker.selected_points()
        if len(points) == 0:
            self.show_all()
            return
        character = self.c.state.character
        self.cameras.frame(points, self._aspect, nearest=0.45 * (character.height if character else 1.0))

    def show_point(self, point: FloatArray) -> None:
        """Centre on a place in space."""
        character = self.c.state.character
        self.cameras.centre_on(point, 0.8 * (character.height if character is not None else 1.0))

    def look_along(self, axis: str) -> None:
        self.cameras.take(self.camera.along(axis))

    def toggle_perspective(self) -> None:
        self.cameras.take(replace(self.camera, perspective=not self.camera.perspective))

    def stroke_made(self) -> Weights | None:
        """What the stroke under way or the last one works on, which the next must not share."""
        stroke = self.stroke if isinstance(self.stroke, Stroke) else self.painted
        return stroke.result if stroke is not None else None

    def back(self) -> bool:
        return self.cameras.back()

    def forward(self) -> bool:
        return self.cameras.forward()

    def influence_at_pointer(self) -> str:
        """The strongest joint of the vertex under the pointer, "" for none."""
        return self.picker.influence_at(*self.pointer, self.camera, self.size_in_points) if self.pointer else ""

    def _state_changed(self, old: State, new: State) -> None:
        if new.viewing.hidden is not old.viewing.hidden or new.viewing.lens is not old.viewing.lens:
            self._settle_timer.start()
        if new.area != old.area:
            self.look_again()
        ids = tuple(id(p.mesh) for p in new.character.parts) if new.character is not None else None
        if ids is not None and ids != self._framed and not new.dragging:
            first = self._framed is None
            self._framed = ids
            if first or self.c.area.frames_new_meshes:
                QTimer.singleShot(0, self.show_all)
        if new.clock.source and new.clock.source != old.clock.source and not new.dragging and not new.at_rest:
            QTimer.singleShot(0, self.make_room)
        elif old.clock.source and not new.clock.source and self._roomy is not None and self._roomy[1] == self.camera:
            # Nobody has moved the camera since: the figure is as large again as it was.
            before, self._roomy = self._roomy[0], None
            if before == self._all:
                # What lies over the view may take more of it by now.
                QTimer.singleShot(0, self.show_all)
            else:
                self.cameras.take(before)
        self.update()

    # Mouse

    def _pointer(self, event: QMouseEvent) -> Pointer:
        here, keys = event.position(), event.modifiers()
        return Pointer(
            here.x(), here.y(), bool(keys & Qt.KeyboardModifier.ShiftModifier),
            bool(keys & Qt.KeyboardModifier.ControlModifier), bool(keys & Qt.KeyboardModifier.AltModifier),
            self.even_held,
        )  # fmt: skip

    def _tools(self) -> tuple[StageTool, ...]:
        return self.c.area.tools

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        self.last = event.position()
        at, button = self._pointer(event), event.button()
        if self.drag is not None:
            return
        if button == Qt.MouseButton.MiddleButton or (button == Qt.MouseButton.RightButton and at.shift):
            self.turning = "pan"
        elif button == Qt.MouseButton.RightButton:
            self.turning = "orbit"
        elif button == Qt.MouseButton.LeftButton and self.c.state.character is not None:
            self._press(at)
        if self.c.state.dragging is not (self.drag is not None):
            self.c.store.put(dragging=self.drag is not None)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """A double click is some tool's, else one press more."""
        assert event is not None
        left = event.button() == Qt.MouseButton.LeftButton
        if not left or self.drag is not None or not any(tool.double(self, self._pointer(event)) for tool in self._tools()):
            self.mousePressEvent(event)

    def _press(self, at: Pointer) -> None:
        wanted = self.c.state.tooling.wanted
        if wanted is not None:
            if "point" in wanted.kinds:
                hit = self.surface_at(at.x, at.y)
                kind, found = "point", " ".join(f"{v:.6f}" for v in hit[1].point) if hit is not None else ""
            else:
                kind, found = self.thing_at(at.x, at.y)
            if found:
                self.c.store.pick(kind, found)
            return
        tool = next((tool for tool in self._tools() if tool.wants(self, at)), None)
        self.drag = tool.press(self, at) if tool is not None else None

    def tabletEvent(self, event: QTabletEvent | None) -> None:
        """A pen's pressure; the rest of the event goes on as a mouse's."""
        assert event is not None
        down = event.buttons() != Qt.MouseButton.NoButton
        pressure = float(event.pressure()) if down and event.pressure() > 0 else 1.0
        if pressure != self.c.state.tooling.pressure:
            self.c.store.put(pressure=pressure)
        event.ignore()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        here = event.position()
        dx, dy = here.x() - self.last.x(), here.y() - self.last.y()
        self.last = here
        self.pointer = (here.x(), here.y())
        if self.turning == "orbit":
            self.cameras.take(self.camera.orbit(dx, dy))
        elif self.turning == "pan":
            self.cameras.take(self.camera.pan(dx, dy, self.height()))
        elif self.drag is not None:
            self.move_drag(self._pointer(event))
        else:
            self._hover_timer.start()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.turning = ""
        if event.button() == Qt.MouseButton.LeftButton:
            self.end_drag()

    # The drag under way: begun by a press here, or by a pane that has its own picture of the same things

    def hold(self, drag: Drag) -> None:
        """Begin a drag; Esc drops it like any other."""
        self.drag = drag
        self.c.store.put(dragging=True)

    def move_drag(self, at: Pointer) -> None:
        """The pointer has moved; nothing where no drag is under way any more."""
        if self.drag is not None:
            self.drag.move(at)

    def end_drag(self) -> None:
        """The button was let go: what was dragged is kept."""
        drag, self.drag = self.drag, None
        if self.c.state.dragging:
            self.c.store.put(dragging=False)
        if drag is not None:
            drag.release()
        self.painted = self.stroke if isinstance(self.stroke, Stroke) and self.stroke.result is not None else None
        self.stroke = None
        self.update()

    def cancel_drag(self) -> bool:
        """Drop the drag under way, if there is one (Esc)."""
        if self.drag is None:
            return False
        drag, self.drag = self.drag, None
        self.stroke = None
        self.c.store.put(dragging=False)
        drag.cancel()
        self.update()
        return True

    def leaveEvent(self, event: QEvent | None) -> None:
        self.pointer, self.hovered, self.brush_hit = None, "", None
        self.pointed.emit("")
        self.update()

    def look_again(self) -> None:
        """What lies under the pointer may be another thing now."""
        self._hover_timer.start()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        steps = (event.angleDelta().y() or event.angleDelta().x()) / 120
        keys = event.modifiers()
        for key, wheel in self.c.area.wheels:
            if keys & key:
                wheel(self.c, steps)
                self.update()
                return
        here = event.position()
        self.cameras.take(self.camera.zoom(steps, here.x(), here.y(), *self.size_in_points))

    def _hover(self) -> None:
        if self.drag is not None:
            return
        if self.pointer is None:
            self.pointed.emit("")
            return
        x, y = self.pointer
        tool = next((tool for tool in self._tools() if tool.through(self)), None)
        found, words, kind = "", "", ""
        self.brush_hit = self.surface_at(x, y) if self.c.area.weighing else None
        for one in self._tools():
            found, words = one.hover(self, x, y)
            if found:
                break
        self.setCursor(Qt.CursorShape.SplitHCursor if found == "seam" else Qt.CursorShape.ArrowCursor)
        if not found and tool is None and self.pickable() != "part":
            kind, found = self.thing_at(x, y)
        grip = grip_at(self, x, y) if self.pickable() == "control" else ""
        if not words:
            words = self.c.area.words(self, kind, found) or words_of(self, kind, found)
        changed = (found, grip) != (self.hovered, self.grip)
        self.hovered, self.grip = found, grip
        self.pointed.emit(words)
        if changed or tool is not None:
            self.update()
