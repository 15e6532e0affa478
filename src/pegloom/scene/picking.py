"""What lies under the pointer: surfaces by ray, joints, pegs and controls by pixels."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.rig.shapes import RigShapes
from pegloom.scene.camera import Camera, Ray

NEAR_ENOUGH = 11.0
"""Pixels within which a dot is hit."""
LINE_NEAR = 8.0
"""Pixels within which a control's line is hit."""
BESIDE = 3.0
"""Pixels that a line out of use, or covered, counts as farther away."""
RIVALS = 1.5
"""Lines no farther than so many pixels from the nearest one are about as near."""
DEEP = 0.03
"""Lines whose depths differ by less than this share are about as deep."""
WIDER = 2.0
"""What is so many times wider is no rival of what is smaller, wherever it stands."""
COVER = 0.004
"""A line deeper than the surface by more than this share is covered by it."""
MOST_OF = 0.5
"""Share of a control's points that must lie in a box for the control to."""


@dataclass(frozen=True, slots=True)
class Hit:
    """Where a ray meets a surface: triangle number, distance, point (3,)."""

    triangle: int
    distance: float
    point: FloatArray


def hit_surface(ray: Ray, points: FloatArray, triangles: IntArray) -> Hit | None:
    """Nearest triangle a ray meets, from either side, or None."""
    triangle, distance = _nearest(ray.origin, ray.direction, points, triangles)
    if triangle < 0:
        return None
    return Hit(int(triangle), float(distance), ray.origin + ray.direction * distance)


def all_hits(ray: Ray, points: FloatArray, triangles: IntArray, *, most: int = 16) -> list[int]:
    """Every triangle a ray passes, nearest first, at most so many."""
    found: list[int] = []
    origin = np.array(ray.origin, dtype=np.float64)
    while len(found) < most:
        triangle, distance = _nearest(origin, ray.direction, points, triangles)
        if triangle < 0:
            break
        found.append(int(triangle))
        origin = origin + ray.direction * (distance + 1e-7)
    return found


@njit(cache=True, nogil=True)
def _nearest(origin, direction, points, triangles):  # type: ignore[no-untyped-def]  # pragma: no cover
    # Moeller and Trumbore, "Fast, minimum storage ray/triangle intersection", 1997.
    best, found = np.inf, -1
    for t in range(len(triangles)):
        ax, ay, az = points[triangles[t, 0]]
        ux, uy, uz = points[triangles[t, 1]][0] - ax, points[triangles[t, 1]][1] - ay, points[triangles[t, 1]][2] - az
        vx, vy, vz = points[triangles[t, 2]][0] - ax, points[triangles[t, 2]][1] - ay, points[triangles[t, 2]][2] - az
        px = direction[1] * vz - direction[2] * vy
        py = direction[2] * vx - direction[0] * vz
        pz = direction[0] * vy - direction[1] * vx
        det = ux * px + uy * py + uz * pz
        if abs(det) < 1e-18:
            continue
        sx, sy, sz = origin[0] - ax, origin[1] - ay, origin[2] - az
        u = (sx * px + sy * py + sz * pz) / det
        if u < 0.0 or u > 1.0:
            continue
        qx, qy, qz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
        v = (direction[0] * qx + direction[1] * qy + direction[2] * qz) / det
        if v < 0.0 or u + v > 1.0:
            continue
        distance = (vx * qx + vy * qy + vz * qz) / det
        if 1e-9 < distance < best:
            best, found = distance, t
    return found, best


def nearest_dot(points: FloatArray, x: float, y: float, camera: Camera, size: tuple[int, int]) -> int | None:
    """Index of the point (n, 3) drawn nearest the pointer within NEAR_ENOUGH; of equals the one in front."""
    if len(points) == 0:
        return None
    screen = camera.project(points, *size)
    away = np.hypot(screen[:, 0] - x, screen[:, 1] - y)
    away = np.where(screen[:, 2] > 0, away, np.inf)
    best = float(away.min())
    if best > NEAR_ENOUGH:
        return None
    rivals = np.flatnonzero(away <= best + 1.5)
    return int(rivals[int(np.argmin(screen[rivals, 2]))])


def line_distance(line: FloatArray, x: float, y: float, camera: Camera, size: tuple[int, int]) -> float:
    """Pixels from the pointer to a drawn polyline (m, 3)."""
    screen = camera.project(line, *size)
    if (screen[:, 2] <= 0).any():
        return float("inf")
    a, b = screen[:-1, :2], screen[1:, :2]
    d = b - a
    length2 = np.maximum((d**2).sum(axis=1), 1e-12)
    t = np.clip(((np.array([x, y]) - a) * d).sum(axis=1) / length2, 0, 1)
    return float(np.hypot(*(a + t[:, None] * d - [x, y]).T).min())


@dataclass(frozen=True, slots=True)
class Near:
    """A control whose lines are drawn near the pointer. row : of the rig's controls. away : pixels. depth : of the nearest
    place on its lines, as the camera has it. wide : pixels across all of it."""

    row: int
    away: float
    depth: float
    wide: float


def near_shapes(shapes: RigShapes, worlds: FloatArray, x: float, y: float, camera: Camera, size: tuple[int, int]) -> list[Near]:
    """Controls whose lines are drawn within LINE_NEAR pixels of the pointer. worlds (c, 4, 4) : where controls stand."""
    if not len(shapes.points):
        return []
    screen = camera.project(shapes.placed(worlds), *size)
    first, second = screen[shapes.firsts], screen[shapes.firsts + 1]
    way = second[:, :2] - first[:, :2]
    here = np.array([x, y]) - first[:, :2]
    share = np.clip((here * way).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-12), 0.0, 1.0)
    away = np.linalg.norm(here - share[:, None] * way, axis=1)
    away[(first[:, 2] <= 0) | (second[:, 2] <= 0)] = np.inf
    depth = first[:, 2] + share * (second[:, 2] - first[:, 2])
    hit = np.flatnonzero(away <= LINE_NEAR)
    found = []
    owners = shapes.owner[shapes.firsts]
    for row in np.unique(owners[hit]):
        mine = hit[owners[hit] == row]
        best = mine[int(np.argmin(away[mine]))]
        all_of = screen[shapes.owner == row, :2]
        wide = float(np.linalg.norm(all_of.max(axis=0) - all_of.min(axis=0)))
        found.append(Near(int(row), float(away[best]), float(depth[best]), wide))
    return found


def best_shape(some: list[Near], idle: set[int], covered: float) -> int:
    """Row of the control that is meant: the nearest line, where what is out of use and what is covered counts as some
    pixels farther; of lines about as near the smaller one, unless one of about its size
    is well in front of it.

    covered : depth of the surface under the pointer, infinite for none. Depth is the camera's, nearer is less.
    """

    def felt(one: Near) -> float:
        return one.away + (BESIDE if one.row in idle else 0.0) + (BESIDE if one.depth > covered * (1.0 + COVER) else 0.0)

    nearest = min(felt(one) for one in some)
    rivals = [one for one in some if felt(one) <= nearest + RIVALS]
    front = min(rivals, key=lambda one: one.depth)
    small = min(rivals, key=lambda one: (one.wide, felt(one)))
    # A ring round everything is in front of much: what is far smaller is meant all the same.
    before = front.depth < small.depth - DEEP * abs(small.depth) and front.wide < WIDER * small.wide
    return (front if before else small).row


def shapes_inside(shapes: RigShapes, worlds: FloatArray, inside: Callable[[FloatArray], BoolArray]) -> set[int]:
    """Rows of the controls that have most of their lines inside. inside(points (n, 3)) : which are."""
    if not len(shapes.points):
        return set()
    within = inside(shapes.placed(worlds))
    most = np.bincount(shapes.owner, within) >= MOST_OF * np.maximum(np.bincount(shapes.owner), 1)
    return {int(row) for row in np.unique(shapes.owner) if most[row]}


def inside_box(
    points: FloatArray, corner: tuple[float, float], other: tuple[float, float], camera: Camera, size: tuple[int, int]
) -> BoolArray:
    """Which points (n, 3) are drawn inside a box of pixels."""
    screen = camera.project(points, *size)
    (x0, x1), (y0, y1) = sorted((corner[0], other[0])), sorted((corner[1], other[1]))
    inside = (screen[:, 0] >= x0) & (screen[:, 0] <= x1) & (screen[:, 1] >= y0) & (screen[:, 1] <= y1)
    return np.asarray(inside & (screen[:, 2] > 0))


def inside_lasso(
    points: FloatArray, path: list[tuple[float, float]], camera: Camera, size: tuple[int, int]
) -> BoolArray:
    """Which points (n, 3) are drawn inside a closed line of pixels, by the even-odd rule."""
    screen = camera.project(points, *size)
    x, y = screen[:, 0], screen[:, 1]
    inside = np.zeros(len(points), dtype=bool)
    for (x0, y0), (x1, y1) in zip(path, [*path[1:], path[0]], strict=True):
        crosses = (y0 > y) != (y1 > y)
        with np.errstate(divide="ignore", invalid="ignore"):
            at = x0 + (y - y0) * (x1 - x0) / (y1 - y0) if y1 != y0 else np.full(len(points), np.inf)
        inside ^= crosses & (x < at)
    return np.asarray(inside & (screen[:, 2] > 0))


def middle_of_surface(ray: Ray, points: FloatArray, triangles: IntArray) -> FloatArray | None:
    """Half way between where a ray enters the surface and where it leaves it again: a joint's place under the pointer."""
    first = hit_surface(ray, points, triangles)
    if first is None:
        return None
    onward = Ray(first.point + ray.direction * 1e-5 * max(first.distance, 1.0), ray.direction)
    second = hit_surface(onward, points, triangles)
    return first.point if second is None else np.asarray((first.point + second.point) / 2)
