"""Files written whole or not at all: made without a name in the folder they go to, flushed to the disk, then moved.

A stop at any moment leaves the old file and no litter: until the move the new one has no name (open(2), O_TMPFILE).
Where the file system cannot do that it is a hidden `.NAME.PID.part`, and one a killed program left is taken away by
the next write beside it. A symlink is written through, a file keeps its mode, a device is written to as it is.
"""

from __future__ import annotations

import contextlib
import io
import os
import stat
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from pegloom.core.errors import MeshFileError, PegLoomError

ABANDONED = 60.0
"""Seconds after which the temporary file of a program that is gone is taken away."""


@dataclass
class _Pending:
    """path : as asked for.
    real : with symlinks followed; stream.
    named : the temporary file, None while it has no name.
    mode : of the file that is there.
    through : a device, written as it is.
    """

    path: Path
    real: Path
    stream: IO[bytes]
    named: Path | None
    mode: int | None
    through: bool = False


class Outgoing:
    """Some files that belong together, moved to their places one right after the other at the end."""

    def __init__(self, error: type[MeshFileError], hint: str) -> None:
        self.error, self.hint = error, hint
        self.pending: list[_Pending] = []
        self.last: Path | None = None

    def stream(self, path: Path) -> IO[bytes]:
        """A stream to write a file's bytes into."""
        self.last = path
        real = Path(os.path.realpath(path))
        mode, through = None, False
        with contextlib.suppress(FileNotFoundError):
            status = real.stat()
            if stat.S_ISDIR(status.st_mode):
                raise self.fail("this is a folder")
            through = not stat.S_ISREG(status.st_mode)
            mode = stat.S_IMODE(status.st_mode)
            if not os.access(real, os.W_OK):
                raise self.fail("cannot be written: it is write-protected")
        if not real.parent.is_dir():
            raise self.fail("cannot be written: its folder is not there")
        stream, named = (io.BytesIO(), None) if through else _nameless(real)
        self.pending.append(_Pending(path, real, stream, named, mode, through))
        return stream

    def put(self, path: Path, data: bytes) -> None:
        """A file of these bytes."""
        self.stream(path).write(data)

    def fail(self, what: str) -> MeshFileError:
        return self.error(self.last.name if self.last is not None else "", what, hint=self.hint)

    def commit(self) -> None:
        """Everything onto the disk, then to its place, in the order it was begun."""
        for one in self.pending:
            self.last = one.path
            one.stream.flush()
            if not one.through:
                if one.mode is not None:
                    os.fchmod(one.stream.fileno(), one.mode)
                os.fsync(one.stream.fileno())
        for one in self.pending:
            self.last = one.path
            if one.through:
                with one.real.open("wb") as device:
                    device.write(one.stream.getvalue())  # type: ignore[attr-defined]
                continue
            if one.named is None:
                one.named = _hidden(one.real)
                handle = one.stream.fileno()
                # Only with a folder's handle, here one that is not looked at, does Python follow the link.
                os.link(f"/proc/self/fd/{handle}", one.named, src_dir_fd=handle, follow_symlinks=True)
            os.replace(one.named, one.real)
            one.stream.close()
        for folder in {one.real.parent for one in self.pending if not one.through}:
            _settle(folder)
        for one in self.pending:
            _sweep(one.real)

    def discard(self) -> None:
        """Nothing of what is not in its place stays."""
        for one in self.pending:
            with contextlib.suppress(OSError):
                one.stream.close()
            if one.named is not None:
                with contextlib.suppress(OSError):
                    one.named.unlink(missing_ok=True)


@contextlib.contextmanager
def outgoing(
    *, error: type[MeshFileError] = MeshFileError, hint: str = "choose another place; what was there stays as it was"
) -> Iterator[Outgoing]:
    """Write files whole or not at all. Raises `error`, which names the file, where the place cannot be written."""
    files = Outgoing(error, hint)
    try:
        yield files
        files.commit()
    except PegLoomError:
        raise
    except OSError as failure:
        raise files.fail(f"cannot be written ({failure.strerror or failure})") from failure
    finally:
        files.discard()


def write_bytes(path: Path, data: bytes, *, error: type[MeshFileError] = MeshFileError) -> None:
    """One file, whole or not at all."""
    with outgoing(error=error) as out:
        out.put(path, data)


def _nameless(real: Path) -> tuple[IO[bytes], Path | None]:
    """A stream to a file without a name in this folder; with a hidden one where the file system needs it."""
    flag = getattr(os, "O_TMPFILE", 0)
    if flag and Path("/proc/self/fd").is_dir():
        try:
            return os.fdopen(os.open(real.parent, flag | os.O_RDWR | os.O_CLOEXEC, 0o666), "w+b"), None
        except OSError as failure:
            if isinstance(failure, PermissionError):
                raise
    named = _hidden(real)
    return os.fdopen(os.open(named, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o666), "w+b"), named


_count = 0


def _hidden(real: Path) -> Path:
    global _count
    _count += 1
    return real.with_name(f".{real.name[:60]}.{os.getpid()}.{_count}.part")


def _settle(folder: Path) -> None:
    """The folder's list of names onto the disk."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _sweep(real: Path) -> None:
    """Take away what a killed program left of an earlier write of this file."""
    with contextlib.suppress(OSError):
        for entry in os.scandir(real.parent):
            pieces = entry.name.rsplit(".", 3)
            if len(pieces) == 4 and pieces[0] == f".{real.name[:60]}" and pieces[3] == "part" and pieces[1].isdigit():
                gone = not Path(f"/proc/{pieces[1]}").exists()
                if gone and time.time() - entry.stat(follow_symlinks=False).st_mtime > ABANDONED:
                    Path(entry.path).unlink()
