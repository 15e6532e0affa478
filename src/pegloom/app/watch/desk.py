"""The capture desk: frames of a live performance, shown on the character as they come, and recorded.

Packets are heard on a thread of its own, which poses the character's points, too: the window only draws what is there.
"""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections import deque
from dataclasses import dataclass, replace

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal
from scipy.spatial.transform import Rotation

from pegloom.app.state.frames import Frames
from pegloom.app.state.state import CAPTURE
from pegloom.app.state.store import Store
from pegloom.core.arrays import FloatArray
from pegloom.core.errors import PegLoomError
from pegloom.core.motion.capture import Recording
from pegloom.core.motion.retarget.live import LiveCarry, places_of
from pegloom.core.rig.pose import JointPose
from pegloom.document.edits.borrow import known_pairing, soles_here
from pegloom.document.evaluate import PosedFrame, evaluate
from pegloom.document.model import Character
from pegloom.files.desk import PORT, Body, Frame, Heard, Listener
from pegloom.files.reports import unforeseen

STOPPED = 0.5
"""Seconds without a frame from which on the desk counts as stopped."""
COUNTED = 240
"""Frames over which speed and rate are told."""
SHOWN_EVERY = 1.0 / 30.0
"""Where frames come faster than they can be posed, one is posed at least so often."""
NOTHING = Heard()


@dataclass(frozen=True)
class DeskState:
    """What a person is told. listening : whether the port is open. rate : frames a second that come. posed_ms : within so many
    milliseconds of its packet 95 of 100 frames are posed, None for not known yet. why : what keeps it from being shown."""

    listening: bool = False
    port: int = PORT
    heard: Heard = NOTHING
    stopped: bool = True
    rate: float = 0.0
    posed_ms: float | None = None
    why: str = ""
    recording: bool = False
    frames: int = 0
    seconds: float = 0.0
    simulated: bool = False


@dataclass(frozen=True, eq=False)
class _Shown:
    character: Character
    pose: JointPose
    frame: PosedFrame


class Desk(QObject):
    """moved : a frame is posed. drawn : it is what the view has to draw now."""

    moved = pyqtSignal()
    drawn = pyqtSignal()

    def __init__(self, store: Store, frames: Frames, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.store, self.frames = store, frames
        self.listener: Listener | None = None
        self.plant = True
        self.recording: Recording | None = None
        self.wants_recording = False
        self.last: Recording | None = None
        """The last take as it came, as long as it may be made anew."""
        self.simulation: subprocess.Popen[bytes] | None = None
        self._carry: tuple[Body, Character, bool, LiveCarry] | None = None
        self._rows: FloatArray | None = None
        self._newest: _Shown | None = None
        self._pending = False
        self._why = self._mixed = ""
        self._shown_at = 0.0
        self._took: deque[float] = deque(maxlen=COUNTED)
        self._came: deque[float] = deque(maxlen=COUNTED)
        self.moved.connect(self._show)

    # What the window asks for

    def open(self, port: int) -> None:
        """Listen on a port of loopback. Raises DeskError where that cannot be."""
        self.close()
        self._forget()
        self.listener = Listener(self._heard, port)

    def close(self) -> None:
        """Listen no more; what was recorded stays in hand."""
        listener, self.listener = self.listener, None
        if listener is not None:
            listener.close()

    def record(self) -> None:
        """Keep what comes from now on."""
        self.recording, self.wants_recording, self._mixed = None, True, ""

    def stop(self) -> Recording | None:
        """Keep no more. Returns what was recorded; None for nothing."""
        self.wants_recording = False
        take, self.recording, self._mixed = self.recording, None, ""
        self.last = take if take is not None and len(take) > 1 else self.last
        return take

    def simulate(self, on: bool, port: int = PORT) -> None:
        """Start the simulated desk as a process of its own, or stop it."""
        if self.simulation is not None:
            self.simulation.terminate()
            self.simulation = None
        if on:
            command = [sys.executable, "-m", "pegloom", "capture-desk", "--port", str(port), "--parent", str(os.getpid())]
            self.simulation = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL)
            # A process that ended has to be waited for; the window itself waits for nothing.
            threading.Thread(target=self.simulation.wait, daemon=True).start()

    @property
    def state(self) -> DeskState:
        listener, take = self.listener, self.recording
        if self.simulation is not None and self.simulation.poll() is not None:
            self.simulation = None
        told = DeskState(recording=self.wants_recording, frames=len(take) if take is not None else 0, seconds=take.seconds if take is not None else 0.0, simulated=self.simulation is not None)
        if listener is None:
            return told
        came, took = list(self._came), sorted(self._took)
        rate = (len(came) - 1) / (came[-1] - came[0]) if len(came) > 2 and came[-1] > came[0] else 0.0
        stopped = time.monotonic() - listener.heard.last > STOPPED
        p95 = 1000.0 * took[int(0.95 * (len(took) - 1))] if len(took) > 10 else None
        return replace(told, listening=True, port=listener.port, heard=listener.heard, stopped=stopped, rate=0.0 if stopped else rate, posed_ms=p95, why=self._mixed or self._why)

    # On the listener's thread

    def _forget(self) -> None:
        self._carry, self._rows, self._newest, self._why = None, None, None, ""
        self._took.clear()
        self._came.clear()

    def _heard(self, body: Body, frame: Frame, arrived: float) -> None:
        self._came.append(arrived)
        if self.wants_recording:
            take = self.recording
            if take is None or take.skeleton is not body.skeleton:
                if take is not None and len(take) > 1:
                    # Somebody else performs: what was recorded of the one before is not mixed up with them.
                    self._mixed = f"{body.name} performs now; the take holds who did before"
                    take = None
                else:
                    take = self.recording = Recording(body.skeleton, body.rate)
            if take is not None:
                take.add(frame.seconds, frame.rows, arrived)
        state = self.store.state
        character = state.document.character
        if state.clock.source != CAPTURE or character is None or character.skeleton is None:
            return
        listener = self.listener
        if listener is not None and listener.waiting and arrived - self._shown_at < SHOWN_EVERY:
            return
        self._shown_at = arrived
        carry = self._carried(body, character)
        if carry is None:
            return
        before = self._rows if self._rows is not None and len(self._rows) == len(frame.rows) else np.concatenate([body.skeleton.local[:, :3, 3], _turns(body)], axis=1)
        self._rows = np.where(np.isfinite(frame.rows), frame.rows, before)
        pose = carry.pose(places_of(body.skeleton, self._rows), frame.seconds)
        self._newest = _Shown(character, pose, evaluate(character, pose))
        self._took.append(time.monotonic() - arrived)
        if not self._pending:
            self._pending = True
            self.moved.emit()

    def _carried(self, body: Body, character: Character) -> LiveCarry | None:
        known = self._carry
        if known is not None and known[0].skeleton is body.skeleton and known[2] is self.plant and known[1].skeleton is character.skeleton and known[1].skin is character.skin:
            return known[3]
        self._carry, self._why = None, ""
        assert character.skeleton is not None
        try:
            carry = LiveCarry(
                body.skeleton, character.skeleton, name=body.name, soles=soles_here(character), limits=character.rig.limits if character.rig is not None else (),
                plant=self.plant, pairing=lambda source: known_pairing(character, source),
            )  # fmt: skip
        except PegLoomError as error:
            self._why = str(error)
            return None
        except Exception as error:
            self._why = unforeseen(error)
            return None
        self._carry = (body, character, self.plant, carry)
        return carry

    # On the window's thread

    def _show(self) -> None:
        self._pending = False
        newest, state = self._newest, self.store.state
        if newest is not None and state.clock.source == CAPTURE and newest.character is state.character:
            self.frames.take_capture(newest.character, newest.pose, newest.frame)
            self.drawn.emit()


def _turns(body: Body) -> FloatArray:
    return Rotation.from_matrix(body.skeleton.local[:, :3, :3]).as_quat()
