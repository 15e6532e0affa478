"""Open any mesh file this program reads, by its ending."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from pegloom.core.errors import MeshFileError, PegLoomError
from pegloom.files.allowance import allowed
from pegloom.files.archive import read_archive
from pegloom.files.gltf import read_gltf
from pegloom.files.imported import Imported
from pegloom.files.obj import read_obj
from pegloom.files.ply import read_ply
from pegloom.files.raw import checked_size, reason
from pegloom.files.soundness import sound
from pegloom.files.stl import read_stl
from pegloom.files.usd import SUFFIXES as USD
from pegloom.files.usd import read_usd

READERS: dict[str, Callable[[Path], Imported]] = {
    ".obj": read_obj,
    ".glb": read_gltf,
    ".gltf": read_gltf,
    ".ply": read_ply,
    ".stl": read_stl,
    **dict.fromkeys(USD, read_usd),
}
READABLE = (*READERS, ".zip")


def read_mesh(path: Path, *, most: int | None = None, motion: bool = False) -> Imported:
    """Read a mesh file. most: bytes it may unpack to, None for what `allowance` grants. motion: whether one that holds
    motion and no surface will do.

    Raises MeshFileError for a missing file, an unknown kind or broken contents; TooLargeError past `most`.
    """
    size = checked_size(path)
    reader = READERS.get(path.suffix.lower())
    if path.suffix.lower() == ".zip":
        reader = partial(read_archive, readers=READERS)
    if reader is None:
        known = ", ".join(sorted(READABLE))
        raise MeshFileError(
            path.name, f"'{path.suffix or 'no ending'}' is no mesh file this program reads", hint=f"use {known}"
        )
    with allowed(path.name, size, most=most):
        found = sound(_read(reader, path), path.name)
    if not found.parts and not motion:
        raise MeshFileError(path.name, "holds motion and no surface", hint="open a mesh; bring motion in in Motion, under Borrow")
    return found


def _read(reader: Callable[[Path], Imported], path: Path) -> Imported:
    """A reader's answer; damage it did not foresee is told in words all the same."""
    try:
        return reader(path)
    except PegLoomError:
        raise
    except MemoryError as error:
        raise MeshFileError(path.name, "needs more memory than there is", hint="reduce it and try again") from error
    except Exception as error:
        raise MeshFileError(
            path.name, f"is damaged ({type(error).__name__}: {reason(error)})", hint="export it again"
        ) from error
