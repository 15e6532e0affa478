"""Single toes hung on a foot: how many the mesh shows there, and where their pegs go."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.skeleton.find.toes import GUESS, Toe, find_toes
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.kits import Kit, toe_kit, toe_names
from pegloom.core.skeleton.pegs import Peg
from pegloom.document.edits.hands import ALIKE, Body, make_alike

FOOT_LONG, FOOT_WIDE = 0.16, 0.05
"""How far before a joint, and how far aside of its line, skin is still its foot's, in shares of the height."""
BALL_BEFORE = 0.07
"""How far the tip of the foot is at most from the ball, in shares of the height; a joint farther off is the ankle."""
BALL_AT = 0.62
"""Where the ball is on the way from the ankle to the tip of the foot."""
ROW, LONG = 0.7, 0.8
"""How wide the row of guessed toes is and how far they reach, in shares of the way from the ball to the tip of the foot."""

Placed = tuple[list[Kit], dict[str, Peg]]


def toes_on(
    body: Body, skeleton: Skeleton, joint: Joint, sides: list[str], own: str, count: int | None, taken: frozenset[str]
) -> list[Placed]:
    """Toes for a foot and, where it is asked for, for the one across: each foot's kits and where its pegs go.

    As many as `count`, else as the mesh shows at either foot, five weak guesses where it shows none.

    body : the skin's points (n, 3) and triangles (t, 3), its height and x of its middle, metres. taken : names of pegs.
    Raises EditError for a joint that says no way ahead, ShapeError for a count no foot has.
    """
    points, triangles, height, middle = body
    feet = {}
    for s in sides:
        mine = s in ("", "l" if joint.side is Side.LEFT else "r") or joint.side is Side.CENTRE
        hung = joint if mine else skeleton.joint(skeleton.other_side(joint.id) or joint.id)
        feet[s or "l"] = (hung, *_foot_before(body, skeleton, hung))
    found = {
        s: find_toes(points, triangles, ankle, ball, tip, outward=1.0 if s == "l" else -1.0)
        for s, (_, ankle, ball, tip) in feet.items()
    }
    if count is None:
        count = min(max(len(toes) for toes in found.values()), 5) or 5
    names = toe_names(count)
    result: list[Placed] = []
    for s, (hung, _, ball, tip) in feet.items():
        toes = found[s] if len(found[s]) == count else _in_a_row(ball, tip, count, 1.0 if s == "l" else -1.0)
        prefix = f"{own}_" if any(f"{s}_{toe}_toe_base" in taken for toe in names) else ""
        kits = [toe_kit(f"{own}.{s}.{toe}", s, hung.id, toe, prefix=prefix) for toe in names]
        placed = {}
        for kit, (base, end, sure) in zip(kits, toes, strict=True):
            for peg, place in zip(kit.pegs, (base, end), strict=True):
                x, y, z = (float(v) for v in place)
                placed[peg] = Peg(peg, (x, y, z), sure)
        result.append((kits, placed))
    if len(result) == 2:
        make_alike(result[0][1], result[1][1], middle, ALIKE * height)
    return result


def _in_a_row(ball: FloatArray, tip: FloatArray, count: int, outward: float) -> list[Toe]:
    """Toes side by side where the mesh does not show them."""
    ahead = (tip - ball) * [1.0, 0.0, 1.0]
    across = np.array([abs(ahead[2]), 0.0, -ahead[0] * outward]) * outward
    shares = np.linspace(-0.5, 0.5, count) * ROW
    return [(ball + share * across, ball + share * across + LONG * ahead, GUESS) for share in shares]


def _foot_before(body: Body, skeleton: Skeleton, joint: Joint) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Ankle, ball and tip (3,) of the foot a joint is in, which is one of the first two."""
    points, _, height, _ = body
    here = np.array(joint.position)
    above = None if joint.parent is None else np.array(skeleton.joint(joint.parent).position)
    ways = [np.array(joint.tail) - here if joint.tail is not None else None, here - above if above is not None else None]
    ways += [np.array(skeleton.joint(j.id).position) - here for j in skeleton.joints if j.parent == joint.id]
    level = [w * [1.0, 0.0, 1.0] for w in ways if w is not None]
    way = max(level, key=lambda w: float(np.linalg.norm(w)), default=None)
    if way is None or np.linalg.norm(way) < 1e-3 * height:
        raise EditError(f"{joint.name} says no way ahead a foot could have; pick a foot, or the joint at its ball")
    ahead = way / np.linalg.norm(way)
    away = (points - here) * [1.0, 0.0, 1.0]
    along = away @ ahead
    aside = np.linalg.norm(away - along[:, None] * ahead, axis=1)
    near = (along > 0) & (along < FOOT_LONG * height) & (aside < FOOT_WIDE * height)
    near &= points[:, 1] < here[1] + 0.02 * height
    front = float(along[near].max()) if near.any() else 0.1 * height
    low = float(points[near, 1].min()) if near.any() else float(here[1])
    tip = here + front * ahead
    tip[1] = low + 0.4 * max(float(here[1]) - low, 0.0)
    if front > BALL_BEFORE * height:
        ball = here + BALL_AT * (tip - here)
        return here, ball, tip
    return here if above is None else above, here, tip
