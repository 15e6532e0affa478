"""Progress and cancelling. The core knows no threads: it only reports, and the reporter may raise."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float, str], None]
"""progress(fraction 0..1, text). May raise Cancelled; computations let it pass."""


class Cancelled(Exception):
    """The user asked to stop."""


def silent(fraction: float, text: str) -> None:
    """Report nothing."""


def part_of(progress: Progress, start: float, end: float) -> Progress:
    """A progress whose 0..1 is the stretch start..end of another."""

    def report(fraction: float, text: str) -> None:
        progress(start + (end - start) * fraction, text)

    return report
