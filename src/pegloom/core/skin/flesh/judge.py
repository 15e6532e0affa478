"""What a skin's figures are in every trial, and where they are worse than they were."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_triangles, weld
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.goals import Goals, squared
from pegloom.core.skin.flesh.regions import figures_of, regions_of, stretched
from pegloom.core.skin.quality import REGION, Figures, folding_pairs, gauge_of
from pegloom.core.skin.weights import Weights, packed

WORSE = 0.02
"""Share by which a figure may be worse."""
STEP = 0.7
"""Least share of the way to something else that is left at once."""
SEVERE = 1.5
"""Stretch under which an edge counts as sound, whatever it was before."""
FADES = 0.6
"""Radii of a region over which it fades out into what is around it."""
SPOT = 0.5
"""Radii of the limb around a torn edge or a fold that are led back with it."""


class Seen:
    """Figures of a skin in some trials: of each joint's region, of each edge, and which faces lie folded."""

    def __init__(self, judge: Judge, points: Mapping[str, FloatArray]) -> None:
        first = weld(judge.mesh).first
        self.figures: dict[tuple[str, str], Figures] = {}
        self.stretch: dict[str, FloatArray] = {}
        self.folded: dict[str, IntArray] = {}
        for name, posed in points.items():
            now = posed[first]
            stretch = stretched(now, judge.edges, judge.inverse)
            figures, back = figures_of(judge.regions, now, stretch, judge.triangles, judge.pairs)
            self.figures.update(((name, joint), f) for joint, f in figures.items())
            self.stretch[name] = stretch
            self.folded[name] = np.unique(judge.pairs[back])


class Judge:
    """Of one part, held against how some weights bend it.

    Parameters
    ----------
    skeleton : of the trials. weights : to hold others against. trials : joint matrices (j, 4, 4) of the whole skeleton, by name.
    worse : share by which a figure may be worse. swells : whether a region whose sections keep more area than they did may be as much
    longer: a limb that no longer caves in has a longer way round the outside of its bend.
    """

    def __init__(
        self, mesh: Mesh, skeleton: Skeleton, weights: Weights, trials: Mapping[str, FloatArray], worse: float = WORSE, *, swells: bool = False,
    ) -> None:  # fmt: skip
        self.mesh, self.skeleton, self.trials, self.worse, self.swells = mesh, skeleton, trials, worse, swells
        self.rest = mesh.points[weld(mesh).first]
        self.gauges = {j.id: gauge for j in skeleton.joints if (gauge := gauge_of(mesh, skeleton, j.id)) is not None}
        self.wide = {joint: REGION * gauge.radius for joint, gauge in self.gauges.items()}
        self.edges, self.triangles = place_edges(mesh), place_triangles(mesh)
        self.pairs = folding_pairs(mesh)
        lengths = np.linalg.norm(self.rest[self.edges[:, 0]] - self.rest[self.edges[:, 1]], axis=1)
        self.inverse = np.where(lengths > 1e-9, 1.0 / np.maximum(lengths, 1e-9), 0.0)
        self.size = self._sizes()
        self.inside = {joint: self._inside(joint) for joint in self.gauges}
        self.regions = regions_of(self.gauges, self.inside)
        points = {t: self.points(weights, t) for t in trials}
        self.before = Seen(self, points)
        self.before_places = {t: p[weld(mesh).first] for t, p in points.items()}

    def _inside(self, joint: str) -> tuple[IntArray, IntArray]:
        """Numbers of the edges, and of the pairs of faces, of a joint's region."""
        away = self.rest - self.skeleton.positions[self.skeleton.index[joint]]
        near = np.einsum("pd,pd->p", away, away) < self.wide[joint] ** 2
        return np.flatnonzero(near[self.edges].all(axis=1)), np.flatnonzero(near[self.triangles[self.pairs]].all(axis=(1, 2)))

    def _sizes(self) -> FloatArray:
        """How thick (p,) the body is about each place, metres: the radius of the joint's gauge in whose measure it is nearest."""
        nearest, result = np.full(len(self.rest), np.inf), np.zeros(len(self.rest))
        for joint, gauge in self.gauges.items():
            away = np.linalg.norm(self.rest - self.skeleton.positions[self.skeleton.index[joint]], axis=1) / gauge.radius
            closer = away < nearest
            nearest[closer], result[closer] = away[closer], gauge.radius
        return result

    def of(self, weights: Weights, trials: Collection[str] | None = None) -> Seen:
        """Figures of other weights, in all trials or some."""
        return Seen(self, {t: self.points(weights, t) for t in trials or self.trials})

    def points(self, weights: Weights, trial: str) -> FloatArray:
        """Where some weights bring the vertices (n, 3) in a trial."""
        columns = [self.skeleton.index[j] for j in weights.joint_ids]
        return skin_linear(self.mesh.points, packed(weights), self.trials[trial][columns])

    def apart(self, joint: str, wide: float | None = None) -> FloatArray:
        """How far (p,) each place is from a joint's region: 0 in it, 1 where it has faded out. wide : of the region, metres."""
        wide = wide or self.wide[joint]
        away = np.linalg.norm(self.rest - self.skeleton.positions[self.skeleton.index[joint]], axis=1)
        return np.asarray(np.clip((away - wide) / (FADES * wide), 0.0, 1.0))

    def around(self, places: IntArray, wider: float = 1.0) -> FloatArray:
        """How near (p,) each place lies to some: 1 at them, 0 from SPOT radii of the limb on. As wide as the limb allows: what is led
        back too sharply tears where it ends."""
        reach = SPOT * np.maximum(self.size[places], 1e-6) * wider
        result = np.zeros(len(self.rest))
        steps = max(int(np.ceil(np.log(reach.max() / reach.min()) / np.log(1.5))), 0) + 1
        for low in reach.min() * 1.5 ** np.arange(steps):
            some = places[(reach >= low) & (reach < 1.5 * low * (1.0 + 1e-9))]
            if len(some):
                high = 1.5 * low
                away = cKDTree(self.rest[some]).query(self.rest, distance_upper_bound=high)[0] / high
                result = np.maximum(result, 1.0 - np.clip(away, 0.0, 1.0) ** 2)
        return result

    def thicker(self, goals: Goals, weights: Weights, trials: Mapping[str, tuple[int, ...]]) -> Goals:
        """Goals that lie where some weights bend the skin to, in regions in which that keeps more girth and area than the elastic body:
        deep folds squeeze flesh that has no bone. weights : in the goals' columns. trials : numbers of the goals' poses of each, the whole
        one last."""
        g = weld(self.mesh)
        body = Seen(self, {t: goals.body[some[-1]][g.group] for t, some in trials.items()})
        now, wanted, follow, skin = self.of(weights), goals.body.copy(), goals.follow.copy(), packed(weights)
        for trial, some in trials.items():
            away = np.ones(len(self.rest))
            for joint in self.gauges:
                if thinner(now.figures[trial, joint], body.figures[trial, joint]) > self.worse:
                    away = np.minimum(away, self.apart(joint))
            for k in some if away.min() < 1.0 else ():
                there = skin_linear(self.mesh.points, skin, squared(goals.poses[k]))[g.first]
                wanted[k] = away[:, None] * wanted[k] + (1.0 - away)[:, None] * there
                follow[k] = np.maximum(follow[k], 1.0 - away)
        return replace(goals, body=wanted, follow=follow)

    def excess(self, was: Figures, now: Figures, worse: float) -> float:
        """By how much more than a share a region's girth, area or stretch is worse, as a share of what it was; 0 and less where it is not."""
        return max(now.stretch / (self.longer(was, now) * max(was.stretch, 1.0)) - 1.0, thinner(was, now)) - worse

    def longer(self, was: Figures, now: Figures) -> float:
        """How much longer a region may be for keeping more of its section: 1 where none may."""
        if not self.swells or not was.area or not now.area or now.area <= was.area:
            return 1.0
        return float(np.sqrt(max(min(now.area, 1.0) / was.area, 1.0)))

    def faults(self, now: Seen, trials: Collection[str] | None = None, *, narrow: bool = False) -> tuple[dict[str, float], IntArray, list[str]]:
        """Joints whose regions are worse and the share of the way that may be left of them, places where edges are longer than any was
        or faces are folded that were not, and in which trials that is. trials : of those seen; None for all. narrow : a region in which edges are too long is not told as a whole, but those edges are."""
        regions: dict[str, float] = {}
        bad: list[str] = []
        places: list[IntArray] = [np.zeros(0, dtype=np.int64)]
        worse = self.worse
        for trial in now.stretch if trials is None else trials:
            stretch = now.stretch[trial]
            before = self.before.stretch[trial]
            mine: dict[str, float] = {}
            long: list[IntArray] = []
            folds = len(now.folded[trial]) > len(self.before.folded[trial])
            for joint in self.gauges:
                was, is_ = self.before.figures[trial, joint], now.figures[trial, joint]
                folds = folds or is_.folded > was.folded
                over = thinner(was, is_) - worse if narrow else self.excess(was, is_, worse)
                if over > 0.0:
                    mine[joint] = max(worse / (worse + over), STEP) if worse > 0.0 else STEP
                allowed = (1.0 + worse) * self.longer(was, is_) * max(was.stretch, 1.0)
                if narrow and is_.stretch > allowed:
                    # A section is the whole region's; long edges are where they are.
                    inside = self.inside[joint][0]
                    long.append(self.edges[inside[stretch[inside] > np.maximum(allowed, before[inside])]].ravel())
            longer = max((self.longer(self.before.figures[trial, j], now.figures[trial, j]) for j in self.gauges), default=1.0)
            limit = longer * max((1.0 + worse) * float(before.max(initial=1.0)), SEVERE)
            spots = [self.edges[stretch > limit].ravel(), *long]
            usual = (1.0 + worse) * float(np.quantile(before, 0.99)) if len(stretch) else 1.0
            if len(stretch) and not self.swells and np.quantile(stretch, 0.99) > usual:
                spots.append(self.edges[stretch > np.maximum(usual, before)].ravel())
            if folds:
                spots.append(self.triangles[np.setdiff1d(now.folded[trial], self.before.folded[trial])].ravel())
            if mine or any(len(one) for one in spots):
                bad.append(trial)
                for joint, step in mine.items():
                    regions[joint] = min(step, regions.get(joint, 1.0))
                places += spots
        return regions, np.unique(np.concatenate(places)), bad


def thinner(was: Figures, now: Figures) -> float:
    """By how much a region's girth or area strays farther from what it is at rest, as a share of what it was; 0 where neither does."""
    over = 0.0
    for a, b in ((was.girth, now.girth), (was.area, now.area)):
        if a is not None and b is not None and b < a:
            over = max(over, (abs(1.0 - b) - abs(1.0 - a)) / max(a, 1e-9))
    return over
