"""Every error this program raises on purpose.

PegLoomError
├── ShapeError          an array has the wrong shape, type or range
├── MeshFileError       a file cannot be read or written: which file, what, where in it, what to do
│   ├── TooLargeError     it unpacks to more than it may; the user may allow it
│   └── ProjectFileError  a .pegloom file cannot be opened or written
├── EditError           an edit cannot be applied to this document
└── FindError           landmarks cannot be found on this mesh
"""

from __future__ import annotations


class PegLoomError(Exception):
    """Base of all deliberate errors. `str(error)` is one line fit to show a user."""


def one_line(text: str) -> str:
    """Text with every line end and control character shown as a space, so that it stays one line wherever it goes."""
    return "".join(c if c.isprintable() or c == "\t" else " " for c in text)


class ShapeError(PegLoomError):
    """An array has the wrong shape, type or range."""


LONGEST = 240
"""Characters of what is said to be wrong with a file."""


class MeshFileError(PegLoomError):
    """A file cannot be read or written.

    Parameters
    ----------
    file : the file's name.
    what : what is wrong.
    where : the line, chunk or accessor, or "".
    hint : what the user can do.
    """

    def __init__(self, file: str, what: str, *, where: str = "", hint: str = "") -> None:
        # What a damaged file calls things may run on for pages.
        what = what if len(what) <= LONGEST else f"{what[: LONGEST // 2]} … {what[-LONGEST // 2 :]}"
        what, where = one_line(what), one_line(where)
        self.file, self.what, self.where, self.hint = file, what, where, hint
        place = f", {where}" if where else ""
        way_out = f"; {hint}" if hint else ""
        super().__init__(f"{one_line(file)}{place}: {what}{way_out}")


class TooLargeError(MeshFileError):
    """A file unpacks to more than it may. Opened again with a larger limit, it is read."""


class ProjectFileError(MeshFileError):
    """A .pegloom project cannot be opened or written."""


class EditError(PegLoomError):
    """An edit cannot be applied to this document."""


class FindError(PegLoomError):
    """Landmarks cannot be found on this mesh."""
