"""What one file may unpack to: a small file must not take the machine's memory, whatever it claims.

A mesh file is granted GRANTED bytes of what it unpacks to and TIMES its own size on top; a project, most of which is
arrays that pack well, PROJECT_GRANTED and PROJECT_TIMES. Neither goes over LARGEST. PEGLOOM_UNPACK_MB sets another
limit in megabytes, and so does `most` where a file is opened (the window asks).
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from pegloom.core.errors import MeshFileError, TooLargeError

VARIABLE = "PEGLOOM_UNPACK_MB"
GRANTED, TIMES = 64 << 20, 20
PROJECT_GRANTED, PROJECT_TIMES = 256 << 20, 100
LARGEST = 4 << 30
MOST_PARTS = 4096
MOST_JOINTS = 4096
MOST_NODES = 100_000


@dataclass
class Allowance:
    """file : whose.
    most : bytes it may unpack to.
    taken : bytes so far.
    times : what each byte really there grants.
    """

    file: str
    most: int
    taken: int = 0
    times: int = 0

    def take(self, size: float, what: str, where: str = "") -> None:
        """Before memory for `size` bytes of `what` is taken. Raises TooLargeError past the limit."""
        self.taken += int(size)
        if self.taken > self.most:
            raise TooLargeError(
                self.file,
                f"unpacks to more than {self.most >> 20} MB ({what})",
                where=where,
                hint=f"if it is to be trusted, set {VARIABLE} to what it may take and open it again",
            )


_present: ContextVar[Allowance | None] = ContextVar("allowance", default=None)


@contextmanager
def allowed(
    file: str, size: int, *, most: int | None = None, project: bool = False, growing: bool = False
) -> Iterator[Allowance]:
    """The allowance of a file of `size` bytes while it is read; a file inside another shares that one's.

    growing : whether files beside it add to a limit that was given as `most`, too.
    """
    outer = _present.get()
    if outer is not None:
        yield outer
        return
    granted, times = (PROJECT_GRANTED, PROJECT_TIMES) if project else (GRANTED, TIMES)
    setting = os.environ.get(VARIABLE, "")
    if most is None and setting.isascii() and setting.isdigit():
        most = int(setting) << 20
    result = Allowance(file, min(granted + times * size, LARGEST), times=times)
    if most is not None:
        result = Allowance(file, most, times=times if growing else 0)
    token = _present.set(result)
    try:
        yield result
    finally:
        _present.reset(token)


def take(size: float, what: str, where: str = "") -> None:
    """Take from the allowance of the file being read; without one anything goes. Raises TooLargeError."""
    present = _present.get()
    if present is not None:
        present.take(size, what, where)


def left(size: int) -> int:
    """Bytes the file being read may still unpack to; without an allowance, what one of `size` bytes may."""
    present = _present.get()
    return max(present.most - present.taken, 0) if present is not None else min(GRANTED + TIMES * size, LARGEST)


def grows() -> str:
    """`growing` where files beside the one being read add to its limit, else `fixed`: told to a helper process."""
    present = _present.get()
    return "growing" if present is None or present.times else "fixed"


def grant(size: int) -> None:
    """A file beside the one being read has this many bytes: they count as its own."""
    present = _present.get()
    if present is not None:
        present.most = min(present.most + present.times * size, max(present.most, LARGEST))


def sealed() -> None:
    """What is read from now on lies in the file itself, packed: it grants nothing more."""
    present = _present.get()
    if present is not None:
        present.times = 0


def count(number: int, most: int, what: str, where: str = "") -> None:
    """Raises MeshFileError where a file holds more of something than is read."""
    if number > most:
        present = _present.get()
        raise MeshFileError(
            present.file if present is not None else "",
            f"holds {number} {what}; the most is {most}",
            where=where,
            hint="join or leave out what is not needed, and export it again",
        )
