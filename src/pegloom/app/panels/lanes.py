"""What the ruler and the lanes under it share: one time, drawn across their width, gone to by the mouse."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPen

from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current
from pegloom.app.widgets.panel import Panel

LEFT, RIGHT = 18, 16
"""Pixels left free on both sides."""


class TimeWidget(Panel):
    """A row of the strip. Subclasses paint and say what they depend on besides the time."""

    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.start, self.span = 0.0, c.state.length
        """Where the width begins, and seconds across it, as shown last."""

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clock, state.at_rest, state.clip, state.kept_pose, state.trials, state.length, state.rate)

    def show_state(self, state: State) -> None:
        first, last = state.played
        self.start, self.span = first, last - first
        self.update()

    def x_of(self, seconds: float) -> float:
        """Pixel of a time."""
        return LEFT + (self.width() - LEFT - RIGHT) * (seconds - self.start) / max(self.span, 1e-6)

    def time_at(self, x: float) -> float:
        return self.start + (x - LEFT) / max(self.width() - LEFT - RIGHT, 1) * self.span

    def painter(self) -> QPainter:
        """A painter with the strip's font."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        font = QFont("Figtree")
        font.setPixelSize(11)
        painter.setFont(font)
        return painter

    def draw_now(self, painter: QPainter, top: float, bottom: float) -> None:
        """The line of the present time."""
        x = self.x_of(self.c.state.clock.time)
        painter.setPen(QPen(QColor(current().text), 1.5))
        painter.drawLine(QPointF(x, top), QPointF(x, bottom))

    def scrub(self, x: float) -> None:
        """Go to the time at a pixel, on a whole frame."""
        rate = self.c.state.rate
        self.c.player.go_to(round(self.time_at(x) * rate) / rate)

    def pressed(self, event: QMouseEvent) -> bool:
        """Something of the lane's own under a press; True where it took it."""
        return False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if not self.c.state.clock.source or event.button() != Qt.MouseButton.LeftButton:
            return
        self.c.player.stop()
        if not self.pressed(event):
            self.scrub(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.buttons() & Qt.MouseButton.LeftButton and self.c.state.clock.source:
            self.scrub(event.position().x())
