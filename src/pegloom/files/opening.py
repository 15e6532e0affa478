"""Any file that holds a character, as a document."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.errors import EditError, MeshFileError
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.imported import Imported
from pegloom.files.project import SUFFIX, open_project
from pegloom.files.reading import read_mesh


def open_any(path: Path) -> Document:
    """A project, or a mesh file with all it brings. Raises MeshFileError or ProjectError in words for a person."""
    return open_project(path) if path.suffix.lower() == SUFFIX else brought_in(path, read_mesh(path))


def brought_in(path: Path, imported: Imported) -> Document:
    """What was read from a file, as a new character. Raises MeshFileError for a mesh of no size."""
    try:
        return edits.bring_in(
            Document(), imported.parts, name=path.stem, materials=imported.materials, images=imported.images,
            skeleton=imported.skeleton, weights=imported.weights, clips=imported.clips, notes=imported.notes,
        )  # fmt: skip
    except EditError as error:
        raise MeshFileError(path.name, str(error), hint="export it again") from error
