"""Limbs of a skeleton that came from elsewhere, told by what its joints are called and how they hang together."""

from __future__ import annotations

import re

from pegloom.core.skeleton.joints import Joint, Side, Skeleton, side_of_name
from pegloom.core.skeleton.kits import Kit

ENDS = {
    "arm": re.compile(r"(?<![a-z])(hand|wrist|palm)(?![a-z])"),
    "leg": re.compile(r"(?<![a-z])(foot|ankle|paw|hoof)(?![a-z])"),
}
SKIP = re.compile(r"twist|roll|helper|_end$|\bend\b")
FINGER = re.compile(r"thumb|index|middle|ring|little|pinky|finger|toe|ball")
WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")


def words_of(name: str) -> str:
    """A joint's name as plain words: `mixer:LeftHandIndex1` -> `left hand index 1`."""
    return " ".join(WORDS.findall(name.rsplit(":", 1)[-1].replace("_", " ").replace(".", " "))).lower()


def guess_kits(skeleton: Skeleton) -> tuple[Kit, ...]:
    """Arms and legs found in a foreign skeleton, as kits with IK. What is not sure is left out."""
    found: dict[str, Kit] = {}
    for joint in skeleton.joints:
        words = words_of(joint.name)
        if FINGER.search(words) or SKIP.search(words):
            continue
        for kind, pattern in ENDS.items():
            if not pattern.search(words):
                continue
            chain = _above(skeleton, joint)
            if len(chain) < 3:
                continue
            side = joint.side if joint.side is not Side.CENTRE else side_of_name(joint.name)
            mark = {Side.LEFT: "l", Side.RIGHT: "r", Side.CENTRE: "c"}[side]
            kit_id, number = f"{kind}.{mark}", 2
            while kit_id in found:
                kit_id, number = f"{kind}{number}.{mark}", number + 1
            ids = tuple(j.id for j in reversed(chain))
            found[kit_id] = Kit(
                kit_id, kind, side, chain[-1].parent or "", (), ids, tuple(j.name for j in reversed(chain)),
                (0.0, 1.0, 2.0), "back" if kind == "arm" else "front", (0, 1, 2), ids,
                "hand" if kind == "arm" else "foot", "elbow" if kind == "arm" else "knee", kind == "leg", part=kind,
            )  # fmt: skip
    # A hand on a hand (a wrist above a palm) is one limb: the nearer end to the trunk wins.
    taken: set[str] = set()
    kept = []
    for kit in found.values():
        if not taken & set(kit.ik):
            taken |= set(kit.ik)
            kept.append(kit)
    return tuple(kept)


def _above(skeleton: Skeleton, joint: Joint) -> list[Joint]:
    """The joint, the one it hangs on, and the one above; twist joints passed by."""
    chain = [joint]
    here = joint.parent
    while here is not None and len(chain) < 3:
        above = skeleton.joint(here)
        if not SKIP.search(words_of(above.name)):
            chain.append(above)
        here = above.parent
    return chain
