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

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import FindError
from pegloom.core.geometry.mesh import bounds
from pegloom.core.geometry.solid import Solid, make_solid
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.find.arms import arm_pegs
from pegloom.core.skeleton.find.evenness import Evenness, Found, even_out
from pegloom.core.skeleton.find.face import chin_of
from pegloom.core.skeleton.find.hand import bent_fingers, find_fingers, finger_tips
from pegloom.core.skeleton.find.standing_body import StandingBody
from pegloom.core.skeleton.find.toes import GUESS, find_toes
from pegloom.core.skeleton.human import CENTRE_PEGS, PATTERN, SIDE_PEGS, finger_names
from pegloom.core.skeleton.joints import Vector
from pegloom.core.skeleton.kits import toe_names
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
HEAD_ASIDE = 0.04
"""How far from the middle the head's top is looked for, in shares of the height."""

OFF_LINE = 0.04
"""How far in front of or behind the line from hips to shoulders the spine may lie, over the height."""
HOLDS = (0.0, 0.2, 0.45, 0.5, 0.58, 0.7, 0.8, 1.0), (0.0, 0.26, 0.48, 0.55, 0.72, 0.86, 0.91, 0.97)
"""What the searches' own marks are worth, as the share of pegs so marked that lie within 2.5 percent of the height, on
bodies of many builds (tests/support/population.py); of what does best a little less, as bodies made by others are harder."""
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
    body = StandingBody(solid, _crown(solid, height, middle), middle)
    found: Found = {}
    progress(0.25, "legs and trunk")
    for sign in (1, -1):
        found.update(_leg_pegs(body, sign))
    progress(0.45, "arms")
    found.update(arm_pegs(body))
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
    found.update(_landmarks(body, points - base, triangles, found))
    evenness = Evenness(points - base, triangles, middle=middle, size=body.height)
    found, apart = even_out(found, evenness)
    progress(0.7, "hands")
    if fingers is None:
        fingers = _seen(points - base, triangles, found)
    if fingers:
        for side in ("l", "r"):
            found.update(_finger_pegs(points - base, triangles, found, side, fingers))
        found, apart = even_out(found, evenness)
    toes = _toe_pegs(points - base, triangles, found)
    if toes:
        found, apart = even_out(found | toes, evenness)
    doubt = _doubt(body, low, high)
    found = {name: (place, float(np.interp(sure, *HOLDS)) * doubt) for name, (place, sure) in found.items()}
    progress(1.0, "pegs placed")
    order = [*CENTRE_PEGS, *(f"{s}_{n}" for n in SIDE_PEGS for s in ("l", "r"))]
    bent = bent_fingers({name: place for name, (place, _) in found.items()})
    for finger in finger_names(fingers):
        ends = ("base", "bend", "tip") if finger in bent else ("base", "tip")
        order += [f"{s}_{finger}_{end}" for end in ends for s in ("l", "r")]
    order += list(toes)
    pegs = tuple(Peg(name, _vector(found[name][0] + base), found[name][1]) for name in order)
    return PegSet(PATTERN, fingers, pegs, apart=apart & frozenset(order))


def _crown(solid: Solid, height: float, middle: float) -> float:
    """How high the body stands at its middle: a raised hand makes nobody taller."""
    x = solid.origin[0] + (np.arange(solid.filled.shape[0]) + 0.5) * solid.cell
    over = np.flatnonzero(solid.filled[np.abs(x - middle) < HEAD_ASIDE * height].any(axis=(0, 2)))
    if len(over) == 0:
        return height
    return float(np.clip(solid.origin[1] + (over[-1] + 1) * solid.cell, 0.5 * height, height))


def _doubt(body: StandingBody, low: FloatArray, high: FloatArray) -> float:
    """A factor on all confidences: a lump that fills its box is no human, whatever its sections say."""
    share = float(body.filled.sum()) * body.solid.cell**3 / max(float(np.prod(high - low)), 1e-12)
    return 0.4 if share > LUMP else 1.0


def _vector(p: FloatArray) -> Vector:
    return (round(float(p[0]), 6), round(float(p[1]), 6), round(float(p[2]), 6))


def _leg_pegs(body: StandingBody, sign: int) -> Found:
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


def _usual_leg(body: StandingBody, sign: int, s: str) -> Found:
    """A leg of mean proportions under the trunk, for a figure whose legs cannot be told apart."""
    h, x = body.height, body.middle + sign * 0.055 * body.height
    heights = {"hip": 0.515, "knee": 0.28, "ankle": 0.045, "ball": 0.015, "toe": 0.012}
    ahead = {"hip": 0.0, "knee": 0.01, "ankle": -0.01, "ball": 0.07, "toe": 0.11}
    return {f"{s}_{n}": (np.array([x, heights[n] * h, ahead[n] * h]), 0.2) for n in heights}


def _trunk_pegs(body: StandingBody, found: Found) -> Found:
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
    # Where the arms are a guess, the height of the shoulders is, from which the neck rises.
    neck_sure *= min(1.0, min(found["l_shoulder"][1], found["r_shoulder"][1]) / 0.5)
    neck_y = shoulder_y + 0.55 * (narrow - shoulder_y)
    head_y = narrow + 0.08 * (crown_y - narrow)
    hip_y = (found["l_hip"][0][1] + found["r_hip"][0][1]) / 2
    hips_y = hip_y + 0.03 * h
    rise = neck_y - hips_y

    back_line = ([hip_y, shoulder_y], [(found["l_hip"][0][2] + found["r_hip"][0][2]) / 2, shoulders[2]])

    def spine_at(y: float, share: float) -> tuple[FloatArray, float]:
        """The spine's place at a height, and a factor on its confidence."""
        _, back, front = section(y)
        z, usual = back + share * (front - back), float(np.interp(y, *back_line))
        # What is worn on the back, or a hood, counts into the depth: far from hips and shoulders there is no spine.
        kept = float(np.clip(z, usual - OFF_LINE * h, usual + OFF_LINE * h))
        return np.array([body.middle, y, kept]), float(np.interp(abs(z - kept) / h, (0.0, 0.04), (1.0, 0.55)))

    def placed(y: float, share: float, sure: float) -> tuple[FloatArray, float]:
        place, doubt = spine_at(y, share)
        return place, sure * doubt

    _, back, front = section(crown_y - cell)
    crown = np.array([body.middle, crown_y, 0.5 * (back + front)])
    return {
        "hips": placed(hips_y, 0.42, 0.75 * body.crotch_sure / 0.9),
        "waist": placed(hips_y + 0.27 * rise, 0.34, 0.7),
        "chest": placed(hips_y + 0.58 * rise, 0.3, 0.7),
        "neck": placed(neck_y, 0.36, neck_sure),
        "head": placed(head_y, 0.42, neck_sure),
        "crown": (crown, 0.9),
    }


def _landmarks(body: StandingBody, points: FloatArray, triangles: IntArray, found: Found) -> Found:
    """Chin, crotch and heels: what one sees on a body, and what joints follow from."""
    h, cell = body.height, body.solid.cell
    hips, head, crown = (found[n][0] for n in ("hips", "head", "crown"))
    result: Found = {"crotch": (np.array([body.middle, body.crotch + cell, hips[2]]), min(body.crotch_sure, 0.85))}
    for s, sign in (("l", 1), ("r", -1)):
        ankle, sure = found[f"{s}_ankle"]
        leg = body.solid.centres(np.argwhere(body.legs & body.aside(sign)[:, None, None]))
        near = leg[(leg[:, 1] < max(float(ankle[1]), 2.5 * cell)) & (np.abs(leg[:, 0] - ankle[0]) < 0.06 * h)]
        back = float(near[:, 2].min()) - cell / 2 if len(near) else float(ankle[2]) - 0.03 * h
        result[f"{s}_heel"] = (np.array([ankle[0], 0.01 * h, back + 0.01 * h]), sure if len(near) else 0.3)
    # The chin is read from the profile of what lies over the neck.
    neck = found["neck"][0]
    chin = chin_of(points, triangles, float(neck[1]), float(crown[1]), body.middle)
    if chin is None:
        result["chin"] = (np.array([body.middle, head[1] - 0.01 * h, head[2] + 0.06 * h]), 0.3)
    else:
        result["chin"] = chin
    return result


def _seen(points: FloatArray, triangles: IntArray, found: Found) -> int:
    """How many fingers the hands show: what one shows and the other hides counts."""
    shown = [len(finger_tips(points, triangles, found[f"{s}_wrist"][0], found[f"{s}_palm"][0])) for s in ("l", "r")]
    return max(shown) if max(shown) >= 2 else 5


def _finger_pegs(points: FloatArray, triangles: IntArray, found: Found, s: str, fingers: int) -> Found:
    wrist, palm = found[f"{s}_wrist"][0], found[f"{s}_palm"][0]
    placed = find_fingers(points, triangles, wrist, palm, names=finger_names(fingers))
    return {f"{s}_{name}_{end}": (place, f.sure) for name, f in placed.items() for end, place in f.pegs.items()}


def _toe_pegs(points: FloatArray, triangles: IntArray, found: Found) -> Found:
    """Pegs of single toes, as many on both feet as one of them shows; none where neither does."""
    feet = {}
    for s, outward in (("l", 1.0), ("r", -1.0)):
        ankle, ball, toe = (found[f"{s}_{n}"][0] for n in ("ankle", "ball", "toe"))
        feet[s] = find_toes(points, triangles, ankle, ball, toe, outward=outward)
    count = max(len(feet["l"]), len(feet["r"]))
    if count < 2:
        return {}
    result: Found = {}
    for s, other in (("l", "r"), ("r", "l")):
        if len(feet[s]) < count:
            # Of a foot that shows fewer they stand as on the other one, about its own ball.
            there, here = found[f"{other}_ball"][0], found[f"{s}_ball"][0]
            across = [[here + (p - there) * [-1.0, 1.0, 1.0] for p in toe[:2]] for toe in feet[other]]
            feet[s] = [(base, tip, GUESS) for base, tip in across]
    for k, name in enumerate(toe_names(count)):
        for s in "lr":
            base, tip, sure = feet[s][k]
            result |= {f"{s}_{name}_toe_base": (base, sure), f"{s}_{name}_toe_tip": (tip, sure)}
    return result
