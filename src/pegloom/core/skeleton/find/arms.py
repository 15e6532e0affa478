"""A human's arms in the solid: from a hand's tip inward, by sections of equal inside distance.

The end that is farthest from the mirror plane is a hand, unless a hand holds something, or there are wings, or a coat's
tails. So what an arm looks like is asked of what was found, and where it does not look like one the other ends are tried,
thin things (a pole, a cord) taken off first.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage, sparse

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.solid import CellGraph, cell_graph, reach
from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.find.evenness import Found
from pegloom.core.skeleton.find.shape import persistence
from pegloom.core.skeleton.find.standing_body import StandingBody

SHOULDER_OUT, SHOULDER_IN = 0.112, 0.1
"""Usual range of a shoulder's distance from the middle over the height; most of what goes beyond it is taken back: thick or
thin flesh moves the armpit, not the joint."""
ELBOW = 0.455
"""Usual share of the way from wrist to shoulder at which the elbow is."""
BULGE = 1.25
"""How many times the section of its wrist a palm has that stands out from the arm."""
FOOT_OF_BULGE = 0.12
"""Share of the bulge still left where the hand has ended."""
LIKELY = 0.75
"""How much like an arm what was found must look for no other end to be tried."""
ENDS = 4
"""Ends of a side that are tried, the farthest first."""
STANDS_OUT = 0.06
"""How far an end must stand out from what lies before it, in shares of the height."""
ARM_OF_HEIGHT = (0.17, 0.25, 0.42, 0.56)
"""Length from shoulder to wrist over the body's height: between the middle two an arm may have it, beyond the outer two
none has."""
HAND_OF_ARM = (0.1, 0.2, 0.75, 1.1)
"""The hand's length over that from shoulder to wrist, in the same way."""
RADIUS_OF_HEIGHT = (0.005, 0.012, 0.055, 0.085)
"""An arm's radius over the height."""
SHOULDER_HEIGHT = (0.42, 0.52, 0.9, 0.97)
"""Height of the shoulder over that of the crown: a toy's head is half of it."""
SHOULDER_FROM_MIDDLE = (0.035, 0.07, 0.2, 0.3)
"""How far from the middle a shoulder is, over the height."""
IN_DEPTH = (-0.35, -0.05, 1.05, 1.35)
"""Where in the trunk's depth the shoulder lies, 0 at its back and 1 at its front: wings sprout behind it."""
ELBOW_OUT = 0.35, 0.7
"""How far out elbow and wrist are, in shares of the shoulder's way out: within the trunk there is no arm (a hat's brim)."""
UNLIKE = (0.0, 0.0, 1.25, 1.8)
"""How many times as long as the other side's an arm may be."""
SHOULDERS = (0.0, 0.0, 0.045, 0.12)
"""How far from the other side's, mirrored, a shoulder may lie, over the height: an arm is raised, its root hardly."""
FIRST = 1.2
"""How many times as good as the farthest ends' another pair of arms must look to be taken."""
NONE_LIKE = 0.05
"""How little like an arm something may look and still be taken for one."""


@dataclass(frozen=True, slots=True, eq=False)
class _Room:
    """Cells in which an arm is looked for: their middles (m, 3), those on the mirror plane, the way from there (m,)."""

    cells: CellGraph
    centres: FloatArray
    on_plane: IntArray
    from_plane: FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class _Arm:
    """Pegs of an arm found from one end, how much like an arm they look (0 to 1), its length to the wrist, metres."""

    found: Found
    likely: float
    length: float


def arm_pegs(body: StandingBody) -> Found:
    """The pegs of both arms, each side by itself; where a side shows none, an arm of mean proportions."""
    room = _room(body, body.cells, body.centres)
    arms = {sign: _from_farthest(body, room, sign) for sign in (1, -1)}
    if _worth(body, arms[1], arms[-1]) < LIKELY**2:
        arms = _best(body, room, arms)
    alike = _alike(body, arms[1], arms[-1])
    found: Found = {}
    for sign, arm in arms.items():
        if arm is None or arm.likely < NONE_LIKE:
            found.update(_usual_arm(body, sign, "l" if sign > 0 else "r"))
            continue
        doubt = arm.likely * (0.4 + 0.6 * alike)
        found.update({name: (place, sure * doubt) for name, (place, sure) in arm.found.items()})
    return found


def _alike(body: StandingBody, left: _Arm | None, right: _Arm | None) -> float:
    """How much (0 to 1) two arms could be one body's: of a like length, from like places."""
    if left is None or right is None:
        return 1.0
    length = max(left.length, right.length) / max(min(left.length, right.length), 1e-9)
    across = left.found["l_shoulder"][0] * [-1, 1, 1] + [2 * body.middle, 0, 0]
    apart = float(np.linalg.norm(across - right.found["r_shoulder"][0])) / body.height
    return _within(length, UNLIKE) * _within(apart, SHOULDERS)


def _worth(body: StandingBody, left: _Arm | None, right: _Arm | None) -> float:
    """How good (0 to 1) a pair of arms looks."""
    if left is None or right is None:
        return 0.0
    return left.likely * right.likely * (0.3 + 0.7 * _alike(body, left, right))


def _room(body: StandingBody, cells: CellGraph, centres: FloatArray) -> _Room:
    nodes = cells.index
    on_plane = np.flatnonzero((nodes[:, 0] >= body.centre_i - 1) & (nodes[:, 0] <= body.centre_i))
    way = reach(cells, on_plane) if len(on_plane) else np.full(len(nodes), np.inf)
    return _Room(cells, centres, on_plane, np.where(np.isfinite(way), way, -1.0))


def _from_farthest(body: StandingBody, room: _Room, sign: int) -> _Arm | None:
    """The arm of a side's end that is farthest from the mirror plane."""
    here = body.aside(sign)[room.cells.index[:, 0]]
    if len(room.on_plane) == 0 or here.sum() < 20:
        return None
    return _arm_from(body, room, sign, int(np.argmax(np.where(here, room.from_plane, -1.0))))


def _best(body: StandingBody, room: _Room, first: dict[int, _Arm | None]) -> dict[int, _Arm | None]:
    """Of all ends of both sides, and of what is left without thin things, the pair that looks most like two arms."""
    options: dict[int, list[_Arm]] = {sign: [arm] if arm is not None else [] for sign, arm in first.items()}
    thick = ndimage.binary_opening(body.rest, ndimage.generate_binary_structure(3, 2))
    rooms = [room]
    if thick.any():
        cells = cell_graph(np.asarray(thick), body.solid.cell)
        rooms.append(_room(body, cells, body.solid.centres(cells.index)))
    for inside in rooms:
        graph = sparse.csr_matrix(inside.cells.graph + inside.cells.graph.T)
        for sign in (1, -1):
            for end in _ends(body, inside, graph, sign):
                arm = _arm_from(body, inside, sign, end)
                if arm is not None:
                    options[sign].append(arm)
    for sign in (1, -1):
        other = max(options[-sign], key=lambda arm: arm.likely, default=None)
        if other is not None:
            options[sign].append(_mirrored(body, other, sign))
    if not options[1] or not options[-1]:
        return {sign: max(arms, key=lambda arm: arm.likely, default=None) for sign, arms in options.items()}

    pairs = [(a, b) for a in options[1] for b in options[-1]]
    worth = [_worth(body, *pair) for pair in pairs]
    best = int(np.argmax(worth))
    if worth[best] <= FIRST * _worth(body, first[1], first[-1]):
        return first
    return {1: pairs[best][0], -1: pairs[best][1]}


def _mirrored(body: StandingBody, arm: _Arm, sign: int) -> _Arm:
    """An arm on the other side, `sign`, as far as there is a body at its places: what a hand holds hides where it ends."""
    flip, shift = np.array([-1.0, 1.0, 1.0]), np.array([2 * body.middle, 0.0, 0.0])
    s = "l" if sign > 0 else "r"
    found = {f"{s}{name[1:]}": (place * flip + shift, sure) for name, (place, sure) in arm.found.items()}
    line = [found[f"{s}_{n}"][0] for n in ("shoulder", "elbow", "wrist", "palm")]
    steps = np.concatenate([a + np.linspace(0, 1, 8)[:, None] * (b - a) for a, b in zip(line, line[1:], strict=False)])
    return _Arm(found, arm.likely * float(body.solid.inside(steps).mean()) ** 4, arm.length)


def _ends(body: StandingBody, room: _Room, graph: sparse.csr_matrix, sign: int) -> list[int]:
    """Cells (few) of one side that are farther from the mirror plane than all around them, the farthest first."""
    far = np.where(body.aside(sign)[room.cells.index[:, 0]], room.from_plane, -1.0)
    order = np.argsort(-far, kind="stable")
    order = order[far[order] >= 0]
    peak, saddle = persistence(graph.indptr, graph.indices, far, order)
    tops = np.flatnonzero(peak >= 0)
    tops = tops[far[tops] - np.maximum(saddle[tops], 0.0) > STANDS_OUT * body.height]
    return [int(k) for k in tops[np.argsort(-far[tops])][:ENDS]]


def _within(value: float, bounds: tuple[float, float, float, float]) -> float:
    """1 between the middle two bounds, 0 beyond the outer two."""
    none, full, still, gone = bounds
    return float(np.interp(value, [none - 1e-9, full, still, gone + 1e-9], [0.0, 1.0, 1.0, 0.0]))


def _likely(body: StandingBody, found: Found, s: str, radius: float) -> float:
    """How much like a human's arm (0 to 1) what was found looks: lengths, thickness, where it hangs."""
    shoulder, elbow, wrist, palm = (found[f"{s}_{n}"][0] for n in ("shoulder", "elbow", "wrist", "palm"))
    arm = float(np.linalg.norm(shoulder - elbow) + np.linalg.norm(elbow - wrist))
    hand = 2.0 * float(np.linalg.norm(palm - wrist))
    told = [
        _within(arm / body.height, ARM_OF_HEIGHT),
        _within(hand / max(arm, 1e-9), HAND_OF_ARM),
        _within(radius / body.height, RADIUS_OF_HEIGHT),
        _within(float(shoulder[1]) / body.height, SHOULDER_HEIGHT),
        _within(abs(float(shoulder[0]) - body.middle) / body.height, SHOULDER_FROM_MIDDLE),
    ]
    out = min(abs(float(p[0]) - body.middle) for p in (elbow, wrist)) / max(abs(float(shoulder[0]) - body.middle), 1e-9)
    told.append(float(np.interp(out, ELBOW_OUT, (0.0, 1.0))))
    trunk = body.depth_range(body.middle, float(shoulder[1]) - 0.03 * body.height)
    if trunk is not None:
        told.append(_within((float(shoulder[2]) - trunk[0]) / max(trunk[1] - trunk[0], 1e-9), IN_DEPTH))
    return float(np.prod(told))


def _arm_from(body: StandingBody, room: _Room, sign: int, tip: int) -> _Arm | None:
    """The arm that ends at a cell, or None where what ends there is too short to be one."""
    result = _pegs_from(body, room, sign, tip)
    if result is None:
        return None
    found, radius = result
    s = "l" if sign > 0 else "r"
    places = [found[f"{s}_{n}"][0] for n in ("shoulder", "elbow", "wrist")]
    length = float(sum(np.linalg.norm(a - b) for a, b in zip(places, places[1:], strict=False)))
    return _Arm(found, _likely(body, found, s, radius), length)


def _pegs_from(body: StandingBody, room: _Room, sign: int, tip: int) -> tuple[Found, float] | None:
    """The arm's pegs and its radius, metres."""
    s = "l" if sign > 0 else "r"
    h, cell = body.height, body.solid.cell
    here = body.aside(sign)[room.cells.index[:, 0]]
    from_tip = reach(room.cells, np.array([tip]))
    if not np.isfinite(from_tip[room.on_plane]).any():
        return None
    axis, area, steps = _sections(body, room, from_tip, here, 1.5 * cell)
    # Where the arm ends: its sections grow into the trunk.
    total = float(from_tip[room.on_plane].min())
    share = steps / total
    usual = float(np.median(area[(share > 0.25) & (share < 0.6)])) if ((share > 0.25) & (share < 0.6)).any() else 0.0
    entered = np.flatnonzero((share > 0.5) & (area > 2.3 * max(usual, cell**2)))
    end = int(entered[0]) if len(entered) else int(np.searchsorted(share, 0.82))
    end = min(max(end, 6), len(steps) - 1)
    sure = 0.85 if len(entered) and 0.12 * h < steps[end] < 0.6 * h else 0.35
    radius = float(np.sqrt(max(usual, cell**2) / np.pi))
    line = axis[:end]
    if len(line) < 6 or steps[end] < 0.1 * h:
        return None
    along = steps[:end]
    inward = normalised(line[-1] - line[max(0, len(line) // 2)])
    # The armpit is where sections begin to grow. Of a level arm the joint lies a little outward of it, of a hanging
    # arm well above it; and however thick the trunk, shoulders are about an eighth of the height off the middle.
    past = float(-0.5 + 2.7 * np.clip(inward[1], 0.0, 1.0) ** 3) * radius
    shoulder_d = float(along[-1]) + past
    shoulder = line[-1] + inward * past if past > 0 else point_on(line, along, shoulder_d)
    doubt = 1.0
    out = abs(float(shoulder[0]) - body.middle)
    if out > SHOULDER_OUT * h and abs(inward[0]) > 0.35:
        back = (out - SHOULDER_OUT * h) * 0.82 / abs(float(inward[0]))
        shoulder, shoulder_d = shoulder + inward * back, shoulder_d + back
        # Flesh, or shoulders as broad as that: from outside one cannot say.
        doubt = float(np.interp(back / h, (0.02, 0.06), (1.0, 0.5)))
    elif out < SHOULDER_IN * h and abs(inward[0]) > 0.35:
        back = 0.6 * (SHOULDER_IN * h - out) / abs(float(inward[0]))
        shoulder, shoulder_d = shoulder - inward * back, shoulder_d - back
    shoulder = shoulder + np.array([0.0, 0.12 * radius, 0.0])
    hangs = float(np.clip((inward[1] - 0.6) / 0.3, 0.0, 1.0))
    top = body.top_over(shoulder, 2.0 * radius)
    if hangs > 0 and top is not None:
        # The armpit of a hanging arm lies anywhere under the joint; the shoulder's top is an arm's radius above it.
        up = hangs * (float(np.clip(top - radius, shoulder[1] - 0.02 * h, shoulder[1] + 0.2 * h)) - float(shoulder[1]))
        # An arm that lies along the trunk for long is no more told from it: how far says how sure.
        doubt *= float(np.interp(up / h, (0.04, 0.12), (1.0, 0.5)))
        shoulder, shoulder_d = shoulder + np.array([0.0, up, 0.0]), shoulder_d + up * float(inward[1])
    hand_d = _find_wrist(along / shoulder_d, area[:end]) * shoulder_d

    def point(distance: float) -> FloatArray:
        return np.array([np.interp(distance, along, line[:, k]) for k in range(3)])

    wrist = point(hand_d)
    elbow_d, bend = _find_elbow(point, hand_d, shoulder_d, shoulder)
    elbow = point(elbow_d)
    elbow = elbow + np.array([0.0, 0.0, -0.1 * radius])
    # Fingers narrow the last sections; the knuckle sits about half way from wrist to tip.
    palm = point(0.5 * hand_d)
    # The thumb pulls that section's centre aside; the forearm's line says better where the hand points.
    pointing = normalised(0.75 * normalised(wrist - elbow) + 0.25 * normalised(palm - wrist))
    palm = wrist + pointing * float(np.linalg.norm(palm - wrist))
    chest_side = np.array([body.middle + 0.16 * (shoulder[0] - body.middle), shoulder[1] + 0.012 * h, shoulder[2]])
    return {
        f"{s}_clavicle": (chest_side, 0.6 * doubt * sure / 0.85),
        f"{s}_shoulder": (shoulder, 0.8 * doubt * sure / 0.85),
        f"{s}_elbow": (elbow, (0.85 if bend else 0.7) * (0.5 + 0.5 * doubt) * sure / 0.85),
        f"{s}_wrist": (wrist, 0.8 * (0.5 + 0.5 * doubt) * sure / 0.85),
        f"{s}_palm": (palm, 0.7 * (0.5 + 0.5 * doubt) * sure / 0.85),
    }, radius


def point_on(line: FloatArray, along: FloatArray, distance: float) -> FloatArray:
    """The place a distance along a centre line (m, 3)."""
    return np.array([np.interp(distance, along, line[:, k]) for k in range(3)])


def _sections(
    body: StandingBody, room: _Room, distance: FloatArray, here: BoolArray, width: float
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Sections of equal inside distance: centres (m, 3), areas (m,), distances (m,)."""
    keep = np.isfinite(distance) & here
    bins = (distance[keep] / width).astype(np.int64)
    count = np.bincount(bins)
    filled = np.flatnonzero(count > 0)
    centre = np.stack([np.bincount(bins, weights=room.centres[keep, a])[filled] / count[filled] for a in range(3)], 1)
    area = count[filled] * body.solid.cell**3 / width
    smooth = ndimage.uniform_filter1d(centre, 3, axis=0, mode="nearest")
    return smooth, ndimage.uniform_filter1d(area, 3, mode="nearest"), np.asarray((filled + 0.5) * width)


def _find_wrist(share: FloatArray, area: FloatArray) -> float:
    """Distance share from the tip where the palm's bulge ends; without one the narrowest near the usual quarter."""
    bulge = _palm_bulge(share, area)
    if bulge is not None:
        # A hand that stands out from its arm says itself where it ends, large gloves included.
        past = np.flatnonzero((share >= share[bulge]) & (share < min(float(share[bulge]) + 0.24, 0.5)))
        least = float(area[past].min())
        ends = least + FOOT_OF_BULGE * (float(area[bulge]) - least)
        first = int(past[int(np.argmax(area[past] <= ends))])
        over = (area[first - 1] - ends) / max(float(area[first - 1] - area[first]), 1e-12)
        return float(share[first - 1] + over * (share[first] - share[first - 1]))
    window = np.flatnonzero((share > 0.15) & (share < 0.42))
    if len(window) == 0:
        return 0.25
    scale = float(np.median(area[window]))
    cost = area[window] / max(scale, 1e-12) + 0.5 * ((share[window] - 0.26) / 0.1) ** 2
    return float(share[window[int(np.argmin(cost))]])


def _palm_bulge(share: FloatArray, area: FloatArray) -> int | None:
    """The widest section of a hand that is clearly wider than what follows, or None."""
    inner = np.arange(1, len(area) - 1)
    peaks = inner[(area[inner] >= area[inner - 1]) & (area[inner] >= area[inner + 1])]
    clear = []
    for peak in peaks[(share[peaks] > 0.06) & (share[peaks] < 0.36)]:
        after = area[(share > share[peak]) & (share < min(share[peak] + 0.24, 0.5))]
        if len(after) and after.min() < area[peak] / BULGE:
            clear.append(int(peak))
    return max(clear, key=lambda k: float(area[k])) if clear else None


def _find_elbow(point: object, wrist_d: float, shoulder_d: float, shoulder: FloatArray) -> tuple[float, bool]:
    """Its usual share; half way to where the arm's axis is farthest from the straight line, if that bends clearly."""
    usual = wrist_d + ELBOW * (shoulder_d - wrist_d)
    options = wrist_d + np.linspace(0.34, 0.58, 13) * (shoulder_d - wrist_d)
    places = np.array([point(float(d)) for d in options])  # type: ignore[operator]
    wrist = point(wrist_d)  # type: ignore[operator]
    line = normalised(shoulder - wrist)
    away = places - wrist
    off = np.linalg.norm(away - np.outer(away @ line, line), axis=1) / max(shoulder_d - wrist_d, 1e-9)
    best = int(np.argmax(off))
    if off[best] > 0.045 and 0 < best < len(options) - 1:
        # Muscles draw the axis aside, too: a slight bend alone does not say where.
        return 0.5 * (usual + float(options[best])), True
    return float(usual), False


def _usual_arm(body: StandingBody, sign: int, s: str) -> Found:
    """An arm of mean proportions, hanging in an A, for a figure whose arm cannot be found."""
    h = body.height
    x = {"clavicle": 0.02, "shoulder": 0.11, "elbow": 0.2, "wrist": 0.28, "palm": 0.32}
    y = {"clavicle": 0.81, "shoulder": 0.81, "elbow": 0.66, "wrist": 0.54, "palm": 0.49}
    return {f"{s}_{n}": (np.array([body.middle + sign * x[n] * h, y[n] * h, -0.01 * h]), 0.15) for n in x}
