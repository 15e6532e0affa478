"""A peg or a joint moved in the plane that faces the eye; the end of any drag that showed drafts of a skeleton."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from pegloom.app.context import Context
from pegloom.app.jobs import Job
from pegloom.app.stage.drags.base import DocumentDrag
from pegloom.app.stage.tools import Pointer, Size
from pegloom.core.arrays import FloatArray
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.camera import Camera
from pegloom.scene.handles import MOVE_SNAP, on_view_plane

Vector = tuple[float, float, float]


class PointDrag(DocumentDrag):
    """edit(document, place): the edit itself. name: of its step."""

    def __init__(
        self, c: Context, camera: Camera, size: Size, point: FloatArray, start: tuple[float, float],
        edit: Callable[[Document, Vector], Document], name: str,
    ) -> None:  # fmt: skip
        super().__init__(c, start)
        self.camera, self.size, self.point, self.edit, self.name = camera, size, point, edit, name
        self.grab = on_view_plane(camera, point, *start, size)
        self.place: Vector = (0.0, 0.0, 0.0)

    def drafted(self, at: Pointer) -> Document:
        place = self.point + on_view_plane(self.camera, self.point, at.x, at.y, self.size) - self.grab
        if at.ctrl:
            place = np.round(place / MOVE_SNAP) * MOVE_SNAP
        x, y, z = (float(v) for v in place)
        result = edits.drafted(self.base, lambda document: self.edit(document, (x, y, z)))
        self.place = (x, y, z)
        return result

    def keep(self, moved: Document) -> None:
        edit, place = self.edit, self.place
        keep_placed(self.c, self.base, self.name, lambda document: edit(document, place))


def keep_placed(c: Context, base: Document, name: str, edit: Callable[[Document], Document]) -> None:
    """The end of a drag that showed drafts of a skeleton: the edit itself, once. With sampled clips to carry along it is
    a job, and the draft stands until it lands."""
    if not edits.carries_much(base):
        c.try_edit(name, edit)
        return

    def done(result: object) -> None:
        assert isinstance(result, Document)
        if c.store.history.present is base:
            c.store.commit(name, result)
        else:
            c.say(f"{name} is left: something else was changed meanwhile", error=True)

    def ended() -> None:
        # A job that was cancelled or failed leaves what was there.
        if c.store.history.present is base:
            c.store.drop_draft()

    c.jobs.start(Job(name, lambda progress: edit(base), done, ended=ended))
