"""Limbs of a skeleton that came from elsewhere, told by what its joints are called and how they hang together."""

from __future__ import annotations

import re

from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton, side_of_name
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.names import words_of

ENDS = {
    "arm": re.compile(r"(?<![a-z])(hand|wrist|palm)(?![a-z])"),
    "leg": re.compile(r"(?<![a-z])(foot|ankle|paw|hoof)(?![a-z])"),
}
SKIP = re.compile(r"twist|roll|helper|_end$|\bend\b")
FINGER = re.compile(r"thumb|index|middle|ring|little|pinky|finger|toe|ball")


LIMBS = re.compile(r"(arm|leg\d*|foreleg)\.([lr])\.end")


def guess_kits(skeleton: Skeleton) -> tuple[Kit, ...]:
    """Arms and legs of a foreign skeleton, as kits with IK: told by where they are, else by what they are called.

    What is not sure is left out.
    """
    by_place = _limbs_by_place(skeleton)
    taken = {joint for kit in by_place for joint in kit.ik}
    return (*by_place, *(kit for kit in _limbs_by_name(skeleton) if not taken & set(kit.ik)))


def _limbs_by_place(skeleton: Skeleton) -> tuple[Kit, ...]:
    body = body_of(skeleton)
    kits = []
    for end in body.joint_of:
        found = LIMBS.fullmatch(end)
        stem = end.rpartition(".")[0]
        if found is None or any(f"{stem}.{bone}" not in body.joint_of for bone in ("upper", "lower")):
            continue
        ids = tuple(body.joint_of[f"{stem}.{bone}"] for bone in ("upper", "lower", "end"))
        if not all(skeleton.joint(joint).origin is Origin.FILE for joint in ids):
            continue
        kind = "arm" if found[1] == "arm" else "leg"
        side = Side.LEFT if found[2] == "l" else Side.RIGHT
        kits.append(_kit(skeleton, stem, kind, side, ids, "front" if found[1].startswith("leg") else "back"))
    return tuple(kits)


def _kit(skeleton: Skeleton, kit_id: str, kind: str, side: Side, ids: tuple[str, ...], bend: str) -> Kit:
    joints = [skeleton.joint(j) for j in ids]
    return Kit(
        kit_id, kind, side, joints[0].parent or "", (), ids, tuple(j.name for j in joints), (0.0, 1.0, 2.0), bend,
        (0, 1, 2), ids, "hand" if kind == "arm" else "foot", "elbow" if kind == "arm" else "knee", kind == "leg",
        part=kind,
    )  # fmt: skip


def _limbs_by_name(skeleton: Skeleton) -> tuple[Kit, ...]:
    found: dict[str, Kit] = {}
    foreign = [j for j in skeleton.joints if j.origin is Origin.FILE]
    for joint in foreign or skeleton.joints:
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
            found[kit_id] = _kit(skeleton, kit_id, kind, side, ids, "back" if kind == "arm" else "front")
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
