"""Open any mesh file this program reads, by its ending."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from pegloom.core.errors import MeshFileError, PegLoomError
from pegloom.files.archive import read_archive
from pegloom.files.gltf import read_gltf
from pegloom.files.imported import Imported, reason
from pegloom.files.obj import read_obj
from pegloom.files.ply import read_ply
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


def read_mesh(path: Path) -> Imported:
    """Read a mesh file. Raises MeshFileError for a missing file, an unknown kind or broken contents."""
    if not path.exists():
        raise MeshFileError(path.name, "there is no such file", hint="check the path")
    if path.is_dir():
        raise MeshFileError(path.name, "this is a folder", hint="choose a mesh file inside it")
    if path.suffix.lower() == ".zip":
        return _read(lambda p: read_archive(p, READERS), path)
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        known = ", ".join(sorted(READABLE))
        raise MeshFileError(
            path.name, f"'{path.suffix or 'no ending'}' is no mesh file this program reads", hint=f"use {known}"
        )
    return _read(reader, path)


def _read(reader: Callable[[Path], Imported], path: Path) -> Imported:
    """A reader's answer; damage it did not foresee is told in words all the same."""
    try:
        return reader(path)
    except PegLoomError:
        raise
    except Exception as error:
        raise MeshFileError(
            path.name, f"is damaged ({type(error).__name__}: {reason(error)})", hint="export it again"
        ) from error
