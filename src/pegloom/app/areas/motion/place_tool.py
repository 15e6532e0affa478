"""The figures that are not in hand, in the view: taken in hand by a double click, put about on the ground."""

from __future__ import annotations

import numpy as np

from pegloom.app.areas.motion.figuring import PLACE, take
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView, far
from pegloom.app.state.frames import Beside
from pegloom.core.geometry.mesh import triangulate
from pegloom.core.geometry.transforms import quaternion_product
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.picking import hit_surface

TURN_A_PIXEL = np.radians(0.5)
STEP = np.radians(15.0)
NEAR = 7.0
"""Pixels from a bone within which a figure of joints alone is met."""


def figure_at(view: StageView, x: float, y: float, *, own: bool = False) -> str:
    """Id of the figure under a pixel that is not in hand, unless the one in hand is before it; "" for none. own : the one in
    hand counts, too."""
    c = view.c
    ray, best, found = view.camera.ray(x, y, *view.size_in_points), np.inf, ""
    for one in c.frames.others():
        for part in one.parts:
            hit = hit_surface(ray, one.points[part.id], triangulate(part.mesh).vertices)
            if hit is not None and hit.distance < best:
                best, found = hit.distance, one.character.id
        if one.character.bare and (away := bone_at(view, one, x, y)) < best:
            best, found = away, one.character.id
    before = view.surface_at(x, y)
    if before is not None and before[1].distance < best:
        return c.character.id if own else ""
    return found


def bone_at(view: StageView, one: Beside, x: float, y: float) -> float:
    """How far from the eye the bone of a figure of joints alone is that a pixel meets; infinite for none."""
    skeleton = one.character.skeleton
    assert skeleton is not None
    places = one.joints[:, :3, 3]
    pixels = view.camera.project(places, *view.size_in_points)
    ends = np.flatnonzero(skeleton.parents >= 0)
    if not len(ends):
        return np.inf
    start, way = pixels[skeleton.parents[ends]], pixels[ends] - pixels[skeleton.parents[ends]]
    at = np.clip(((np.array([x, y]) - start[:, :2]) * way[:, :2]).sum(axis=1) / np.maximum((way[:, :2] ** 2).sum(axis=1), 1e-9), 0.0, 1.0)
    met = start + at[:, None] * way
    near = (np.linalg.norm(met[:, :2] - [x, y], axis=1) < NEAR) & (met[:, 2] > 0.0)
    return float(met[near, 2].min()) if near.any() else np.inf


class PlaceDrag:
    """A figure led on the ground, or with Shift turned about its upright; Ctrl in steps of 15 degrees and 10 cm."""

    def __init__(self, view: StageView, figure: str, at: Pointer) -> None:
        self.view, self.figure, self.begun = view, figure, at
        self.base = view.c.store.history.present
        self.time = view.c.state.common_time
        self.made: Document | None = None
        self.camera = view.camera.world
        one = edits.figure_of(self.base, figure)
        self.stand = one.figure.stands[one.figure.stand_at(self.time)]
        self.height = float(view.c.frames.worlds()[figure][1, 3])
        self.first = self._ground(at)

    def _ground(self, at: Pointer) -> np.ndarray | None:
        ray = self.camera.ray(at.x, at.y, *self.view.size_in_points)
        if abs(ray.direction[1]) < 1e-6:
            return None
        along = (self.height - ray.origin[1]) / ray.direction[1]
        return ray.origin + along * ray.direction if along > 0 else None

    def move(self, at: Pointer) -> None:
        c, stance = self.view.c, self.stand.stance
        if self.made is None and not far(self.begun.at, at.at):
            return
        if at.shift:
            angle = (at.x - self.begun.x) * TURN_A_PIXEL
            angle = round(angle / STEP) * STEP if at.ctrl else angle
            x, y, z, w = (float(v) for v in quaternion_product([0.0, np.sin(angle / 2), 0.0, np.cos(angle / 2)], stance.turn))
            self.made = edits.stand_figure(self.base, self.figure, type(stance)(stance.at, (x, y, z, w), stance.scale), time=self.time)
        else:
            here = self._ground(at)
            if here is None or self.first is None:
                return
            moved = here - self.first
            place = np.array(stance.at) + [moved[0], 0.0, moved[2]]
            if at.ctrl:
                place[[0, 2]] = np.round(place[[0, 2]], 1)
            self.made = edits.place_figure(self.base, self.figure, at=(float(place[0]), float(place[1]), float(place[2])), time=self.time)
        c.store.draft(self.made)

    def release(self) -> None:
        c = self.view.c
        if self.made is None:
            if self.figure != c.character.id:
                take(c, self.figure)
            return
        name = edits.figure_of(self.base, self.figure).name
        c.store.commit(f"Place {name}", self.made)

    def cancel(self) -> None:
        self.view.c.store.drop_draft()


class PlaceTool(StageTool):
    """A double click takes a figure in hand; with the tool on, a press takes hold of it on the ground."""

    id = PLACE

    def _on(self, view: StageView) -> bool:
        return view.c.state.tooling.tool == PLACE and view.c.frames.together

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._on(view) and bool(figure_at(view, at.x, at.y, own=True))

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        c, found = view.c, figure_at(view, at.x, at.y, own=True)
        one = edits.figure_of(c.state.document, found)
        if one.figure.stands[one.figure.stand_at(c.state.common_time)].carrier:
            c.say(f"{one.name} is carried at this moment; set it down, or go to another moment", error=True)
            return None
        return PlaceDrag(view, found, at)

    def double(self, view: StageView, at: Pointer) -> bool:
        found = figure_at(view, at.x, at.y) if view.c.frames.together else ""
        if found:
            take(view.c, found)
        return bool(found)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        if not view.c.frames.together:
            return "", ""
        on = self._on(view)
        found = figure_at(view, x, y, own=on)
        if not found or (not on and view.thing_at(x, y)[1]):
            return "", ""
        name = edits.figure_of(view.c.state.document, found).name
        return f"figure:{found}", f"{name}: drag it on the ground, Shift turns it" if on else f"{name}: double click takes it in hand"

    def through(self, view: StageView) -> bool:
        return self._on(view)
