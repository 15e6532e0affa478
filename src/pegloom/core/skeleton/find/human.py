"""Find a human's landmarks in the solid: extremities, level sets along the limbs, cross-sections of the trunk.

1. The figure is made solid on a grid aligned to its mirror plane, 1/120 of the height a cell.
2. Legs are what is left below the crotch, the highest place where nothing fills the middle. Hands are the cells of
   the rest that are farthest, inside the solid, from the mirror plane.
3. From each hand's tip, sets of equal inside distance are sections across the arm: their centres draw its axis,
   their areas say where the wrist is (narrow) and where the trunk begins (wide). The elbow is looked for where
   the axis bends, near its usual share of the arm.
4. Level layers do the same for the leg (ankle where the foot's length ends) and the trunk (neck where narrow).
5. Each peg is moved from its section's centre to its proper depth.

Shares of length (elbow, knee, spine) start from mean adult proportions (Winter, Biomechanics and Motor Control of
Human Movement, 2009, chapter 4) and give way to the shape wherever the shape says something.
Fails where arms are welded to the trunk, in closed robes, and for arms raised above the head: confidence says so.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import FindError
from pegloom.core.geometry.mesh import bounds
from pegloom.core.geometry.solid import CellGraph, Solid, cell_graph, make_solid, reach
from pegloom.core.geometry.transforms import normalised
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.find.evenness import Evenness, Found, even_out
from pegloom.core.skeleton.find.hand import find_fingers, finger_tips
from pegloom.core.skeleton.human import CENTRE_PEGS, PATTERN, SIDE_PEGS, finger_names
from pegloom.core.skeleton.joints import Vector
from pegloom.core.skeleton.pegs import Peg, PegSet

CELLS_TALL, CELLS_LONG = 120, 360
"""Cells of the grid along the height, and along the longest side at most: of a body far wider than tall."""
USUAL_HIPS, LOW_HIPS, RAISED = 0.62, 0.55, 0.5
"""Height of the hips over that of the neck as is usual, and where the crotch seen may well be cloth; how far hips that
stand lower than usual are raised: a tunic's hem is as common as short legs."""
IN_TRUNK = (0.4, 0.6)
"""Shares of the trunk's depth, from the back, between which the hip joints lie."""
ANKLE_BELOW = 0.007
"""How far under the place where the foot's length has ended the ankle is, in shares of the height."""
HIP_OVER_CROTCH = 0.052
"""Height of the hip joint over the crotch, in shares of the height."""
PINCHED = 0.82
"""Depth at the middle over the thighs' depth under which a layer still shows two legs."""

SHOULDER_OUT, SHOULDER_IN = 0.112, 0.1
"""Usual range of a shoulder's distance from the middle over the height; most of what goes beyond it is taken back: thick or
thin flesh moves the armpit, not the joint."""
ELBOW = 0.455
"""Usual share of the way from wrist to shoulder at which the elbow is."""
BULGE = 1.25
"""How many times the section of its wrist a palm has that stands out from the arm."""
FOOT_OF_BULGE = 0.12
"""Share of the bulge still left where the hand has ended."""

HEAD_ASIDE = 0.04
"""How far from the middle the head's top is looked for, in shares of the height."""

LUMP = 0.45
"""Share of its bounding box a figure may fill; standing humans fill 0.08 to 0.3."""


def find_human_pegs(
    points: FloatArray,
    triangles: IntArray,
    *,
    fingers: int | None = None,
    middle: float = 0.0,
    progress: Progress = silent,
) -> PegSet:
    """Place the human pattern's pegs in a stood-up mesh.

    Parameters
    ----------
    points : (n, 3) metres, Y up, facing +Z, feet near y = 0. triangles : (t, 3).
    fingers : 0 to 5, or None for as many as the hands show, 5 weak guesses where they show none. middle : x of the mirror plane.

    Raises
    ------
    FindError
        The mesh is empty or flat: there is no body to look into.
    """
    low, high = bounds(points)
    height = float(high[1] - low[1])
    if len(triangles) == 0 or height <= 0 or np.min(high - low) < 1e-4 * height:
        raise FindError("the mesh is empty or flat, so no landmarks can be found; stand it up, or place pegs by hand")
    progress(0.0, "filling the body")
    base = np.array([0.0, low[1], 0.0])
    cell = max(height / CELLS_TALL, float(np.max(high - low)) / CELLS_LONG)
    solid = make_solid(points - base, triangles, cell=cell, middle=middle)
    body = _Body(solid, _crown(solid, height, middle), middle)
    found: Found = {}
    progress(0.25, "legs and trunk")
    for sign in (1, -1):
        found.update(_leg_pegs(body, sign))
    progress(0.45, "arms")
    arms = {sign: _arm_pegs(body, sign) for sign in (1, -1)}
    for arm in arms.values():
        found.update(arm)
    found.update(_trunk_pegs(body, found))
    low_hips = (found["l_hip"][0][1] + found["r_hip"][0][1]) / 2
    lack = USUAL_HIPS - low_hips / max(found["neck"][0][1], 1e-9)
    if lack > 0:
        # Short legs, or wide trousers, a loincloth, a coat over the crotch: half way to the usual, and asked about.
        body.crotch += RAISED * lack * found["neck"][0][1]
        body.crotch_sure *= float(np.clip(1.0 - 0.5 * lack / (USUAL_HIPS - LOW_HIPS), 0.5, 1.0))
        for sign in (1, -1):
            found.update(_leg_pegs(body, sign))
        found.update(_trunk_pegs(body, found))
    evenness = Evenness(points - base, triangles, middle=middle, size=body.height)
    found, apart = even_out(found, evenness)
    progress(0.7, "hands")
    if fingers is None:
        fingers = _seen(points - base, triangles, found)
    if fingers:
        for side in ("l", "r"):
            found.update(_finger_pegs(points - base, triangles, found, side, fingers))
        found, apart = even_out(found, evenness)
    doubt = _doubt(body, low, high)
    found = {name: (place, sure * doubt) for name, (place, sure) in found.items()}
    progress(1.0, "pegs placed")
    order = [*CENTRE_PEGS, *(f"{s}_{n}" for n in SIDE_PEGS for s in ("l", "r"))]
    order += [f"{s}_{f}_{e}" for f in finger_names(fingers) for e in ("base", "tip") for s in ("l", "r")]
    pegs = tuple(Peg(name, _vector(found[name][0] + base), found[name][1]) for name in order)
    return PegSet(PATTERN, fingers, pegs, apart=apart)


def _crown(solid: Solid, height: float, middle: float) -> float:
    """How high the body stands at its middle: a raised hand makes nobody taller."""
    x = solid.origin[0] + (np.arange(solid.filled.shape[0]) + 0.5) * solid.cell
    over = np.flatnonzero(solid.filled[np.abs(x - middle) < HEAD_ASIDE * height].any(axis=(0, 2)))
    if len(over) == 0:
        return height
    return float(np.clip(solid.origin[1] + (over[-1] + 1) * solid.cell, 0.5 * height, height))


def _doubt(body: _Body, low: FloatArray, high: FloatArray) -> float:
    """A factor on all confidences: a lump that fills its box is no human, whatever its sections say."""
    share = float(body.filled.sum()) * body.solid.cell**3 / max(float(np.prod(high - low)), 1e-12)
    return 0.4 if share > LUMP else 1.0


def _vector(p: FloatArray) -> Vector:
    return (round(float(p[0]), 6), round(float(p[1]), 6), round(float(p[2]), 6))


@dataclass
class _Body:
    """The solid cut into legs and the rest, with what several searches need."""

    solid: Solid
    height: float
    middle: float

    def __post_init__(self) -> None:
        filled = self.solid.filled
        blobs, count = ndimage.label(filled, np.ones((3, 3, 3)))
        sizes = np.bincount(blobs.ravel())[1:]
        # Loose bits (eyes, a hat's brim) do not steer the search; the largest connected solid does.
        self.filled: BoolArray = blobs == 1 + int(np.argmax(sizes)) if count else filled
        self.centre_i = filled.shape[0] // 2
        self.y = self.solid.origin[1] + (np.arange(filled.shape[1]) + 0.5) * self.solid.cell
        self.crotch, self.crotch_sure = self._find_crotch()
        self.legs = self._find_legs()
        self.rest: BoolArray = self.filled & ~self.legs
        self.cells: CellGraph = cell_graph(self.rest, self.solid.cell)
        if len(self.cells.index) == 0:
            raise FindError("no body is left above the legs, so no landmarks can be found; check the up axis")
        self.centres = self.solid.centres(self.cells.index)

    def _find_crotch(self) -> tuple[float, float]:
        c = self.centre_i
        middle_filled: BoolArray = np.asarray(self.filled[c - 1 : c + 1].any(axis=(0, 2)))
        layers = [k for k in range(len(self.y)) if 0.12 * self.height < self.y[k] < 0.62 * self.height]
        open_layers = [k for k in layers if not middle_filled[k] and self.filled[:, k].any()]
        if len(open_layers) < 0.04 * len(self.y):
            return 0.47 * self.height, 0.25
        top = float(self.y[max(open_layers)] + self.solid.cell)
        if top >= 0.41 * self.height:
            return top, 0.9
        # Thighs that touch are still two: pinched at the middle. The crotch is where the pinch ends.
        pinched = [k for k in layers if self.y[k] > top and self._pinch(k) < PINCHED]
        if pinched:
            end = float(self.y[max(pinched)] + self.solid.cell)
            if end > 0.36 * self.height:
                return min(end, 0.5 * self.height), 0.75
        return (0.45 * self.height, 0.4) if top < 0.3 * self.height else (max(top, 0.42 * self.height), 0.5)

    def _pinch(self, layer: int) -> float:
        """Depth at the mirror plane over the greatest depth of a layer's thighs."""
        cut = self.filled[:, layer]
        depth = cut.sum(axis=1).astype(float)
        c = self.centre_i
        reach = max(round(0.1 * self.height / self.solid.cell), 2)
        widest = depth[c - reach : c + reach].max()
        return float(depth[c - 1 : c + 1].mean() / widest) if widest > 0 else 1.0

    def _find_legs(self) -> BoolArray:
        below = self.filled & (self.y < self.crotch)[None, :, None]
        c = self.centre_i
        if self.crotch_sure < 0.5:  # touching legs are parted at the mirror plane
            below[c - 1 : c + 1] = False
        blobs, _ = ndimage.label(below, np.ones((3, 3, 3)))
        floor = blobs[:, self.y < 0.08 * self.height]
        return np.asarray(np.isin(blobs, np.unique(floor[floor > 0])) & below)

    def top_over(self, place: FloatArray, reach_: float) -> float | None:
        """Height of the body's top over a place (3,), within a reach along z, or None where there is none."""
        i, _, k = np.floor((place - self.solid.origin) / self.solid.cell).astype(int)
        r = max(round(reach_ / self.solid.cell), 1)
        if not 1 <= i < self.rest.shape[0] - 1:
            return None
        column = self.rest[i - 1 : i + 2, :, max(k - r, 0) : k + r + 1].any(axis=(0, 2))
        over = np.flatnonzero(column)
        return float(self.y[over[-1]] + self.solid.cell / 2) if len(over) else None

    def depth_range(self, x: float, y: float) -> tuple[float, float] | None:
        """Back and front (z) of the solid at a place seen from ahead, or None where nothing is."""
        i, j = (int(np.floor((v - o) / self.solid.cell)) for v, o in zip((x, y), self.solid.origin[:2], strict=True))
        if not (1 <= i < self.filled.shape[0] - 1 and 0 <= j < self.filled.shape[1]):
            return None
        filled = np.flatnonzero(self.filled[i - 1 : i + 2, j].any(axis=0))
        if len(filled) == 0:
            return None
        back, front = self.solid.origin[2] + np.array([filled[0], filled[-1] + 1]) * self.solid.cell
        return float(back), float(front)

    def aside(self, sign: int) -> BoolArray:
        """Which x cells lie on one side."""
        half: BoolArray = np.arange(self.filled.shape[0]) >= self.centre_i
        return half if sign > 0 else np.logical_not(half)


def _leg_pegs(body: _Body, sign: int) -> Found:
    s = "l" if sign > 0 else "r"
    leg = body.legs & body.aside(sign)[:, None, None]
    h, cell, sure = body.height, body.solid.cell, body.crotch_sure
    index = np.argwhere(leg)
    if len(index) < 30:
        return _usual_leg(body, sign, s)
    p = body.solid.centres(index)
    crotch = body.crotch
    hip_y = crotch + HIP_OVER_CROTCH * h

    def layer(y: float, reach_: float = 1.0) -> FloatArray:
        near = p[np.abs(p[:, 1] - y) <= reach_ * cell]
        return near if len(near) else p[[int(np.argmin(np.abs(p[:, 1] - y)))]]

    def middle(y: float) -> FloatArray:
        cut = layer(y)
        return np.array([cut[:, 0].mean(), y, cut[:, 2].mean()])

    def depth(y: float) -> float:
        return float(np.ptp(layer(y)[:, 2]) + cell)

    shin = float(np.median([depth(y) for y in np.linspace(0.3, 0.55, 9) * crotch]))
    heights = np.arange(0.02 * h, 0.3 * crotch, cell / 2)
    over_foot = [float(y) for y in heights if depth(float(y)) < 1.3 * shin]
    over = float(np.clip(over_foot[0] + 0.35 * cell if over_foot else 0.05 * h, 0.03 * h, 0.13 * h))
    ankle_y = max(over - ANKLE_BELOW * h, 0.03 * h)
    clear = layer(over + cell)  # of the foot
    ankle = clear.mean(axis=0)
    ankle[2] = min(ankle[2], clear[:, 2].min() + 0.55 * shin)
    ankle[1] = ankle_y
    knee_y = ankle_y + 0.502 * (hip_y - ankle_y)
    knee = middle(knee_y)
    knee[2] += 0.06 * depth(knee_y)
    top = layer(crotch - 1.5 * cell)
    # A thigh that leans goes on leaning up to its joint, which lies well inside the trunk.
    thigh = np.array([middle(float(y)) for y in np.linspace(knee_y + 0.2 * (crotch - knee_y), crotch - 1.5 * cell, 6)])
    lean = float(np.clip(np.polyfit(thigh[:, 1], thigh[:, 2], 1)[0], -0.6, 0.6))
    hip_z = float(top[:, 2].mean()) + lean * (hip_y - (crotch - 1.5 * cell))
    trunk = body.depth_range(float(top[:, 0].mean()), hip_y)
    if trunk is not None:
        hip_z = float(np.clip(hip_z, *np.interp(IN_TRUNK, (0.0, 1.0), trunk)))
    hip = np.array([0.55 * top[:, 0].mean() + 0.45 * (p[:, 0].mean()), hip_y, hip_z])
    foot = p[p[:, 1] < ankle_y]
    if len(foot) < 4:
        foot = p[p[:, 1] < ankle_y + 2 * cell]
    front = float(foot[:, 2].max()) + cell / 2
    tip = foot[foot[:, 2] > front - 2.5 * cell]
    toe = np.array([tip[:, 0].mean(), min(tip[:, 1].mean(), 0.5 * ankle_y), front - cell])
    length = toe[2] - ankle[2]
    foot_sure = 0.85 if length > 0.05 * h else 0.4
    if length < 0.03 * h:
        toe = ankle + [0.0, 0.3 * ankle_y - ankle[1], 0.09 * h]
    ball = ankle + 0.62 * (toe - ankle)
    ball[1] = max(min(ball[1], 0.55 * ankle_y), 0.012 * h)
    return {
        f"{s}_hip": (hip, 0.75 * sure / 0.9),
        f"{s}_knee": (knee, 0.8 * sure / 0.9),
        # Where no gap parts the legs, a robe may hide them down to the floor.
        f"{s}_ankle": (ankle, (0.85 if over_foot else 0.4) * min(sure / 0.5, 1.0)),
        f"{s}_ball": (ball, foot_sure),
        f"{s}_toe": (toe, foot_sure),
    }


def _usual_leg(body: _Body, sign: int, s: str) -> Found:
    """A leg of mean proportions under the trunk, for a figure whose legs cannot be told apart."""
    h, x = body.height, body.middle + sign * 0.055 * body.height
    heights = {"hip": 0.515, "knee": 0.28, "ankle": 0.045, "ball": 0.015, "toe": 0.012}
    ahead = {"hip": 0.0, "knee": 0.01, "ankle": -0.01, "ball": 0.07, "toe": 0.11}
    return {f"{s}_{n}": (np.array([x, heights[n] * h, ahead[n] * h]), 0.2) for n in heights}


def _arm_pegs(body: _Body, sign: int) -> Found:
    s = "l" if sign > 0 else "r"
    h, cell = body.height, body.solid.cell
    nodes = body.cells.index
    on_plane = np.flatnonzero((nodes[:, 0] >= body.centre_i - 1) & (nodes[:, 0] <= body.centre_i))
    here = body.aside(sign)[nodes[:, 0]]
    if len(on_plane) == 0 or here.sum() < 20:
        return _usual_arm(body, sign, s)
    from_plane = reach(body.cells, on_plane)
    from_plane[~np.isfinite(from_plane) | ~here] = -1.0
    tip = int(np.argmax(from_plane))
    from_tip = reach(body.cells, np.array([tip]))
    axis, area, steps = _sections(body, from_tip, here, 1.5 * cell)
    # Where the arm ends: its sections grow into the trunk.
    total = float(from_tip[on_plane].min())
    share = steps / total
    usual = float(np.median(area[(share > 0.25) & (share < 0.6)])) if ((share > 0.25) & (share < 0.6)).any() else 0.0
    entered = np.flatnonzero((share > 0.5) & (area > 2.3 * max(usual, cell**2)))
    end = int(entered[0]) if len(entered) else int(np.searchsorted(share, 0.82))
    end = min(max(end, 6), len(steps) - 1)
    sure = 0.85 if len(entered) and 0.12 * h < steps[end] < 0.6 * h else 0.35
    radius = float(np.sqrt(max(usual, cell**2) / np.pi))
    line = axis[:end]
    if len(line) < 6 or steps[end] < 0.1 * h:
        return _usual_arm(body, sign, s)
    along = steps[:end]
    inward = normalised(line[-1] - line[max(0, len(line) // 2)])
    # The armpit is where sections begin to grow. Of a level arm the joint lies a little outward of it, of a hanging
    # arm well above it; and however thick the trunk, shoulders are about an eighth of the height off the middle.
    past = float(-0.5 + 2.7 * np.clip(inward[1], 0.0, 1.0) ** 3) * radius
    shoulder_d = float(along[-1]) + past
    shoulder = line[-1] + inward * past if past > 0 else point_on(line, along, shoulder_d)
    out = abs(float(shoulder[0]) - body.middle)
    if out > SHOULDER_OUT * h and abs(inward[0]) > 0.35:
        back = (out - SHOULDER_OUT * h) * 0.82 / abs(float(inward[0]))
        shoulder, shoulder_d = shoulder + inward * back, shoulder_d + back
    elif out < SHOULDER_IN * h and abs(inward[0]) > 0.35:
        back = 0.6 * (SHOULDER_IN * h - out) / abs(float(inward[0]))
        shoulder, shoulder_d = shoulder - inward * back, shoulder_d - back
    shoulder = shoulder + np.array([0.0, 0.12 * radius, 0.0])
    hangs = float(np.clip((inward[1] - 0.6) / 0.3, 0.0, 1.0))
    top = body.top_over(shoulder, 2.0 * radius)
    if hangs > 0 and top is not None:
        # The armpit of a hanging arm lies anywhere under the joint; the shoulder's top is an arm's radius above it.
        up = hangs * (float(np.clip(top - radius, shoulder[1] - 0.02 * h, shoulder[1] + 0.07 * h)) - float(shoulder[1]))
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
        f"{s}_clavicle": (chest_side, 0.6 * sure / 0.85),
        f"{s}_shoulder": (shoulder, 0.8 * sure / 0.85),
        f"{s}_elbow": (elbow, (0.85 if bend else 0.7) * sure / 0.85),
        f"{s}_wrist": (wrist, 0.8 * sure / 0.85),
        f"{s}_palm": (palm, 0.7 * sure / 0.85),
    }


def point_on(line: FloatArray, along: FloatArray, distance: float) -> FloatArray:
    """The place a distance along a centre line (m, 3)."""
    return np.array([np.interp(distance, along, line[:, k]) for k in range(3)])


def _sections(
    body: _Body, distance: FloatArray, here: BoolArray, width: float
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Sections of equal inside distance: centres (m, 3), areas (m,), distances (m,)."""
    keep = np.isfinite(distance) & here
    bins = (distance[keep] / width).astype(np.int64)
    count = np.bincount(bins)
    filled = np.flatnonzero(count > 0)
    centre = np.stack([np.bincount(bins, weights=body.centres[keep, a])[filled] / count[filled] for a in range(3)], 1)
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


def _usual_arm(body: _Body, sign: int, s: str) -> Found:
    """An arm of mean proportions, hanging in an A, for a figure whose arm cannot be found."""
    h = body.height
    x = {"clavicle": 0.02, "shoulder": 0.11, "elbow": 0.2, "wrist": 0.28, "palm": 0.32}
    y = {"clavicle": 0.81, "shoulder": 0.81, "elbow": 0.66, "wrist": 0.54, "palm": 0.49}
    return {f"{s}_{n}": (np.array([body.middle + sign * x[n] * h, y[n] * h, -0.01 * h]), 0.15) for n in x}


def _trunk_pegs(body: _Body, found: Found) -> Found:
    h, cell = body.height, body.solid.cell
    shoulders = (found["l_shoulder"][0] + found["r_shoulder"][0]) / 2
    shoulder_y = float(np.clip(shoulders[1], 0.5 * h, 0.9 * h))
    reach_x = 0.75 * abs(found["l_shoulder"][0][0] - found["r_shoulder"][0][0]) / 2
    x = body.solid.origin[0] + (np.arange(body.rest.shape[0]) + 0.5) * cell - body.middle
    near = np.abs(x) < max(reach_x, 0.06 * h)

    def layer(y: float) -> FloatArray:
        k = int(np.clip((y - body.solid.origin[1]) / cell, 0, body.rest.shape[1] - 1))
        cut = body.rest[:, k] & near[:, None]
        index = np.argwhere(cut)
        if len(index) == 0:
            return np.zeros((0, 2))
        return np.stack([x[index[:, 0]], body.solid.origin[2] + (index[:, 1] + 0.5) * cell], axis=1)

    def section(y: float) -> tuple[float, float, float]:
        cut = layer(y)
        if len(cut) == 0:
            return 0.0, 0.0, 0.0
        core = cut[np.abs(cut[:, 0]) < 0.05 * h] if (np.abs(cut[:, 0]) < 0.05 * h).any() else cut
        return float(np.ptp(cut[:, 0]) + cell), float(core[:, 1].min()), float(core[:, 1].max())

    middle_column = body.rest[body.centre_i - 2 : body.centre_i + 2].any(axis=(0, 2))
    crown_y = float(body.y[np.flatnonzero(middle_column)[-1]] + cell / 2) if middle_column.any() else h
    heights = np.arange(shoulder_y + 0.005 * h, crown_y - 0.25 * (crown_y - shoulder_y), cell / 2)
    areas = np.array([section(float(y))[0] for y in heights]) if len(heights) else np.zeros(0)
    usable = areas > 0
    if usable.sum() >= 3:
        cost = np.where(usable, areas / max(float(np.median(areas[usable])), 1e-9), 9.0)
        share = (heights - shoulder_y) / max(crown_y - shoulder_y, 1e-9)
        narrow = float(heights[int(np.argmin(cost + 0.35 * np.abs(share - 0.3)))])
        neck_sure = 0.75
    else:
        narrow, neck_sure = shoulder_y + 0.3 * (crown_y - shoulder_y), 0.3
    neck_y = shoulder_y + 0.55 * (narrow - shoulder_y)
    head_y = narrow + 0.08 * (crown_y - narrow)
    hip_y = (found["l_hip"][0][1] + found["r_hip"][0][1]) / 2
    hips_y = hip_y + 0.03 * h
    rise = neck_y - hips_y

    def spine_at(y: float, share: float) -> FloatArray:
        _, back, front = section(y)
        return np.array([body.middle, y, back + share * (front - back)])

    crown = spine_at(crown_y - cell, 0.5)
    crown[1] = crown_y
    return {
        "hips": (spine_at(hips_y, 0.42), 0.75 * body.crotch_sure / 0.9),
        "waist": (spine_at(hips_y + 0.27 * rise, 0.34), 0.7),
        "chest": (spine_at(hips_y + 0.58 * rise, 0.3), 0.7),
        "neck": (spine_at(neck_y, 0.36), neck_sure),
        "head": (spine_at(head_y, 0.42), neck_sure),
        "crown": (crown, 0.9),
    }


def _seen(points: FloatArray, triangles: IntArray, found: Found) -> int:
    """How many fingers the hands show: what one shows and the other hides counts."""
    shown = [len(finger_tips(points, triangles, found[f"{s}_wrist"][0], found[f"{s}_palm"][0])) for s in ("l", "r")]
    return max(shown) if max(shown) >= 2 else 5


def _finger_pegs(points: FloatArray, triangles: IntArray, found: Found, s: str, fingers: int) -> Found:
    wrist, palm = found[f"{s}_wrist"][0], found[f"{s}_palm"][0]
    placed = find_fingers(points, triangles, wrist, palm, names=finger_names(fingers))
    result: Found = {}
    for name, (base, tip, confidence) in placed.items():
        result[f"{s}_{name}_base"] = (base, confidence)
        result[f"{s}_{name}_tip"] = (tip, confidence)
    return result
