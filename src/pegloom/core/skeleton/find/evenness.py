"""Which pairs of found pegs may be evened out: those around whose places the two sides are shaped alike.

A body is even in its legs and trunk and not in an arm that is raised; so it is asked pair by pair. The surface around
each place is mirrored, and how far it then lies off the surface is measured across it: along a limb that goes on the
same, nothing tells a place from the next.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import sample_surface_normals

Found = dict[str, tuple[FloatArray, float]]
"""Place (3,) and confidence by peg."""

SAMPLES = 30_000
AROUND = 0.055
"""How far around a peg is looked, in shares of the body's size."""
MOST = 400
"""Samples looked at around a peg."""
ALIKE, NEARLY = 0.0025, 0.009
"""How far, in shares of the size, most of the mirrored surface may lie off where the two sides are the same, and where
they are nearly so."""
TOGETHER = 0.03
"""How far apart, in shares of the size, the places of a pair that is nearly the same may be."""
QUANTILE = 0.8


class Evenness:
    """How alike the two sides of a body are, place by place.

    points (n, 3), triangles (t, 3): the standing mesh. middle : x of the mirror plane. size : the body's, metres.
    """

    def __init__(self, points: FloatArray, triangles: IntArray, *, middle: float, size: float) -> None:
        self.places, self.normals = sample_surface_normals(points, triangles, count=SAMPLES)
        self.tree, self.middle, self.size = cKDTree(self.places), middle, size

    def across(self, place: FloatArray) -> FloatArray:
        """A place (3,) or places (m, 3) on the other side."""
        return np.asarray(place * [-1.0, 1.0, 1.0] + [2 * self.middle, 0.0, 0.0])

    def gap(self, place: FloatArray) -> float:
        """How far the surface around a place, once mirrored, lies off the surface: shares of the size."""
        near = np.array(self.tree.query_ball_point(place, AROUND * self.size), dtype=np.int64)
        if len(near) == 0:
            near = np.asarray(self.tree.query(place, k=min(20, len(self.places)))[1]).reshape(-1)
        near = near[:: len(near) // MOST + 1]
        there = self.across(self.places[near])
        straight, found = (np.asarray(v) for v in self.tree.query(there))
        out = self.normals[found]
        level = np.abs(np.einsum("ij,ij->i", there - self.places[found], out))
        # Between samples the surface goes on; farther off than they lie from each other it does not.
        spacing = 0.012 * self.size
        facing = np.einsum("ij,ij->i", self.normals[near] * [-1.0, 1.0, 1.0], out) > 0.3
        off = np.where((straight < spacing) & facing, level, straight)
        return float(np.quantile(off, QUANTILE)) / self.size

    def alike(self, left: FloatArray, right: FloatArray) -> bool:
        """Whether the surroundings of a pair's two places agree."""
        gap = max(self.gap(left), self.gap(right))
        if gap <= ALIKE:
            return True
        parted = float(np.linalg.norm(left - self.across(right))) / self.size
        return gap <= NEARLY and parted <= TOGETHER


def even_out(found: Found, evenness: Evenness) -> tuple[Found, frozenset[str]]:
    """Pairs that are alike at the mean of one and the other mirrored; centre pegs on the middle.

    The rest stay where they were found: their names are returned beside the places.
    """
    result: Found = {}
    apart: set[str] = set()
    for name, (place, sure) in found.items():
        twin = "r_" + name[2:]
        if name[:2] == "l_" and twin in found:
            other, sure2 = found[twin]
            if evenness.alike(place, other):
                mean = (place * sure + evenness.across(other) * sure2) / max(sure + sure2, 1e-9)
                result[name] = (mean, min(sure, sure2))
                result[twin] = (evenness.across(mean), min(sure, sure2))
            else:
                result[name], result[twin] = found[name], found[twin]
                apart |= {name, twin}
        elif name[:2] not in ("l_", "r_"):
            result[name] = (np.array([evenness.middle, place[1], place[2]]), sure)
        else:
            result.setdefault(name, (place, sure))
    return result, frozenset(apart)
