"""Work nobody waits for: what may be wanted next, and what is watched. One small pool, paused while the hand is at work."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from PyQt6.QtCore import QObject, QTimer

LOOK_EVERY = 15
"""Milliseconds between two looks at what has ended."""
AT_ONCE = 2


class Order(IntEnum):
    """What goes first."""

    LIVE = 0
    """What a hand at work changes, to be seen at once."""
    LOOK = 1
    """A clip that is looked at."""
    WORDS = 2
    """What words that were typed lead to."""
    STILLS = 3
    """Small figures in a list."""
    AHEAD = 4
    """Worked out in case it is wanted: what a stroke begins with, what meshes need to be shown."""
    FIGURES = 5
    """What is said of something beside it."""
    SNAGS = 6
    QUALITY = 7


AWAITED = frozenset({Order.LIVE, Order.LOOK, Order.WORDS, Order.STILLS})
"""What somebody waits for: it is never paused, and begun beside all else."""


@dataclass(frozen=True, slots=True)
class Task:
    """work() on a thread, over frozen data; done(result) on the UI thread, an exception as its result."""

    order: Order
    work: Callable[[], Any]
    done: Callable[[Any], None]


class Background(QObject):
    """Of each order one task waits at most: a newer one takes the place of one not begun. paused: asked before each is
    begun; what runs already goes on."""

    def __init__(self, paused: Callable[[], bool], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.paused = paused
        self.closed = False
        """Work that looks at it between its steps ends sooner."""
        self.waiting: dict[Order, Task] = {}
        self.running: list[tuple[Task, Future[Any]]] = []
        self.pool = ThreadPoolExecutor(max_workers=AT_ONCE + len(AWAITED), thread_name_prefix="background")
        self.timer = QTimer(self)
        self.timer.setInterval(LOOK_EVERY)
        self.timer.timeout.connect(self._look)

    def put(self, order: Order, work: Callable[[], Any], done: Callable[[Any], None] = lambda _: None) -> None:
        """Have something worked out when nothing else goes on."""
        self.waiting[order] = Task(order, work, done)
        if not self.timer.isActive():
            self.timer.start()

    def drop(self, order: Order) -> None:
        """What waits of this order is not wanted any more."""
        self.waiting.pop(order, None)

    def busy(self, order: Order) -> bool:
        """Whether something of this order runs or waits."""
        return order in self.waiting or any(task.order is order for task, _ in self.running)

    def _look(self) -> None:
        ended = [pair for pair in self.running if pair[1].done()]
        self.running = [pair for pair in self.running if not pair[1].done()]
        for task, future in ended:
            error = future.exception()
            task.done(future.result() if error is None else error)
        if not self.waiting and not self.running:
            self.timer.stop()
            return
        paused = self.paused()
        for order in sorted(self.waiting):
            if paused and order not in AWAITED:
                continue
            # Two of one kind would only be in each other's way.
            if (order in AWAITED or len(self.running) < AT_ONCE) and all(task.order is not order for task, _ in self.running):
                task = self.waiting.pop(order)
                self.running.append((task, self.pool.submit(task.work)))

    def stop(self) -> None:
        """No more work: the window closes."""
        self.closed = True
        self.waiting.clear()
        self.timer.stop()
        self.pool.shutdown(wait=True, cancel_futures=True)
