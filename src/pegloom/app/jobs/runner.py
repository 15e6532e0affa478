"""One long job at a time, on a thread, over a snapshot; progress and cancel by signals."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PyQt6.QtCore import QObject, QThread, pyqtSignal

from pegloom.app.jobs.helper import Helper
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Cancelled, Progress
from pegloom.files.reports import unforeseen


@dataclass
class Job:
    """One piece of long work.

    work : work(progress), on a thread, over frozen data.
    done : done(result), on the UI thread.
    begin : on the UI thread when its turn comes: what it works on is taken then, not when it was asked for.
    ended : on the UI thread at its end, however it ended.
    must_end : the window is not closed before it has: it writes a file.
    """

    title: str
    work: Callable[[Progress], Any]
    done: Callable[[Any], None]
    begin: Callable[[], None] = lambda: None
    ended: Callable[[], None] = lambda: None
    must_end: bool = False
    stop: threading.Event = field(default_factory=threading.Event)


class _Thread(QThread):
    progressed = pyqtSignal(float, str)
    ended = pyqtSignal(object, object)

    def __init__(self, job: Job, prepare: Callable[[Any], None]) -> None:
        super().__init__()
        self.job, self.prepare = job, prepare
        self.last = 0.0

    def run(self) -> None:
        def progress(fraction: float, text: str) -> None:
            if self.job.stop.is_set():
                raise Cancelled
            now = time.monotonic()
            if fraction < 0:
                return  # only asked whether to go on
            if now - self.last > 0.03 or fraction >= 1.0:
                self.last = now
                self.progressed.emit(fraction, text)

        try:
            result = self.job.work(progress)
            self.prepare(result)
            if self.job.stop.is_set():
                raise Cancelled
            self.ended.emit(result, None)
        except BaseException as error:  # every failure is reported on the UI thread
            self.ended.emit(None, error)


class JobRunner(QObject):
    """Runs jobs one after the other; one asked for while another is under way waits its turn and says so.

    prepare : given each result, still on the thread: what showing it would ask for is worked out there.
    """

    started = pyqtSignal(str)
    progressed = pyqtSignal(float, str)
    finished = pyqtSignal()
    failed = pyqtSignal(str)
    waiting = pyqtSignal(str)
    """waiting(text): a job waits its turn."""

    def __init__(self, parent: QObject | None = None, *, prepare: Callable[[Any], None] = lambda _: None) -> None:
        super().__init__(parent)
        self.prepare = prepare
        self.queue: deque[Job] = deque()
        self.thread_: _Thread | None = None
        self.helper = Helper()
        self.closed = False

    @property
    def busy(self) -> bool:
        return self.thread_ is not None or bool(self.queue)

    @property
    def must_end(self) -> bool:
        """Whether a file is being written, or waits to be."""
        running = [self.thread_.job] if self.thread_ is not None else []
        return any(job.must_end for job in (*running, *self.queue))

    def start(self, job: Job) -> None:
        """Start a job, or let it wait its turn."""
        self.queue.append(job)
        if self.thread_ is None:
            self._next()
        else:
            self.waiting.emit(f"{job.title} waits until this is done: {self.thread_.job.title}")

    def _next(self) -> None:
        if not self.queue or self.closed:
            return
        job = self.queue.popleft()
        job.begin()
        thread = _Thread(job, self.prepare)
        self.thread_ = thread
        thread.progressed.connect(self.progressed)
        thread.ended.connect(lambda result, error: self._end(thread, result, error))
        self.started.emit(job.title + (f"  ({len(self.queue)} more waiting)" if self.queue else ""))
        thread.start()

    def cancel(self) -> None:
        """Ask the running job to stop."""
        if self.thread_ is not None:
            self.thread_.job.stop.set()

    def _end(self, thread: _Thread, result: Any, error: BaseException | None) -> None:
        thread.wait()
        if self.closed:
            return
        self.thread_ = None
        self.finished.emit()
        if error is None:
            try:
                thread.job.done(result)
            except Exception as failure:  # what fails here must not keep the jobs behind it from their turn
                error = failure
        if error is not None and not isinstance(error, Cancelled):
            text = str(error) if isinstance(error, PegLoomError) else f"{thread.job.title}: {unforeseen(error)}"
            self.failed.emit(text)
        thread.job.ended()
        if self.thread_ is None:
            self._next()

    def shut_down(self) -> None:
        """Stop what runs and wait for it; what it still brings is dropped."""
        self.closed = True
        self.queue.clear()
        if self.thread_ is not None:
            self.thread_.job.stop.set()
            if self.thread_.wait(5000):
                self.thread_ = None
        self.helper.stop()
