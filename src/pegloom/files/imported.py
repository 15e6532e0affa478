"""What a mesh file brings in, before it stands in a document."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.clips import Clip
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights
from pegloom.document.model import Image, Material, Part

LARGEST_FILE = 2 << 30


@dataclass(frozen=True, slots=True)
class Imported:
    """Parts in file coordinates with all they refer to; weights by part id; notes: what was ignored or mended."""

    parts: tuple[Part, ...]
    materials: tuple[Material, ...]
    images: tuple[Image, ...]
    skeleton: Skeleton | None = None
    weights: dict[str, Weights] | None = None
    clips: tuple[Clip, ...] = ()
    notes: tuple[str, ...] = ()


def read_bytes(path: Path) -> bytes:
    """The file's bytes. Raises MeshFileError for a missing, empty or far too large file."""
    try:
        size = path.stat().st_size
        if path.is_dir():
            raise MeshFileError(path.name, "this is a folder", hint="choose a mesh file inside it")
        if size > LARGEST_FILE:
            raise MeshFileError(
                path.name, f"the file holds {size >> 20} MB", hint="the most this program opens is 2 GB"
            )
        data = path.read_bytes()
    except OSError as error:
        raise MeshFileError(
            path.name, f"cannot be read ({error.strerror or error})", hint="check path and rights"
        ) from error
    if not data:
        raise MeshFileError(path.name, "the file is empty", hint="export it again")
    return data


def beside(path: Path, name: str) -> Path | None:
    """A file named inside another: only in the same folder or below it, else None."""
    try:
        candidate = (path.parent / name.replace("\\", "/")).resolve()
        folder = path.parent.resolve()
        for option in (candidate, folder / candidate.name):
            if option.is_file() and option.is_relative_to(folder):
                return option
    except (OSError, ValueError):  # a name no file can have
        return None
    return None


def reason(error: BaseException) -> str:
    """What another library's error says, in one line of at most 160 characters."""
    try:
        lines = str(error).strip().splitlines()
    except (UnicodeDecodeError, RuntimeError):  # the text of an error may itself be damaged
        lines = []
    return (lines or ["no reason given"])[0][:160]
