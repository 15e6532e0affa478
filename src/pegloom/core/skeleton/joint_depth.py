"""Proper depth of joints no peg stands for: drawn by hand, or brought by a file.

What a joint is in the body (body.py) says which landmark's rule it follows; one of no known part belongs in the middle
of the cut across its chain. The rules themselves, and what counts as sound, are those of pegs (depth.py).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.depth import DepthMove, depth_moves, has_rule
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.pegs import Peg, PegSet

LIMBS: Mapping[str, tuple[str, tuple[tuple[str, str], ...]]] = {
    "arm": ("back", (("clavicle", "clavicle"), ("upper", "shoulder"), ("lower", "elbow"), ("end", "wrist"))),
    "wing": ("back", (("clavicle", "clavicle"), ("upper", "shoulder"), ("lower", "elbow"), ("end", "wrist"))),
    "foreleg": (
        "back",
        (("blade", "blade"), ("upper", "shoulder"), ("lower", "elbow"), ("end", "wrist"), ("toes", "fore_paw")),
    ),
    "leg": ("front", (("upper", "hip"), ("lower", "knee"), ("end", "ankle"), ("toes", "ball"))),
}
"""Of each limb: the way its middle points when it folds, and the landmark each of its joints stands at."""
ABOVE = "_above"
TRUNK = {"spine.hips": "hips", "spine.chest": "chest", "spine.neck": "neck", "spine.head": "head"}


def joint_depth_moves(
    points: FloatArray, triangles: IntArray, skeleton: Skeleton, joints: Iterable[str]
) -> tuple[DepthMove, ...]:
    """Which of some joints stand outside, or far from their proper depth, and where they belong; the farthest first.

    points (n, 3), triangles (t, 3) of the body. Moves name joints by their ids. A limb's bend is kept.
    """
    wanted = set(joints)
    pegs, joint_of = _as_pegs(skeleton, wanted)
    names = tuple(peg for peg, joint in joint_of.items() if joint in wanted and _belongs(pegs, peg, skeleton.joint(joint)))
    if not names:
        return ()
    moves = depth_moves(points, triangles, pegs, names=names)
    return tuple(replace(move, peg=joint_of[move.peg]) for move in moves)


def _belongs(pegs: PegSet, peg: str, joint: Joint) -> bool:
    """Of joints from a file only those of a known part: ends, helpers and hinges stand where their maker put them."""
    return joint.origin is Origin.OWN or has_rule(pegs, peg)


def _as_pegs(skeleton: Skeleton, wanted: set[str]) -> tuple[PegSet, dict[str, str]]:
    """The joints as pegs of the pattern their body is nearest to, chain by chain; and the joint of each peg."""
    body = body_of(skeleton)
    four = "foreleg.l.upper" in body.joint_of or "foreleg.r.upper" in body.joint_of
    winged = any(role.startswith("wing.") for role in body.joint_of)
    pattern = "four-legged" if four else "winged" if winged else "human"
    joint_of: dict[str, str] = {}
    pegs: list[Peg] = []
    kits: list[Kit] = []

    def add(
        kit_id: str, chain: list[tuple[str, str]], side: Side, bend: str, fold: tuple[int, ...], onward: str = ""
    ) -> None:
        names = [name for name, _ in chain]
        for name, joint in chain:
            if not name.endswith(ABOVE):
                joint_of[name] = joint
            pegs.append(Peg(name, skeleton.joint(joint).position))
        last = skeleton.joint(chain[-1][1])
        end = skeleton.joint(onward).position if onward else _end_of(skeleton, last)
        if end is not None:
            names.append(f"{names[-1]}_end")
            pegs.append(Peg(names[-1], end))
        kits.append(Kit(kit_id, kit_id, side, "", tuple(names), (), (), (), bend, fold))

    used: set[str] = set()
    for kind, (bend, parts) in LIMBS.items():
        for s, side in (("l", Side.LEFT), ("r", Side.RIGHT)):
            chain = [
                (f"{s}_{_landmark(name, kind, four or winged)}", body.joint_of[f"{kind}.{s}.{bone}"])
                for bone, name in parts
                if f"{kind}.{s}.{bone}" in body.joint_of
            ]
            if len(chain) < 2:
                continue
            names = [name for name, _ in chain]
            fold = tuple(names.index(n) for n in names[-4:-1]) if kind == "foreleg" and len(names) > 3 else ()
            start = 1 if len(names) > 3 and kind in ("arm", "wing") else 0
            fold = fold or tuple(range(start, start + 3)) * (len(names) >= start + 3)
            add(f"{kind}.{s}", chain, side, bend, fold)
            used |= {joint for _, joint in chain}
    trunk = _trunk(skeleton, body.joint_of, four or winged)
    if len(trunk) > 1:
        add("spine", trunk, Side.CENTRE, "level", (), body.joint_of.get("neck.1", "") if four or winged else "")
        used |= {joint for _, joint in trunk}
    for joint in skeleton.joints:
        if joint.id in wanted and joint.id not in used and joint.origin is Origin.OWN:
            run = _own_chain(skeleton, joint)
            mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(joint.side, "")
            at = [(f"{mark}{joint.id}" if c is joint else f"{mark}{joint.id}{ABOVE}", c.id) for c in run]
            add(joint.id, at, joint.side, "level", ())
    return PegSet(pattern, 0, tuple(pegs), tuple(kits)), joint_of


def _landmark(name: str, kind: str, animal: bool) -> str:
    """An animal's leg has its hock where a human's ankle is counted."""
    return {"ankle": "hock", "ball": "paw"}.get(name, name) if animal and kind == "leg" else name


def _trunk(skeleton: Skeleton, joint_of: Mapping[str, str], animal: bool) -> list[tuple[str, str]]:
    """Hips to head along the middle, each by the landmark whose rule it follows."""
    between = "back" if animal else "waist"
    found = []
    for role, joint in joint_of.items():
        if role in TRUNK and not (animal and role in ("spine.neck", "spine.head")):
            found.append((TRUNK[role], joint))
        elif role.startswith("spine.spine"):
            found.append((between + role.removeprefix("spine.spine"), joint))
    depth = {j.id: i for i, j in enumerate(skeleton.joints)}
    found.sort(key=lambda row: depth[row[1]])
    return found


def _own_chain(skeleton: Skeleton, joint: Joint) -> list[Joint]:
    """A drawn joint and the one it hangs on, if they make a chain: a limb that sets off from a trunk has no such."""
    if joint.parent is None or skeleton.joint(joint.parent).origin is not Origin.OWN:
        return [joint]
    return [skeleton.joint(joint.parent), joint]


def _end_of(skeleton: Skeleton, joint: Joint) -> tuple[float, float, float] | None:
    children = [c for c in skeleton.children(joint.id) if not c.floating]
    if len(children) == 1:
        return children[0].position
    if joint.tail is not None:
        return joint.tail
    if children:
        x, y, z = np.mean([c.position for c in children], axis=0).tolist()
        return (x, y, z)
    return None
