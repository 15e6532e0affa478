"""The program among the desktop's others: its entry, icon, kind of file and manual, under the user's own XDG folders."""

from __future__ import annotations

import os
import shutil
import subprocess
from importlib.resources import files
from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import outgoing

PLACES = {
    "pegloom.desktop": "applications/pegloom.desktop",
    "pegloom-mime.xml": "mime/packages/pegloom-mime.xml",
    "pegloom.svg": "icons/hicolor/scalable/apps/pegloom.svg",
    "pegloom.1": "man/man1/pegloom.1",
}
"""Files of ours and where they lie under the data folder. XDG Base Directory, Desktop Entry and Shared MIME-info specifications."""


def data_home() -> Path:
    """$XDG_DATA_HOME, ~/.local/share where it is not set or no whole path, as the specification has it."""
    told = Path(os.environ.get("XDG_DATA_HOME") or "")
    return told if told.is_absolute() else Path.home() / ".local" / "share"


def text_of(name: str) -> str:
    """One of the files that ship for it."""
    return (files("pegloom.assets") / "desktop" / name).read_text()


def install(program: str = "") -> list[Path]:
    """Put the program among the desktop's others. program : how it is started; "" for `pegloom` on the path.

    Raises MeshFileError where the folders cannot be written.
    """
    home, made = data_home(), []
    try:
        for place in PLACES.values():
            (home / place).parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MeshFileError(str(error.filename or home), f"cannot be made ({error.strerror})", hint="make room in your folder for data") from error
    with outgoing() as out:
        for name, place in PLACES.items():
            text = text_of(name)
            if program and name.endswith(".desktop"):
                # In an entry a backslash and a quote are told by a backslash.
                quoted = '"' + program.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%") + '"'
                text = text.replace("Exec=pegloom ", f"Exec={quoted} ").replace("TryExec=pegloom\n", "")
            out.put(home / place, text.encode())
            made.append(home / place)
    _renew(home)
    return made


def remove() -> list[Path]:
    """Take it away again; what is not there is passed by."""
    home, gone = data_home(), []
    for place in PLACES.values():
        if (home / place).is_file():
            (home / place).unlink()
            gone.append(home / place)
    _renew(home)
    return gone


def _renew(home: Path) -> None:
    """The desktop's own lists anew, where it has the programs for that."""
    for command, folder in (("update-desktop-database", home / "applications"), ("update-mime-database", home / "mime")):
        found = shutil.which(command)
        if found is not None and folder.is_dir():
            subprocess.run([found, str(folder)], capture_output=True, check=False, timeout=60)
