"""What of fitted weights may stay: a region keeps its old ones where any figure of any trial would be worse."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, place_neighbours, place_triangles, weld
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.measures import edge_stretch, folded_faces
from pegloom.core.skin.quality import REGION, Figures, Gauge, gauge_of, measured
from pegloom.core.skin.weights import Weights, dense, from_dense, limited_rows, packed

WORSE = 0.02
"""Share by which a figure may be worse."""
GENTLE, TRIES, STEP = 10, 30, 0.7
"""How often what is worse keeps STEP of what is left of the way, and how often in all, wholly and wider each time, before a
part keeps its old weights."""
LEAST = 0.1
"""Share of the way under which a region goes back wholly."""
FADES = 0.6
"""Radii of a region over which it fades out into what is around it."""
WIDENS = 1.4
"""Factor on a region that has gone back wholly and is worse still."""
RINGS = 3
"""Rings around a torn edge or a fold that are led back with it."""
SEVERE = 1.5
"""Stretch under which an edge counts as sound, whatever it was before."""


@dataclass(frozen=True, slots=True, eq=False)
class Gated:
    """weights : with what may stay. kept : share of the places whose fitted weights stayed. led_back : joints, by id, whose regions
    went back at least in part."""

    weights: Weights
    kept: float
    led_back: tuple[str, ...]


def gated(
    mesh: Mesh, skeleton: Skeleton, old: Weights, new: Weights, trials: Mapping[str, FloatArray], *, influences: int, worse: float = WORSE,
    across: IntArray | None = None, progress: Progress = silent,
) -> Gated:
    """Fitted weights, led back to the old ones where a trial is worse: girth, area, stretch or folds of a joint's region, or any one
    edge by more than the longest was.

    trials : joint matrices (j, 4, 4) of the whole skeleton, by name. worse : share by which a figure may be. across (g,) : the place
    across of each, -1 for none; what is led back on one side is on the other. Raises Cancelled from `progress`.
    """
    g = weld(mesh)
    rest = mesh.points[g.first]
    gauges = {j.id: gauge for j in skeleton.joints if (gauge := gauge_of(mesh, skeleton, j.id)) is not None}
    edges, triangles = place_edges(mesh), place_triangles(mesh)
    before = _Seen(mesh, skeleton, old, trials, gauges, edges, triangles)
    asked = list(trials)
    ids = list(old.joint_ids)
    was, fitted = dense(old)[g.first], dense(new)[g.first]
    near = sparse.csr_matrix(place_neighbours(mesh), copy=True)
    near.data[:] = 1.0
    wide = {joint: REGION * gauge.radius for joint, gauge in gauges.items()}

    def ramp(joint: str) -> FloatArray:
        """How far each place is from a region, in measures of it."""
        away = np.linalg.norm(rest - skeleton.positions[skeleton.index[joint]], axis=1)
        return np.asarray(np.clip((away - wide[joint]) / (FADES * wide[joint]), 0.0, 1.0))

    share = dict.fromkeys(gauges, 1.0)
    spot = np.ones(g.count)
    stays, weights = np.ones(g.count), new
    for attempt in range(TRIES + 1):
        ask(progress)
        progress(attempt / (TRIES + 1), "holding each region to what it was")
        now = _Seen(mesh, skeleton, weights, {t: trials[t] for t in asked}, gauges, edges, triangles)
        regions, places, bad = _worse(before, now, edges, triangles, worse)
        if not bad and len(asked) < len(trials):
            # What was sound is looked at again once the rest is.
            others = [t for t in trials if t not in asked]
            now = _Seen(mesh, skeleton, weights, {t: trials[t] for t in others}, gauges, edges, triangles)
            regions, places, bad = _worse(before, now, edges, triangles, worse)
        if not bad:
            break
        asked = bad
        if attempt == TRIES:
            return Gated(old, 0.0, tuple(gauges))
        for joint in regions:
            if share[joint] == 0.0:  # a section that reaches beyond it
                wide[joint] *= WIDENS
            share[joint] = STEP * share[joint] if STEP * share[joint] > LEAST and attempt < GENTLE else 0.0
        if len(places):
            around = np.zeros(g.count)
            around[places] = 1.0
            rings = RINGS + max(attempt - GENTLE, 0)
            for ring in range(rings):
                around = np.maximum(around, (1.0 - ring / (rings + 1)) * (np.asarray(near @ (around > 0).astype(float)) > 0) * (around == 0))
            spot *= 1.0 - around * (0.5 if attempt < GENTLE else 1.0)
            spot[spot < LEAST] = 0.0
        stays = spot.copy()
        for joint, some in share.items():
            if some < 1.0:
                stays = np.minimum(stays, some + (1.0 - some) * ramp(joint))
        if across is not None:
            stays = np.where(across >= 0, np.minimum(stays, stays[np.maximum(across, 0)]), stays)
        rows = limited_rows(stays[:, None] * fitted + (1.0 - stays[:, None]) * was, influences)
        weights = from_dense(rows[g.group], ids, influences=influences)
    progress(1.0, "held")
    return Gated(weights, float(stays.mean()), tuple(j for j, some in share.items() if some < 1.0))


class _Seen:
    """Figures of a skin in every trial: of each joint's region, of each edge, and which faces lie folded."""

    def __init__(
        self, mesh: Mesh, skeleton: Skeleton, weights: Weights, trials: Mapping[str, FloatArray], gauges: Mapping[str, Gauge], edges: IntArray, triangles: IntArray,
    ) -> None:  # fmt: skip
        g, skin = weld(mesh), packed(weights)
        columns = [skeleton.index[j] for j in weights.joint_ids]
        rest = mesh.points[g.first]
        self.figures: dict[tuple[str, str], Figures] = {}
        self.stretch: dict[str, FloatArray] = {}
        self.folded: dict[str, IntArray] = {}
        for name, matrices in trials.items():
            points = skin_linear(mesh.points, skin, matrices[columns])
            for joint, gauge in gauges.items():
                self.figures[name, joint] = measured(mesh, gauge, points)
            self.stretch[name] = edge_stretch(rest, points[g.first], edges)
            self.folded[name] = folded_faces(rest, points[g.first], triangles)


def _worse(before: _Seen, now: _Seen, edges: IntArray, triangles: IntArray, worse: float) -> tuple[set[str], IntArray, list[str]]:
    """Joints whose regions are worse, places where edges are longer than any was or faces are folded that were not, and in which
    trials that is."""
    regions: set[str] = set()
    bad: list[str] = []
    places: list[IntArray] = [np.zeros(0, dtype=np.int64)]
    for trial, stretch in now.stretch.items():
        mine = set()
        folds = len(now.folded[trial]) > len(before.folded[trial])
        for joint in (j for t, j in now.figures if t == trial):
            was, is_ = before.figures[trial, joint], now.figures[trial, joint]
            thin = any(
                a is not None and b is not None and b < a and abs(1.0 - b) > abs(1.0 - a) + worse * a for a, b in ((was.girth, is_.girth), (was.area, is_.area))
            )
            folds = folds or is_.folded > was.folded
            if thin or is_.stretch > (1.0 + worse) * max(was.stretch, 1.0):
                mine.add(joint)
        limit = max((1.0 + worse) * float(before.stretch[trial].max(initial=1.0)), SEVERE)
        spots = [edges[stretch > limit].ravel()]
        usual = (1.0 + worse) * float(np.quantile(before.stretch[trial], 0.99)) if len(stretch) else 1.0
        if len(stretch) and np.quantile(stretch, 0.99) > usual:
            spots.append(edges[stretch > np.maximum(usual, before.stretch[trial])].ravel())
        if folds:
            spots.append(triangles[np.setdiff1d(now.folded[trial], before.folded[trial])].ravel())
        if mine or any(len(one) for one in spots):
            bad.append(trial)
            regions |= mine
            places += spots
    return regions, np.unique(np.concatenate(places)), bad
