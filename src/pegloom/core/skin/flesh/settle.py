"""Weights that settle: led downhill in what all trials cost, with what was good held as a limit.

A fit row by row does not see edges, sections or folds, and a gate that only leads back gives away most of what was won. Here the shares of
all rows go down the gradient of what their trials cost: edges that are longer than they were, sections that keep less, faces that fold, and,
lightly, being off the elastic body's places and edges. Steps are eased along the skin, so that neighbours go together (a Sobolev gradient), projected onto
shares that add up to 1, and carried on (Beck and Teboulle, "A fast iterative shrinkage-thresholding algorithm", 2009, restarted where
the cost rises); surplus joints shrink away step by step. What is still worse than it was costs more every few steps.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld
from pegloom.core.jobs import Progress, ask, part_of, silent
from pegloom.core.skin.bake import candidates
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.flesh import strain
from pegloom.core.skin.flesh.gate import Gated, gated
from pegloom.core.skin.flesh.judge import SEVERE, WORSE, Judge, Seen, thinner
from pegloom.core.skin.measures import folded_back
from pegloom.core.skin.strays import find_strays, without_strays
from pegloom.core.skin.weights import Weights, dense_over, from_dense

SHAPE, PLACE = 0.1, 0.1
"""What edges off the elastic body's, and places off its places, cost: they say where to, the others what must not be."""
PLACES_AS = 0.3
"""Share of the limb's radius by which a place is off for one unit."""
OVER, LONG, LONG_FROM = 100.0, 5.0, 1.5
"""What an edge costs that is longer than the usual longest of its region was, and than LONG_FROM."""
SECTION = 3e5
"""What a section costs that keeps less than it did."""
WIDTH = 0.97
"""Share of its girth a section is to keep where that is wished for."""
FOLD, LIES = 20.0, -0.35
"""What faces cost that lie over each other more than by LIES, the cosine of their normals, where they did not before."""
SOUND, DEARER = 1.03, 10.0
"""Limit under which an edge of a region was not stretched at all, and how much more it costs from the first if it is."""
HALF_BACK = 0.5
"""How far a fit goes back in regions where it is worse, before it settles."""
THIN = 0.85
"""Share of its area under which a section counts as thin."""
LEAST_FACE = 0.2
"""Share of a face's area at rest under which it counts as no smaller."""
SPREAD = 8
"""Rings around a place whose joints are tried."""
EASED = 110
"""Shares of the diagonal: how long an edge may be for its ends to be eased as one."""
PASSES = (4, 2, 1)
"""Half-passes a step is eased by, at first, in the middle and at last."""
STEPS, AGAIN = 110, 60
"""Steps from a fit, and from what a gate has left of it."""
STEP, SLOWER, CARRIES, RISES = 0.3, 0.7, 0.9, 1.002
"""Share of a Newton step taken at once, that of it after the cost has risen by RISES; how much of a step is carried on."""
SHRUNK_AFTER = 0.7
"""Share of the steps after which no row holds more joints than allowed."""
LOOKS, LOOKS_UNTIL, HARDER, HARDEST = 20, 0.92, 1.5, 100.0
"""Steps between two looks at what is worse, share of the steps until which, how much more that costs then, and at most."""
NEARLY = 0.9
"""Share of what may be worse from which it costs more."""
HELD, HELD_MORE, HELD_LESS, HELD_AFTER = 3e-4, 1.6, 0.7, 0.35
"""How firmly rows are held to what they were where a region is worse, as a share of what bends them; times that at each look at which it still is, and
at each at which it is not; share of the steps after which that begins."""
TIE = 1e-6
"""Shares nearer than this are two sides' of one pair: both stay or neither."""


@dataclass(frozen=True, slots=True, eq=False)
class Wish:
    """Where some places should be in one pose. pose (s, 4, 4) : joint matrices of the whole skeleton. places (m,), wanted (m, 3) : metres;
    heavy (m,) : what being off costs, 1 / metre^2. keeps : joints whose sections keep their width."""

    pose: FloatArray
    places: IntArray
    wanted: FloatArray
    heavy: FloatArray
    keeps: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class _Trial:
    """One pose as the kernels want it. limit, much (e,), least_girth, least_area, dear (r,), lies (f,), heavy (p,)."""

    matrices: FloatArray
    wanted: FloatArray
    heavy: FloatArray
    shape: float
    limit: FloatArray
    much: FloatArray
    least_girth: FloatArray
    least_area: FloatArray
    dear: FloatArray
    lies: FloatArray


class Settling:
    """Rows of one part, made ready to go downhill.

    Parameters
    ----------
    judge : of the part, held against how it was. start : weights whose joints, and those around, are tried. wanted : by trial, where
    places (g, 3) should be; None: where the judge's weights have them. moving : places whose rows may change, None for all. across (g,), partner
    (j,) : the place across of each, -1 for none, and the column across in the start's columns; None where sides differ. floor : figures whose sections are
    to be kept where they are better than the judge's. wishes : what is asked of other poses. was : what rows are held to where a region is worse;
    the start without. taught : weights whose joints are tried in place of the start's, for one that holds strays.
    """

    def __init__(
        self, judge: Judge, start: Weights, *, influences: int, wanted: Mapping[str, FloatArray] | None = None, moving: IntArray | None = None,
        across: IntArray | None = None, partner: IntArray | None = None, floor: Seen | None = None, wishes: Sequence[Wish] = (),
        was: Weights | None = None, taught: Weights | None = None,
    ) -> None:  # fmt: skip
        self.judge, self.ids, self.influences, self.partner = judge, start.joint_ids, influences, partner
        g = weld(judge.mesh)
        self.group, self.whole = g.group, dense_over(start, start.joint_ids)[g.first]
        columns = [judge.skeleton.index[j] for j in self.ids]
        moves = np.zeros(g.count, dtype=bool)
        moves[slice(None) if moving is None else moving] = True
        self.edge_of = np.flatnonzero(moves[judge.edges].any(axis=1))
        pair_of = np.flatnonzero(moves[judge.triangles[judge.pairs]].any(axis=(1, 2)))
        faces, pairs = np.unique(judge.pairs[pair_of], return_inverse=True)
        some, sizes = judge.regions, np.diff(judge.regions.starts)
        rings = np.array([moves[e].any() for e in np.split(some.ends, some.starts[1:-1])], dtype=bool) if len(sizes) else np.zeros(0, dtype=bool)
        ends, shares = (x[np.repeat(rings, sizes)] for x in (some.ends, some.shares))
        # Rows that stay are there as far as what moves is measured against them.
        self.places = np.unique(np.concatenate([np.flatnonzero(moves), judge.edges[self.edge_of].ravel(), judge.triangles[faces].ravel(), ends.ravel()]))
        number = np.full(g.count, -1)
        number[self.places] = np.arange(len(self.places))
        self.rest = np.ascontiguousarray(judge.rest[self.places])
        self.edges = np.ascontiguousarray(number[judge.edges[self.edge_of]])
        self.inverse = judge.inverse[self.edge_of]
        self.triangles = np.ascontiguousarray(number[judge.triangles[faces]])
        self.pairs = np.ascontiguousarray(pairs.reshape(-1, 2))
        a, b, c = (self.rest[self.triangles[:, k]] for k in range(3))
        self.least_size = LEAST_FACE * np.linalg.norm(np.cross(b - a, c - a), axis=1)
        self.ring_joints = np.array(some.joints, dtype=str)[some.of_joint[rings]]
        self.ring_starts = np.concatenate([[0], np.cumsum(sizes[rings])])
        self.ring_ends, self.ring_shares = np.ascontiguousarray(number[ends]), np.ascontiguousarray(shares)
        self.closed, self.girth, self.area = some.closed[rings], some.girth[rings], some.area[rings]
        tried, _, _ = candidates(judge.mesh, self.whole if taught is None else dense_over(taught, self.ids)[g.first], SPREAD)
        self.tried = np.ascontiguousarray(tried[self.places])
        self.live = (self.tried >= 0) & moves[self.places][:, None]
        near = nearness(judge.mesh, np.full(g.count, float(np.linalg.norm(np.ptp(judge.rest, axis=0))) / EASED))
        self.near = near[self.places][:, self.places]
        self.across = None
        if across is not None and partner is not None:
            there = across[self.places]
            self.across = np.where(there >= 0, number[np.maximum(there, 0)], -1)
        self.rows = self.of(start)
        self.was = self.of(was or start)
        self.held = np.zeros(len(self.places))
        self.firm = np.zeros(len(self.places))
        self.trials = self._trials(columns, pair_of, wanted, floor)
        self.wishes = [self._wished(wish, columns, number) for wish in wishes]

    def of(self, weights: Weights) -> FloatArray:
        """Some weights as rows (p, c) over what is tried, both sides alike where they are to be."""
        full = np.zeros((len(self.whole), len(self.ids) + 1))
        full[:, :-1] = dense_over(weights, self.ids)[weld(self.judge.mesh).first]
        return self._normal(self._compact(self._both_sides(full[self.places])))

    def weights(self, rows: FloatArray) -> Weights:
        """Weights of these rows, the others as at the start."""
        whole = self.whole.copy()
        moves = self.live.any(axis=1)
        whole[self.places[moves]] = self._full(rows)[moves][:, :-1]
        return from_dense(whole[self.group], self.ids, influences=None)

    def settled(self, rows: FloatArray, steps: int = STEPS, *, cut: bool = False, looks: int = LOOKS, progress: Progress = silent) -> FloatArray:
        """Rows (p, c) gone downhill. cut : hold no more joints than allowed from the first step on; else surplus ones shrink away. looks : steps
        between two looks at what is worse. Raises Cancelled from `progress`."""
        live, step, carried, last = self.live, STEP, 1.0, np.inf
        ahead, now = rows.copy(), rows.copy()
        with ThreadPoolExecutor(2) as pool:
            for number in range(steps):
                ask(progress)
                if number % 5 == 0:
                    progress(number / steps, "letting the weights settle")
                cost, slope, stiff = self._cost(ahead, pool)
                if number == 0 and not self.firm.any():
                    self.firm = stiff.max(axis=1)
                hold = (self.held * self.firm)[:, None]
                cost += float((hold * (ahead - self.was) ** 2).sum())
                slope += 2.0 * hold * (ahead - self.was)
                stiff += 2.0 * hold
                if cost > RISES * last:
                    carried, step, last, ahead = 1.0, SLOWER * step, np.inf, now.copy()
                    continue
                last = cost
                strong = stiff.max(axis=1, keepdims=True)
                strong += 1e-3 * np.median(strong) + 1e-9
                # Shares add up to 1: what all joints of a row gain alike, none does.
                level = np.where(live, slope, 0.0).sum(axis=1, keepdims=True) / np.maximum(live.sum(axis=1, keepdims=True), 1)
                way = np.where(live, self._eased((slope - level) / strong, PASSES[min(int(3.0 * number / steps), 2)]), 0.0)
                new = np.where(live, ahead - step * way, ahead)
                self._project(new)
                share = number / (SHRUNK_AFTER * steps)
                new = self._shrunk(new, 0.0 if cut or share >= 1.0 else float(np.sqrt(1.0 - share)))
                further = 0.5 * (1.0 + np.sqrt(1.0 + 4.0 * carried * carried))
                ahead = new + min((carried - 1.0) / further, CARRIES) * (new - now)
                self._project(ahead)
                now, carried = new, further
                if number % looks == looks - 1 and number < LOOKS_UNTIL * steps and self.trials:
                    self._harder(now, number >= HELD_AFTER * steps or cut)
                    last = np.inf
        return self._shrunk(now, 0.0)

    # ------------------------------------------------------------------ rows

    def _full(self, rows: FloatArray) -> FloatArray:
        """Rows (p, c) over all columns (p, j + 1), the last of which is for nothing."""
        full = np.zeros((len(rows), len(self.ids) + 1))
        np.put_along_axis(full, np.where(self.tried >= 0, self.tried, len(self.ids)), np.where(self.tried >= 0, rows, 0.0), axis=1)
        return full

    def _compact(self, full: FloatArray) -> FloatArray:
        return np.where(self.tried >= 0, np.take_along_axis(full, np.maximum(self.tried, 0), axis=1), 0.0)

    def _normal(self, rows: FloatArray) -> FloatArray:
        return np.asarray(rows / np.maximum(rows.sum(axis=1, keepdims=True), 1e-12))

    def _both_sides(self, full: FloatArray) -> FloatArray:
        """Each place's columns (p, j + 1) and those across, in equal parts."""
        if self.across is None or self.partner is None:
            return full
        has = self.across >= 0
        seen = full[self.across[has]][:, [*self.partner.tolist(), len(self.ids)]]
        result = full.copy()
        result[has] = 0.5 * (full[has] + seen)
        return result

    def _eased(self, change: FloatArray, passes: int) -> FloatArray:
        return self._compact(softened(self._both_sides(self._full(change)), self.near, passes))

    def _project(self, rows: FloatArray) -> None:
        """Rows that move onto shares that add up to 1, in place."""
        moves = self.live.any(axis=1)
        some = np.ascontiguousarray(rows[moves])
        strain.onto_simplex(some, np.ascontiguousarray(self.live[moves]))
        rows[moves] = some

    def _shrunk(self, rows: FloatArray, by: float) -> FloatArray:
        """Shares beyond the largest that are allowed times `by`; of two sides' equal ones on the middle both or neither stay."""
        if self.influences >= rows.shape[1] or by >= 1.0:
            return rows
        order = np.argsort(-rows, axis=1, kind="stable")
        ordered = np.take_along_axis(rows, order, axis=1)
        beyond = np.zeros(rows.shape, dtype=bool)
        np.put_along_axis(beyond, order[:, self.influences :], True, axis=1)
        if self.across is not None:
            least, next_ = ordered[:, self.influences - 1], ordered[:, self.influences]
            tied = (self.across == np.arange(len(rows))) & (np.abs(least - next_) < TIE) & (least > 0.0) & (least < 0.5)
            beyond |= tied[:, None] & (rows <= least[:, None] + TIE)
        beyond &= self.live
        return self._normal(np.where(beyond, np.where(rows * by < 1e-4, 0.0, rows * by), rows))

    # ------------------------------------------------------------------ costs

    def _cost(self, rows: FloatArray, pool: ThreadPoolExecutor) -> tuple[float, FloatArray, FloatArray]:
        poses = [*self.trials, *self.wishes]

        def some(which: list[_Trial]) -> tuple[float, FloatArray, FloatArray]:
            slope, stiff, x, cost = np.zeros(rows.shape), np.zeros(rows.shape), np.empty(self.rest.shape), 0.0
            for t in which:
                pull, bend = np.zeros(self.rest.shape), np.zeros(len(self.rest))
                strain.place(self.rest, t.matrices, self.tried, rows, x)
                cost += strain.edges_cost(x, self.edges, self.inverse, t.wanted, t.limit, t.much, t.shape, OVER, LONG, LONG_FROM, pull, bend)
                cost += strain.places_cost(x, t.wanted, t.heavy, pull, bend)
                cost += strain.rings_cost(
                    x, self.ring_starts, self.ring_ends, self.ring_shares, self.closed, self.girth, self.area, t.least_girth, t.least_area, t.dear, pull, bend
                )
                cost += strain.folds_cost(x, self.triangles, self.least_size, self.pairs, t.lies, FOLD, pull, bend)
                strain.onto_rows(self.rest, t.matrices, self.tried, x, pull, bend, slope, stiff)
            return cost, slope, stiff

        (a, b, c), (d, e, f) = pool.map(some, (poses[::2], poses[1::2]))
        return a + d, b + e, c + f

    def _trials(self, columns: list[int], pair_of: IntArray, wanted: Mapping[str, FloatArray] | None, floor: Seen | None) -> list[_Trial]:
        judge, result = self.judge, []
        slack = max(judge.worse - WORSE, 0.0)
        for name, pose in judge.trials.items():
            stretch = judge.before.stretch[name]
            limit = np.full(len(judge.edges), max((1.0 + slack) * float(np.quantile(stretch, 0.99)) if len(stretch) else 1.0, 1.0))
            least = {}
            for joint in judge.gauges:
                was = judge.before.figures[name, joint]
                mine = judge.inside[joint][0]
                kept = was if floor is None else floor.figures[name, joint]
                longer = 1.0 if floor is None else judge.longer(was, kept)
                girth, area = (_least(x if x is None or y is None else max(x, y), slack) for x, y in ((was.girth, kept.girth), (was.area, kept.area)))
                limit[mine] = np.minimum(limit[mine], max((1.0 + slack) * longer * was.stretch, 1.0))
                least[joint] = girth, area
            lies_now = folded_back(judge.before_places[name], judge.triangles, judge.pairs[pair_of])
            goal = judge.before_places[name] if wanted is None else wanted[name]
            result.append(_Trial(
                np.ascontiguousarray(pose[columns][:, :3, :]), np.ascontiguousarray(goal[self.places]),
                PLACE / (PLACES_AS * np.maximum(judge.size[self.places], 1e-3)) ** 2, SHAPE,
                np.ascontiguousarray(limit[self.edge_of]), np.where(limit[self.edge_of] < SOUND, DEARER, 1.0),
                np.array([least[j][0] for j in self.ring_joints]), np.array([least[j][1] for j in self.ring_joints]),
                np.full(len(self.ring_joints), SECTION), np.where(lies_now, -2.0, LIES),
            ))  # fmt: skip
        return result

    def _wished(self, wish: Wish, columns: list[int], number: IntArray) -> _Trial:
        wanted, heavy = np.zeros(self.rest.shape), np.zeros(len(self.rest))
        mine = number[wish.places]
        wanted[mine[mine >= 0]], heavy[mine[mine >= 0]] = wish.wanted[mine >= 0], wish.heavy[mine >= 0]
        edges, keeps = len(self.edge_of), np.isin(self.ring_joints, wish.keeps)
        return _Trial(
            np.ascontiguousarray(wish.pose[columns][:, :3, :]), wanted, heavy, 0.0, np.full(edges, np.inf), np.ones(edges),
            np.where(keeps, WIDTH, 0.0), np.where(keeps, WIDTH**2, 0.0), np.where(keeps, SECTION, 0.0), np.full(len(self.pairs), LIES),
        )  # fmt: skip

    def _harder(self, rows: FloatArray, holds: bool) -> None:
        """Make what is worse than it was cost more. holds : and hold rows there to what they were."""
        judge = self.judge
        now = judge.of(self.weights(rows))
        bad, torn = np.zeros(len(judge.rest)), []
        for trial, name in zip(self.trials, judge.trials, strict=True):
            stretch, before = now.stretch[name], judge.before.stretch[name]
            hot = stretch > max((1.0 + judge.worse) * float(before.max(initial=1.0)), SEVERE)
            usual = (1.0 + NEARLY * judge.worse) * max(float(np.quantile(before, 0.99)), 1.0)
            if not judge.swells and float(np.quantile(stretch, 0.99)) > usual:
                hot[self.edge_of[stretch[self.edge_of] > trial.limit]] = True
            times = np.ones(len(judge.edges))
            times[hot] = HARDER
            torn.append(judge.edges[hot & (stretch > np.maximum(before, 1.0))].ravel())
            for joint in judge.gauges:
                was, is_ = judge.before.figures[name, joint], now.figures[name, joint]
                if is_.stretch > (1.0 + NEARLY * judge.worse) * judge.longer(was, is_) * max(was.stretch, 1.0):
                    times[judge.inside[joint][0]] *= HARDER
                    bad = np.maximum(bad, 1.0 - judge.apart(joint))
                if thinner(was, is_) > NEARLY * judge.worse:
                    trial.dear[self.ring_joints == joint] *= HARDER
                    bad = np.maximum(bad, 1.0 - judge.apart(joint))
            trial.much[:] = np.clip(trial.much * times[self.edge_of], 1.0, HARDEST)
            np.clip(trial.dear, 0.0, HARDEST * SECTION, out=trial.dear)
        if holds:
            places = np.unique(np.concatenate(torn))
            bad = (np.maximum(bad, judge.around(places)) if len(places) else bad)[self.places]
            self.held = np.where(bad > 0.0, np.maximum(self.held * (1.0 + (HELD_MORE - 1.0) * bad), HELD * bad), HELD_LESS * self.held)


def led_to(
    judge: Judge, old: Weights, fit: Weights, *, influences: int, wanted: Mapping[str, FloatArray] | None = None, safe: Weights | None = None,
    across: IntArray | None = None, partner: IntArray | None = None, floor: Seen | None = None, still: IntArray | None = None, progress: Progress = silent,
) -> Gated:
    """A fit that has settled, and of that what may stay: no figure of any trial worse by more than the judge allows.

    old : weights the judge holds others against. safe : what is led back to, the old ones without. still : places whose rows stay. See
    `Settling` for the rest. Raises Cancelled from `progress`.
    """
    back = old if safe is None else safe
    begun = _half_back(judge, back, fit, across)
    moving = None if still is None or not len(still) else np.setdiff1d(np.arange(len(judge.rest)), still)
    run = Settling(judge, begun, influences=influences, wanted=wanted, moving=moving, across=across, partner=partner, floor=floor, was=back)
    rows, best, least = run.rows, None, np.inf
    for cut, first, steps in ((False, 0.0, STEPS), (True, 0.6, AGAIN)):
        rows = run.settled(rows, steps, cut=cut, progress=part_of(progress, first, first + (0.2 if cut else 0.4)))
        new = _as_clean(judge, back, run.weights(rows))
        for narrow in (True, False):
            done = first + (0.2 if cut else 0.4) + (0.0 if narrow else 0.1)
            held = gated(judge, back, new, influences=influences, across=across, narrow=narrow, progress=part_of(progress, done, min(done + 0.1, 1.0)))
            bad = _badness(judge.of(held.weights))
            if bad < least:
                best, least = held, bad
        # The gate is no fine tool: what it gave away beyond need is won again from what it left.
        assert best is not None
        rows = run.of(best.weights)
    assert best is not None
    clean = _as_clean(judge, back, best.weights)
    if clean is not best.weights and not judge.faults(judge.of(clean))[2]:
        best = replace(best, weights=clean)
    progress(1.0, "settled")
    return best


def _half_back(judge: Judge, old: Weights, fit: Weights, across: IntArray | None) -> Weights:
    """A fit half way back to the old weights in regions where it is worse."""
    now, share = judge.of(fit), np.zeros(len(judge.rest))
    for (trial, joint), was in judge.before.figures.items():
        if judge.excess(was, now.figures[trial, joint], judge.worse) > 0.0:
            share = np.maximum(share, HALF_BACK * (1.0 - judge.apart(joint)))
    if across is not None:
        share = np.where(across >= 0, np.maximum(share, share[np.maximum(across, 0)]), share)
    ids, g = fit.joint_ids, weld(judge.mesh)
    ids = tuple(dict.fromkeys((*ids, *old.joint_ids)))
    rows = (1.0 - share)[:, None] * dense_over(fit, ids)[g.first] + share[:, None] * dense_over(old, ids)[g.first]
    return from_dense(rows[g.group], ids)


def _as_clean(judge: Judge, old: Weights, new: Weights) -> Weights:
    """Without strays, unless there were some before: a share that crept in apart from its joint's region is of no use to anybody."""
    return new if find_strays(judge.mesh, old) else without_strays(judge.mesh, new)[0]


def _badness(seen: Seen) -> float:
    """One figure of all trials: what is longest, what is usually longest, folds, and what sections lose."""
    lost = sum(max(THIN - f.area, 0.0) for f in seen.figures.values() if f.area is not None)
    return lost + sum(float(s.max(initial=1.0)) + float(np.quantile(s, 0.99)) + 0.01 * len(seen.folded[t]) for t, s in seen.stretch.items() if len(s))


def _least(kept: float | None, slack: float) -> float:
    """The least of a girth or an area that may be left where so much was kept: as near to the whole as it was."""
    if kept is None:
        return 0.0
    return (1.0 - slack) * (kept if kept <= 1.0 else max(2.0 - kept, 0.0))


__all__ = ["AGAIN", "STEPS", "Settling", "Wish", "led_to"]
