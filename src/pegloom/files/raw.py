"""Bytes of the files the user pointed at, and of what lies beside them."""

from __future__ import annotations

import stat
from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.files.allowance import grant

LARGEST_FILE = 2 << 30


def checked_size(path: Path) -> int:
    """The file's size in bytes. Raises MeshFileError for what is missing, no file, or far too large."""
    try:
        status = path.stat()
    except FileNotFoundError as error:
        raise MeshFileError(path.name, "there is no such file", hint="check the path") from error
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or error
        raise MeshFileError(path.name, f"cannot be read ({said})", hint="check path and rights") from error
    if stat.S_ISDIR(status.st_mode):
        raise MeshFileError(path.name, "this is a folder", hint="choose a file inside it")
    if not stat.S_ISREG(status.st_mode):
        raise MeshFileError(path.name, "this is no file but a device or a pipe", hint="copy it into a file first")
    if status.st_size > LARGEST_FILE:
        raise MeshFileError(
            path.name,
            f"the file holds {status.st_size >> 20} MB",
            hint=f"the most this program opens is {LARGEST_FILE >> 20} MB",
        )
    return status.st_size


def read_bytes(path: Path) -> bytes:
    """The file's bytes. Raises MeshFileError for a missing, empty or far too large file, and for what is no file."""
    checked_size(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise MeshFileError(
            path.name, f"cannot be read ({error.strerror or error})", hint="check path and rights"
        ) from error
    if not data:
        raise MeshFileError(path.name, "the file is empty", hint="export it again")
    return data


def beside(path: Path, name: str) -> Path | None:
    """A file named inside another: only in the same folder or below it, symlinks followed, else None."""
    try:
        folder = path.parent.resolve()
        candidate = folder / name.replace("\\", "/")
        for option in (candidate, folder / candidate.name):
            real = option.resolve()
            if real.is_relative_to(folder) and real.is_file():
                return real
    except (OSError, ValueError, RuntimeError):  # a name no file can have, a circle of links
        return None
    return None


def read_beside(path: Path, name: str) -> bytes | None:
    """The bytes of a file named inside another; None where it is not beside it or cannot be read."""
    file = beside(path, name)
    if file is None:
        return None
    try:
        if file.stat().st_size > LARGEST_FILE:
            return None
        data = file.read_bytes()
    except OSError:
        return None
    grant(len(data))
    return data


def reason(error: BaseException) -> str:
    """What another library's error says, in one line of at most 160 characters."""
    try:
        lines = str(error).strip().splitlines()
    except (UnicodeDecodeError, RuntimeError):  # the text of an error may itself be damaged
        lines = []
    return (lines or ["no reason given"])[0][:160]
