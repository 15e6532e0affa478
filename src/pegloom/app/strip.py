"""The strip: trials on the left; time with its ruler, key marks, and how much the skin stretches."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.actions import Actions
from pegloom.app.session import RANGE_TEST, TRIAL_FRAMES, Session, range_pose
from pegloom.app.theme import current, icon
from pegloom.app.widgets import button, label
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.motion.clips import sample
from pegloom.core.skin.measures import edge_stretch
from pegloom.document import edits
from pegloom.document.evaluate import evaluate

LEFT, RIGHT, TOP = 18, 16, 6


class Strip(QFrame):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setFixedHeight(132)
        self.session = session
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        trials = QFrame()
        trials.setObjectName("trials")
        trials.setFixedWidth(216)
        column = QVBoxLayout(trials)
        column.setContentsMargins(10, 6, 6, 4)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.addWidget(label("Trials", "heading"))
        head.addStretch(1)
        self.play = button("", "strip.play", lambda: actions.run("time.play"), role="plain", tip="Play or stop (Space)")
        self.play.setAccessibleName("Play or stop")
        self.play.setIconSize(QSize(18, 18))
        head.addWidget(self.play)
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setObjectName("strip.trials")
        self.list.setAccessibleName("Trials and clips")
        self.list.itemClicked.connect(self._choose)
        column.addWidget(self.list)
        row.addWidget(trials)
        self.ruler = Ruler(session)
        row.addWidget(self.ruler, 1)
        self.shown: object = None
        session.changed.connect(lambda *_: self.refresh())
        session.view_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        session, character = self.session, self.session.character
        self.play.setIcon(icon("pause" if session.playing else "play", current().woad))
        clips = tuple((c.id, c.name, round(c.length * c.rate)) for c in character.clips) if character else ()
        key = (character is not None and character.skeleton is not None, clips, session.source, session.trials)
        if key == self.shown:
            return
        self.shown = key
        self.list.clear()
        rows = [("Pose in hand", "", 0.0)] if character else []
        if key[0]:
            rows.append((f"Range test    {len(session.trials) * TRIAL_FRAMES} frames", RANGE_TEST, 0.0))
        rows += [(f"{name}    {frames} frames", clip, 0.0) for clip, name, frames in clips]
        if key[0]:
            rows += [
                (f"{t.label}    pose", RANGE_TEST, (i + 0.5) * TRIAL_FRAMES / 30) for i, t in enumerate(session.trials)
            ]
        for text, source, at in rows:
            item = QListWidgetItem(text)
            item.setData(Qt.ItemDataRole.UserRole, (source, at))
            self.list.addItem(item)
            item.setSelected(source == session.source and at == 0.0)
        if not rows:
            self.list.addItem(QListWidgetItem("Open a mesh to begin"))

    def _choose(self, item: QListWidgetItem) -> None:
        data = item.data(Qt.ItemDataRole.UserRole)
        if data is not None:
            if self.session.playing:
                self.session.toggle_play()
            self.session.play_source(*data)


class Ruler(QWidget):
    """Time, keys, trial names, and the stretch curve."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("strip.ruler")
        self.setAccessibleName("Time")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.session = session
        self.dragged_key: float | None = None
        self.curve: list[float | None] = []
        self.measured: tuple[object, ...] = ()
        self.timer = QTimer(self)
        self.timer.setInterval(25)
        self.timer.timeout.connect(self._measure_some)
        session.changed.connect(lambda *_: self._restart())
        session.view_changed.connect(self._restart)
        session.time_changed.connect(self.update)

    # Stretch over time: a few samples whenever nothing else is going on

    def _restart(self) -> None:
        self.update()
        character = self.session.character
        key = (character.skin, character.skeleton, self.session.source, self.session.clip) if character else ()
        if key == self.measured or not self.session.drag_free:
            return
        self.measured = key
        ready = character is not None and character.skin is not None and self.session.source
        self.curve = [None] * 61 if ready else []
        if ready:
            self.timer.start()

    def _measure_some(self) -> None:
        character = self.session.character
        if character is None or character.skin is None or not self.session.drag_free or None not in self.curve:
            self.timer.stop()
            return
        if self.session.playing:
            return
        i = self.curve.index(None)
        at = self.session.length * i / (len(self.curve) - 1)
        clip = self.session.clip
        pose = (
            range_pose(character, at)
            if clip is None
            else sample(clip, at, character.skeleton, character.pose, character.rig)
        )
        frame = evaluate(character, pose)
        worst = 1.0
        for part in character.included:
            g = weld(part.mesh)
            edges = place_edges(part.mesh)
            if len(edges):
                stretch = edge_stretch(part.mesh.points[g.first], frame.points[part.id][g.first], edges)
                worst = max(worst, float(np.quantile(stretch, 0.99)))
        self.curve[i] = worst
        self.update()

    # Drawing

    def x_of(self, seconds: float) -> float:
        """Pixel of a time."""
        return LEFT + (self.width() - LEFT - RIGHT) * seconds / max(self.session.length, 1e-6)

    def time_at(self, x: float) -> float:
        return (x - LEFT) / max(self.width() - LEFT - RIGHT, 1) * self.session.length

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont("Figtree")
        font.setPixelSize(11)
        painter.setFont(font)
        session, rate = self.session, self.session.rate
        total = round(session.length * rate)
        base = TOP + 20
        painter.setPen(QPen(QColor(current().line), 1))
        painter.drawLine(QPointF(LEFT, base), QPointF(self.width() - RIGHT, base))
        if not session.source:
            painter.setPen(QColor(current().soft))
            text = "Pick the range test, a clip or a pose on the left to scrub through it here."
            painter.drawText(QRectF(LEFT, base + 12, self.width() - 40, 20), Qt.AlignmentFlag.AlignLeft, text)
            painter.end()
            return
        step = next((s for s in (1, 5, 10, 20, 30, 60, 120, 300, 600) if total / s <= 16), 1200)
        small = max(step // 5, 1)
        for frame in range(0, total + 1, small):
            x = self.x_of(frame / rate)
            tall = frame % step == 0
            painter.setPen(QPen(QColor(current().faint if tall else current().line), 1))
            painter.drawLine(QPointF(x, base - (9 if tall else 4)), QPointF(x, base))
            if tall and x < self.width() - 34:
                painter.setPen(QColor(current().soft))
                painter.drawText(QRectF(x + 3, TOP - 4, 60, 14), Qt.AlignmentFlag.AlignLeft, str(frame))
        clip = session.clip
        if session.source == RANGE_TEST:
            painter.setPen(QColor(current().soft))
            for i, trial in enumerate(session.trials):
                a, b = self.x_of(i * TRIAL_FRAMES / 30), self.x_of((i + 1) * TRIAL_FRAMES / 30)
                painter.drawText(QRectF(a, base + 5, b - a, 16), Qt.AlignmentFlag.AlignCenter, trial.label.lower())
        elif clip is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            for time in clip.key_times:
                x, y = self.x_of(time), base + 13
                here = abs(time - session.time) < 0.5 / rate
                painter.setBrush(QColor(current().woad if here else current().soft))
                painter.drawPolygon(
                    QPolygonF([QPointF(x, y - 5), QPointF(x + 4, y), QPointF(x, y + 5), QPointF(x - 4, y)])
                )
            if not clip.key_times and not clip.tracks:
                painter.setPen(QColor(current().soft))
                painter.drawText(QRectF(LEFT, base + 6, 500, 18), Qt.AlignmentFlag.AlignLeft,
                                 "No keys yet: pose a control and press W.")  # fmt: skip
        self._draw_curve(painter, base + 28)
        x = self.x_of(session.time)
        painter.setPen(QPen(QColor(current().text), 1.5))
        painter.drawLine(QPointF(x, TOP + 4), QPointF(x, self.height() - 4))
        text = "rest" if session.at_rest else str(round(session.time * rate))
        box = QRectF(x - 17, TOP - 4, 34, 15)
        box.moveLeft(min(max(box.left(), 1.0), self.width() - 36.0))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(current().text))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(QColor(current().window))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        painter.end()

    def _draw_curve(self, painter: QPainter, top: float) -> None:
        done = [(i, v) for i, v in enumerate(self.curve) if v is not None]
        bottom = self.height() - 8.0
        if len(done) < 2:
            return
        worst = max(v for _, v in done)
        scale = (bottom - top - 16) / max(worst - 1.0, 0.5)
        left, wide = self.x_of(0.0), self.x_of(self.session.length) - self.x_of(0.0)
        line = [QPointF(left + wide * i / (len(self.curve) - 1), bottom - (v - 1.0) * scale) for i, v in done]
        painter.setPen(QPen(QColor(current().line), 1))
        painter.drawLine(QPointF(LEFT, bottom), QPointF(self.width() - RIGHT, bottom))
        painter.setPen(QPen(QColor(current().woad), 1.8))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(line))
        at = max(done, key=lambda row: row[1])[0]
        frame = round(self.session.length * self.session.rate * at / (len(self.curve) - 1))
        painter.setPen(QColor(current().woad))
        text = f"stretch of the skin, worst {worst:.2f} at frame {frame}"
        painter.drawText(QRectF(LEFT, top - 6, self.width() - LEFT - RIGHT, 14), Qt.AlignmentFlag.AlignRight, text)

    # Mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self.session.source or event.button() != Qt.MouseButton.LeftButton:
            return
        if self.session.playing:
            self.session.toggle_play()
        x, y = event.position().x(), event.position().y()
        clip = self.session.clip
        if clip is not None and 24 < y < 52:
            near = [t for t in clip.key_times if abs(self.x_of(t) - x) < 6]
            if near:
                self.dragged_key = near[0]
                self.session.go_to(near[0])
                return
        self._scrub(x)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton and self.session.source:
            self._scrub(event.position().x())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        old, self.dragged_key = self.dragged_key, None
        clip = self.session.clip
        if old is None or clip is None:
            return
        new = self.session.snapped_time
        if abs(new - old) > 0.4 / clip.rate:
            self.session.try_edit("Move keys", lambda d: edits.move_key(d, clip.id, old, new))

    def _scrub(self, x: float) -> None:
        time = self.time_at(x)
        self.session.go_to(round(time * self.session.rate) / self.session.rate)
