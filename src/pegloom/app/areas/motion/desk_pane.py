"""The capture desk's pane: whether somebody sends, the take under way, and how takes are made."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout

from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto
from pegloom.app.areas.motion.capturing import DeskSettings, Smooth, back, plant, settings, toggle
from pegloom.app.context import Context
from pegloom.app.state.state import CAPTURE, State
from pegloom.app.theme import put_icon
from pegloom.app.watch.desk import DeskState
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.fields import choice, number, tick, whole
from pegloom.app.widgets.panel import Panel
from pegloom.core.arrays import FloatArray

LOOKS = 250
"""Milliseconds between two looks at the desk."""


class DeskPane(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("desk.pane")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(7)
        head = QHBoxLayout()
        head.addWidget(label("Capture desk", "area"))
        head.addStretch(1)
        shut = button("", "desk.close", lambda: toggle(c), role="plain", tip="Close (Esc)")
        shut.setAccessibleName("Close the capture desk")
        put_icon(shut, "x")
        head.addWidget(shut)
        column.addLayout(head)
        q = c.actions.qactions
        column.addWidget(label("A performer's joints, sent over this machine's own loopback, move this character as they come.", "caption", wrap=True))
        line = QHBoxLayout()
        line.addWidget(label("Port", "soft"))
        port = whole(self, DeskSettings, "port", 1024, 65535, name="desk.port")
        port.setAccessibleName("Port")
        self.port = port
        line.addWidget(port, 1)
        self.listen = action_button(q["desk.listen"], "Listen")
        line.addWidget(self.listen, 1)
        column.addLayout(line)
        self.simulated = action_button(q["desk.simulate"], "Start the simulated desk")
        column.addWidget(self.simulated)
        self.state_line = label("", wrap=True, name="desk.state")
        self.details = label("", "caption", wrap=True, name="desk.details")
        self.wrong = label("", "warning", wrap=True, name="desk.wrong")
        for one in (self.state_line, self.details, self.wrong):
            column.addWidget(one)
        feet = tick(self, DeskSettings, "plant", "Hold planted feet", name="desk.plant", tip="Feet stay where the performer's stand; without, the motion is shown as it comes")
        feet.toggled.connect(lambda on: plant(c, on))
        column.addWidget(feet)
        column.addWidget(tick(self, DeskSettings, "follow", "The view goes along", name="desk.follow", tip="Who walks stays in sight"))
        self.at: FloatArray | None = None
        c.desk.drawn.connect(self._go_along)
        self.back = button("Show it live again", "desk.back", lambda: back(c), tip="The strip plays something else just now")
        column.addWidget(self.back)
        column.addSpacing(6)
        self.record = action_button(q["desk.record"], "Record", role="main")
        column.addWidget(self.record)
        self.take = label("", name="desk.take", wrap=True)
        column.addWidget(self.take)
        column.addSpacing(6)
        column.addWidget(label("Takes", "heading"))
        self.name = QLineEdit()
        self.name.setObjectName("desk.name")
        self.name.setAccessibleName("Name of takes")
        self.name.setPlaceholderText("take")
        self.name.editingFinished.connect(lambda: c.store.put_setting(DeskSettings, name=self.name.text()))
        smooth = choice(self, DeskSettings, "smooth", [(s.value, s) for s in Smooth], name="desk.smooth")
        smooth.setToolTip("Savitzky and Golay's filter: peaks keep their height")
        onto = choice(self, BorrowSettings, "onto", [(o.value, o) for o in Onto], name="desk.onto")
        for text, widget in (("Name", self.name), ("Smooth", smooth), ("Onto", onto)):
            line = QHBoxLayout()
            caption = label(text, "soft")
            caption.setFixedWidth(64)
            line.addWidget(caption)
            if text != "Name":
                widget.setAccessibleName(text)
            line.addWidget(widget, 1)
            column.addLayout(line)
        line = QHBoxLayout()
        line.addWidget(tick(self, DeskSettings, "part", "Trim", name="desk.part", tip="Keep only these seconds of the take"))
        self.first = number(self, DeskSettings, "first", 0.0, 1e5, name="desk.first", suffix=" s", step=0.1)
        self.last = number(self, DeskSettings, "last", 0.0, 1e5, name="desk.last", suffix=" s", step=0.1)
        self.first.setAccessibleName("Trim from")
        self.last.setAccessibleName("Trim to")
        line.addWidget(self.first, 1)
        line.addWidget(label("to", "soft"))
        line.addWidget(self.last, 1)
        column.addLayout(line)
        self.again = action_button(q["desk.again"], "Make the last take anew")
        column.addWidget(self.again)
        self.said = label("", "caption", wrap=True, name="desk.said")
        column.addWidget(self.said)
        column.addStretch(1)
        self.clock = QTimer(self)
        self.clock.setInterval(LOOKS)
        self.clock.timeout.connect(self._look)
        self.clock.start()

    def _go_along(self) -> None:
        """Move the camera over the ground as far as the figure has gone."""
        frame = self.c.frames.frame()
        if frame is None or not settings(self.c.state).follow or self.c.state.dragging or not len(frame.joints):
            self.at = None
            return
        camera = self.c.view.camera
        here = camera.world_from_figure[:3, :3] @ frame.joints[:, :3, 3].mean(axis=0) + camera.world_from_figure[:3, 3]
        if self.at is not None:
            x, y, z = camera.looks_at
            gone = here - self.at
            self.c.view.camera = replace(camera, looks_at=(x + float(gone[0]), y, z + float(gone[2])))
        self.at = here

    def _look(self) -> None:
        if not self.isVisible():
            return
        desk = self.c.desk.state
        if settings(self.c.state).listening and not desk.listening:
            # Another document was opened meanwhile.
            self.c.store.put_setting(DeskSettings, listening=False, recording=False)
        self._show(self.c.state, desk)

    def key(self, state: State) -> tuple[object, ...]:
        return (settings(state), state.clock.source == CAPTURE, state.character is None)

    def show_state(self, state: State) -> None:
        own = settings(state)
        if state.clock.source != CAPTURE:
            self.at = None
        self.port.setEnabled(not own.listening)
        self.listen.setText("Stop listening" if own.listening else "Listen")
        self.record.setText("Stop: it becomes a clip" if own.recording else "Record")
        self.back.setVisible(own.listening and state.clock.source != CAPTURE)
        self.again.setEnabled(own.taken)
        self.said.setText(own.said)
        if not self.name.hasFocus():
            self.name.setText(own.name)
        for box in (self.first, self.last):
            box.setEnabled(own.part)
        self._show(state, self.c.desk.state)

    def _show(self, state: State, desk: DeskState) -> None:
        self.simulated.setText("Stop the simulated desk" if desk.simulated else "Start the simulated desk")
        self.state_line.setText(line_of(desk))
        told = []
        heard = desk.heard
        if desk.listening and heard.body:
            told.append(f"{heard.body}: {heard.joints} joints")
        if desk.posed_ms is not None:
            told.append(f"posed within {desk.posed_ms:.0f} ms of the packet")
        if heard.missing:
            told.append(f"{heard.missing} frames never came")
        self.details.setText("; ".join(told))
        self.details.setVisible(bool(told))
        wrong = [desk.why] if desk.listening and desk.why else []
        if heard.wrong:
            wrong.append(f"{heard.wrong} packets make no sense ({heard.why})")
        self.wrong.setText("; ".join(wrong))
        self.wrong.setVisible(bool(wrong))
        if desk.recording:
            self.take.setText(f"Recording: {desk.seconds:.1f} s, {desk.frames} frames" + (", and the desk has stopped; what came is kept" if desk.stopped and desk.frames else ""))
        else:
            self.take.setText("")
        self.take.setVisible(desk.recording)


def line_of(desk: DeskState) -> str:
    """How the desk stands, in a line."""
    if not desk.listening:
        return "Not listening."
    if not desk.heard.last:
        return f"Nobody sends to port {desk.port} of this machine yet."
    if desk.stopped:
        return "The desk has stopped; it goes on here as soon as frames come again."
    return f"{desk.rate:.0f} frames a second."
