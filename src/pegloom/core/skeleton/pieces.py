"""Joints of a file in pieces, each with a root of its own, told as one tree by where they stand."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton
from pegloom.core.skeleton.names import words_of

SAME_PLACE = 1e-4
"""Share of the skeleton's size: a joint so near its parent is the same place under another name."""
ON_LINE = 0.05
"""Share of a bone's length a joint between its ends may lie off it."""
TWISTS = re.compile(r"twist|roll")
ASIDE = 0.02
"""How far from the middle a joint is no longer of the trunk, as a share of the skeleton's largest extent; nearer ones
are when they have a twin across."""
CARRIED = 0.25
"""How far, as a share of the extent, all that hangs on a root must stand from it for it only to carry them."""
LEAST_PIECE = 2
"""Joints a piece with a root of its own must have to be hung on the body; fewer mark a place."""


def _in_order(joints: list[Joint]) -> list[Joint]:
    """Parents before what hangs on them, else as they were."""
    below: dict[str | None, list[Joint]] = {}
    for joint in joints:
        below.setdefault(joint.parent, []).append(joint)
    found: list[Joint] = []
    waiting = list(reversed(below.get(None, [])))
    while waiting:
        joint = waiting.pop()
        found.append(joint)
        waiting += reversed(below.get(joint.id, []))
    return found


def one_tree(joints: list[Joint]) -> list[Joint]:
    """Joints whose pieces hang on each other by where they stand: each on the nearest joint of the middle; parents first."""
    if not joints:
        return joints
    at = {j.id: np.array(j.position) for j in joints}
    places = np.array(list(at.values()))
    size, middle = float(np.ptp(places, axis=0).max()), float(np.median(places[:, 0]))
    parent = {j.id: j.parent for j in joints}
    below: dict[str | None, list[str]] = {}
    for joint in joints:
        below.setdefault(joint.parent, []).append(joint.id)

    def piece(top: str) -> list[str]:
        found, waiting = [], [top]
        while waiting:
            here = waiting.pop()
            found.append(here)
            waiting += below.get(here, [])
        return found

    tops = list(below.get(None, []))
    for top in list(tops):
        # A root that only carries: all that hangs on it stands far away.
        held = below.get(top, [])
        if len(held) > 1 and all(np.linalg.norm(at[c] - at[top]) > CARRIED * size for c in held):
            tops.remove(top)
            tops += held
    pieces = {top: piece(top) for top in tops}
    pieces = {top: ids for top, ids in pieces.items() if len(ids) >= LEAST_PIECE}
    if len(pieces) < 2:
        return _in_order(joints)

    def central(j: str) -> bool:
        return abs(float(at[j][0]) - middle) <= ASIDE * size

    # The trunk's piece is the one with a joint of the middle nearest to half the height, where hips are.
    heart = np.array([middle, float(places[:, 1].min()) + 0.55 * float(np.ptp(places[:, 1])), float(np.median(places[:, 2]))])
    trunk = min(pieces, key=lambda top: min((float(np.linalg.norm(at[j] - heart)) for j in pieces[top] if central(j)), default=np.inf))
    joined, left = list(pieces[trunk]), [top for top in pieces if top != trunk]
    while left:
        holds = [j for j in joined if central(j)] or joined
        gaps = [(float(np.linalg.norm(at[top] - at[j])), top, j) for top in left for j in holds]
        _, top, onto = min(gaps)
        parent[top] = onto
        left.remove(top)
        joined += pieces[top]
    return _in_order([replace(j, parent=parent[j.id]) for j in joints])


def passed_by(skeleton: Skeleton) -> set[str]:
    """Joints in the middle of a chain that are no joints of the body: at their parent's place, holding one limb, or called a
    twist or roll and lying on the bone."""
    size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-12) if skeleton.joints else 1.0
    below: dict[str, list[Joint]] = {}
    for joint in skeleton.joints:
        if joint.parent is not None:
            below.setdefault(joint.parent, []).append(joint)
    found = set()
    for joint in skeleton.joints:
        children = below.get(joint.id, [])
        if joint.origin is not Origin.FILE or joint.parent is None or len(children) != 1:
            continue
        here, above, end = (np.array(j.position) for j in (joint, skeleton.joint(joint.parent), children[0]))
        if np.linalg.norm(here - above) < SAME_PLACE * size:
            found.add(joint.id)
        elif TWISTS.search(words_of(joint.name)) and np.linalg.norm(end - above) > 1e-9:
            along = normalised(end - above)
            off = here - above - along * float((here - above) @ along)
            if np.linalg.norm(off) < ON_LINE * np.linalg.norm(end - above) and 0 < (here - above) @ along < np.linalg.norm(end - above):
                found.add(joint.id)
    return found
