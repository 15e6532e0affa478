"""The parts of a body as chains of joints, the same for any skeleton: what motion is carried over by."""

from __future__ import annotations

import re
from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import frame
from pegloom.core.memo import by_identity
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.body_words import CHAINS, SIDES, chain_title
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skeleton.kits import FINGERS

LIMBS = {"arm": "shoulder", "wing": "wing_root", "leg": "hip", "foreleg": "blade"}
"""Limbs, and what the joint before one is called as a part."""
FIRST = ("clavicle", "hip", "blade")
BONES = ("upper", "lower", "end", "toes")
RUNS = ("tail", "snout", "rope", "body")
TITLES = {"trunk": "trunk", "rear": "loins", "neck": "neck", "head": "head", "wing_root": "wing's root", "blade": "shoulder blade"}
NECK = re.compile(r"neck\.\d+|spine\.(neck|throat)")


@by_identity
def parts_of(skeleton: Skeleton) -> Mapping[str, tuple[str, ...]]:
    """Chains of joint ids by part, base first: `trunk`, `neck`, `head`, `shoulder.l`, `arm.l` (upper, lower, hand),
    `leg.r` (thigh, shin, foot, toes), `foreleg.l`, `index.l`, `tail`... Only what is recognised; ends of bones are left out.
    """
    body = body_of(skeleton)
    role_of = {joint: role for joint, role in body.role_of.items() if not skeleton.joint(joint).aside}
    at = {role: joint for joint, role in role_of.items()}
    found: dict[str, tuple[str, ...]] = {}
    hips, chest, head = (at.get(f"spine.{name}") for name in ("hips", "chest", "head"))
    base = at.get("spine.body", hips)
    if base is not None:
        found["trunk"] = _spine(skeleton, role_of, base, chest) or (base,)
        if "spine.body" in at:
            rear = [at[f"spine.rear{k}"] for k in range(9, 0, -1) if f"spine.rear{k}" in at]
            if rear:
                found["rear"] = tuple(reversed(rear))
    elif chest is not None:
        found["trunk"] = (chest,)
    if head is not None:
        neck = [j for j in _above(skeleton, head) if NECK.fullmatch(role_of.get(j, ""))]
        if neck:
            found["neck"] = tuple(reversed(neck))
        found["head"] = (head,)
    for kind in sorted({role.split(".")[0] for role in at if role.split(".")[0].rstrip("0123456789") in LIMBS}):
        for side in SIDES:
            limb = [at[f"{kind}.{side}.{bone}"] for bone in BONES if f"{kind}.{side}.{bone}" in at]
            if len(limb) >= 2:
                found[f"{kind}.{side}"] = tuple(limb)
            before = next((at[f"{kind}.{side}.{name}"] for name in FIRST if f"{kind}.{side}.{name}" in at), None)
            if before is not None:
                number = kind[len(kind.rstrip("0123456789")) :]
                found[f"{LIMBS[kind.rstrip('0123456789')]}{number}.{side}"] = (before,)
    for side in SIDES:
        for finger in ("thumb", *FINGERS):
            run = _run(at, f"hand.{side}.{finger}")
            if run:
                found[f"{finger}.{side}"] = run
    for run_name in RUNS:
        run = _run(at, run_name)
        if run:
            found[run_name] = run
    return MappingProxyType(found)


def _run(at: Mapping[str, str], stem: str) -> tuple[str, ...]:
    found: list[str] = []
    while f"{stem}.{len(found) + 1}" in at:
        found.append(at[f"{stem}.{len(found) + 1}"])
    return tuple(found)


def _above(skeleton: Skeleton, joint: str) -> list[str]:
    """What a joint hangs on, nearest first."""
    found, here = [], skeleton.joint(joint).parent
    while here is not None:
        found.append(here)
        here = skeleton.joint(here).parent
    return found


def _spine(skeleton: Skeleton, role_of: Mapping[str, str], hips: str, chest: str | None) -> tuple[str, ...]:
    """The spine's joints from the hips to the chest; empty where one does not hang on the other."""
    if chest is None or chest == hips:
        return (hips,)
    way = [chest, *_above(skeleton, chest)]
    if hips not in way:
        return (hips, chest)
    way = way[: way.index(hips) + 1]
    kept = [j for j in way if j in (hips, chest) or role_of.get(j, "").startswith("spine.")]
    return tuple(reversed(kept))


def part_title(part: str) -> str:
    """A part in words: left arm, right index finger, trunk."""
    kind, _, side = part.partition(".")
    name = kind.rstrip("0123456789")
    words = f"{name} finger" if name in FINGERS else TITLES.get(name, name)
    if name == "as":
        return side
    if side in SIDES:
        return f"{SIDES[side]} {words}{f' {kind[len(name):]}' if kind != name else ''}"
    return words if kind in TITLES or kind not in CHAINS else chain_title(kind)


def kind_of(part: str) -> str:
    """A part without its side and number: arm, leg, trunk, finger."""
    kind = part.partition(".")[0].rstrip("0123456789")
    return "finger" if kind in FINGERS or kind == "thumb" else kind


def other_part(part: str) -> str | None:
    """The part across the middle; None for one of the middle."""
    stem, _, side = part.rpartition(".")
    return f"{stem}.{'r' if side == 'l' else 'l'}" if side in SIDES and stem else None


@by_identity
def frames_of(skeleton: Skeleton) -> Mapping[str, FloatArray]:
    """Axes (3, 3) of each joint's bone at rest by id, the same in every body: y down the bone, x the axis it folds about."""
    body = body_of(skeleton)
    found = {}
    for joint, matrix in zip(body.skeleton.joints, body.skeleton.world, strict=True):
        found[body.joint_of.get(joint.id, joint.id)] = matrix[:3, :3]
    at = skeleton.positions
    for part, chain in parts_of(skeleton).items():
        if kind_of(part) not in LIMBS:
            continue
        for a, b in zip(chain, chain[1:], strict=False):
            bone = at[skeleton.index[b]] - at[skeleton.index[a]]
            if np.linalg.norm(bone) > 1e-9:
                found[a] = frame(bone, found[a][:, 0])
    return MappingProxyType(found)
