"""What is written beside a mesh, its pictures and materials: never over a file that is not ours."""

from __future__ import annotations

from pathlib import Path

from pegloom.document.model import Image
from pegloom.files.names import picture_name
from pegloom.files.outgoing import Outgoing

OURS = b"# Peg Loom"
"""The first line of every text file this program writes beside another."""


class Neighbours:
    """Names for the files beside one that is being written. notes: a line for each that had to take another name."""

    def __init__(self, out: Outgoing, folder: Path) -> None:
        self.out, self.folder = out, folder
        self.taken: set[str] = set()
        self.notes: list[str] = []

    def picture(self, image: Image) -> str:
        """The name a picture has beside the mesh; one with the very same bytes is used again."""
        return self._place(picture_name(image.name, image.kind), image.data, ours=False)

    def text(self, name: str, body: str) -> str:
        """The name of a text file that begins with the line that says it is ours."""
        return self._place(name, OURS + b"\n" + body.encode(), ours=True)

    def data(self, name: str, body: bytes, *, ours: str) -> str:
        """The name of a file of bytes. ours : the one of that kind that is known to be ours, and may be written over."""
        if ours == name and not (self.folder / name).is_symlink():
            self.out.put(self.folder / name, body)
            self.taken.add(name.lower())
            return name
        return self._place(name, body, ours=False)

    def _place(self, wanted: str, data: bytes, *, ours: bool) -> str:
        stem, suffix = Path(wanted).stem, Path(wanted).suffix
        name, number = wanted, 1
        while True:
            place = self.folder / name
            if name.lower() not in self.taken:
                if not place.exists() and not place.is_symlink():
                    self.out.put(place, data)
                    break
                if _holds(place, data):
                    break
                if ours and _is_ours(place):
                    self.out.put(place, data)
                    break
            number += 1
            name = f"{stem}_{number}{suffix}"
        if name != wanted and wanted.lower() not in self.taken:
            self.notes.append(f"{wanted} is there and is not ours: left as it is, {name} written instead")
        self.taken.add(name.lower())
        return name


def _holds(place: Path, data: bytes) -> bool:
    try:
        return not place.is_symlink() and place.stat().st_size == len(data) and place.read_bytes() == data
    except OSError:
        return False


def _is_ours(place: Path) -> bool:
    try:
        if place.is_symlink() or not place.is_file():
            return False
        with place.open("rb") as stream:
            return stream.readline(80).rstrip(b"\r\n") == OURS
    except OSError:
        return False
