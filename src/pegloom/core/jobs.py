"""Progress and cancelling. The core knows no threads: it only reports, and the reporter may raise."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Progress = Callable[[float, str], None]
"""progress(fraction 0..1, text). May raise Cancelled; computations let it pass. Below 0 it only asks whether to go on."""


class Cancelled(Exception):
    """The user asked to stop."""


Offload = Callable[..., Any]
"""offload(function, *arrays) -> function(*arrays), perhaps in another process; function stands in a module."""


def directly(function: Callable[..., Any], *arguments: Any) -> Any:
    """Call it here and now."""
    return function(*arguments)


def silent(fraction: float, text: str) -> None:
    """Report nothing."""


def ask(progress: Progress) -> None:
    """Only ask whether to go on: for steps of long work too short to be told of. Raises Cancelled from `progress`."""
    progress(-1.0, "")


def part_of(progress: Progress, start: float, end: float) -> Progress:
    """A progress whose 0..1 is the stretch start..end of another; what only asks is passed on as it is."""

    def report(fraction: float, text: str) -> None:
        progress(fraction if fraction < 0 else start + (end - start) * fraction, text)

    return report
