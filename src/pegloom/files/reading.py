"""Open any mesh file this program reads, by its content and its ending."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.files.gltf import read_gltf
from pegloom.files.imported import Imported
from pegloom.files.obj import read_obj

READERS = {".obj": read_obj, ".glb": read_gltf, ".gltf": read_gltf}


def read_mesh(path: Path) -> Imported:
    """Read a mesh file. Raises MeshFileError for a missing file, an unknown kind or broken contents."""
    if not path.exists():
        raise MeshFileError(path.name, "there is no such file", hint="check the path")
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        known = ", ".join(sorted(READERS))
        raise MeshFileError(
            path.name, f"'{path.suffix or 'no ending'}' is no mesh file this program reads", hint=f"use {known}"
        )
    return reader(path)
