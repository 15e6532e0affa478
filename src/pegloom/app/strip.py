"""The strip: trials on the left; time with its ruler, key marks, and how much the skin stretches."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QIcon, QMouseEvent, QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pegloom.app.actions import Actions
from pegloom.app.quality import QualityWatch
from pegloom.app.session import RANGE_TEST, TRIAL_FRAMES, Area, Session
from pegloom.app.theme import current, icon
from pegloom.app.widgets import button, label
from pegloom.checks.quality import STRETCH_LIMIT, Crossing, doubtful, girth_limit
from pegloom.core.skin.quality import Figures
from pegloom.document import edits
from pegloom.document.model import Image

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
        keep = button(
            "", "strip.keep", lambda: actions.run("trial.keep"), role="plain", tip="Keep the pose shown as a trial"
        )
        keep.setIcon(icon("plus"))
        keep.setAccessibleName("Keep the pose shown as a trial")
        bring = button(
            "",
            "strip.bring",
            lambda: actions.run("trial.bring"),
            role="plain",
            tip="Bring in motion of this skeleton (BVH, GLB)",
        )
        bring.setIcon(icon("download"))
        bring.setAccessibleName("Bring in motion as a trial")
        for made in (keep, bring):
            made.setIconSize(QSize(15, 15))
            head.addWidget(made)
        self.play = button("", "strip.play", lambda: actions.run("time.play"), role="plain", tip="Play or stop (Space)")
        self.play.setAccessibleName("Play or stop")
        self.play.setIconSize(QSize(18, 18))
        head.addWidget(self.play)
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setObjectName("strip.trials")
        self.list.setAccessibleName("Trials and clips")
        self.list.setIconSize(QSize(36, 27))
        self.list.itemClicked.connect(self._choose)
        self.pictures: dict[int, QIcon] = {}
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
        own = character.trials if character else ()
        jointed = character is not None and character.skeleton is not None
        key = (jointed, clips, session.source, session.trials, own, character is None)
        if key == self.shown:
            return
        self.shown = key
        self.list.clear()
        rows = [("Pose in hand", "", 0.0)] if jointed or clips else []
        if key[0]:
            rows.append((f"Range test    {len(session.trials) * TRIAL_FRAMES} frames", RANGE_TEST, 0.0))
        rows += [(f"{name}    {frames} frames", clip, 0.0) for clip, name, frames in clips]
        if key[0]:
            rows += [
                (f"{t.label}    pose", RANGE_TEST, (i + 0.5) * TRIAL_FRAMES / 30) for i, t in enumerate(session.trials)
            ]
        kept = {t.id: t for t in own}
        rows[2:2] = [(f"{t.name}    kept", t.id, 0.0) for t in own] if key[0] else []
        for text, source, at in rows:
            item = QListWidgetItem(text)
            if source in kept and kept[source].picture is not None:
                item.setIcon(self._picture(kept[source].picture))
            item.setData(Qt.ItemDataRole.UserRole, (source, at))
            self.list.addItem(item)
            item.setSelected(source == session.source and at == 0.0)
        if not rows:
            first = "Open a mesh to begin" if character is None else "They come with the joints"
            item = QListWidgetItem(first)
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)

    def _picture(self, image: Image) -> QIcon:
        if id(image) not in self.pictures:
            pixmap = QPixmap()
            pixmap.loadFromData(image.data, "JPEG" if image.kind == "image/jpeg" else "PNG")
            self.pictures[id(image)] = QIcon(pixmap)
        return self.pictures[id(image)]

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
        self.watch = QualityWatch(session)
        self.watch.changed.connect(self.update)
        session.changed.connect(lambda *_: self.update())
        session.view_changed.connect(self.update)
        session.selection_changed.connect(self.update)
        session.time_changed.connect(self.update)

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
            if session.character is None or session.character.skeleton is None:
                text = "Trial poses, clips and time, once there are joints to move."
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
                text = painter.fontMetrics().elidedText(
                    trial.label.lower(), Qt.TextElideMode.ElideRight, int(b - a - 3)
                )
                painter.drawText(QRectF(a, base + 5, b - a, 16), Qt.AlignmentFlag.AlignCenter, text)
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
        self._draw_graph(painter, base + 24)
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

    def _draw_graph(self, painter: QPainter, top: float) -> None:
        """Girth kept, hanging from its rest; stretch, standing on it; dips past their limits marked."""
        watch, character = self.watch, self.session.character
        if not watch.times or character is None or character.skeleton is None:
            return
        region = watch.region
        name = character.skeleton.joint(region).name if region else "the whole skin"
        bottom = self.height() - 7.0
        half = top + (bottom - top) * 0.52
        row = watch.row(region)
        girth = [(k, f.girth) for k, f in enumerate(row) if f is not None and f.girth is not None]
        area = [(k, f.area) for k, f in enumerate(row) if f is not None and f.area is not None]
        stretch = [(k, f.stretch) for k, f in enumerate(row) if f is not None] if region else []
        if not region:
            stretch = [(k, v) for k, v in enumerate(watch.whole) if v is not None]
        before = [(k, f) for k, f in enumerate(watch.before) if f is not None]
        limit = girth_limit(self.session.character.skeleton, region)
        low = min([0.6, *[v for _, v in girth + area]])
        high = max([STRETCH_LIMIT + 0.2, *[v for _, v in stretch], *[f.stretch for _, f in before]])

        def girth_y(value: float) -> float:
            return top + 13 + (1.0 - min(value, 1.0)) / (1.0 - low) * (half - top - 17)

        def stretch_y(value: float) -> float:
            return bottom - (max(value, 1.0) - 1.0) / (high - 1.0) * (bottom - half - 13)

        madder, woad = QColor(current().madder), QColor(current().woad)
        faint = QPen(QColor(current().line), 1, Qt.PenStyle.DotLine)
        painter.setPen(QPen(QColor(current().line), 1))
        painter.drawLine(QPointF(LEFT, bottom), QPointF(self.width() - RIGHT, bottom))
        if girth:
            painter.drawLine(QPointF(LEFT, girth_y(1.0)), QPointF(self.width() - RIGHT, girth_y(1.0)))
            painter.setPen(faint)
            painter.drawLine(QPointF(LEFT, girth_y(limit)), QPointF(self.width() - RIGHT, girth_y(limit)))
        if stretch:
            painter.setPen(faint)
            painter.drawLine(
                QPointF(LEFT, stretch_y(STRETCH_LIMIT)), QPointF(self.width() - RIGHT, stretch_y(STRETCH_LIMIT))
            )
        dim = QColor(current().soft)
        self._line(
            painter,
            [(k, girth_y(f.girth)) for k, f in before if f.girth is not None],
            QPen(dim, 1.1, Qt.PenStyle.DashLine),
        )
        self._line(painter, [(k, stretch_y(f.stretch)) for k, f in before], QPen(dim, 1.1, Qt.PenStyle.DashLine))
        thin = QColor(woad)
        thin.setAlphaF(0.55)
        self._line(painter, [(k, girth_y(v)) for k, v in area], QPen(thin, 1.2))
        self._line(painter, [(k, girth_y(v)) for k, v in girth], QPen(woad, 1.8))
        self._line(painter, [(k, stretch_y(v)) for k, v in stretch], QPen(madder, 1.6))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(madder)
        for k in self.dips():
            x = self.x_of(watch.times[k])
            painter.drawPolygon(QPolygonF([QPointF(x, half - 6), QPointF(x - 4, half + 1), QPointF(x + 4, half + 1)]))
        right = Qt.AlignmentFlag.AlignRight
        space = self.width() - LEFT - RIGHT
        if girth:
            k, worst = min(girth, key=lambda r: r[1])
            painter.setPen(woad)
            text = f"girth kept at {name}, worst {worst:.2f} at frame {self._frame(k)}"
            text += f", area {min(v for _, v in area):.2f}" if area else ""
            if before and any(f.girth is not None for _, f in before):
                text += f" (weave {min(f.girth for _, f in before if f.girth is not None):.2f})"
            painter.drawText(QRectF(LEFT, top - 3, space, 14), right, text)
        if stretch:
            k, worst = max(stretch, key=lambda r: r[1])
            painter.setPen(madder)
            text = f"stretch of {name}, worst {worst:.2f} at frame {self._frame(k)}"
            if before:
                text += f" (weave {max(f.stretch for _, f in before):.2f})"
            text += crossing_text([c for c in watch.crossing if c is not None], watch.region)
            painter.drawText(QRectF(LEFT, half - 1, space, 14), right, text)
        elif not girth:
            painter.setPen(QColor(current().soft))
            painter.drawText(QRectF(LEFT, top, space, 16), right, "measuring…")

    def _line(self, painter: QPainter, points: list[tuple[int, float]], pen: QPen) -> None:
        if len(points) > 1:
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF([QPointF(self.x_of(self.watch.times[k]), y) for k, y in points]))

    def _frame(self, k: int) -> int:
        return round(self.watch.times[k] * self.session.rate)

    def dips(self) -> list[int]:
        """Samples where the region in hand is worst among its neighbours and past a limit."""
        region, row = self.watch.region, self.watch.row(self.watch.region)
        found: list[int] = []
        skeleton = self.session.character.skeleton
        for k, f in enumerate(row):
            if f is None or not doubtful(skeleton, region, f):
                continue
            near = [g for g in row[max(k - 2, 0) : k + 3] if g is not None]
            if _badness(f) >= max(_badness(g) for g in near) - 1e-9 and not (found and k - found[-1] < 3):
                found.append(k)
        return found

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
        near_dip = [k for k in self.dips() if abs(self.x_of(self.watch.times[k]) - x) < 9]
        if near_dip and y > 50:
            self._go_to_dip(min(near_dip, key=lambda k: abs(self.x_of(self.watch.times[k]) - x)))
            return
        self._scrub(x)

    def _go_to_dip(self, k: int) -> None:
        """Time goes to the dip, and the stage to the joint."""
        session = self.session
        session.go_to(self.watch.times[k])
        frame, character = session.frame(), session.character
        region = self.watch.region
        if region and frame is not None:
            if session.area not in (Area.WEIGHTS, Area.CONTROLS, Area.MOTION):
                session.set_area(Area.WEIGHTS)
            session.look_at.emit(frame.joints[character.skeleton.index[region]][:3, 3])

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


def crossing_text(found: list[Crossing], region: str) -> str:
    """How many faces pass through others at most, near the joint in hand or between which parts."""
    worst = max(found, key=lambda c: c.faces, default=None)
    if worst is None or worst.faces == 0:
        return ""
    if region:
        here = max(c.joints.get(region, 0) for c in found)
        return (
            f"  ·  {here} faces cross here, {worst.faces} anywhere"
            if here
            else f"  ·  {worst.faces} faces cross elsewhere"
        )
    a, b, count = worst.between[0]
    where = f"within {a}" if a == b else f"of {a} with {b}"
    return f"  ·  {worst.faces} faces cross, {count} {where}"


def _badness(f: Figures) -> float:
    """One number to order a region's samples by: what is lost of girth and area, what is gained in length."""
    return (
        (1.0 - (f.girth if f.girth is not None else 1.0))
        + (1.0 - (f.area if f.area is not None else 1.0))
        + (f.stretch - 1.0)
    )
