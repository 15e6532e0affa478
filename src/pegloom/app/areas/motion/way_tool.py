"""The way of a gait in the view: points on the ground put, dragged and taken away."""

from __future__ import annotations

import numpy as np

from pegloom.app.areas.motion.gaits import gait_in_hand, put_points, settings, told_in_hand
from pegloom.app.context import Context
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import State
from pegloom.core.arrays import FloatArray
from pegloom.scene.drawing import LINEN
from pegloom.scene.drawlist import DrawList

NEAR = 11.0
"""Pixels within which a point is taken hold of."""
FINE = 160
LEAST = 0.02
"""Metres two points are apart at least."""
Point = tuple[float, float]


def open_way(state: State) -> bool:
    """Whether the way is being led in the view."""
    return settings(state).way and gait_in_hand(state) is not None and not state.clock.playing


def points_here(c: Context) -> tuple[Point, ...]:
    told = told_in_hand(c)
    return told.way.points if told is not None else ()


def _spots(c: Context) -> FloatArray:
    """Where the points are in the view (n, 3)."""
    told = told_in_hand(c)
    points = np.array(points_here(c) or ((0.0, 0.0),), dtype=np.float64)
    high = told.way.ground(points) if told is not None else np.zeros(len(points))
    return np.stack([points[:, 0], high, points[:, 1]], axis=1)


def way_places(c: Context) -> FloatArray | None:
    """Places along the way (n, 3), None where it goes through no points."""
    told = told_in_hand(c)
    return told.way.at(np.linspace(0.0, told.way.length, 12))[0] if told is not None and told.way.points else None


def on_ground(view: StageView, x: float, y: float) -> Point | None:
    """The place on the ground (x, z) under a pixel; None above the horizon."""
    ray = view.camera.ray(x, y, *view.size_in_points)
    down = float(ray.direction[1])
    if down > -1e-3:
        return None
    at = ray.origin - ray.direction * (float(ray.origin[1]) / down)
    return float(at[0]), float(at[2])


def way_marks(view: StageView, draw: DrawList) -> None:
    """The way on the ground, with its points while it is led."""
    c = view.c
    told = told_in_hand(c)
    if told is None or not (open_way(c.state) or told.way.points):
        return
    spots = _spots(c)
    if len(told.way.points) >= 2:
        places, heading = told.way.at(np.linspace(0.0, told.way.length, FINE))
        draw.over.add(places, LINEN, 2.0, 0.75)
        end, ahead = places[-1], np.array([np.sin(heading[-1]), 0.0, np.cos(heading[-1])])
        side, long = np.array([ahead[2], 0.0, -ahead[0]]), 0.04 * told.way.length
        draw.over.add(np.stack([end - long * (ahead + 0.5 * side), end, end - long * (ahead - 0.5 * side)]), LINEN, 2.0, 0.75)
    if open_way(c.state):
        for k, spot in enumerate(spots):
            held = view.hovered == f"way:{k}"
            draw.dots.add(spot, LINEN, 6.5 if held else 5.0, hollow=0.0 if held else 1.0)


class WayDrag:
    """A point dragged on the ground."""

    def __init__(self, view: StageView, number: int) -> None:
        self.view, self.number = view, number

    def move(self, at: Pointer) -> None:
        place = on_ground(self.view, at.x, at.y)
        points = list(points_here(self.view.c))
        if place is None or not self.number < len(points):
            return
        points[self.number] = place
        near = [points[k] for k in (self.number - 1, self.number + 1) if 0 <= k < len(points)]
        if all(np.hypot(p[0] - place[0], p[1] - place[1]) > LEAST for p in near):
            put_points(self.view.c, tuple(points))

    def release(self) -> None:
        self.view.c.live.rest()

    def cancel(self) -> None:
        return


class WayTool(StageTool):
    """While the way is led: a press on a point takes hold of it, elsewhere on the ground puts one more; Alt takes one away."""

    id = "way"

    def _under(self, view: StageView, x: float, y: float) -> int | None:
        spots = _spots(view.c)
        pixels = view.camera.project(spots, *view.size_in_points)[:, :2]
        gaps = np.linalg.norm(pixels - [x, y], axis=1)
        k = int(np.argmin(gaps))
        return k if gaps[k] < NEAR else None

    def wants(self, view: StageView, at: Pointer) -> bool:
        if not open_way(view.c.state):
            return False
        return self._under(view, at.x, at.y) is not None or (view.thing_at(at.x, at.y)[1] == "" and on_ground(view, at.x, at.y) is not None)

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        points, held = points_here(view.c), self._under(view, at.x, at.y)
        if held is not None and at.alt:
            put_points(view.c, tuple(p for k, p in enumerate(points) if k != held))
            return None
        if held is not None:
            return WayDrag(view, held) if points else None
        place = on_ground(view, at.x, at.y)
        if place is None:
            return None
        begun = points or ((0.0, 0.0),)
        if np.hypot(begun[-1][0] - place[0], begun[-1][1] - place[1]) <= LEAST:
            return None
        put_points(view.c, (*begun, place))
        return WayDrag(view, len(begun))

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        found = self._under(view, x, y) if open_way(view.c.state) else None
        return ("", "") if found is None else (f"way:{found}", "a point of the way: drag it; Alt and a click takes it away")


