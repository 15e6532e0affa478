"""What a skin's figures are in every trial, and where they are worse than they were."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_neighbours, place_triangles, weld
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.measures import edge_stretch, folded_back
from pegloom.core.skin.quality import REGION, Figures, folding_pairs, gauge_of, sections_kept
from pegloom.core.skin.weights import Weights, packed

WORSE = 0.02
"""Share by which a figure may be worse."""
STEP = 0.7
"""Least share of the way to something else that is left at once."""
SEVERE = 1.5
"""Stretch under which an edge counts as sound, whatever it was before."""
FADES = 0.6
"""Radii of a region over which it fades out into what is around it."""
LOUDEST = 4.0
"""Times what may be worse, over which being worse counts for no more."""
TORN = 1.6
"""Stretch from which an edge draws a fit to it."""
AROUND = 4
"""Rings around such an edge."""


class Seen:
    """Figures of a skin in some trials: of each joint's region, of each edge, and which faces lie folded."""

    def __init__(self, judge: Judge, points: Mapping[str, FloatArray]) -> None:
        first = weld(judge.mesh).first
        self.figures: dict[tuple[str, str], Figures] = {}
        self.stretch: dict[str, FloatArray] = {}
        self.folded: dict[str, IntArray] = {}
        for name, posed in points.items():
            now = posed[first]
            stretch = edge_stretch(judge.rest, now, judge.edges)
            back = folded_back(now, judge.triangles, judge.pairs)
            for joint, gauge in judge.gauges.items():
                edges, pairs = judge.inside[joint]
                lies = back[pairs]
                folded = len(np.unique(judge.pairs[pairs[lies]])) if lies.any() else 0
                usual = float(np.quantile(stretch[edges], 0.99)) if len(edges) else 1.0
                self.figures[name, joint] = Figures(*sections_kept(gauge, now), usual, folded)
            self.stretch[name] = stretch
            self.folded[name] = np.unique(judge.pairs[back])


class Judge:
    """Of one part, held against how some weights bend it.

    Parameters
    ----------
    skeleton : of the trials. weights : to hold others against. trials : joint matrices (j, 4, 4) of the whole skeleton, by name.
    worse : share by which a figure may be worse. joints : whose regions are looked at; None for all.
    """

    def __init__(
        self, mesh: Mesh, skeleton: Skeleton, weights: Weights, trials: Mapping[str, FloatArray], worse: float = WORSE, *, joints: Collection[str] | None = None,
    ) -> None:  # fmt: skip
        self.mesh, self.skeleton, self.trials, self.worse = mesh, skeleton, trials, worse
        self.rest = mesh.points[weld(mesh).first]
        names = [j.id for j in skeleton.joints if joints is None or j.id in joints]
        self.gauges = {j: gauge for j in names if (gauge := gauge_of(mesh, skeleton, j)) is not None}
        self.wide = {joint: REGION * gauge.radius for joint, gauge in self.gauges.items()}
        self.edges, self.triangles = place_edges(mesh), place_triangles(mesh)
        self.pairs = folding_pairs(mesh)
        self.inside = {joint: self._inside(joint) for joint in self.gauges}
        self.before = self.of(weights)

    def _inside(self, joint: str) -> tuple[IntArray, IntArray]:
        """Numbers of the edges, and of the pairs of faces, of a joint's region."""
        near = np.linalg.norm(self.rest - self.skeleton.positions[self.skeleton.index[joint]], axis=1) < self.wide[joint]
        return np.flatnonzero(near[self.edges].all(axis=1)), np.flatnonzero(near[self.triangles[self.pairs]].all(axis=(1, 2)))

    def of(self, weights: Weights, trials: Collection[str] | None = None) -> Seen:
        """Figures of other weights, in all trials or some."""
        columns, skin = [self.skeleton.index[j] for j in weights.joint_ids], packed(weights)
        return Seen(self, {t: skin_linear(self.mesh.points, skin, self.trials[t][columns]) for t in trials or self.trials})

    def apart(self, joint: str, wide: float | None = None) -> FloatArray:
        """How far (p,) each place is from a joint's region: 0 in it, 1 where it has faded out. wide : of the region, metres."""
        wide = wide or self.wide[joint]
        away = np.linalg.norm(self.rest - self.skeleton.positions[self.skeleton.index[joint]], axis=1)
        return np.asarray(np.clip((away - wide) / (FADES * wide), 0.0, 1.0))

    def worse_by_place(self, weights: Weights, nearly: float = 1.0) -> dict[str, FloatArray]:
        """By trial, how much (p,) worse it is around each place, in measures of what it may be; and where edges tear. Trials in
        which no region is worse are left out. nearly : share of what may be worse from which it counts."""
        now, result = self.of(weights), {}
        for trial, stretch in now.stretch.items():
            some, any_worse = np.zeros(len(self.rest)), False
            for joint in self.gauges:
                was, is_ = self.before.figures[trial, joint], now.figures[trial, joint]
                over, folds = excess(was, is_, nearly * self.worse) / max(self.worse, 1e-3), is_.folded > was.folded
                if over > 0.0 or folds:
                    some = np.maximum(some, (min(max(over, 0.0), LOUDEST) + float(folds)) * (1.0 - self.apart(joint)))
                    any_worse = True
            if any_worse:
                result[trial] = np.maximum(some, self._torn(stretch))
        return result

    def _torn(self, stretch: FloatArray) -> FloatArray:
        hot, share = np.zeros(len(self.rest)), np.clip(stretch / TORN - 1.0, 0.0, 1.0)
        for side in (0, 1):
            np.maximum.at(hot, self.edges[:, side], share)
        ring = place_neighbours(self.mesh)
        degree = np.maximum(np.asarray(ring.sum(axis=1)).ravel(), 1.0)
        for _ in range(AROUND):
            hot = np.maximum(hot, np.asarray(ring @ hot) / degree)
        return np.asarray(2.0 * hot)

    def faults(self, now: Seen) -> tuple[dict[str, float], IntArray, list[str]]:
        """Joints whose regions are worse and the share of the way that may be left of them, places where edges are longer than any was
        or faces are folded that were not, and in which trials that is."""
        regions: dict[str, float] = {}
        bad: list[str] = []
        places: list[IntArray] = [np.zeros(0, dtype=np.int64)]
        worse = self.worse
        for trial, stretch in now.stretch.items():
            before = self.before.stretch[trial]
            mine: dict[str, float] = {}
            folds = len(now.folded[trial]) > len(self.before.folded[trial])
            for joint in self.gauges:
                was, is_ = self.before.figures[trial, joint], now.figures[trial, joint]
                folds = folds or is_.folded > was.folded
                over = excess(was, is_, worse)
                if over > 0.0:
                    mine[joint] = max(worse / (worse + over), STEP) if worse > 0.0 else STEP
            limit = max((1.0 + worse) * float(before.max(initial=1.0)), SEVERE)
            spots = [self.edges[stretch > limit].ravel()]
            usual = (1.0 + worse) * float(np.quantile(before, 0.99)) if len(stretch) else 1.0
            if len(stretch) and np.quantile(stretch, 0.99) > usual:
                spots.append(self.edges[stretch > np.maximum(usual, before)].ravel())
            if folds:
                spots.append(self.triangles[np.setdiff1d(now.folded[trial], self.before.folded[trial])].ravel())
            if mine or any(len(one) for one in spots):
                bad.append(trial)
                for joint, step in mine.items():
                    regions[joint] = min(step, regions.get(joint, 1.0))
                places += spots
        return regions, np.unique(np.concatenate(places)), bad


def excess(was: Figures, now: Figures, worse: float) -> float:
    """By how much more than a share a region's girth, area or stretch is worse, as a share of what it was; 0 and less where it is not."""
    over = now.stretch / max(was.stretch, 1.0) - 1.0
    for a, b in ((was.girth, now.girth), (was.area, now.area)):
        if a is not None and b is not None and b < a:
            over = max(over, (abs(1.0 - b) - abs(1.0 - a)) / max(a, 1e-9))
    return over - worse
