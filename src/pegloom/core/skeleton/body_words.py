"""The parts of a body in words: what chains and their bones are called, and what a person may say a joint is."""

from __future__ import annotations

from collections.abc import Mapping

NOTHING = "-"
"""Said of a joint that is no part of a limb or of the trunk."""
SIDES = {"l": "left", "r": "right"}
LIMBS: Mapping[str, Mapping[str, str]] = {
    "arm": {"clavicle": "collarbone", "upper": "upper arm", "lower": "forearm", "end": "hand"},
    "leg": {"hip": "hip", "upper": "thigh", "lower": "shin", "end": "foot", "toes": "toes"},
    "foreleg": {"blade": "blade", "upper": "upper foreleg", "lower": "lower foreleg", "end": "forefoot", "toes": "toes"},
    "wing": {"clavicle": "wing root", "upper": "upper wing", "lower": "lower wing", "end": "wing's hand"},
}
MIDDLE = {
    "spine.hips": "hips", "spine.spine": "spine", "spine.chest": "chest", "spine.neck": "neck", "spine.head": "head",
    "tail.1": "tail's root",
}  # fmt: skip
CHAINS = {
    "spine": "trunk and head", "neck": "neck", "tail": "tail", "body": "body", "rope": "rope", "snout": "snout",
}  # fmt: skip


def choices() -> dict[str, str]:
    """What a person may say a joint is: role -> words, "left thigh"."""
    found = dict(MIDDLE)
    for kind, bones in LIMBS.items():
        for side, word in SIDES.items():
            found |= {f"{kind}.{side}.{bone}": f"{word} {title}" for bone, title in bones.items()}
    return found


def limbs() -> dict[str, str]:
    """What a person may say a chain is: `arm.l` -> "left arm"."""
    return {f"{kind}.{side}": f"{word} {kind}" for kind in LIMBS for side, word in SIDES.items()}


def other_side(role: str) -> str | None:
    """The role across the middle, or None for one of the middle."""
    kind, *rest = role.split(".")
    if not rest or rest[0] not in SIDES:
        return None
    return ".".join([kind, "r" if rest[0] == "l" else "l", *rest[1:]])


def chain_title(chain: str) -> str:
    """A chain in words: leg.l -> left leg, leg2.r -> right leg 2, hand.l -> left hand."""
    kind, _, side = chain.partition(".")
    name = kind.rstrip("0123456789")
    number = kind[len(name) :]
    if side:
        return f"{SIDES.get(side, side)} {name}{f' {number}' if number else ''}"
    return CHAINS.get(kind, kind)


def chains(joint_of: Mapping[str, str]) -> dict[str, tuple[str, ...]]:
    """Chains that were recognised -> their joints' ids, in the order of their roles. joint_of : id by role."""
    found: dict[str, list[str]] = {}
    for role, joint in joint_of.items():
        kind, *rest = role.split(".")
        if not rest or (kind.rstrip("0123456789") not in {*LIMBS, "hand"} and kind not in CHAINS):
            continue
        found.setdefault(f"{kind}.{rest[0]}" if rest[0] in SIDES else kind, []).append(joint)
    return {chain: tuple(joints) for chain, joints in found.items()}
