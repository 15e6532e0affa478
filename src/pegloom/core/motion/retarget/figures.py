"""How well motion was carried over: what a person would see wrong, in millimetres and degrees."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.retarget.carry import Performance
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.pairing import Pairing
from pegloom.core.motion.retarget.plant import Limb, Sole, runs_of
from pegloom.core.motion.retarget.turns import across, unit, vector_of

STANDS = 0.05
"""Metres a second at a body of 1.7 m: a contact, as it is judged."""


@dataclass(frozen=True)
class Worst:
    """Where it is worst: the moment (seconds), the part, and what is wrong there."""

    time: float
    part: str
    what: str


@dataclass(frozen=True)
class Figures:
    """slide_mm : how far points in contact stray from the source's way, p95, at a body of 1.7 m. floor_mm : how far the
    lowest skin in contacts is from the floor, p95. direction_deg : mean angle of bones to the source's by part, where no
    contact rules; of limbs whose directions are taken over. limit_deg : most a joint is beyond its limits. path_share : how
    far the root strays from the source's scaled path, as a share of its length. reach_mm : most a planted end misses.
    """

    slide_mm: float
    floor_mm: float
    direction_deg: Mapping[str, float]
    limit_deg: float
    path_share: float
    reach_mm: float
    worst: Worst | None
    """Per moment (k,), 0 fine to 1 and more: what the strip shows."""
    strain: FloatArray


def measured(
    seen: Performance, figure: Figure, pairing: Pairing, limbs: list[Limb], soles: Mapping[str, Sole], *,
    copied: frozenset[str], floor: float, missed: Mapping[str, FloatArray], over: FloatArray, path: tuple[FloatArray, FloatArray],
    ruled: Mapping[str, FloatArray],
) -> Figures:  # fmt: skip
    """Measure a carried motion against its source. missed : of each limb's end (k,), metres; over (k,) degrees past limits;
    path : the root here and the source's, scaled, (k, 3) each."""
    times = seen.times
    strain = np.zeros(len(times))
    rows: list[tuple[float, int, str, str]] = []
    slides: list[FloatArray] = []
    floors: list[FloatArray] = []
    stands = np.zeros(len(times), dtype=bool)
    for limb in limbs:
        if limb.hand or not limb.chain.planted:
            continue
        for k, (joint, place) in enumerate(limb.points):
            here = figure.point(joint, place)
            slow = np.asarray(limb.speeds[k] < STANDS)
            for a, b in runs_of(slow):
                stands[a : b + 1] = True
                off = (here[a : b + 1] - here[a]) - (limb.there[k][a : b + 1] - limb.there[k][a])
                far = np.linalg.norm(off[:, [0, 2]], axis=1) / limb.length
                slides.append(far)
                _note(rows, far / 0.01, a, limb.chain.part, "strays {:.0f} mm while it stands", far * 1000)
                strain[a : b + 1] = np.maximum(strain[a : b + 1], far / 0.01)
    if soles:
        lowest = np.min([s.lowest(figure) for s in soles.values()], axis=0)
        levels = np.min([limb.level if limb.level is not None else np.zeros(len(times)) for limb in limbs if not limb.hand] or [np.zeros(len(times))], axis=0)
        length = next((limb.length for limb in limbs), 1.0)
        gap = np.abs(lowest - floor - levels)[stands] / length
        floors.append(gap)
        if stands.any():
            k = int(np.flatnonzero(stands)[np.argmax(gap)])
            rows.append((float(gap.max()) / 0.01, k, "feet", f"{gap.max() * 1000:.0f} mm off the floor"))
        under = np.maximum(floor - lowest, 0.0) / length
        strain = np.maximum(strain, under / 0.01)
    directions = _directions(seen, figure, pairing, copied, limbs, ruled, rows, strain)
    for part, far in missed.items():
        length = next((limb.length for limb in limbs if limb.chain.part == part), 1.0)
        _note(rows, far / length / 0.03, 0, part, "is {:.0f} mm short of where it stands", far / length * 1000)
        strain = np.maximum(strain, far / length / 0.03)
    own, scaled = path
    way = float(np.linalg.norm(np.diff(scaled, axis=0), axis=1).sum())
    stray = np.linalg.norm((own - own[0]) - (scaled - scaled[0]), axis=1)
    worst = max(rows, default=None)
    return Figures(
        slide_mm=_p95(slides) * 1000, floor_mm=_p95(floors) * 1000, direction_deg=directions, limit_deg=float(over.max(initial=0.0)),
        path_share=float(stray.max(initial=0.0)) / way if way > 1e-6 else 0.0,
        reach_mm=max((float(m.max(initial=0.0)) for m in missed.values()), default=0.0) * 1000,
        worst=None if worst is None or worst[0] < 0.1 else Worst(float(times[worst[1]]), worst[2], worst[3]), strain=strain,
    )  # fmt: skip


def _p95(pieces: list[FloatArray]) -> float:
    joined = np.concatenate(pieces) if pieces else np.zeros(0)
    return float(np.percentile(joined, 95)) if len(joined) else 0.0


def _note(rows: list[tuple[float, int, str, str]], badness: FloatArray, first: int, part: str, what: str, shown: FloatArray) -> None:
    if len(badness):
        k = int(np.argmax(badness))
        rows.append((float(badness[k]), first + k, part, what.format(float(shown[k]))))


def _directions(
    seen: Performance, figure: Figure, pairing: Pairing, copied: frozenset[str], limbs: list[Limb], ruled: Mapping[str, FloatArray],
    rows: list[tuple[float, int, str, str]], strain: FloatArray,
) -> dict[str, float]:
    """Mean angle (degrees) between the bones of limbs here and there, by part."""
    result = {}
    for chain in pairing.chains:
        if chain.part not in copied:
            continue
        total = []
        for k in range(min(len(chain.source), len(chain.target), 3) - 1):
            theirs = seen.at[:, seen.number(chain.source[k + 1])] - seen.at[:, seen.number(chain.source[k])]
            a, b = (figure.skeleton.index[chain.target[n]] for n in (k, k + 1))
            ours = figure.at[:, b] - figure.at[:, a]
            angle = np.degrees(np.arccos(np.clip((unit(theirs) * unit(ours)).sum(axis=1), -1.0, 1.0)))
            total.append(angle)
            _note(rows, angle / 25.0, 0, chain.part, "points {:.0f} degrees off the source", angle)
            strain[:] = np.maximum(strain, angle / 25.0)
        if total:
            touches = ruled.get(chain.part)
            mean = np.mean(total, axis=0)
            free = np.ones(len(mean), dtype=bool) if touches is None else np.asarray(touches < 0.02)
            result[chain.part] = float(mean[free].mean()) if free.any() else 0.0
    return result


def beyond(figure: Figure, limits: Mapping[int, tuple[FloatArray, FloatArray]]) -> FloatArray:
    """How far (k,) the joint that is farthest past its limits is, degrees."""
    worst = np.zeros(figure.moments)
    for j, (low, high) in limits.items():
        parent = int(figure.parents[j])
        if parent < 0:
            continue
        axes = figure.skeleton.world[j, :3, :3]
        vector = vector_of(axes.T @ (across(figure.turned[:, parent]) @ figure.turned[:, j]) @ axes)
        worst = np.maximum(worst, np.degrees(np.maximum(low - vector, vector - high).max(axis=1)))
    return np.asarray(np.maximum(worst, 0.0))
