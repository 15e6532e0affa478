"""Patterns: body plans as data. The shipped ones stand in assets/patterns; users write their own (files/patterns)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from typing import Any

import numpy as np

from pegloom.core.errors import ShapeError
from pegloom.core.skeleton.joints import Vector
from pegloom.core.skeleton.kits import FINGERS, Kit, kits_of
from pegloom.core.skeleton.pegs import Peg, PegSet

ORDER = ("human", "four-legged", "winged", "many-legged", "serpent", "flat", "hinge", "wheel", "piston", "rope", "face", "hand")


@dataclass(frozen=True, eq=False)
class Pattern:
    """A body plan.

    plans : its kits as data.
    places : where each peg stands before a mesh is there, in shares of the height; a sided peg once, for the left.
    say : where each goes, for a person.
    depth : its proper depth (see depth.py).
    """

    name: str
    title: str
    sentence: str
    finder: str
    plans: tuple[Mapping[str, Any], ...]
    places: Mapping[str, Vector]
    say: Mapping[str, str]
    depth: Mapping[str, tuple[str, float]]
    flat: bool = False

    def kits(self, *, fingers: int | None = None, pairs: int | None = None) -> tuple[Kit, ...]:
        """Its kits, with another number of fingers or pairs of legs if asked."""
        plans = self.plans
        if pairs is not None:
            plans = tuple(dict(p) | {"pairs": pairs} if p.get("kit") == "pairs" else p for p in plans)
        return kits_of(plans, fingers=fingers)


def pattern_from_data(data: Mapping[str, Any]) -> Pattern:
    """A pattern of parsed JSON. Raises ShapeError: what is missing or wrong."""
    try:
        places = {str(k): _vector(v) for k, v in dict(data.get("places", {})).items()}
        depth = {str(k): (str(v[0]), float(v[1])) for k, v in dict(data.get("depth", {})).items()}
        name = str(data["pattern"])
        plans = tuple(dict(p) for p in data["kits"])
        say = {str(k): str(v) for k, v in dict(data.get("say", {})).items()}
    except (KeyError, TypeError, ValueError, IndexError) as error:
        raise ShapeError(f"a pattern needs 'pattern', 'kits' and 'places' ({error})") from error
    result = Pattern(
        name, str(data.get("title", name)), str(data.get("sentence", "")), str(data.get("finder", "")), plans, places,
        say, depth, bool(data.get("flat", False)),
    )  # fmt: skip
    kits = result.kits()
    joints = {j for kit in kits for j in kit.joints}
    for kit in kits:
        if kit.attach and kit.attach not in joints:
            raise ShapeError(f"the kit {kit.id} hangs on {kit.attach}, which no kit makes")
    return result


def _vector(value: Any) -> Vector:
    x, y, z = (float(v) for v in value)
    if not np.isfinite([x, y, z]).all():
        raise ValueError("a place is not a number")
    return x, y, z


@lru_cache(maxsize=1)
def shipped_patterns() -> Mapping[str, Pattern]:
    """The patterns that come with the program, by name, in the order to offer them."""
    folder = resources.files("pegloom.assets") / "patterns"
    return {name: pattern_from_data(json.loads((folder / f"{name}.json").read_text())) for name in ORDER}


@lru_cache(maxsize=1)
def kit_library() -> Mapping[str, Mapping[str, Any]]:
    """Kits that can be added to any character, by kind."""
    text = (resources.files("pegloom.assets") / "patterns" / "kits.json").read_text()
    return {entry["kit"]: entry for entry in json.loads(text)["kits"]}


def pattern(name: str) -> Pattern:
    """A shipped pattern. Raises ShapeError listing the known ones."""
    found = shipped_patterns().get(name)
    if found is None:
        raise ShapeError(f"there is no pattern {name}; known are {', '.join(shipped_patterns())}")
    return found


def bare(peg: str) -> str:
    """A peg's name without its side and its leg's number."""
    base = peg[2:] if peg[:2] in ("l_", "r_") else peg
    head, _, rest = base.partition("_")
    return rest if head.startswith("leg") and head[3:].isdigit() else base


KNUCKLES = {
    "base": "In the knuckle of the {0}, on the {1} side of the crease.",
    "bend": "In the second knuckle of the {0}, which is bent as it stands.",
    "tip": "At the tip of the {0}.",
}
"""Where a finger's and a toe's pegs go, for a person, by how they end."""


def sentence(peg: str, pattern_name: str = "human") -> str:
    """Where a peg goes, for a person."""
    base = bare(peg)
    part, _, end = base.rpartition("_")
    known_parts = part.split("_")[-1] in (*FINGERS, "mitten", "toe")
    if known_parts and end in KNUCKLES:
        toe = part.endswith("toe")
        return KNUCKLES[end].format(part.replace("_", " "), "heel's" if toe else "wrist's")
    known = shipped_patterns().get(pattern_name)
    if known is not None and base in known.say:
        return known.say[base]
    stem, _, place = base.rpartition("_")
    words = {"base": "At the root", "hinge": "On the hinge", "tip": "At the tip", "middle": "Half way along"}
    return f"{words.get(place, f'At the {place}')} of the {stem.replace('_', ' ') or 'part'}."


def free_pegs(
    plan: Pattern, *, height: float = 1.0, fingers: int = 5, pairs: int | None = None, confidence: float = 0.2
) -> PegSet:
    """The pattern's pegs at their usual places, for a body without a mesh."""
    kits = plan.kits(fingers=fingers, pairs=pairs)
    pegs = [Peg(name, usual_place(plan, kits, name, height), confidence) for name in peg_order(kits)]
    return PegSet(plan.name, fingers, tuple(pegs), kits)


def peg_order(kits: tuple[Kit, ...]) -> tuple[str, ...]:
    """Every peg once: the middle's first, then left and right together."""
    names = list(dict.fromkeys(p for kit in kits for p in kit.pegs))
    centre = [n for n in names if n[:2] not in ("l_", "r_")]
    sided = [n for n in names if n[:2] == "l_"]
    rest = [n for n in names if n[:2] == "r_" and "l_" + n[2:] not in sided]
    return (*centre, *(f"{s}_{n[2:]}" for n in sided for s in ("l", "r") if f"{s}_{n[2:]}" in names), *rest)


def usual_place(plan: Pattern, kits: tuple[Kit, ...], peg: str, height: float) -> Vector:
    """Where a peg stands before anybody placed it."""
    sign = -1.0 if peg.startswith("r_") else 1.0
    base = bare(peg)
    if base in plan.places:
        x, y, z = plan.places[base]
        numbers = [int(k.id.split(".")[0][3:]) for k in kits if k.id.startswith("leg") and k.id[3:4].isdigit()]
        own = peg[2:].split("_")[0]
        if numbers and own.startswith("leg") and own[3:].isdigit():
            share = (int(own[3:]) - 1) / max(max(numbers) - 1, 1)
            z += 0.5 - share * 1.0
        return (sign * x * height, y * height, z * height)
    finger = next((k for k in kits if k.kind == "finger" and peg in k.pegs), None)
    if finger is not None and "palm" in plan.places:
        side = [k for k in kits if k.kind == "finger" and k.side is finger.side]
        row = 0.5 - side.index(finger) / max(len(side) - 1, 1)
        px, py, pz = plan.places["palm"]
        out = 0.035 if peg.endswith("_tip") else 0.0
        return (sign * (px + 0.7 * out) * height, (py - 0.7 * out) * height, (pz + 0.045 * row) * height)
    toe = next((k for k in kits if k.kind == "toe" and peg in k.pegs), None)
    if toe is not None and "ball" in plan.places and "toe" in plan.places:
        side = [k for k in kits if k.kind == "toe" and k.side is toe.side]
        row = side.index(toe) / max(len(side) - 1, 1) - 0.5
        x, y, z = plan.places["toe" if peg.endswith("_tip") else "ball"]
        return (sign * (x + 0.035 * row) * height, y * height, z * height)
    return (0.0, 0.5 * height, 0.0)
