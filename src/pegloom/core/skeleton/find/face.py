"""Find a face's landmarks: eyeballs by their shells, nose, mouth and chin by the profile, brows and ears by what stands out.

1. Of a whole body only what lies above its neck is looked at.
2. An eyeball is a small round shell with another across the middle. Lids and pupils follow from it.
3. The profile is where the surface is farthest ahead at the middle, height by height. The nose is its farthest place; the
   chin where it lies farthest out from the line nose to throat; the mouth the dent between, else a third of the way from
   the nose's base to the chin (L. G. Farkas, "Anthropometry of the Head and Face", 1994: the lower face in thirds).
4. The brow is where the slice through the eye stands out above it. Ears are what stands out aside behind the eyes.
5. Jaw hinge and the skull's base lie by the ears, before and under them; without ears by the chin's height.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld_points
from pegloom.core.skeleton.find.evenness import Found
from pegloom.core.skeleton.find.shape import Shape
from pegloom.core.skeleton.kits import Kit

ROUND = 1.5
"""How many times as long as short the box of an eyeball may be."""
EYE_SIZE = (0.04, 0.3)
"""Diameter of an eyeball over the head's height."""
ACROSS = 0.15
"""How far, in its diameters, an eyeball's twin may lie from mirrored."""
STANDS = 0.02
"""How far a brow or an ear must stand out to be seen, over the head's height."""
TALL = 2.6
"""Height over depth of a body from which on it is more than a head with its shoulders."""
HEAD_OF_BODY = 0.3
"""Share of a whole body's height under its crown in which its head and neck are looked for."""
AHEAD = 0.45
"""How far ahead of the throat, of the way to the nose, a chin lies at least."""
DENT = 0.004
"""How deep the dent over a chin must be, over the head's height."""
STEPS = 160


@dataclass(frozen=True, slots=True, eq=False)
class Head:
    """What of a surface is a head's: triangles' corners (t, 3, 3), samples (m, 3), shells of places (k, 3), where its
    neck begins and its crown is."""

    corners: FloatArray
    samples: FloatArray
    shells: tuple[FloatArray, ...]
    low: float
    high: float
    middle: float

    @property
    def height(self) -> float:
        return self.high - self.low

    def front(self, x: float) -> tuple[FloatArray, FloatArray]:
        """The slice at x, seen from the side: heights (k,), rising, and the farthest z there (k,)."""
        pair = _cut(self.corners, 0, x)[:, :, 1:]
        if len(pair) == 0:
            return np.zeros(0), np.zeros(0)
        # So finely that the longest line leaves no height out.
        step = (self.high - self.low) / STEPS
        count = int(np.clip(np.abs(pair[:, 1, 0] - pair[:, 0, 0]).max() / step + 2, 3, 2 * STEPS))
        line = (pair[:, :1] + np.linspace(0, 1, count)[None, :, None] * (pair[:, 1:] - pair[:, :1])).reshape(-1, 2)
        line = line[line[:, 0] >= self.low]
        edges = np.linspace(self.low, self.high, STEPS + 1)
        cell = np.clip(np.searchsorted(edges, line[:, 0], side="right") - 1, 0, STEPS - 1)
        far = np.full(STEPS, -np.inf)
        np.maximum.at(far, cell, line[:, 1])
        known = np.isfinite(far)
        return ((edges[:-1] + edges[1:]) / 2)[known], far[known]

    def skin(self, x: float, y: float) -> FloatArray:
        """The place farthest ahead at x and y, or the nearest in height there is."""
        heights, far = self.front(x)
        z = float(np.interp(y, heights, far)) if len(heights) else 0.0
        return np.array([x, y, z])


def find_face(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs of a face, on a head alone, a bust or a whole body."""
    head = _head_of(shape)
    h, middle = head.height, head.middle
    heights, far = head.front(middle)
    upper = heights > head.low + 0.25 * h
    upper &= heights < head.low + 0.85 * h
    if upper.sum() < 8:
        return {}
    eyes = _eyes(head)
    nose = int(np.flatnonzero(upper)[int(np.argmax(far[upper]))])
    if eyes is not None:
        # The nose's tip lies under the eyes, a brim or a fringe over them.
        under = upper & (heights < eyes[0][1])
        if under.any():
            nose = int(np.flatnonzero(under)[int(np.argmax(far[under]))])
    chin, chin_sure = _chin(heights, far, nose)
    mouth, mouth_sure = _mouth(heights, far, nose, chin)
    nose_y, chin_y, mouth_y = float(heights[nose]), float(heights[chin]), float(heights[mouth])
    face = max(float(head.high - chin_y), 0.2 * h)
    # Ears stand between mouth and eyes; what is over them is hair, or a hat's brim.
    top = nose_y + 0.25 * face if eyes is None else float(eyes[0][1]) + 0.5 * eyes[1]
    ear, ear_tip, ear_sure = _ear(head, mouth_y, top, float(far[nose]))
    found: Found = {}
    found["chin"] = (np.array([middle, chin_y, float(far[chin]) - 0.03 * face]), chin_sure)
    found["crown"] = (np.array([middle, head.high - 0.01 * h, ear[2]]), 0.85)
    if eyes is None:
        # Half way down a head, a fifth of its breadth aside.
        centre, radius, eye_sure = _usual_eye(head, nose_y, chin_y), 0.06 * face, 0.35
    else:
        (centre, radius), eye_sure = eyes, 0.85
    brow_y, brow_sure = _brow(head, centre, radius)
    out = float(centre[0]) - middle
    for s, sign in (("l", 1.0), ("r", -1.0)):
        x = middle + sign * out
        eye = np.array([x, centre[1], centre[2]])
        found[f"{s}_eye"] = (eye, eye_sure)
        found[f"{s}_pupil"] = (eye + [0.0, 0.0, radius], eye_sure)
        found[f"{s}_lid"] = (eye + radius * np.array([0.0, 0.45, 0.9]), 0.9 * eye_sure)
        for name, share in (("brow", 0.45), ("brow_end", 1.5)):
            found[f"{s}_{name}"] = (head.skin(middle + sign * share * out, brow_y), brow_sure * min(eye_sure / 0.8, 1.0))
        for name, share in (("mouth", 0.72), ("mouth_front", 0.36)):
            found[f"{s}_{name}"] = (head.skin(middle + sign * share * out, mouth_y), mouth_sure * min(eye_sure / 0.6, 1.0))
        found[f"{s}_ear"] = (np.array([middle + sign * ear[0], ear[1], ear[2]]), ear_sure)
        found[f"{s}_ear_tip"] = (np.array([middle + sign * ear_tip[0], ear_tip[1], ear_tip[2]]), ear_sure)
    # The skull turns on the neck at the height of the ear lobes, about a third of the way from chin to crown.
    pivot_y = 0.5 * (ear[1] - 0.06 * face) + 0.5 * (chin_y + 0.33 * face) if ear_sure > 0.5 else chin_y + 0.33 * face
    pivot = np.array([middle, pivot_y, ear[2] - 0.02 * face])
    base_sure = min(chin_sure, 0.75) if ear_sure > 0.5 else min(chin_sure, 0.5)
    found["head"] = (shape.inside(pivot), base_sure)
    found["jaw"] = (shape.inside(np.array([middle, pivot_y + 0.02 * face, ear[2] + 0.08 * face])), base_sure)
    # Low in the neck: under the pivot, where its section's middle is.
    neck_y = head.low + 0.05 * h
    near = head.samples[np.abs(head.samples[:, 1] - neck_y) < 0.04 * h]
    neck_z = float((near[:, 2].min() + near[:, 2].max()) / 2) if len(near) else float(pivot[2])
    found["neck"] = (shape.inside(np.array([middle, neck_y, 0.7 * neck_z + 0.3 * float(pivot[2])])), 0.6)
    return found


def chin_of(
    points: FloatArray, triangles: IntArray, low: float, high: float, middle: float
) -> tuple[FloatArray, float] | None:
    """The chin's point (3,) on a body's profile between two heights, and how sure; None where there is no profile."""
    corners = points[triangles]
    corners = corners[corners[:, :, 1].max(axis=1) > low]
    heights, far = Head(corners, points[:0], (), low, high, middle).front(middle)
    upper = (heights > low + 0.25 * (high - low)) & (heights < low + 0.8 * (high - low))
    if upper.sum() < 8:
        return None
    nose = int(np.flatnonzero(upper)[int(np.argmax(far[upper]))])
    row, sure = _chin(heights, far, nose)
    place = np.array([middle, float(heights[row]), float(far[row]) - 0.02 * (high - low)])
    return place, sure


def _head_of(shape: Shape) -> Head:
    """The head of what stands there: all of a head alone, what lies above the shoulders of a bust or a whole body."""
    points, triangles = shape.points, shape.triangles
    low, high = float(shape.low[1]), float(shape.high[1])
    tall = shape.height / max(float(shape.size[2]), 1e-9)
    if tall > TALL:
        low = high - HEAD_OF_BODY * shape.height
    samples, corners = _samples(points, triangles), points[triangles]
    low = _neck(corners, low, high, shape.middle)
    corners = corners[corners[:, :, 1].max(axis=1) > low]
    return Head(corners, samples[samples[:, 1] > low], _shells(points, triangles, low), low, high, shape.middle)


def _samples(points: FloatArray, triangles: IntArray) -> FloatArray:
    """Places on a surface: its vertices, and the middles of its edges and faces."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return np.concatenate([a, b, c, (a + b) / 2, (b + c) / 2, (c + a) / 2, (a + b + c) / 3])


def _cut(corners: FloatArray, axis: int, value: float) -> FloatArray:
    """Segments (k, 2, 3) in which triangles (t, 3, 3) meet a plane square to an axis."""
    aside = corners[:, :, axis] - value
    over = aside > 0
    crossed = over.any(axis=1) & ~over.all(axis=1)
    corners, aside, over = corners[crossed], aside[crossed], over[crossed]
    # The corner that is alone on its side comes first.
    alone = np.where(over.sum(axis=1) == 1, np.argmax(over, axis=1), np.argmin(over, axis=1))
    rows, ends = np.arange(len(corners)), []
    for step in (1, 2):
        other = (alone + step) % 3
        a, b = aside[rows, alone], aside[rows, other]
        share = (a / (a - b))[:, None]
        ends.append(corners[rows, alone] + share * (corners[rows, other] - corners[rows, alone]))
    return np.stack(ends, axis=1) if len(corners) else np.zeros((0, 2, 3))


def _neck(corners: FloatArray, low: float, high: float, middle: float) -> float:
    """The height of the narrowest place under the head, where there is one; shoulders lie under it."""
    edges = np.linspace(low, high, 61)
    broad = np.zeros(60)
    for row, y in enumerate((edges[:-1] + edges[1:]) / 2):
        ring = _cut(corners, 1, float(y))
        broad[row] = float(np.abs(ring[:, :, 0] - middle).max()) if len(ring) else 0.0
    # The head is the upper half; the neck the narrowest place under its broadest.
    widest = 30 + int(np.argmax(broad[30:]))
    under = np.arange(3, widest)
    if len(under) < 6 or broad[widest] <= 0:
        return low
    least = float(np.where(broad[under] > 0, broad[under], np.inf).min())
    # A neck is about as broad all along: its foot is the lowest place that still is.
    narrow = int(under[(broad[under] > 0) & (broad[under] <= 1.1 * least)][0])
    below = broad[: max(narrow, 1)].max()
    if broad[narrow] > 0.85 * broad[widest] or below < 1.15 * broad[narrow]:
        return low
    return float(edges[narrow])


def _shells(points: FloatArray, triangles: IntArray, low: float) -> tuple[FloatArray, ...]:
    """Places (k, 3) of every connected shell that lies wholly above a height."""
    g = weld_points(points)
    tri = g.group[triangles]
    ends = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]]])
    graph = sparse.coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(g.count, g.count))
    count, label = connected_components(graph, directed=False)
    places = points[g.first]
    used = np.zeros(g.count, dtype=bool)
    used[tri.ravel()] = True
    lowest = np.full(count, np.inf)
    np.minimum.at(lowest, label[used], places[used, 1])
    order = np.argsort(label, kind="stable")
    starts = np.searchsorted(label[order], np.arange(count + 1))
    return tuple(places[order[starts[k] : starts[k + 1]]] for k in np.flatnonzero((lowest > low) & np.isfinite(lowest)).tolist())


def _eyes(head: Head) -> tuple[FloatArray, float] | None:
    """Middle (3,) and radius of the left eyeball: the largest round shell with a twin across, in the face's front half."""
    found = []
    depth = np.quantile(head.samples[:, 2], 0.5)
    for places in head.shells:
        low, high = places.min(axis=0), places.max(axis=0)
        size = high - low
        if len(places) < 8 or size.min() <= 0 or size.max() > ROUND * size.min():
            continue
        centre, across = (low + high) / 2, float(size.mean())
        if EYE_SIZE[0] < across / head.height < EYE_SIZE[1] and centre[2] > depth:
            found.append((centre, across / 2))
    pairs = []
    for centre, radius in found:
        if centre[0] - head.middle < 0.5 * radius:
            continue
        mirrored = centre * [-1, 1, 1] + [2 * head.middle, 0, 0]
        twin = min((float(np.linalg.norm(mirrored - other)) for other, _ in found), default=np.inf)
        if twin < 2 * ACROSS * radius:
            pairs.append((radius, centre))
    if not pairs:
        return None
    radius, centre = max(pairs, key=lambda pair: pair[0])
    return centre, radius


def _usual_eye(head: Head, nose_y: float, chin_y: float) -> FloatArray:
    """Where an eye is without eyeballs to see: half way from chin to crown, a fifth of the head's breadth aside."""
    y = max(0.5 * (head.high + chin_y), nose_y + 0.1 * (head.high - chin_y))
    near = np.abs(head.samples[:, 1] - y) < 0.05 * head.height
    half = float(np.quantile(np.abs(head.samples[near, 0] - head.middle), 0.95)) if near.any() else 0.3 * head.height
    place = head.skin(head.middle + 0.42 * half, y)
    return place - [0.0, 0.0, 0.06 * (head.high - chin_y)]


def _chin(heights: FloatArray, far: FloatArray, nose: int) -> tuple[int, float]:
    """Row of the profile where the chin is, and how sure.

    The first place up from the throat that stands out ahead of what is over and under it; of a chin that falls back, the
    corner farthest out from the straight line nose to throat.
    """
    if nose < 6:
        return 0, 0.3
    span = float(heights[-1] - heights[0])
    throat, most = float(np.median(far[: max(nose // 4, 2)])), float(far[nose])
    rows = np.flatnonzero((heights < heights[nose] - 0.12 * span) & (far > throat + AHEAD * (most - throat)))
    for k in rows.tolist():
        beside = far[max(k - 2, 0) : k + 3]
        over = far[k + 1 : k + 1 + max(len(heights) // 10, 3)]
        if far[k] >= beside.max() and far[k] > over.min() + DENT * span:
            return int(k), 0.8
    start, end = np.array([heights[nose], far[nose]]), np.array([heights[0], far[0]])
    way = end - start
    out = np.array([way[1], -way[0]]) / max(float(np.linalg.norm(way)), 1e-12)
    below = np.flatnonzero(heights < heights[nose] - 0.12 * span)
    off = (np.stack([heights[below], far[below]], axis=1) - start) @ (out if out[1] > 0 else -out)
    best = int(below[int(np.argmax(off))])
    return best, float(np.clip(0.35 + 4.0 * float(off.max()) / span, 0.3, 0.65))


def _mouth(heights: FloatArray, far: FloatArray, nose: int, chin: int) -> tuple[int, float]:
    """Row of the profile where the lips meet: the dent about half way from the nose's tip to the chin."""
    span = heights[nose] - heights[chin]
    window = np.flatnonzero((heights < heights[nose] - 0.25 * span) & (heights > heights[nose] - 0.65 * span))
    usual = int(np.argmin(np.abs(heights - (heights[nose] - 0.45 * span))))
    if len(window) < 3 or span <= 0:
        return usual, 0.35
    inner = window[1:-1]
    dents = [k for k in inner.tolist() if far[k] < far[k - 1] and far[k] < far[k + 1]]
    if dents:
        # Under the nose and over the chin are dents, too: the lips meet about half way.
        return int(min(dents, key=lambda k: abs(float(heights[k]) - (heights[nose] - 0.48 * span)))), 0.65
    return usual, 0.45


def _brow(head: Head, eye: FloatArray, radius: float) -> tuple[float, float]:
    """Height of the brow over an eye: where the slice through the eye stands out most above the ball."""
    heights, far = head.front(float(eye[0]))
    window = np.flatnonzero((heights > eye[1] + 0.7 * radius) & (heights < eye[1] + 2.6 * radius))
    usual = float(eye[1] + 1.5 * radius)
    if len(window) < 4:
        return usual, 0.35
    # Against the straight line over the window, so that a forehead that leans back counts for nothing.
    line = np.interp(heights[window], heights[window[[0, -1]]], far[window[[0, -1]]])
    off = far[window] - line
    best = int(np.argmax(off))
    if off[best] > STANDS * 0.3 * head.height and 0 < best < len(window) - 1:
        return float(heights[window[best]]), 0.65
    return usual, 0.45


def _ear(head: Head, low: float, high: float, front: float) -> tuple[FloatArray, FloatArray, float]:
    """Root and tip (x counted from the middle) of an ear, and how sure: what stands out aside behind the eyes."""
    samples = head.samples.copy()
    samples[:, 0] = np.abs(samples[:, 0] - head.middle)
    back = float(np.quantile(samples[:, 2], 0.02))
    band = samples[(samples[:, 1] > low) & (samples[:, 1] < high)]
    if len(band) < 10:
        band = samples
    edges = np.linspace(back, front, 41)
    cell = np.clip(np.searchsorted(edges, band[:, 2], side="right") - 1, 0, 39)
    out = np.zeros(40)
    np.maximum.at(out, cell, band[:, 0])
    middle = np.arange(8, 28)
    best = int(middle[int(np.argmax(out[middle]))])
    # How far it stands out from the cheek before it and the skull behind.
    beside = max(out[min(best + 5, 39)], out[max(best - 5, 0)])
    stands = (out[best] - beside) / max(head.height, 1e-12)
    z = float((edges[best] + edges[best + 1]) / 2)
    if stands <= STANDS:
        skull = float(out[best]) * 0.92
        root = np.array([skull, 0.5 * (low + high), z])
        return root, root + [0.04 * head.height, 0.1 * head.height, 0.0], 0.3
    ear = samples[(samples[:, 0] > beside + 0.3 * (out[best] - beside)) & (np.abs(samples[:, 2] - z) < 0.12 * head.height)]
    ear = ear[(ear[:, 1] > low - 0.1 * head.height) & (ear[:, 1] < high + 0.1 * head.height)]
    root = np.array([beside, float(np.median(ear[:, 1])), float(np.median(ear[:, 2]))])
    return root, ear[int(np.argmax(ear[:, 1]))], 0.75
