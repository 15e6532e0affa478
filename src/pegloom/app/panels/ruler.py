"""The ruler: frames, keys, names of trials, the present time."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPaintEvent, QPen, QPolygonF

from pegloom.app.context import Context
from pegloom.app.panels.lanes import LEFT, RIGHT, TimeWidget
from pegloom.app.state.state import RANGE_TEST, TRIAL_FRAMES, State
from pegloom.app.theme import current
from pegloom.document import edits

TOP = 6
HEIGHT = 52


class Ruler(TimeWidget):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("strip.ruler")
        self.setAccessibleName("Time")
        self.setFixedHeight(HEIGHT)
        self.dragged_key: float | None = None

    def key(self, state: State) -> tuple[object, ...]:
        skeleton = state.character.skeleton if state.character is not None else None
        return (*super().key(state), skeleton, state.layer)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = self.painter()
        c, rate = self.c, self.c.state.rate
        begin, end = (round(t * rate) for t in c.state.played)
        total = end - begin
        base = TOP + 20
        painter.setPen(QPen(QColor(current().line), 1))
        painter.drawLine(QPointF(LEFT, base), QPointF(self.width() - RIGHT, base))
        if not c.state.clock.source:
            painter.setPen(QColor(current().soft))
            text = "Pick the range test, a clip or a pose on the left to scrub through it here."
            if c.state.character is None or c.state.character.skeleton is None:
                text = "Trial poses, clips and time, once there are joints to move."
            painter.drawText(QRectF(LEFT, base + 12, self.width() - 40, 20), Qt.AlignmentFlag.AlignLeft, text)
            painter.end()
            return
        step = next((s for s in (1, 5, 10, 20, 30, 60, 120, 300, 600) if total / s <= 16), 1200)
        small = max(step // 5, 1)
        for frame in range(begin - begin % small + (small if begin % small else 0), end + 1, small):
            x = self.x_of(frame / rate)
            tall = frame % step == 0
            painter.setPen(QPen(QColor(current().faint if tall else current().line), 1))
            painter.drawLine(QPointF(x, base - (9 if tall else 4)), QPointF(x, base))
            if tall and x < self.width() - 34:
                painter.setPen(QColor(current().soft))
                painter.drawText(QRectF(x + 3, TOP - 4, 60, 14), Qt.AlignmentFlag.AlignLeft, str(frame))
        clip = c.state.clip
        if c.state.clock.source == RANGE_TEST:
            painter.setPen(QColor(current().soft))
            for i, trial in enumerate(c.state.trials):
                a, b = self.x_of(i * TRIAL_FRAMES / 30), self.x_of((i + 1) * TRIAL_FRAMES / 30)
                text = painter.fontMetrics().elidedText(
                    trial.label.lower(), Qt.TextElideMode.ElideRight, int(b - a - 3)
                )
                painter.drawText(QRectF(a, base + 5, b - a, 16), Qt.AlignmentFlag.AlignCenter, text)
        elif clip is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            layer = c.state.layer
            for time in clip.key_times if layer is None else layer.key_times:
                if not self.start - 1e-6 <= time <= self.start + self.span + 1e-6:
                    continue
                x, y = self.x_of(time), base + 13
                here = abs(time - c.state.clock.time) < 0.5 / rate
                painter.setBrush(QColor(current().woad if here else current().soft))
                painter.drawPolygon(
                    QPolygonF([QPointF(x, y - 5), QPointF(x + 4, y), QPointF(x, y + 5), QPointF(x - 4, y)])
                )
            empty = not clip.key_times and not clip.tracks if layer is None else not layer.curves
            if empty:
                where = f"in {layer.name} " if layer is not None else ""
                text = f"No keys {where}yet: pose a control and press {c.actions.key('keys.write') or 'Set key'}."
                painter.setPen(QColor(current().soft))
                painter.drawText(QRectF(LEFT, base + 6, 500, 18), Qt.AlignmentFlag.AlignLeft, text)
        if c.state.clock.shown_rate:
            painter.setPen(QColor(current().madder))
            text = f"shows {c.state.clock.shown_rate:.0f} of {rate:.0f} frames a second; the time holds"
            painter.drawText(QRectF(self.width() - RIGHT - 330, base + 5, 330, 16), Qt.AlignmentFlag.AlignRight, text)
        elif c.state.clock.part is not None:
            painter.setPen(QColor(current().soft))
            painter.drawText(QRectF(self.width() - RIGHT - 330, base + 5, 330, 16), Qt.AlignmentFlag.AlignRight, f"frames {begin} to {end} of {round(c.state.length * rate)}")
        x = self.x_of(c.state.clock.time)
        self.draw_now(painter, TOP + 4, self.height())
        text = "rest" if c.state.at_rest else str(round(c.state.clock.time * rate))
        box = QRectF(x - 17, TOP - 4, 34, 15)
        box.moveLeft(min(max(box.left(), 1.0), self.width() - 36.0))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(current().text))
        painter.drawRoundedRect(box, 4, 4)
        painter.setPen(QColor(current().window))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        painter.end()

    # Mouse

    def pressed(self, event: QMouseEvent) -> bool:
        x, y = event.position().x(), event.position().y()
        clip = self.c.state.clip
        keyed = clip if self.c.state.layer is None else self.c.state.layer
        near = [t for t in keyed.key_times if abs(self.x_of(t) - x) < 6] if keyed is not None and y > 24 else []
        if near:
            self.dragged_key = near[0]
            self.c.player.go_to(near[0])
        return bool(near)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        old, self.dragged_key = self.dragged_key, None
        clip = self.c.state.clip
        if old is None or clip is None:
            return
        new = self.c.state.snapped_time
        if abs(new - old) > 0.4 / clip.rate:
            layer = self.c.state.layer
            self.c.try_edit("Move keys", lambda d: edits.move_key(d, clip.id, old, new, layer="" if layer is None else layer.id))
