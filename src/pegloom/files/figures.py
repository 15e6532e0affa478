"""The characters a file brings beside those that are there: of a project, of a mesh, or of motion that has no surface."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.motion.retarget import Source
from pegloom.document import edits
from pegloom.document.edits.performers import TALL
from pegloom.document.model import Character
from pegloom.files.motion import MOTION_FILES, read_sources
from pegloom.files.opening import brought_in
from pegloom.files.project import SUFFIX, open_project
from pegloom.files.reading import read_mesh


def read_figures(path: Path, *, tall: float = TALL) -> tuple[Character, ...]:
    """All characters of a file. Motion without a surface comes as joints alone, one figure a clip.

    tall : metres those stand whose file tells no height of a body. Raises MeshFileError, ProjectError or EditError in words for a person.
    """
    suffix = path.suffix.lower()
    if suffix == SUFFIX:
        return open_project(path).characters
    if suffix == ".bvh":
        return _performers(read_sources(path)[0], tall)
    imported = read_mesh(path, motion=suffix in MOTION_FILES)
    if imported.parts:
        return brought_in(path, imported).characters
    return _performers(read_sources(path)[0], tall)


def _performers(sources: tuple[Source, ...], tall: float) -> tuple[Character, ...]:
    return tuple(edits.performer_of(source, tall) for source in sources)
