"""A copy of a project with its pictures as files in a folder beside it, for whoever paints on them or takes all of it along."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.document.model import Document, Image
from pegloom.files.neighbours import Neighbours
from pegloom.files.outgoing import outgoing
from pegloom.files.project import SUFFIX, save_project


def gather(path: Path, document: Document) -> tuple[list[Path], list[str]]:
    """Write the project, and its textures and reference pictures in `NAME.pictures` beside it. A picture that is there with other
    bytes is left as it is. Returns the files and notes. Raises MeshFileError where the place cannot be written."""
    path = path if path.suffix.lower() == SUFFIX else path.with_name(path.name + SUFFIX)
    pictures = _pictures(document)
    folder = path.with_name(f"{path.stem}.pictures")
    save_project(path, document)
    if not pictures:
        return [path], ["it has no pictures"]
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise MeshFileError(folder.name, f"cannot be made ({error.strerror or error})", hint="free the name, or choose another place") from error
    with outgoing() as out:
        beside = Neighbours(out, folder)
        names = dict.fromkeys(beside.picture(image) for image in pictures)
    return [path, *(folder / name for name in names)], beside.notes


def _pictures(document: Document) -> list[Image]:
    """Textures and reference pictures of all characters, each once."""
    found: dict[tuple[str, bytes], Image] = {}
    for character in document.characters:
        for image in (*character.images, *(r.image for r in character.references)):
            found.setdefault((image.name, image.data), image)
    return list(found.values())
