"""A virtual screen for each process that opens windows: two on one screen would fight over the keyboard's focus."""

from __future__ import annotations

import atexit
import os
import subprocess


def own_screen() -> None:
    """Start an Xvfb of this process's own and make it the one windows open on; it ends with the process."""
    reading, writing = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(writing), "-screen", "0", "1600x1000x24", "+extension", "GLX", "-nolisten", "tcp", "-noreset"],
        pass_fds=(writing,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    os.close(writing)
    with os.fdopen(reading) as told:
        number = told.readline().strip()
    if not number:
        raise RuntimeError("Xvfb did not start")
    atexit.register(server.terminate)
    os.environ["DISPLAY"] = f":{number}"
    os.environ["QT_QPA_PLATFORM"] = "xcb"
    os.environ.pop("WAYLAND_DISPLAY", None)
