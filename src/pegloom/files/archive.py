"""A ZIP of a mesh and its textures: unpacked beside each other, sizes and paths checked first."""

from __future__ import annotations

import tempfile
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path, PurePosixPath

from pegloom.core.errors import MeshFileError
from pegloom.files.imported import Imported, reason

LARGEST_UNPACKED = 4 << 30
MOST_FILES = 5000


def read_archive(path: Path, readers: dict[str, Callable[[Path], Imported]]) -> Imported:
    """Read the one mesh in a ZIP (of several, the largest). Raises MeshFileError."""
    try:
        with zipfile.ZipFile(path) as archive:
            entries = [e for e in archive.infolist() if not e.is_dir()]
            if len(entries) > MOST_FILES or sum(e.file_size for e in entries) > LARGEST_UNPACKED:
                raise MeshFileError(
                    path.name, "claims to unpack to too much", hint="unpack it by hand and open the mesh"
                )
            meshes = [e for e in entries if PurePosixPath(e.filename).suffix.lower() in readers]
            if not meshes:
                known = ", ".join(sorted(readers))
                raise MeshFileError(path.name, "holds no mesh this program reads", hint=f"it must hold one of {known}")
            with tempfile.TemporaryDirectory() as folder:
                base = Path(folder).resolve()
                for entry in entries:
                    target = (base / entry.filename.replace("\\", "/")).resolve()
                    if not target.is_relative_to(base):
                        raise MeshFileError(
                            path.name, f"holds a path outside itself ({entry.filename})", hint="unpack it by hand"
                        )
                    target.parent.mkdir(parents=True, exist_ok=True)
                    target.write_bytes(archive.read(entry))
                # Textures often lie in a folder of their own: all pictures are put beside the mesh as well.
                chosen = max(meshes, key=lambda e: e.file_size)
                mesh_file = base / chosen.filename.replace("\\", "/")
                for entry in entries:
                    other = base / entry.filename.replace("\\", "/")
                    beside = mesh_file.parent / other.name
                    if other != mesh_file and not beside.exists():
                        beside.write_bytes(other.read_bytes())
                read = readers[mesh_file.suffix.lower()](mesh_file)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError, OSError) as error:
        raise MeshFileError(
            path.name, f"cannot be unpacked ({reason(error)})", hint="copy it again, or unpack it by hand"
        ) from error
    notes = read.notes
    if len(meshes) > 1:
        notes = (*notes, f"{len(meshes)} meshes in the ZIP; the largest, {chosen.filename}, was opened")
    return Imported(read.parts, read.materials, read.images, read.skeleton, read.weights, read.clips, notes)
