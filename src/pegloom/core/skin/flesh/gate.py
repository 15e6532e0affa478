"""What of fitted weights may stay: a region keeps its old ones where any figure of any trial would be worse."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import IntArray
from pegloom.core.geometry.mesh import weld
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.flesh.judge import STEP, Judge
from pegloom.core.skin.weights import Weights, dense_over, from_dense, limited_rows

SURE, GENTLE, TRIES = 8, 16, 36
"""How often what is worse keeps of the way what its excess says, at least STEP; how often then STEP; how often in all, wholly and
wider each time, before a part keeps its old weights."""
LEAST = 0.1
"""Share of the way under which a region goes back wholly."""
WIDENS = 1.4
"""Factor on a region that has gone back wholly and is worse still."""
EASINGS = 2
"""Half-passes over what lies between old and new weights."""


@dataclass(frozen=True, slots=True, eq=False)
class Gated:
    """weights : with what may stay. kept : share of the places whose fitted weights stayed. led_back : joints, by id, whose regions
    went back at least in part."""

    weights: Weights
    kept: float
    led_back: tuple[str, ...]


def gated(
    judge: Judge, old: Weights, new: Weights, *, influences: int, across: IntArray | None = None, narrow: bool = False, progress: Progress = silent
) -> Gated:
    """Fitted weights, led back to the old ones where a trial is worse: girth, area, stretch or folds of a joint's region, or any one
    edge by more than the longest was.

    judge : of the part, held against the old weights. across (g,) : the place across of each, -1 for none; what is led back on one side is
    on the other. narrow : where edges are too long it goes back around them alone, not in their whole region. Raises Cancelled from `progress`.
    """
    mesh, trials = judge.mesh, judge.trials
    g = weld(mesh)
    asked = list(trials)
    ids = list(dict.fromkeys((*old.joint_ids, *new.joint_ids)))
    was, fitted = dense_over(old, ids)[g.first], dense_over(new, ids)[g.first]
    near = nearness(mesh, 0.5 * np.maximum(judge.size, 1e-6))
    wide = dict(judge.wide)
    share = dict.fromkeys(judge.gauges, 1.0)
    spot = np.ones(g.count)
    stays, weights = np.ones(g.count), new
    for attempt in range(TRIES + 1):
        ask(progress)
        progress(attempt / (TRIES + 1), "holding each region to what it was")
        regions, places, bad = judge.faults(judge.of(weights, asked), narrow=narrow)
        if not bad and len(asked) < len(trials):
            # What was sound is looked at again once the rest is.
            regions, places, bad = judge.faults(judge.of(weights, [t for t in trials if t not in asked]), narrow=narrow)
        if not bad:
            break
        asked = bad
        if attempt == TRIES:
            return Gated(old, 0.0, tuple(judge.gauges))
        for joint, step in regions.items():
            if share[joint] == 0.0:  # a section that reaches beyond it
                wide[joint] *= WIDENS
            left = min(step, STEP if attempt >= SURE else 1.0) * share[joint]
            share[joint] = left if left > LEAST and attempt < GENTLE else 0.0
        if len(places):
            around = judge.around(places, WIDENS ** max(attempt - SURE, 0))
            spot *= 1.0 - around * (0.5 if attempt < GENTLE else 1.0)
            spot[spot < LEAST] = 0.0
        stays = spot.copy()
        for joint, some in share.items():
            if some < 1.0:
                stays = np.minimum(stays, some + (1.0 - some) * judge.apart(joint, wide[joint]))
        if across is not None:
            stays = np.where(across >= 0, np.minimum(stays, stays[np.maximum(across, 0)]), stays)
        mixed = 4.0 * stays * (1.0 - stays)
        rows = limited_rows(stays[:, None] * fitted + (1.0 - stays[:, None]) * was, influences)
        for _ in range(EASINGS):
            # Cut to a few joints, rows between the old and the new choose them differently: an edge would tear.
            rows = limited_rows(rows + mixed[:, None] * (softened(rows, near, 1) - rows), influences)
        weights = from_dense(rows[g.group], ids, influences=influences)
    progress(1.0, "held")
    return Gated(weights, float(stays.mean()), tuple(j for j, some in share.items() if some < 1.0))
