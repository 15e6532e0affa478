"""What a pose does to the surface around a joint: girth and area of sections kept, stretch, folds.

Sections are cut once at rest and then followed on their mesh edges, so that a crease or a collapsing twist shows as a
loop that shrinks, and open cloth is measured like a closed body.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_triangles, weld
from pegloom.core.geometry.slices import Outline, cut, winds_around
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.memo import by_identity
from pegloom.core.skeleton.joints import JointKind, Skeleton
from pegloom.core.skin.measures import edge_stretch, flat_pairs

APART = 0.7
"""Sections stand this many radii before and after the joint, and at it."""
AROUND = 1.0
"""Radians of the way round a joint that open cloth must cover: a strap that passes by has no girth there."""
REGION = 1.8
"""Radii around a joint that count as its region."""
LARGEST_OF_BONE = 4.0
"""A section wider than this many bone lengths is not the limb's own."""


OWN_OF_BONE = 0.6
"""Radius of a section over its bone's length under which it is surely the limb's own."""
DOWN_THE_LIMB = (0.0, 0.1, 0.2, 0.3)
"""Shares of the bone at which such a section is looked for."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Gauge:
    """What is measured of one part around one joint.

    rings : sections at rest, with girth and area there. edges (e, 2), pairs (p, 2): edges and neighbouring triangles of
    the region, over places; triangles (t, 3) all of the part's.
    """

    rings: tuple[tuple[Outline, float, float], ...]
    edges: IntArray
    triangles: IntArray
    pairs: IntArray
    radius: float


@dataclass(frozen=True, slots=True)
class Figures:
    """Of one joint's region in one pose.

    girth, area : the least share kept of any section (1 at rest).
    stretch : 99th percentile of the edges' length posed / rest.
    folded : faces lying back on a neighbour; None: no section there.
    """

    girth: float | None
    area: float | None
    stretch: float
    folded: int


@by_identity
def gauge_of(mesh: Mesh, skeleton: Skeleton, joint_id: str) -> Gauge | None:
    """The gauge of a part at a joint; None where the part is not around or near it, and of helper joints."""
    if skeleton.joint(joint_id).kind is JointKind.HALFWAY:
        return None
    g = weld(mesh)
    points, triangles = mesh.points[g.first], place_triangles(mesh)
    i = skeleton.index[joint_id]
    here = skeleton.positions[i]
    into, out, length = bones_at(skeleton, joint_id)
    reach = LARGEST_OF_BONE * length
    near = np.linalg.norm(points - here, axis=1) < reach
    local = triangles[near[triangles].any(axis=1)]
    first = _first_ring(points, local, here, into, out, length)
    if first is None:
        return None
    radius = _radius(first)
    rings = [first]
    for place, normal in ((here - APART * radius * into, into), (here + APART * radius * out, out)):
        ring = _ring(points, local, place, normal, reach)
        if ring is not None and 0.3 < _radius(ring) / max(radius, 1e-12) < 3.0:
            rings.append(ring)
    inside = np.linalg.norm(points - here, axis=1) < REGION * radius
    edges = place_edges(mesh)
    edges = edges[inside[edges].all(axis=1)]
    pairs = folding_pairs(mesh)
    pairs = pairs[inside[triangles[pairs]].all(axis=(1, 2))]
    measured = tuple((ring, _girth(ring.points, ring.closed), _area(ring.points)) for ring in rings)
    return Gauge(measured, edges, triangles, pairs, radius)


@by_identity
def folding_pairs(mesh: Mesh) -> IntArray:
    """Pairs (p, 2) of a mesh's triangles of places that could fold back on each other. See `flat_pairs`."""
    return flat_pairs(mesh.points[weld(mesh).first], place_triangles(mesh))


def measured(mesh: Mesh, gauge: Gauge, posed: FloatArray) -> Figures:
    """Figures of a part's posed points (n, 3) around the gauge's joint."""
    g = weld(mesh)
    rest, now = mesh.points[g.first], posed[g.first]
    stretch = edge_stretch(rest, now, gauge.edges)
    return Figures(*sections_kept(gauge, now), float(np.quantile(stretch, 0.99)) if len(stretch) else 1.0, _folded(now, gauge))


def sections_kept(gauge: Gauge, now: FloatArray) -> tuple[float | None, float | None]:
    """The least share of girth and of area a gauge's sections keep when its places are now (g, 3); None without a section."""
    girths, areas = [], []
    for ring, girth, area in gauge.rings:
        loop = ring.followed(now)
        if girth > 0:
            girths.append(_girth(loop, ring.closed) / girth)
        if ring.closed and area > 0:
            areas.append(_area(loop) / area)
    return min(girths) if girths else None, min(areas) if areas else None


def worst_of(figures: list[Figures]) -> Figures | None:
    """Several parts' figures as one: the worst of each."""
    if not figures:
        return None
    girths = [f.girth for f in figures if f.girth is not None]
    areas = [f.area for f in figures if f.area is not None]
    return Figures(
        min(girths) if girths else None,
        min(areas) if areas else None,
        max(f.stretch for f in figures),
        sum(f.folded for f in figures),
    )


def _folded(now: FloatArray, gauge: Gauge) -> int:
    if len(gauge.pairs) == 0:
        return 0
    used, number = np.unique(gauge.pairs, return_inverse=True)
    a, b, c = (now[gauge.triangles[used, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    pairs = number.reshape(-1, 2)
    bad = np.einsum("pd,pd->p", normal[pairs[:, 0]], normal[pairs[:, 1]]) < -0.5
    return len(np.unique(pairs[bad]))


def bones_at(skeleton: Skeleton, joint_id: str) -> tuple[FloatArray, FloatArray, float]:
    """Unit directions into and out of a joint, and the longer bone's length."""
    joint = skeleton.joint(joint_id)
    here = skeleton.positions[skeleton.index[joint_id]]
    ends = [np.array(c.position) for c in skeleton.children(joint_id) if not c.aside]
    if not ends and joint.tail is not None:
        ends = [np.array(joint.tail)]
    # Of several children the one straightest on is the limb; the others branch off.
    before = here - skeleton.positions[skeleton.index[joint.parent]] if joint.parent else np.zeros(3)
    into = normalised(before) if np.linalg.norm(before) > 1e-9 else np.zeros(3)
    ways = [end - here for end in ends if np.linalg.norm(end - here) > 1e-9]
    if ways:
        way = max(ways, key=lambda w: float(normalised(w) @ into))
        out = normalised(way)
        length = max(float(np.linalg.norm(way)), float(np.linalg.norm(before)) if into.any() else 0.0)
    else:
        out, length = into, float(np.linalg.norm(before))
    if not into.any():
        into = out
    if not out.any():
        out = into = np.array([0.0, 1.0, 0.0])
    return into, out, max(length, 1e-6)


def _first_ring(
    points: FloatArray, triangles: IntArray, here: FloatArray, into: FloatArray, out: FloatArray, length: float
) -> Outline | None:
    """The section at a joint; where only the trunk lies round it, the first one down the limb that is the limb's own.

    A shoulder or a hip is sunk: half a finger's breadth higher or lower its section is the arm's or the chest's.
    """
    between = normalised(into + out) if np.linalg.norm(into + out) > 1e-6 else out
    found: Outline | None = None
    for share in DOWN_THE_LIMB:
        for normal in (between, out):
            ring = _ring(points, triangles, here + share * length * out, normal, LARGEST_OF_BONE * length)
            if ring is not None and _radius(ring) < OWN_OF_BONE * length:
                return ring
            found = ring if found is None else found
    return found


def _ring(
    points: FloatArray, triangles: IntArray, place: FloatArray, normal: FloatArray, reach: float
) -> Outline | None:
    """The smallest outline round a place; of open cloth the nearest line. None where nothing is near."""
    right = any_perpendicular(normal)
    up = np.cross(normal, right)
    best: Outline | None = None
    rank = (2, np.inf)
    for outline in cut(points, triangles, place, normal):
        away = outline.points - place
        if np.linalg.norm(away, axis=1).max() > reach:
            continue
        flat = np.stack([away @ right, away @ up], axis=1)
        if outline.closed and winds_around(flat):
            option = (0, _area(outline.points))
        elif not outline.closed and np.ptp(np.unwrap(np.arctan2(flat[:, 1], flat[:, 0]))) > AROUND:
            option = (1, float(np.linalg.norm(flat, axis=1).min()))
        else:
            continue
        if option < rank:
            best, rank = outline, option
    return best


def _radius(ring: Outline) -> float:
    return float(np.sqrt(_area(ring.points) / np.pi)) if ring.closed else _girth(ring.points, False) / (2 * np.pi)


def _girth(points: FloatArray, closed: bool) -> float:
    steps = np.diff(points, axis=0, append=points[:1] if closed else points[-1:])
    return float(np.linalg.norm(steps, axis=1).sum())


def _area(points: FloatArray) -> float:
    """Area of the closed line in its mean plane: half the length of its area vector."""
    return float(np.linalg.norm(np.cross(points, np.roll(points, -1, axis=0)).sum(axis=0)) / 2)
