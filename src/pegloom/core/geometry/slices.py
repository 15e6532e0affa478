"""Cuts through a mesh: the outlines a plane makes, and the one around a place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.transforms import any_perpendicular, normalised


@dataclass(frozen=True, slots=True, eq=False)
class Outline:
    """One outline of a cut. points (k, 3) in order; closed: whether it comes back to its start.

    edges (k, 2), shares (k,): the mesh edge each point lies on and how far from its first end; so the outline can be
    followed while the mesh moves.
    """

    points: FloatArray
    closed: bool
    edges: IntArray
    shares: FloatArray

    def followed(self, points: FloatArray) -> FloatArray:
        """The outline's places (k, 3) on the mesh as it is now."""
        a, b = points[self.edges[:, 0]], points[self.edges[:, 1]]
        return np.asarray(a + self.shares[:, None] * (b - a))


@dataclass(frozen=True, slots=True, eq=False)
class Section:
    """The cut around a place, in the plane's own axes.

    flat (k, 2) : the outline.
    centre (3,) : the middle of its area in space.
    radius : of the disc of the same area.
    right, up (3,) : the plane's axes in space.
    origin (3,) : where flat is zero.
    holds : whether it goes round the place.
    """

    flat: FloatArray
    centre: FloatArray
    radius: float
    right: FloatArray
    up: FloatArray
    origin: FloatArray
    holds: bool

    def in_plane(self, point: FloatArray) -> FloatArray:
        """A point of space in the plane's axes (2,)."""
        away = np.asarray(point) - self.origin
        return np.array([away @ self.right, away @ self.up])

    def goes_round(self, point: FloatArray) -> bool:
        """Whether the outline goes round a place that lies about in its plane (within 30 degrees of it)."""
        away = np.asarray(point) - self.origin
        off = abs(float(away @ np.cross(self.right, self.up)))
        return off <= 0.5 * float(np.linalg.norm(away)) and winds_around(self.flat - self.in_plane(point))

    def span(self, point: FloatArray, direction: FloatArray) -> tuple[float, float] | None:
        """Where a line through `point` along `direction` (in the plane) enters and leaves, measured from point."""
        here = self.in_plane(point)
        d = np.array([direction @ self.right, direction @ self.up])
        length = float(np.linalg.norm(d))
        if length < 1e-9:
            return None
        d = d / length
        side = np.array([-d[1], d[0]])
        a = self.flat - here
        b = np.roll(a, -1, axis=0)
        sa, sb = a @ side, b @ side
        crossing = (sa > 0) != (sb > 0)
        if crossing.sum() < 2:
            return None
        t = sa[crossing] / (sa[crossing] - sb[crossing])
        where = (a[crossing] + t[:, None] * (b[crossing] - a[crossing])) @ d
        return float(where.min()), float(where.max())


def cut(points: FloatArray, triangles: IntArray, origin: FloatArray, normal: FloatArray) -> list[Outline]:
    """Outlines of a mesh in the plane through origin (3,) square to normal (3,).

    points (n, 3), triangles (t, 3). Vertices that lie in the plane count as just above it, so that every triangle is
    cut once or not at all.
    """
    height = (points - origin) @ normalised(normal)
    above = height >= 0
    sides = above[triangles]
    count = sides.sum(axis=1)
    cut_ones = triangles[(count == 1) | (count == 2)]
    if len(cut_ones) == 0:
        return []
    up = above[cut_ones]
    lonely = np.where(up.sum(axis=1) == 1, np.argmax(up, axis=1), np.argmin(up, axis=1))
    rows = np.arange(len(cut_ones))
    tip, one, two = cut_ones[rows, lonely], cut_ones[rows, (lonely + 1) % 3], cut_ones[rows, (lonely + 2) % 3]
    edges = np.sort(np.stack([np.stack([tip, one], 1), np.stack([tip, two], 1)], 1).reshape(-1, 2), axis=1)
    key = edges[:, 0] * np.int64(len(points)) + edges[:, 1]
    unique, node = np.unique(key, return_inverse=True)
    a, b = unique // len(points), unique % len(points)
    share = height[a] / (height[a] - height[b])
    places = points[a] + share[:, None] * (points[b] - points[a])
    edge = np.stack([a, b], axis=1)
    return [
        Outline(places[line], closed, edge[line], share[line])
        for line, closed in _walk(len(places), node.reshape(-1, 2))
    ]


def _walk(count: int, pairs: IntArray) -> list[tuple[list[int], bool]]:
    """Outlines from pairs of `count` points: open ones from their ends, then rings."""
    touching: list[list[int]] = [[] for _ in range(count)]
    for k, (a, b) in enumerate(pairs.tolist()):
        touching[a].append(k)
        touching[b].append(k)
    used = np.zeros(len(pairs), dtype=bool)
    ends = [i for i, t in enumerate(touching) if len(t) % 2 == 1]
    outlines: list[tuple[list[int], bool]] = []
    table = pairs.tolist()
    for start in [*ends, *range(count)]:
        line = [start]
        here = start
        while True:
            k = next((k for k in touching[here] if not used[k]), -1)
            if k < 0:
                break
            used[k] = True
            a, b = table[k]
            here = b if a == here else a
            line.append(here)
        if len(line) > 2:
            closed = line[0] == line[-1]
            outlines.append((line[:-1] if closed else line, closed))
    return outlines


def section_at(
    points: FloatArray, triangles: IntArray, place: FloatArray, normal: FloatArray, *, up: FloatArray | None = None
) -> Section | None:
    """The outline around `place` in the plane square to `normal`; the nearest one where none goes round it.

    None where the plane meets no surface. up : a direction to draw upward.
    """
    n = normalised(normal)
    wanted = any_perpendicular(n) if up is None else up - n * float(up @ n)
    axis_up = normalised(wanted) if np.linalg.norm(wanted) > 1e-6 else any_perpendicular(n)
    right = np.cross(axis_up, n)
    best: Section | None = None
    best_rank = (2, np.inf)
    for outline in cut(points, triangles, place, n):
        away = outline.points - place
        flat = np.stack([away @ right, away @ axis_up], axis=1)
        if len(flat) < 3:
            continue
        holds = winds_around(flat)
        area, centre = area_and_centre(flat)
        if abs(area) < 1e-14:
            continue
        distance = float(np.linalg.norm(flat, axis=1).min())
        # Of outlines around the place the smallest: a sleeve's inside, not the coat around both arms.
        rank = (0, abs(area)) if holds else (1, distance)
        if rank < best_rank:
            best_rank = rank
            middle = place + right * centre[0] + axis_up * centre[1]
            best = Section(flat, middle, float(np.sqrt(abs(area) / np.pi)), right, axis_up, np.asarray(place), holds)
    return best


def winds_around(flat: FloatArray) -> bool:
    """Whether a closed outline (k, 2) goes round the origin."""
    angle = np.arctan2(flat[:, 1], flat[:, 0])
    step = np.diff(np.append(angle, angle[0]))
    step = (step + np.pi) % (2 * np.pi) - np.pi
    return bool(abs(step.sum()) > np.pi)


def area_and_centre(flat: FloatArray) -> tuple[float, FloatArray]:
    """Signed area and middle (2,) of a polygon (k, 2), by the shoelace formula."""
    a, b = flat, np.roll(flat, -1, axis=0)
    cross = a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1]
    area = float(cross.sum() / 2)
    if abs(area) < 1e-18:
        return 0.0, flat.mean(axis=0)
    return area, ((a + b) * cross[:, None]).sum(axis=0) / (6 * area)
