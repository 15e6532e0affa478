"""A ZIP of a mesh and its textures: unpacked beside each other, sizes and paths checked first."""

from __future__ import annotations

import os
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path, PurePosixPath

from pegloom.core.errors import MeshFileError
from pegloom.files.allowance import count, sealed, take
from pegloom.files.imported import Imported
from pegloom.files.raw import reason
from pegloom.files.scratch import scratch

MOST_FILES = 5000
BESIDE = {".mtl", ".bin", ".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".bmp", ".tga"}
"""Endings of what a mesh may name; nothing else is unpacked."""


def read_archive(path: Path, readers: dict[str, Callable[[Path], Imported]]) -> Imported:
    """Read the one mesh in a ZIP (of several, the largest). Raises MeshFileError."""
    sealed()
    try:
        with zipfile.ZipFile(path) as archive:
            entries = [e for e in archive.infolist() if not e.is_dir()]
            count(len(entries), MOST_FILES, "files")
            meshes = [e for e in entries if PurePosixPath(e.filename).suffix.lower() in readers]
            if not meshes:
                known = ", ".join(sorted(readers))
                raise MeshFileError(path.name, "holds no mesh this program reads", hint=f"it must hold one of {known}")
            chosen = max(meshes, key=lambda e: e.file_size)
            wanted = [e for e in entries if e is chosen or PurePosixPath(e.filename).suffix.lower() in BESIDE]
            if PurePosixPath(chosen.filename).suffix.lower().startswith(".usd"):
                wanted = [e for e in entries if e in wanted or e in meshes]
            for entry in wanted:
                take(entry.file_size, entry.filename[:60])
            with scratch() as base:
                places = {entry.filename: _place(path, base, entry) for entry in wanted}
                for entry in wanted:
                    target = places[entry.filename]
                    target.parent.mkdir(parents=True, exist_ok=True)
                    target.write_bytes(archive.read(entry))
                # Textures often lie in a folder of their own: all pictures are put beside the mesh as well.
                mesh_file = places[chosen.filename]
                for other in places.values():
                    twin = mesh_file.parent / other.name
                    if not twin.exists():
                        os.link(other, twin)
                read = readers[mesh_file.suffix.lower()](mesh_file)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError, OSError) as error:
        raise MeshFileError(
            path.name, f"cannot be unpacked ({reason(error)})", hint="copy it again, or unpack it by hand"
        ) from error
    notes = read.notes
    if len(meshes) > 1:
        notes = (*notes, f"{len(meshes)} meshes in the ZIP; the largest, {chosen.filename}, was opened")
    return Imported(read.parts, read.materials, read.images, read.skeleton, read.weights, read.clips, notes)


def _place(path: Path, base: Path, entry: zipfile.ZipInfo) -> Path:
    target = (base / entry.filename.replace("\\", "/")).resolve()
    if not target.is_relative_to(base) or target == base:
        raise MeshFileError(path.name, f"holds a path outside itself ({entry.filename})", hint="unpack it by hand")
    return target
