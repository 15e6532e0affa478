"""What of a body's skin can touch the floor: the hull of each foot, and of each hand."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.motion.retarget.chains import kind_of, parts_of
from pegloom.core.motion.retarget.plant import Sole
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights

MOST = 4
"""Joints that carry a point here."""
HELD = 0.5
"""Share of a vertex that a foot's joints hold for it to be the foot's."""


def soles_of(skeleton: Skeleton, skins: Iterable[tuple[FloatArray, Weights]]) -> dict[str, Sole]:
    """Soles by part (`leg.l`, `foreleg.r`, `arm.l`). skins : points (n, 3) at rest and their weights, of each bound mesh."""
    parts = {p: chain for p, chain in parts_of(skeleton).items() if kind_of(p) in ("leg", "foreleg", "arm") and len(chain) >= 3}
    owners = {p: _below(skeleton, chain[2]) for p, chain in parts.items()}
    pieces: dict[str, list[tuple[FloatArray, FloatArray]]] = {p: [] for p in parts}
    for points, weights in skins:
        matrix = weights.matrix()
        columns = {j: k for k, j in enumerate(weights.joint_ids)}
        for part, joints in owners.items():
            mine = [columns[j] for j in joints if j in columns]
            if not mine:
                continue
            held = np.asarray(matrix[:, mine].sum(axis=1)).ravel()
            rows = np.flatnonzero(held > HELD)
            if not len(rows):
                continue
            rows = rows[_hull(points[rows])]
            told = np.zeros((len(rows), len(skeleton.joints)))
            dense = matrix[rows].toarray()
            for joint, k in columns.items():
                if joint in skeleton.index:
                    told[:, skeleton.index[joint]] = dense[:, k]
            pieces[part].append((points[rows], told))
    found = {}
    for part, some in pieces.items():
        if not some:
            continue
        points, told = np.concatenate([p for p, _ in some]), np.concatenate([t for _, t in some])
        order = np.argsort(-told, axis=1)[:, :MOST]
        kept = np.take_along_axis(told, order, axis=1)
        kept = kept / np.maximum(kept.sum(axis=1, keepdims=True), 1e-12)
        found[part] = Sole(points, order.astype(np.int64), kept)
    return found


def _hull(points: FloatArray) -> IntArray:
    """The points that stand out: all of few, and of flat ones."""
    if len(points) < 24:
        return np.arange(len(points))
    try:
        return np.asarray(np.unique(ConvexHull(points).simplices))
    except QhullError:
        return np.arange(len(points))


def _below(skeleton: Skeleton, joint: str) -> frozenset[str]:
    found = {joint}
    for other in skeleton.joints:
        if other.parent in found:
            found.add(other.id)
    return frozenset(found)
