"""Which regions of weight are strays: judged by what they do when the body moves, and by how far off their joint they are.

A region cut off from its joint's main one is only suspected. Hand-made weights have such, and mean them: a fold, a
strap, a crease. A stray is one that lies far from its joint, moves what it holds visibly, and tears at what is around it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.mesh import Mesh, place_edges, weld
from pegloom.core.geometry.transforms import quaternion_about, rotation_matrix
from pegloom.core.memo import by_identity
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skeleton.joints import Skeleton, bone_segments
from pegloom.core.skin.strays import Stray, find_strays
from pegloom.core.skin.weights import Weights, dense

SUSPECT = 0.01
"""A weight from which a region is looked at."""
FAR, NEAR = 1.5, 1.0
"""How many times as far from its joint's bones as nearly all of the main region a stray surely is, or may be."""
TEARS = 0.8
"""Share of the strain around it that is left without a stray, at most."""
SEEN_OF_SIZE, ASKED_OF_SIZE = 0.0006, 0.003
"""Least movement, in shares of the body's size, that anybody sees, and that is worth a question where it is not sure."""
MOST = 200
"""Regions judged in one part; where there are more the weights are noise, and the strongest tell it."""
OWN_TURN = 0.6
"""Radians by which the region's own joint is turned beside the trials, which may not move it."""


@dataclass(frozen=True, slots=True, eq=False)
class JudgedStray:
    """A region of one joint's weight.

    moves : metres it moves a vertex at most, in the trials or when its joint turns.
    away : metres from the joint's bones to it.
    sure : whether taking it away is surely right; else somebody should look.
    """

    joint: str
    vertices: IntArray
    largest: float
    moves: float
    away: float
    sure: bool


@by_identity
def judged_strays(mesh: Mesh, weights: Weights, skeleton: Skeleton) -> tuple[JudgedStray, ...]:
    """Strays of a part's weights: the sure ones first, the one that moves most before the others."""
    suspects = find_strays(mesh, weights, least=SUSPECT)[:MOST]
    if not suspects or any(j not in skeleton.index for j in weights.joint_ids):
        return ()
    judge = _Judge(mesh, weights, skeleton)
    found = [judged for stray in suspects if (judged := judge.judged(stray)) is not None]
    return tuple(sorted(found, key=lambda s: (not s.sure, -s.moves)))


class _Judge:
    def __init__(self, mesh: Mesh, weights: Weights, skeleton: Skeleton) -> None:
        self.mesh, self.weights, self.skeleton = mesh, weights, skeleton
        g = weld(mesh)
        self.group, self.places = g.group, mesh.points[g.first]
        self.edges = place_edges(mesh)
        self.values = dense(weights)[g.first]
        self.size = max(float(np.linalg.norm(np.ptp(mesh.points, axis=0))), 1e-12)
        self.columns = [skeleton.index[j] for j in weights.joint_ids]
        poses = [evaluate_rig(skeleton, None, trial_pose(skeleton, t.id)).joints for t in trials_of(skeleton)]
        self.trials = [skin_matrices(skeleton, joints)[self.columns] for joints in poses]
        self.bones = bone_segments(skeleton)

    def judged(self, stray: Stray) -> JudgedStray | None:
        """None for a region that is no stray."""
        region = np.unique(self.group[stray.vertices])
        column = self.weights.joint_ids.index(stray.joint)
        away, usual = self._distances(column, region)
        if away <= NEAR * usual:
            return None
        touching = np.asarray(np.isin(self.edges, region).any(axis=1))
        edges = self.edges[touching]
        around = np.unique(np.concatenate([edges.ravel(), region]))
        before = self.values[around]
        after = self._given_up(region, column, around)
        ends = np.searchsorted(around, edges)
        rest = self.places[around]
        length = np.maximum(np.linalg.norm(rest[ends[:, 0]] - rest[ends[:, 1]], axis=1), 1e-12)
        moves, strain = 0.0, np.zeros(2)
        for matrices in (*self.trials, *self._turned(column)):
            shown = [_blend(rest, rows, matrices) for rows in (before, after)]
            moves = max(moves, float(np.linalg.norm(shown[0] - shown[1], axis=1).max(initial=0.0)))
            for k, points in enumerate(shown):
                now = np.linalg.norm(points[ends[:, 0]] - points[ends[:, 1]], axis=1)
                strain[k] += float(((now / length - 1.0) ** 2).sum())
        sure = bool(away > FAR * usual and strain[1] < TEARS * strain[0])
        if moves < (SEEN_OF_SIZE if sure else ASKED_OF_SIZE) * self.size or strain[1] > strain[0]:
            return None
        return JudgedStray(stray.joint, stray.vertices, stray.largest, moves, away, sure)

    def _given_up(self, region: IntArray, column: int, around: IntArray) -> FloatArray:
        """Rows (a, j) of the places around a region without what the joint holds in it: to whoever else holds them.

        Where nobody does, as what lies around the region is held.
        """
        rows = self.values[around].copy()
        own = np.searchsorted(around, region)
        rows[own, column] = 0.0
        total = rows.sum(axis=1)
        bare = total < 1e-6
        outside = np.setdiff1d(np.arange(len(around)), own)
        if bare.any():
            rest = rows[outside].mean(axis=0) if len(outside) else self.values[around].mean(axis=0)
            rows[bare] = rest
        return np.asarray(rows / np.maximum(rows.sum(axis=1, keepdims=True), 1e-12))

    def _distances(self, column: int, region: IntArray) -> tuple[float, float]:
        """How far the region begins from the joint's bones, and how far nearly all else that the joint holds lies."""
        starts, ends, owner = self.bones
        mine = owner == self.columns[column]
        own = self.values[:, column].copy()
        own[region] = 0.0
        held = np.flatnonzero(own > SUSPECT)
        there = closest_on_segments(self.places[region], starts[mine], ends[mine])[1].min(axis=1)
        if len(held) == 0:
            return float(there.min()), 0.0
        here = closest_on_segments(self.places[held], starts[mine], ends[mine])[1].min(axis=1)
        order = np.argsort(here)
        total = np.cumsum(own[held][order])
        return float(there.min()), float(here[order][int(np.searchsorted(total, 0.97 * total[-1]))])

    def _turned(self, column: int) -> list[FloatArray]:
        """Skin matrices (j, 4, 4) with the joint and its branch turned about two of its axes."""
        skeleton, joint = self.skeleton, self.columns[column]
        branch = np.zeros(len(skeleton.joints), dtype=bool)
        branch[joint] = True
        for k, above in enumerate(skeleton.parents.tolist()):
            branch[k] |= above >= 0 and bool(branch[above])
        found = []
        for axis in (0, 2):
            turn = np.eye(4)
            turn[:3, :3] = rotation_matrix(quaternion_about(skeleton.world[joint][:3, axis], OWN_TURN))
            pivot = skeleton.positions[joint]
            turn[:3, 3] = pivot - turn[:3, :3] @ pivot
            matrices = np.repeat(np.eye(4)[None], len(skeleton.joints), axis=0)
            matrices[branch] = turn
            found.append(matrices[self.columns])
        return found


def _blend(points: FloatArray, rows: FloatArray, matrices: FloatArray) -> FloatArray:
    """Points (p, 3) moved by rows (p, j) of weights over matrices (j, 4, 4)."""
    used = np.flatnonzero(rows.any(axis=0))
    whole = np.append(points, np.ones((len(points), 1)), axis=1)
    moved = np.einsum("jab,pb->pja", matrices[used, :3], whole)
    return np.asarray(np.einsum("pj,pja->pa", rows[:, used], moved))
