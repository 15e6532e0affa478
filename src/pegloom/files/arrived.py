"""A revised file of a character: its meshes, and its clips told on the character's joints."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.clips import Clip
from pegloom.document.edits.revised import Arrived
from pegloom.document.model import Character
from pegloom.files.imported import Imported
from pegloom.files.motion import clips_onto, read_motion
from pegloom.files.project import SUFFIX
from pegloom.files.reading import read_mesh


def read_arrived(path: Path, character: Character) -> Arrived:
    """What a file brings for a character. Raises MeshFileError for one that cannot be read, or holds neither mesh nor motion
    of it. Clips of another skeleton are left, with a note."""
    if path.suffix.lower() == SUFFIX:
        raise MeshFileError(path.name, "is a project, no revised mesh or motion", hint="open it, or compare it as a version")
    if path.suffix.lower() == ".bvh":
        clips, notes = read_motion(path, character.require_skeleton())
        return Arrived(path.stem, clips=clips, notes=notes)
    imported = read_mesh(path, motion=character.skeleton is not None)
    clips, notes = _clips(path, imported, character)
    if not imported.parts and not clips:
        raise MeshFileError(path.name, "holds neither a mesh nor motion of this character's joints", hint="choose another file")
    parts = imported.parts
    return Arrived(path.stem, parts, imported.materials if parts else (), imported.images if parts else (), clips, (*imported.notes, *notes))


def _clips(path: Path, imported: Imported, character: Character) -> tuple[tuple[Clip, ...], tuple[str, ...]]:
    if character.skeleton is None or imported.skeleton is None or not any(c.tracks for c in imported.clips):
        return (), ()
    try:
        return clips_onto(path.name, imported, character.skeleton)
    except MeshFileError as error:
        return (), (str(error),)
