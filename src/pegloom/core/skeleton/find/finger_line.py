"""A finger's own middle line, from its tip to where it grows out of the hand; toes have one, too."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld_points
from pegloom.core.geometry.transforms import normalised

RINGS = 32
"""Rings of the skin looked at along the reach."""
WIDENS = 1.5
"""How much wider than its own usual width a ring is where the finger has grown together with what it hangs on."""
CAP = 0.06
"""Share of the reach from the tip that is its cap, whose rings lie on no line yet."""


@dataclass(frozen=True, eq=False)
class FreeLine:
    """The free part of a finger's middle line.

    places : (k, 3) metres, tip first; empty where the mesh is too coarse to show three rings. thick : half its width, metres.
    """

    places: FloatArray
    thick: float = 0.0

    def __len__(self) -> int:
        return len(self.places)

    @property
    def length(self) -> float:
        return float(_way(self.places)[-1]) if len(self.places) else 0.0


def free_line(points: FloatArray, triangles: IntArray, tip: FloatArray, reach: float) -> FreeLine:
    """The line through the middles of the rings of skin at equal ways from a tip, as far as the finger is free.

    points (n, 3), triangles (t, 3). reach : metres along the skin that are looked at.
    """
    none = FreeLine(np.zeros((0, 3)))
    welded = weld_points(points)
    places = points[welded.first]
    near = np.flatnonzero(np.linalg.norm(places - tip, axis=1) < 1.05 * reach)
    if len(near) < 12 or reach <= 0:
        return none
    at = np.full(len(places), -1)
    at[near] = np.arange(len(near))
    tri = at[welded.group[triangles]]
    tri = tri[(tri >= 0).all(axis=1)]
    own = places[near]
    edges = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    weights = np.linalg.norm(own[edges[:, 0]] - own[edges[:, 1]], axis=1) + 1e-9
    graph = sparse.csr_matrix((weights, (edges[:, 0], edges[:, 1])), shape=(len(near), len(near)))
    start = int(np.argmin(np.linalg.norm(own - tip, axis=1)))
    way = np.asarray(dijkstra(graph, directed=False, indices=np.array([start]), min_only=True))
    nearer = way[edges[:, 0]] <= way[edges[:, 1]]
    a, b = np.where(nearer, edges[:, 0], edges[:, 1]), np.where(nearer, edges[:, 1], edges[:, 0])
    middles: list[FloatArray] = []
    widths: list[float] = []
    for level in np.linspace(CAP * reach, reach, RINGS):
        # Where the skin's edges cross the level: a closed ring even of a finger of few, long faces.
        cut = np.flatnonzero((way[a] < level) & (way[b] >= level) & np.isfinite(way[b]))
        if len(cut) < 4:
            continue
        share = (level - way[a[cut]]) / np.maximum(way[b[cut]] - way[a[cut]], 1e-12)
        ring = own[a[cut]] + share[:, None] * (own[b[cut]] - own[a[cut]])
        # A ring's points crowd where the mesh is fine: its box tells its middle better than their mean.
        middle = (ring.min(axis=0) + ring.max(axis=0)) / 2
        width = float(np.linalg.norm(ring - middle, axis=1).max())
        if len(widths) >= 5 and width > WIDENS * float(np.median(widths[:10])):
            # The ring before it leans into the web already.
            middles, widths = middles[:-1], widths[:-1]
            break
        middles.append(middle)
        widths.append(width)
    if len(middles) < 3:
        return none
    return FreeLine(_smooth(np.array(middles)), float(np.median(widths)))


def _smooth(line: FloatArray) -> FloatArray:
    """The line as an arc through its rings: single rings lie aside where edges are long."""
    return _on_arc(line, _way(line))


def _way(line: FloatArray) -> FloatArray:
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])


def _on_arc(line: FloatArray, way: FloatArray) -> FloatArray:
    """Points (w, 3) after so many metres (w,) of the arc through a line's rings."""
    own = _way(line)
    scale = max(float(own[-1]), 1e-12)
    arc = np.linalg.lstsq(np.vander(own / scale, 3), line, rcond=None)[0]
    return np.asarray(np.vander(way / scale, 3) @ arc)


def gone_on(line: FloatArray, far: float, steps: int = 20) -> FloatArray:
    """Points (steps, 3) of a line's arc beyond its last ring, up to so many metres on: as a finger goes on in its palm."""
    return _on_arc(line, _way(line)[-1] + np.linspace(0.0, far, steps))


def bow(line: FloatArray) -> float:
    """How far a line (k, 3) leaves the straight way between its ends, over its length."""
    length = float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())
    if length <= 0:
        return 0.0
    chord = normalised(line[-1] - line[0])
    off = (line - line[0]) - ((line - line[0]) @ chord)[:, None] * chord
    return float(np.linalg.norm(off, axis=1).max()) / length


def at_share(line: FloatArray, share: float) -> FloatArray:
    """The point of a line (k, 3) after a share of its length."""
    way = _way(line)
    return np.array([np.interp(share * way[-1], way, line[:, axis]) for axis in range(3)])
