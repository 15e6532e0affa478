"""Hears a capture desk: a UDP socket on loopback alone, on a thread of its own."""

from __future__ import annotations

import contextlib
import select
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from pegloom.core.errors import PegLoomError
from pegloom.files.desk.osc import PacketError
from pegloom.files.desk.packets import Body, Frame, read_packet

HOST, PORT = "127.0.0.1", 39640
LARGEST = 65_507
"""Bytes of a UDP packet."""
WAITS = 0.1
"""Seconds after which it looks whether it is still wanted."""
WAITING_ROOM = 1 << 20
"""Bytes of packets that may wait while one is worked on."""


class DeskError(PegLoomError):
    """What keeps a desk from being heard."""


@dataclass(frozen=True, slots=True)
class Heard:
    """What has come so far. missing : frames that never came, by their numbers. wrong : packets that make no sense; why : the last
    one's reason. body : the name of who performs, "" for nobody yet. last : when the last frame came (monotonic seconds), 0 for never."""

    packets: int = 0
    frames: int = 0
    missing: int = 0
    wrong: int = 0
    why: str = ""
    body: str = ""
    joints: int = 0
    last: float = 0.0


class Listener:
    """Tells `on_frame(body, frame, arrived)` of every frame in its order, on its own thread. arrived : monotonic seconds.

    What `on_frame` raises is taken as a wrong packet's reason: the next one is heard all the same. Raises DeskError where the port is
    taken.
    """

    def __init__(self, on_frame: Callable[[Body, Frame, float], None], port: int = PORT) -> None:
        self.on_frame = on_frame
        self.heard = Heard()
        self.body: Body | None = None
        self._last: Frame | None = None
        self._ended = threading.Event()
        if not 1024 <= port <= 65535:
            raise DeskError(f"port {port} cannot be listened to; choose one from 1024 to 65535")
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, WAITING_ROOM)
            self.socket.settimeout(WAITS)
            self.socket.bind((HOST, port))
        except OSError as error:
            self.socket.close()
            raise DeskError(f"port {port} cannot be listened to ({error.strerror or error}); close what listens there, or choose another port") from None
        self.port = port
        self.thread = threading.Thread(target=self._run, name="capture desk", daemon=True)
        self.thread.start()

    @property
    def waiting(self) -> bool:
        """Whether another packet has come already."""
        return bool(select.select([self.socket], [], [], 0.0)[0])

    def close(self) -> None:
        """Hear nothing more."""
        self._ended.set()
        # It wakes by what it waits for, and need not be waited for itself.
        with contextlib.suppress(OSError):
            self.socket.sendto(b"", (HOST, self.port))
        if self.thread is not threading.current_thread():
            self.thread.join(2.0)
        self.socket.close()

    def _run(self) -> None:
        while not self._ended.is_set():
            try:
                packet, sender = self.socket.recvfrom(LARGEST)
            except TimeoutError:
                continue
            except OSError:
                if self._ended.is_set():
                    return
                time.sleep(WAITS)
                continue
            arrived = time.monotonic()
            if sender[0] != HOST or self._ended.is_set():
                continue
            self.heard = replace(self.heard, packets=self.heard.packets + 1)
            try:
                self._hear(packet, arrived)
            except Exception as error:
                # Whatever a packet does, the next one is heard.
                why = str(error) if isinstance(error, PegLoomError) else f"{type(error).__name__}: {error}"
                self.heard = replace(self.heard, wrong=self.heard.wrong + 1, why=why[:200])

    def _hear(self, packet: bytes, arrived: float) -> None:
        told = read_packet(packet, len(self.body.skeleton.joints) if self.body is not None else None)
        if isinstance(told, Body):
            if self.body is None or told.sign != self.body.sign:
                self.body = told
                self._last = None
            elif told.number != self.body.number:
                # The same one described again, by a desk that was started anew.
                self.body = replace(self.body, number=told.number, rate=told.rate)
                self._last = None
            self.heard = replace(self.heard, body=told.name, joints=len(told.skeleton.joints))
            return
        if not isinstance(told, Frame) or self.body is None:
            raise PacketError("a packet of another kind")
        if told.body != self.body.number:
            raise PacketError("a frame of a body that was not described")
        before = self._last
        missing = 0
        if before is not None:
            if told.number <= before.number and before.number - told.number < 1000:
                raise PacketError("a frame that comes too late")
            missing = told.number - before.number - 1 if 0 < told.number - before.number < 100_000 else 0
        self._last = told
        self.heard = replace(self.heard, frames=self.heard.frames + 1, missing=self.heard.missing + missing, last=arrived)
        self.on_frame(self.body, told, arrived)
