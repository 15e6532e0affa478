"""Fingers of a hand: tips are peaks of the way along the skin from the wrist."""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld_points
from pegloom.core.geometry.transforms import any_perpendicular, normalised

Placed = dict[str, tuple[FloatArray, FloatArray, float]]


def find_fingers(
    points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray, *, names: tuple[str, ...]
) -> Placed:
    """Base and tip of each finger, with a confidence.

    points (n, 3), triangles (t, 3): the standing mesh. wrist, palm: (3,). names: fingers from the thumb's side.
    Fingers that cannot be told apart are spread over the palm's width with a low confidence.
    """
    ahead = normalised(palm - wrist)
    length = float(np.linalg.norm(palm - wrist))
    tips = finger_tips(points, triangles, wrist, palm)
    if len(tips) < len(names):
        return _spread(wrist, palm, names)
    thumb_first = "thumb" in names
    if thumb_first and len(tips) > 1:
        # The thumb's tip is the least far along the hand, and at one end of the row.
        along = (tips - wrist) @ ahead
        thumb = int(np.argmin(along))
        others = np.delete(np.arange(len(tips)), thumb)
        order = others[np.argsort(np.linalg.norm(tips[others] - tips[thumb], axis=1))]
        tips = tips[[thumb, *order]]
    else:
        across = tips[:, 2]
        tips = tips[np.argsort(-across)]
    tips = tips[: len(names)]
    placed: Placed = {}
    fingers = tips[1:] if thumb_first else tips
    reach = float(np.max((fingers - wrist) @ ahead)) if len(fingers) else 2 * length
    for name, tip in zip(names, tips, strict=True):
        if name == "thumb":
            root = wrist + ahead * 0.3 * length
            base = root + (tip - root) * 0.3
        else:
            row = wrist + ahead * 0.52 * reach
            across = (tip - wrist) - ahead * float((tip - wrist) @ ahead)
            base = row + 0.72 * across
        inner = tip - normalised(tip - base) * 0.04 * float(np.linalg.norm(tip - base))
        placed[name] = (base, inner, 0.65)
    return placed


MOST = 5
SHORTEST = 0.35
"""Share of the longest finger's way from the wrist that the shortest has."""


def finger_tips(points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray) -> FloatArray:
    """Tips (up to 5, 3) of the fingers that stand out from a hand, moved just under the skin; the farthest first."""
    ahead = normalised(palm - wrist)
    length = float(np.linalg.norm(palm - wrist))
    welded = weld_points(points)
    places = points[welded.first]
    in_hand = ((places - wrist) @ ahead > -0.1 * length) & (np.linalg.norm(places - wrist, axis=1) < 4.0 * length)
    tri = welded.group[triangles]
    tri = tri[in_hand[tri].all(axis=1)]
    none = np.zeros((0, 3))
    if len(tri) < 20:
        return none
    edges = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    weights = np.linalg.norm(places[edges[:, 0]] - places[edges[:, 1]], axis=1) + 1e-9
    graph = sparse.csr_matrix((weights, (edges[:, 0], edges[:, 1])), shape=(len(places), len(places)))
    near_wrist = np.flatnonzero(in_hand & (np.abs((places - wrist) @ ahead) < 0.15 * length))
    if len(near_wrist) == 0:
        return none
    far = dijkstra(graph, directed=False, indices=near_wrist, min_only=True)
    far[~np.isfinite(far)] = -1.0
    tips: list[FloatArray] = []
    heights: list[float] = []
    open_ = far.copy()
    for _ in range(40 * MOST):
        if len(tips) == MOST:
            break
        tip = int(np.argmax(open_))
        if open_[tip] < max(0.4 * length, SHORTEST * max(heights, default=0.0)):
            break
        apart = dijkstra(graph, directed=False, indices=np.array([tip]), min_only=True)
        around = apart < 0.3 * length
        if far[around].max() > far[tip] + 1e-9:  # on the way up to another peak
            open_[apart < 0.15 * length] = -1.0
            continue
        # Up one finger and down the next is a long way along the skin: what is nearer belongs to this finger.
        ring = apart < 0.12 * length
        tips.append(places[ring].mean(axis=0))
        heights.append(float(far[tip]))
        open_[around] = -1.0
    return np.array(tips).reshape(-1, 3)


def _spread(wrist: FloatArray, palm: FloatArray, names: tuple[str, ...]) -> Placed:
    """Fingers side by side over a palm of usual width, where the mesh does not show them."""
    ahead = palm - wrist
    length = float(np.linalg.norm(ahead))
    forward = np.array([0.0, 0.0, 1.0])
    across = forward - normalised(ahead) * float(forward @ normalised(ahead))
    across = normalised(across) if np.linalg.norm(across) > 0.1 else any_perpendicular(ahead)
    placed: Placed = {}
    row = [n for n in names if n != "thumb"]
    for name in names:
        if name == "thumb":
            base, tip = wrist + 0.35 * ahead + 0.3 * length * across, wrist + 0.9 * ahead + 0.6 * length * across
        else:
            place = 0.36 - 0.72 * (row.index(name) / (len(row) - 1)) if len(row) > 1 else 0.0
            base = palm + across * place * length
            tip = base + 0.85 * ahead
        placed[name] = (base, tip, 0.25)
    return placed
