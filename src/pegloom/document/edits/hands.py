"""Fingers hung on a wrist: how many the mesh shows there, and where their pegs go."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.skeleton.find.hand import find_fingers, finger_tips
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.kits import Kit, finger_kit, finger_names
from pegloom.core.skeleton.pegs import Peg

Body = tuple[FloatArray, IntArray, float, float]
HAND_LONG, HAND_WIDE = 0.2, 0.07
"""How far before a wrist, and how far aside of its line, skin is still a hand's, in shares of the height."""
ALIKE = 0.012
"""How far from mirrored two hands' pegs may lie to be made so, in shares of the height."""


def hands_on(
    body: Body, skeleton: Skeleton, joint: Joint, sides: list[str], own: str, count: int | None, taken: frozenset[str]
) -> list[tuple[list[Kit], dict[str, Peg]]]:
    """Fingers for a wrist and, where it is asked for, for the one across: each hand's kits and where its pegs go.

    As many as `count`, else as the mesh shows at either hand, five weak guesses where it shows none.

    body : the skin's points (n, 3) and triangles (t, 3), its height and x of its middle, metres. taken : names of pegs.
    Raises EditError for a joint that says no direction.
    """
    wrists = {}
    for s in sides:
        mine = s in ("", "l" if joint.side is Side.LEFT else "r") or joint.side is Side.CENTRE
        hung = joint if mine else skeleton.joint(skeleton.other_side(joint.id) or joint.id)
        wrists[s or "l"] = (hung, *_palm_before(body, skeleton, hung))
    points, triangles, height, middle = body
    if count is None:
        seen = [len(finger_tips(points, triangles, wrist, palm)) for _, wrist, palm in wrists.values()]
        count = min(max(seen), 5) if max(seen, default=0) >= 2 else 5
    names = finger_names(count)
    found = {s: find_fingers(points, triangles, wrist, palm, names=names) for s, (_, wrist, palm) in wrists.items()}
    bends = {finger for hand in found.values() for finger in names if hand[finger].bent}
    result = []
    for s, (hung, _, _) in wrists.items():
        prefix = f"{own}_" if any(f"{s}_{finger}_base" in taken for finger in names) else ""
        kits = [
            finger_kit(f"{own}.{s}.{finger}", s, hung.id, finger, prefix=prefix, bent=finger in bends) for finger in names
        ]
        placed = {}
        for finger, kit in zip(names, kits, strict=True):
            places = found[s][finger].pegs
            for peg in kit.pegs:
                x, y, z = (float(v) for v in places[peg.rpartition("_")[2]])
                placed[peg] = Peg(peg, (x, y, z), found[s][finger].sure)
        result.append((kits, placed))
    if len(result) == 2:
        make_alike(result[0][1], result[1][1], middle, ALIKE * height)
    return [hand for hand in result if hand[0]]


def make_alike(left: dict[str, Peg], right: dict[str, Peg], middle: float, most: float) -> None:
    """Pegs of two hands, or feet, that lie nearly mirrored made exactly so."""
    for name, peg in left.items():
        twin = f"r_{name[2:]}"
        here, there = np.array(peg.position), np.array(right[twin].position) * [-1, 1, 1] + [2 * middle, 0, 0]
        if np.linalg.norm(here - there) < most:
            x, y, z = (float(v) for v in (here + there) / 2)
            left[name], right[twin] = replace(peg, position=(x, y, z)), replace(right[twin], position=(2 * middle - x, y, z))


def _palm_before(body: Body, skeleton: Skeleton, joint: Joint) -> tuple[FloatArray, FloatArray]:
    """A wrist's place and about where the knuckles are (3,): half way to where the skin before it ends."""
    wrist = np.array(joint.position)
    way = None if joint.tail is None else np.array(joint.tail) - wrist
    if (way is None or np.linalg.norm(way) < 1e-9) and joint.parent is not None:
        way = wrist - np.array(skeleton.joint(joint.parent).position)
    if way is None or np.linalg.norm(way) < 1e-9:
        raise EditError(f"{joint.name} says no direction a hand could have; pick a wrist that hangs on a forearm")
    ahead = way / np.linalg.norm(way)
    points, _, height, _ = body
    away = points - wrist
    along = away @ ahead
    aside = np.linalg.norm(away - along[:, None] * ahead, axis=1)
    near = (along > 0) & (along < HAND_LONG * height) & (aside < HAND_WIDE * height)
    length = float(along[near].max()) if near.any() else 0.5 * HAND_LONG * height
    return wrist, wrist + 0.5 * length * ahead
