"""The camera: turned, moved, framed; and the views that were looked from before, to go back to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from pegloom.app.state.store import Store
from pegloom.core.arrays import FloatArray
from pegloom.scene.camera import Camera, Placed
from pegloom.scene.lenses import Lens

MOST_VIEWS = 60


@dataclass(frozen=True, slots=True)
class ViewStep:
    """One view: where it was looked from, what was hidden, and the lens."""

    camera: Camera
    hidden: frozenset[str]
    lens: Lens


class CameraControl:
    """`camera` is the present one; changing it asks for a frame."""

    def __init__(self, store: Store, changed: Callable[[], None]) -> None:
        self.store, self.changed = store, changed
        self.kept = Camera()
        self.placed: Callable[[], Placed | None] = lambda: None
        """Where the figure in hand stands just now."""
        self.steps: list[ViewStep] = []
        self.at = -1

    @property
    def present(self) -> Camera:
        placed = self.placed()
        return self.kept if placed is None else replace(self.kept, placed=placed)

    def take(self, camera: Camera) -> None:
        self.kept = camera.world
        self.changed()

    def frame(self, points: FloatArray, aspect: float, *, nearest: float = 0.0, room: float = 1.18) -> None:
        """Points (n, 3) into the middle, no nearer than `nearest` metres; room : share of them that is shown, over 1."""
        camera = self.present.framing(points, aspect=aspect, room=room)
        self.take(replace(camera, distance=max(camera.distance, nearest * camera.scale)))

    def centre_on(self, point: FloatArray, distance: float) -> None:
        """A place in the figure's space into the middle, seen from so many of its metres."""
        here = self.present
        x, y, z, _ = (float(v) for v in here.world_from_figure @ [*np.asarray(point), 1.0])
        self.take(replace(here, looks_at=(x, y, z), distance=distance * here.scale))

    def settle(self) -> None:
        """The view has come to rest: it is one to go back to, unless it is the one already."""
        viewing = self.store.state.viewing
        now = ViewStep(self.kept, viewing.hidden, viewing.lens)
        if self.at >= 0 and self.steps[self.at] == now:
            return
        self.steps = [*self.steps[max(self.at + 2 - MOST_VIEWS, 0) : self.at + 1], now]
        self.at = len(self.steps) - 1

    def forget(self) -> None:
        """Another document is looked at: no view of the one before is gone back to."""
        self.steps, self.at = [], -1

    def back(self) -> bool:
        """The view before. Returns whether there is one."""
        self.settle()
        return self._go(self.at - 1)

    def forward(self) -> bool:
        """The view that was gone back from."""
        return self._go(self.at + 1)

    def _go(self, at: int) -> bool:
        if not 0 <= at < len(self.steps):
            return False
        self.at = at
        step = self.steps[at]
        self.kept = step.camera
        self.store.put(hidden=step.hidden, lens=step.lens)
        self.changed()
        return True
