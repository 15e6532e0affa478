"""Every error this program raises on purpose.

PegLoomError
├── ShapeError          an array has the wrong shape, type or range
├── MeshFileError       a file cannot be read: which file, what, where in it, what to do
├── ProjectFileError    a .pegloom file cannot be opened or written
├── EditError           an edit cannot be applied to this document
└── FindError           landmarks cannot be found on this mesh
"""

from __future__ import annotations


class PegLoomError(Exception):
    """Base of all deliberate errors. `str(error)` is one line fit to show a user."""


class ShapeError(PegLoomError):
    """An array has the wrong shape, type or range."""


LONGEST = 240
"""Characters of what is said to be wrong with a file."""


class MeshFileError(PegLoomError):
    """A mesh file cannot be read.

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
        self.file, self.what, self.where, self.hint = file, what, where, hint
        place = f", {where}" if where else ""
        way_out = f"; {hint}" if hint else ""
        super().__init__(f"{file}{place}: {what}{way_out}")


class ProjectFileError(MeshFileError):
    """A .pegloom project cannot be opened or written."""


class EditError(PegLoomError):
    """An edit cannot be applied to this document."""


class FindError(PegLoomError):
    """Landmarks cannot be found on this mesh."""
