"""What lies over the stage: chips, thread, legend, brush ring, box, hint, job and notes."""

from __future__ import annotations

import re
from collections.abc import Callable
from enum import Enum

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QFont, QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from pegloom.app.actions import Actions
from pegloom.app.legends import draw_legend
from pegloom.app.session import RANGE_TEST, Area, Painting, Session, Tool
from pegloom.app.slicewindow import SliceWindow
from pegloom.app.stage.drags import BoxDrag
from pegloom.app.stage.stage import Stage
from pegloom.app.tag import Tag
from pegloom.app.theme import INK
from pegloom.app.verbs import DEMO, DEMOS
from pegloom.app.widgets import Choices, button, label, tip
from pegloom.checks import Severity, Snag
from pegloom.document.edits.weaves import kept_as
from pegloom.render.renderer import Display
from pegloom.scene.lenses import Lens

# What stands in <> is an action; its key as it stands is shown.
HINTS = {
    Area.MESH: "Right-drag turns the view, wheel zooms, middle-drag moves it; <tool.turn> turns the figure itself",
    Area.JOINTS: "Drag a peg to place it, Ctrl snaps; <joints.draw> draws joints, <tool.move> moves them; right-drag turns the view",
    Area.WEIGHTS: "Click a joint to see its weight; drag a box to select vertices; <tool.brush> takes the brush",
    Area.CONTROLS: "Drag a control; <tool.move> moves, <tool.turn> turns; right-drag turns the view",
    Area.MOTION: "Pose a control and press <keys.write> to write a key; <time.play> plays",
    Area.HANDOVER: "Export writes a GLB; the proof opens it again and measures",
}


class Kind(Enum):
    """What can be shown and picked, or not."""

    JOINTS = "joints"
    PEGS = "pegs"
    CONTROLS = "controls"
    MESH = "mesh"
    GROUND = "ground"


class Paper(QWidget):
    """Painted marks over the stage; lets the mouse through."""

    def __init__(self, session: Session, stage: Stage, tags: Callable[[], list[Tag]]) -> None:
        super().__init__(stage)
        self.session, self.stage, self.tags = session, stage, tags
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont("Figtree")
        font.setPixelSize(12)
        painter.setFont(font)
        for tag in self.tags():
            self._thread(painter, tag)
        self._brush(painter)
        self._box(painter)
        self._height(painter)
        self._pins(painter)
        self._seam(painter)
        draw_legend(painter, self.session, QRectF(self.rect()))
        painter.end()

    def _thread(self, painter: QPainter, tag: Tag) -> None:
        pixel = self.stage.pixel_of(tag.subject)
        if pixel is None or not tag.isVisible():
            return
        edge = tag.geometry()
        left = pixel.x() < edge.center().x()
        end = QPointF(edge.left() if left else edge.right(), edge.top() + 18)
        path = QPainterPath(QPointF(pixel))
        pull = (end.x() - pixel.x()) * 0.5
        path.cubicTo(QPointF(pixel.x() + pull, pixel.y() - 8), QPointF(end.x() - pull * 0.5, end.y()), end)
        painter.setPen(QPen(QColor(INK.soft), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _brush(self, painter: QPainter) -> None:
        stage, session = self.stage, self.session
        if session.tool not in (Tool.BRUSH, Tool.SELECT) or stage.pointer is None or session.character is None:
            return
        centre = QPointF(*stage.pointer)
        radius = 12.0
        if stage.brush_hit is not None:
            metres = session.brush.radius * session.character.height
            radius = metres / stage.camera.metres_a_pixel(stage.brush_hit[1].point, stage.height())
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(0, 0, 0, 120), 3))
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(QColor(INK.text), 1.4))
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(QColor(INK.text), 1, Qt.PenStyle.DotLine))
        painter.drawEllipse(centre, radius * session.brush.strength, radius * session.brush.strength)

    def _box(self, painter: QPainter) -> None:
        drag = self.stage.drag
        if isinstance(drag, BoxDrag) and drag.drawn and drag.lasso:
            fill = QColor(INK.woad)
            fill.setAlpha(28)
            painter.setPen(QPen(QColor(INK.woad), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(fill)
            painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in drag.path]))
        elif isinstance(drag, BoxDrag) and drag.drawn:
            painter.setPen(QPen(QColor(INK.woad), 1.2, Qt.PenStyle.DashLine))
            fill = QColor(INK.woad)
            fill.setAlpha(28)
            painter.setBrush(fill)
            painter.drawRect(QRectF(QPointF(*drag.start), QPointF(*drag.corner)).normalized())

    def _height(self, painter: QPainter) -> None:
        character = self.session.character
        if character is None or self.session.clean_view:
            return
        points = character.all_points()
        if len(points) == 0:
            return
        wide = float(np.abs(points[:, 0]).max())
        top = np.array([-(wide + 0.12 * character.height), character.height, 0.0])
        x, y, depth = self.stage.camera.project(top, *self.stage.size_in_points)[0]
        if depth > 0 and 0 < x < self.width() and 44 < y < self.height():
            painter.setPen(QColor(INK.soft))
            painter.drawText(QRectF(x - 40, y - 19, 80, 16), Qt.AlignmentFlag.AlignCenter, f"{character.height:.2f} m")

    def _pins(self, painter: QPainter) -> None:
        """Snag pins of this area: a madder triangle where something is doubtful."""
        session, character = self.session, self.session.character
        if character is None or session.clean_view or session.playing or not session.drag_free:
            return
        if session.area not in (Area.MESH, Area.JOINTS, Area.WEIGHTS):
            return
        places = [
            self._posed(s)
            for s in session.snag_watch.snags
            if s.where is not None
            and s.area == session.area.value.lower()
            and not (s.severity is Severity.NOTE and session.area is Area.WEIGHTS)
        ]
        painter.setPen(Qt.PenStyle.NoPen)
        for where in places[:40]:
            x, y, depth = self.stage.camera.project(np.array(where), *self.stage.size_in_points)[0]
            if depth <= 0 or not (0 < x < self.width() and 40 < y < self.height()):
                continue
            painter.setBrush(QColor(INK.madder))
            painter.drawPolygon(QPolygonF([QPointF(x, y - 4), QPointF(x - 6, y - 15), QPointF(x + 6, y - 15)]))
            painter.setBrush(QColor(INK.window))
            painter.drawEllipse(QPointF(x, y - 11.5), 1.6, 1.6)

    def _posed(self, snag: Snag) -> np.ndarray:
        """Where a snag's place is in the pose shown."""
        session, where = self.session, np.array(snag.where)
        frame, character = session.frame(), session.character
        part = next((p for p in character.included if p.id == snag.subject), None)
        if session.at_rest or frame is None or part is None or part.id not in frame.points:
            return where
        nearest = int(np.argmin(((part.mesh.points - where) ** 2).sum(axis=1)))
        return frame.points[part.id][nearest]

    def _seam(self, painter: QPainter) -> None:
        """The compare seam with the names of what stands either side of it."""
        session = self.session
        if session.other is None:
            return
        x = session.seam * self.width()
        painter.setPen(QPen(QColor(0, 0, 0, 130), 4))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.setPen(QPen(QColor(INK.text), 1.4, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        # A spool on the thread to take it by.
        grip = QRectF(x - 7, self.height() / 2 - 15, 14, 30)
        painter.setPen(QPen(QColor(INK.text), 1.2))
        painter.setBrush(QColor(INK.card))
        painter.drawRoundedRect(grip, 4, 4)
        for k in (-6, 0, 6):
            painter.drawLine(QPointF(x - 3.5, grip.center().y() + k), QPointF(x + 3.5, grip.center().y() + k))
        kept = kept_as(session.character)
        weave = next(w for w in session.character.weaves if w.id == session.compared)
        here = f"in hand: {kept.name}" if kept else "in hand"
        metrics = painter.fontMetrics()
        for text, right in ((here, False), (weave.name, True)):
            text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, 170)
            wide = metrics.horizontalAdvance(text) + 16
            box = QRectF(x + 12 if right else x - 12 - wide, 84, wide, 22)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(20, 23, 31, 200))
            painter.drawRoundedRect(box, 5, 5)
            painter.setPen(QColor(INK.text))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


class StageFrame(QWidget):
    """The stage with everything that floats over it."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self.session, self.actions = session, actions
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.stage = Stage(session)
        column.addWidget(self.stage)
        self.tag = Tag(session, actions, self.stage)
        self.pinned: list[Tag] = []
        self.tag.others = self._tags
        self.tag.pin_pressed.connect(self._pin)
        self.paper = Paper(session, self.stage, self._tags)
        self.slice = SliceWindow(session, self.stage)
        self.chips = self._chips()
        self.hint = label(name="hint")
        self.hint.setParent(self.stage)
        self.note = label(name="note")
        self.note.setParent(self.stage)
        self.note.setWordWrap(True)
        self.note.hide()
        self.note_timer = QTimer(self)
        self.note_timer.setSingleShot(True)
        self.note_timer.timeout.connect(self.note.hide)
        self.job = self._job()
        self.welcome = self._welcome()
        self.pointed = ""
        self.flowed = 0
        self.stage.companion = self.paper
        self.stage.pointed.connect(self._point)
        for signal in (session.view_changed, session.changed, session.selection_changed):
            signal.connect(lambda *_: self.refresh())
        session.selection_changed.connect(lambda: QTimer.singleShot(0, self.tag.place))
        session.said.connect(self.say)
        session.snag_watch.changed.connect(self.paper.update)
        session.jobs.started.connect(self._job_started)
        session.jobs.progressed.connect(self._job_progress)
        session.jobs.finished.connect(self.job.hide)
        self.refresh()

    def _tags(self) -> list[Tag]:
        return [self.tag, *self.pinned]

    def _pin(self) -> None:
        """A tag of its own for what is selected, that stays while other things are picked."""
        used = {tag.stem for tag in self.pinned}
        stem = next(f"pinned.{k}" for k in range(1, len(used) + 2) if f"pinned.{k}" not in used)
        made = Tag(self.session, self.actions, self.stage, holds=self.session.selection, stem=stem)
        made.others = self._tags
        made.move(self.tag.pos())
        made.moved_by_hand = True
        made.pin_pressed.connect(lambda: self._let_go(made))
        self.pinned.append(made)
        made.refresh()
        self.tag.moved_by_hand = False
        self.tag.refresh()
        self.paper.update()

    def _let_go(self, tag: Tag) -> None:
        self.pinned.remove(tag)
        tag.hide()
        tag.deleteLater()
        self.tag.refresh()
        self.paper.update()

    def _chips(self) -> QWidget:
        holder = QWidget(self.stage)
        holder.setObjectName("chips")
        both = QVBoxLayout(holder)
        both.setContentsMargins(0, 0, 0, 0)
        both.setSpacing(6)
        line, below = QHBoxLayout(), QHBoxLayout()
        line.setSpacing(14)
        both.addLayout(line)
        both.addLayout(below)
        options = [
            ("Clay", Display.CLAY),
            ("Textured", Display.TEXTURED),
            ("Wire", Display.WIRE),
            ("See-through", Display.SEE_THROUGH),
        ]
        self.display = Choices("stage.display", options, lambda d: self.session.set_view(display=d), role="chip")
        lenses = [
            ("No lens", Lens.NONE),
            ("Influence", Lens.INFLUENCE),
            ("All influences", Lens.ALL),
            ("Strain", Lens.STRAIN),
            ("Volume", Lens.VOLUME),
            ("Difference", Lens.DIFFERENCE),
            ("Joints a vertex", Lens.COUNT),
            ("Strays", Lens.STRAYS),
        ]
        kinds = [
            ("Joints", Kind.JOINTS), ("Pegs", Kind.PEGS), ("Controls", Kind.CONTROLS), ("Mesh", Kind.MESH),
            ("Ground", Kind.GROUND),
        ]  # fmt: skip
        self.kinds = Choices("stage.show", kinds, lambda k: self.actions.run(f"view.{k.value}"), role="chip")
        self.kinds.group.setExclusive(False)
        self.lens = Choices(
            "stage.lens", lenses, lambda value: self.session.set_view(lens=value), role="chip", flows=True
        )
        line.addWidget(self.display)
        line.addWidget(self.kinds)
        line.addStretch(1)
        below.addWidget(self.lens)
        below.addStretch(1)
        return holder

    def _job(self) -> QFrame:
        frame = QFrame(self.stage)
        frame.setObjectName("job")
        line = QHBoxLayout(frame)
        line.setContentsMargins(12, 8, 8, 8)
        words = QVBoxLayout()
        words.setSpacing(3)
        self.job_title = label("", "heading", name="job.title")
        self.job_text = label("", "caption", name="job.text")
        self.job_bar = QProgressBar()
        self.job_bar.setObjectName("job.bar")
        self.job_bar.setTextVisible(False)
        self.job_bar.setRange(0, 1000)
        for widget in (self.job_title, self.job_text, self.job_bar):
            words.addWidget(widget)
        line.addLayout(words, 1)
        line.addWidget(button("Cancel", "job.cancel", self.session.jobs.cancel))
        frame.setFixedSize(360, 76)
        frame.hide()
        return frame

    def _welcome(self) -> QFrame:
        frame = QFrame(self.stage)
        frame.setObjectName("welcome")
        column = QVBoxLayout(frame)
        column.setContentsMargins(26, 20, 26, 20)
        column.setSpacing(9)
        column.addWidget(label("Begin with a mesh", "area"))
        words = label(
            "Drop a mesh here, or open one: OBJ, glTF, GLB, PLY, STL, USD or a ZIP. Then walk the pegs on the left from top to bottom."
        )
        words.setWordWrap(True)
        column.addWidget(words)
        column.addWidget(
            button("Open a mesh or project", "welcome.open", lambda: self.actions.run("file.open"), role="main")
        )
        column.addSpacing(4)
        column.addWidget(label("Or try somebody of Saltmarsh Post", "heading"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        grid.setColumnStretch(0, 1)
        for row, (name, title) in enumerate(DEMOS.items()):
            grid.addWidget(label(title, "soft"), row, 0)
            if (DEMO / f"{name}.obj").exists():
                unrigged = button("Unrigged", f"welcome.mesh_{name}", lambda n=name: self.actions.run(f"file.mesh_{n}"))
                grid.addWidget(unrigged, row, 1)
            grid.addWidget(
                button("Rigged", f"welcome.demo_{name}", lambda n=name: self.actions.run(f"file.demo_{n}")), row, 2
            )
        column.addLayout(grid)
        column.addWidget(
            button(
                "Lay out a body pattern without a mesh",
                "welcome.pattern",
                lambda: self.actions.run("joints.lay_out"),
                role="plain",
            )
        )
        frame.setFixedSize(420, 492)
        return frame

    def refresh(self) -> None:
        session = self.session
        self.display.set(session.display)
        self.lens.set(session.lens)
        bound = session.character is not None and session.character.skin is not None
        weighing = session.area in (Area.WEIGHTS, Area.MOTION, Area.CONTROLS)
        self.lens.setVisible(bound and weighing)
        for kind, made in self.kinds.buttons.items():
            made.setChecked(kind.value not in session.hidden)
        here = {
            Area.JOINTS: ("joints", "pegs", "mesh"),
            Area.WEIGHTS: ("joints",),
            Area.CONTROLS: ("controls", "mesh"),
            Area.MOTION: ("controls", "mesh"),
        }
        for kind, made in self.kinds.buttons.items():
            made.setVisible(
                (kind is Kind.GROUND and session.area in (Area.MESH, Area.JOINTS))
                or kind.value in here.get(session.area, ())
            )
        self.kinds.setVisible(session.character is not None)
        self.welcome.setVisible(session.character is None)
        self._hint()
        self._lay_out()

    def _hint(self) -> None:
        session = self.session
        text = HINTS[session.area]
        if session.area is Area.WEIGHTS and session.tool is Tool.BRUSH:
            character = session.character
            skeleton = character.skeleton if character else None
            name = (
                skeleton.joint(session.influence).name
                if skeleton and session.influence in skeleton.index
                else "no joint"
            )
            other = skeleton.other_side(session.influence) if skeleton and session.influence in skeleton.index else None
            sides = " and its other side" if session.both_sides and other != session.influence else ""
            if sides and other in session.locked:
                sides = " alone, its other side is locked"
            text = f"Drag: {session.brush.mode.value.lower()} on {name}{sides}; hold A to even out, Ctrl takes away; <tool.pick> ends"
            if session.painting is not Painting.WEIGHTS:
                text = f"Drag: {session.brush.mode.value.lower()} the {session.painting.value}; Ctrl takes away; <tool.pick> ends"
        if session.area is Area.WEIGHTS and session.tool is Tool.SELECT:
            text = "Drag over the mesh to select vertices; Shift adds, Ctrl takes out; <tool.pick> ends"
        if session.area is Area.MESH and session.tool is Tool.TURN:
            text = "Drag sideways to turn the figure to face you, Ctrl by 15 degrees; Esc ends"
        if session.area is Area.JOINTS and session.tool is Tool.DRAW:
            text = "Click to lay joints in the middle of the mesh, on a joint to go on from it; Shift on the skin, Ctrl on the grid; Esc ends"
        if session.at_rest and session.character is not None and session.character.skeleton is not None:
            text = "Showing the rest while you place. " + text
        if session.source == RANGE_TEST and not session.at_rest and session.area in (Area.CONTROLS, Area.MOTION):
            text = "The range test is on the stage; pick “Pose in hand” on the strip to pose controls"
        if session.auto_key:
            text = "Auto-key is on. " + text
        text = re.sub(r"<([a-z_.]+)>", lambda found: self._key(found[1]), text)
        if self.pointed:
            text = self.pointed
        # The legend's corner stays free.
        room = self.stage.width() - (250 if session.lens is not Lens.NONE else 40)
        self.hint.setText(self.hint.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, max(room, 200)))
        self.hint.setToolTip(tip(text))
        self.hint.adjustSize()

    def _key(self, action: str) -> str:
        """The key of an action, its title where it has none."""
        if action not in self.actions.entries:  # the frame is made before the actions
            return ""
        return self.actions.key(action) or self.actions.entries[action].title

    def _point(self, words: str) -> None:
        if words != self.pointed:
            self.pointed = words
            self._hint()
            self._lay_out()

    def say(self, text: str, is_error: bool) -> None:
        """A note for a while."""
        self.note.setText(text)
        self.note.setStyleSheet(f"border-color: {INK.madder if is_error else INK.line};")
        self.note.setFixedWidth(min(self.note.fontMetrics().horizontalAdvance(text) + 28, 520))
        self.note.adjustSize()
        self.note.show()
        self.note.raise_()
        self._lay_out()
        self.note_timer.start(9000 if is_error else 4500)

    def _job_started(self, title: str) -> None:
        self.job_title.setText(title)
        self.job_text.setText("")
        self.job_bar.setValue(0)
        self.job.show()
        self.job.raise_()
        self._lay_out()

    def _job_progress(self, fraction: float, text: str) -> None:
        self.job_bar.setValue(int(1000 * fraction))
        self.job_text.setText(text)

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def _lay_out(self) -> None:
        w, h = self.stage.width(), self.stage.height()
        self.paper.setGeometry(0, 0, w, h)
        if self.flowed != w:
            self.flowed = w
            self._hint()
            self.lens.flow(w - 24)
        self.chips.adjustSize()
        self.chips.move(12, 10)
        self.hint.move(12, h - self.hint.height() - 10)
        self.slice.move(12, h - self.slice.height() - self.hint.height() - 18)
        self.note.move((w - self.note.width()) // 2, 50)
        self.job.move((w - self.job.width()) // 2, h - self.job.height() - 52)
        self.welcome.move((w - self.welcome.width()) // 2, (h - self.welcome.height()) // 2)
        for tag in self._tags():
            tag.place()
