"""Reports of what was not foreseen: a traceback in a file of the user's, so that one line on the screen is enough."""

from __future__ import annotations

import contextlib
import faulthandler
import itertools
import os
import platform
import time
import traceback
from pathlib import Path
from typing import IO

import platformdirs

from pegloom import __version__
from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import write_bytes

MOST = 20
"""Reports kept, the latest."""
CRASH = "crash-"


def reports_folder() -> Path:
    """Where reports lie."""
    return Path(platformdirs.user_data_dir("pegloom")) / "reports"


def write_report(error: BaseException) -> Path | None:
    """A report of an error; None where it cannot be written. Nothing of the user's work is in it."""
    text = "".join(traceback.format_exception(error))
    head = f"Peg Loom {__version__}, Python {platform.python_version()}, {platform.platform()}\n{time.ctime()}\n\n"
    with contextlib.suppress(OSError, MeshFileError):
        folder = reports_folder()
        folder.mkdir(parents=True, exist_ok=True)
        stem = f"{time.strftime('%Y-%m-%d-%H%M%S')}-{os.getpid()}"
        path = next(p for k in itertools.count() if not (p := folder / f"{stem}-{k}.txt").exists())
        write_bytes(path, (head + text + "\n").encode(errors="backslashreplace"))
        for old in sorted(folder.glob("*.txt"), key=lambda p: p.stat().st_mtime)[:-MOST]:
            old.unlink(missing_ok=True)
        return path
    return None


def unforeseen(error: BaseException) -> str:
    """One line for a person about an error nobody thought of, and where the report of it is."""
    said = " ".join(str(error).split())[:160]
    path = write_report(error)
    where = f"a report is in {path}" if path is not None else "no report could be written"
    return f"something unforeseen went wrong ({type(error).__name__}{': ' + said if said else ''}); {where}"


class CrashReport:
    """While it is held, the end of the program by a fault in native code leaves a report; `end` takes it away."""

    def __init__(self) -> None:
        self.path: Path | None = None
        self.stream: IO[str] | None = None
        with contextlib.suppress(OSError):
            folder = reports_folder()
            folder.mkdir(parents=True, exist_ok=True)
            self.path = folder / f"{CRASH}{os.getpid()}.txt"
            self.stream = self.path.open("w")
            faulthandler.enable(self.stream)

    def end(self) -> None:
        if self.stream is not None and self.path is not None:
            faulthandler.disable()
            self.stream.close()
            with contextlib.suppress(OSError):
                self.path.unlink(missing_ok=True)


def crashes() -> list[Path]:
    """Reports of crashes nobody was told of yet; they count as told from now on."""
    reports = []
    with contextlib.suppress(OSError):
        for path in sorted(reports_folder().glob(f"{CRASH}*.txt")):
            number = path.stem.removeprefix(CRASH)
            if number.isdigit() and not Path(f"/proc/{number}").exists():
                if path.stat().st_size == 0:  # ended from outside
                    path.unlink(missing_ok=True)
                    continue
                kept = path.with_name(f"{time.strftime('%Y-%m-%d-%H%M%S')}-crash.txt")
                path.rename(kept)
                reports.append(kept)
    return reports
