"""A peg or a joint put elsewhere by a drag: in the plane that faces the eye, or wherever a subclass says."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

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


@dataclass(frozen=True, slots=True)
class Placing:
    """What a drag of a peg or a joint does.

    edit : edit(document, place), the edit itself.
    name : of its step.
    """

    edit: Callable[[Document, Vector], Document]
    name: str


class PlaceDrag(DocumentDrag):
    """Shows the skeleton roughly while it moves, and does the edit itself once, at the end. Subclasses say where the
    pointer puts the thing."""

    def __init__(self, c: Context, start: tuple[float, float], placing: Placing) -> None:
        super().__init__(c, start)
        self.placing = placing
        self.place: Vector = (0.0, 0.0, 0.0)

    def place_at(self, at: Pointer) -> FloatArray:
        """The place (3,) in space."""
        raise NotImplementedError

    def drafted(self, at: Pointer) -> Document:
        x, y, z = (float(v) for v in self.place_at(at))
        edit = self.placing.edit
        result = edits.drafted(self.base, lambda document: edit(document, (x, y, z)))
        self.place = (x, y, z)
        return result

    def keep(self, moved: Document) -> None:
        edit, place = self.placing.edit, self.place
        _keep(self.c, self.base, self.placing.name, lambda document: edit(document, place))


class PointDrag(PlaceDrag):
    """In the plane through the point that faces the eye; Ctrl snaps."""

    def __init__(
        self, c: Context, camera: Camera, size: Size, point: FloatArray, start: tuple[float, float], placing: Placing
    ) -> None:
        super().__init__(c, start, placing)
        self.camera, self.size, self.point = camera, size, point
        self.grab = on_view_plane(camera, point, *start, size)

    def place_at(self, at: Pointer) -> FloatArray:
        place = self.point + on_view_plane(self.camera, self.point, at.x, at.y, self.size) - self.grab
        return np.asarray(np.round(place / MOVE_SNAP) * MOVE_SNAP if at.ctrl else place)


def _keep(c: Context, base: Document, name: str, edit: Callable[[Document], Document]) -> None:
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
