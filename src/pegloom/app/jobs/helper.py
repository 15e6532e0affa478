"""A helper process for single calls that would hold the interpreter, and so the UI, for long."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, TimeoutError
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from pegloom.core.jobs import Cancelled


class Helper:
    """One process, started on first use and kept. When it cannot run, calls are made here instead."""

    def __init__(self) -> None:
        self.pool: ProcessPoolExecutor | None = None

    def start(self) -> None:
        """Start the process ahead of need."""
        if self.pool is None:
            self.pool = ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn"))
            self.pool.submit(_nothing)

    def offload(self, function: Callable[..., Any], *arguments: Any, waiting: Callable[[], None] | None = None) -> Any:
        """function(*arguments) in the helper; it and its arguments must be picklable.

        waiting : called while it waits; it may raise Cancelled, and the process is then left to end by itself.
        """
        try:
            self.start()
            assert self.pool is not None
            call = self.pool.submit(function, *arguments)
            while True:
                try:
                    return call.result(timeout=0.05)
                except TimeoutError:
                    if waiting is not None:
                        waiting()
        except Cancelled:
            self.stop()
            raise
        except (BrokenProcessPool, OSError, RuntimeError):
            self.pool = None
            return function(*arguments)

    def stop(self) -> None:
        """End the process."""
        if self.pool is not None:
            self.pool.shutdown(wait=False, cancel_futures=True)
            self.pool = None


def _nothing() -> None:
    from pegloom.core.geometry import operators  # noqa: F401 - imported ahead, so that the first call is quick
