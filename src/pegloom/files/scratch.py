"""Folders for the time a file is read or written; what a killed program left of its own is taken away by the next."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

PREFIX = "pegloom-"


@contextlib.contextmanager
def scratch() -> Iterator[Path]:
    """An empty folder of this process, gone afterwards."""
    _sweep()
    with tempfile.TemporaryDirectory(prefix=f"{PREFIX}{os.getpid()}-", ignore_cleanup_errors=True) as folder:
        yield Path(folder).resolve()


def _sweep() -> None:
    with contextlib.suppress(OSError):
        for entry in os.scandir(tempfile.gettempdir()):
            number = entry.name.removeprefix(PREFIX).split("-", 1)[0] if entry.name.startswith(PREFIX) else ""
            if not number.isdigit() or Path(f"/proc/{number}").exists() or not entry.is_dir(follow_symlinks=False):
                continue
            if entry.stat(follow_symlinks=False).st_uid == os.getuid():
                shutil.rmtree(entry.path, ignore_errors=True)
