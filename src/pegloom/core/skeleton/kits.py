"""Limb kits: the pieces a body plan is made of. Each is a chain of pegs with the joints that lie along it."""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pegloom.core.errors import ShapeError
from pegloom.core.skeleton.joints import Side

FINGERS = ("thumb", "index", "middle", "ring", "little")
TOES = ("big", "second", "third", "fourth", "little")
MOST_SEGMENTS = 4
MIDDLE = 0.45
"""Share of a finger's length from knuckle to tip where its second knuckle is."""
SIDES = {"l": Side.LEFT, "r": Side.RIGHT}


def role_in_kit(joint_id: str) -> str:
    """What a kit's joint is, from the id its recipe gives it; asked once, when the joint is made."""
    if joint_id.startswith("hand."):
        return "finger"
    if joint_id.startswith("toes."):
        return "toe"
    last = joint_id.rpartition(".")[2] if "." in joint_id else ""
    return last if last.isalpha() else ""



@dataclass(frozen=True, slots=True)
class Kit:
    """One limb kit of a character.

    id : `arm.l`, `tail`.
    pegs : names from base to tip.
    joints, names : one per joint, base first.
    at : place of each joint along the pegs; 1.5 is half way from the second peg to the third.
    bend : the way the middle points when the limb folds (back, front, up, down, out), or level, facing, finger,
        thumb.
    fold : which three pegs fold.
    ik : the three joints IK works on.
    least, most : how many joints it may have.
    twist : joints put along each bone of the ik, for twisting; of a neck, along its last bone.
    twist_at_root : those of a limb's first bone begin at its root, where its skin must not turn, and its own joint has the
        last stretch; else they stand as those of the second bone do (projects of before).
    roll : radians about the aim, for a thumb.
    """

    id: str
    kind: str
    side: Side
    attach: str
    pegs: tuple[str, ...]
    joints: tuple[str, ...]
    names: tuple[str, ...]
    at: tuple[float, ...]
    bend: str = "level"
    fold: tuple[int, ...] = ()
    ik: tuple[str, ...] = ()
    goal: str = ""
    pole: str = ""
    ik_at_rest: bool = False
    slides: bool = False
    least: int = 1
    most: int = 1
    twist: int = 0
    roll: float = 0.0
    part: str = ""
    twist_at_root: bool = False

    @property
    def twisted_bones(self) -> tuple[tuple[str, str, bool], ...]:
        """Bones that twist joints are put along: its joint, the one at its end, whether they begin at its root."""
        if len(self.ik) == 3:
            first, middle, end = self.ik
            return (first, middle, self.twist_at_root), (middle, end, False)
        if self.kind == "neck" and len(self.joints) > 1:
            return ((self.joints[-2], self.joints[-1], False),)
        return ()


def finger_names(count: int) -> tuple[str, ...]:
    """Which fingers a hand with `count` of them has; one means a mitten. Raises ShapeError outside 0 to 5."""
    known: dict[int, tuple[str, ...]] = {
        0: (),
        1: ("mitten",),
        2: ("thumb", "mitten"),
        3: ("thumb", "index", "middle"),
        4: ("thumb", "index", "middle", "little"),
        5: FINGERS,
    }
    if count not in known:
        raise ShapeError(f"a hand has 0 to 5 fingers, not {count}")
    return known[count]


def kits_of(plans: Iterable[Mapping[str, Any]], *, fingers: int | None = None) -> tuple[Kit, ...]:
    """Kits of a pattern's plans, both sides written out. fingers: another number than the plan's.

    Raises ShapeError naming what is missing or wrong in a plan.
    """
    result: list[Kit] = []
    for plan in plans:
        kind = str(plan.get("kit", ""))
        try:
            if kind == "root":
                result.append(Kit("root", "root", Side.CENTRE, "", (), ("root",), ("root",), (0.0,)))
            elif kind == "fingers":
                count = int(plan.get("fingers", 5)) if fingers is None else fingers
                result += fingers_of(plan, count, int(plan.get("segments", 3)))
            elif kind == "pairs":
                result += pairs_of(plan, int(plan.get("pairs", 3)))
            else:
                result += [kit_of(plan, s) for s in sides_of(plan)]
        except (KeyError, TypeError, ValueError) as error:
            raise ShapeError(f"the kit {plan.get('id', kind)} cannot be understood ({error})") from error
    seen: set[str] = set()
    for kit in result:
        for joint in kit.joints:
            if joint in seen:
                raise ShapeError(f"two kits make the joint {joint}; give one of them another id")
            seen.add(joint)
    return tuple(result)


def sides_of(plan: Mapping[str, Any], *, usual: bool = False) -> tuple[str, ...]:
    """Which sides a plan's kit is made for: of "sides": true both, of "l" or "r" that one, else the middle.

    usual : what a plan that does not say means.
    """
    sides = plan.get("sides", usual)
    if isinstance(sides, str):
        if sides not in SIDES:
            raise ValueError(f"sides are true, l or r, not {sides}")
        return (sides,)
    return ("l", "r") if sides else ("",)


def kit_of(plan: Mapping[str, Any], s: str) -> Kit:
    """One kit of a plan; s is l, r or nothing."""
    kit_id = str(plan["id"]) + (f".{s}" if s else "")
    keys = [str(k) for k in plan["joints"]]
    pegs = tuple((f"{s}_" if s else "") + str(p) for p in plan["pegs"])
    at = tuple(float(v) for v in plan.get("at", range(len(keys))))
    if len(at) != len(keys) or len(pegs) < 1 or max(at, default=0.0) > len(pegs) - 1:
        raise ValueError("each joint needs a place along the pegs")
    names = [str(n) for n in plan.get("names", [f"{plan['id']}_{k}" for k in keys])]
    full = tuple(k if "." in k else f"{kit_id}.{k}" for k in keys)
    mark = f"{s}_" if s else ""
    count = len(keys)
    return Kit(
        kit_id, str(plan["kit"]), SIDES.get(s, Side.CENTRE), str(plan.get("attach", "")).replace("{s}", s), pegs, full,
        tuple(mark + n for n in names), at, str(plan.get("bend", "level")), tuple(int(v) for v in plan.get("fold", ())),
        tuple(f"{kit_id}.{k}" for k in plan.get("ik", ())), str(plan.get("goal", "")), str(plan.get("pole", "")),
        bool(plan.get("ik_at_rest", False)), bool(plan.get("slides", False)), int(plan.get("least", count)),
        int(plan.get("most", count)), int(plan.get("twist", 0)), float(plan.get("roll", 0.0)), str(plan.get("part", "")), True,
    )  # fmt: skip


def fingers_of(plan: Mapping[str, Any], count: int, segments: int) -> list[Kit]:
    """A kit for each finger of both hands."""
    if not 1 <= segments <= MOST_SEGMENTS:
        raise ShapeError(f"a finger has 1 to {MOST_SEGMENTS} segments, not {segments}")
    result = []
    for s in sides_of(plan, usual=True):
        for finger in finger_names(count):
            result.append(
                finger_kit(f"{plan['id']}.{s}.{finger}", s, str(plan["attach"]).replace("{s}", s), finger, segments)
            )
    return result


def finger_kit(
    kit_id: str, s: str, attach: str, finger: str, segments: int = 3, *, prefix: str = "", bent: bool = False
) -> Kit:  # fmt: skip
    """The kit of one finger.

    prefix: put before the finger in names, where another hand has the plain ones. bent : a third peg at its second
    knuckle, for a finger that is not straight at rest.
    """
    shares = {1: (0.0,), 2: (0.0, 0.55), 3: (0.0, MIDDLE, 0.75), 4: (0.0, 0.36, 0.62, 0.82)}[segments]
    own = f"{s}_{prefix}{finger}"
    at = tuple(k / MIDDLE if k <= MIDDLE else 1 + (k - MIDDLE) / (1 - MIDDLE) for k in shares) if bent else shares
    return Kit(
        kit_id, "finger", SIDES[s], attach, (f"{own}_base", *([f"{own}_bend"] if bent else []), f"{own}_tip"),
        tuple(f"{kit_id}.{k + 1}" for k in range(segments)), tuple(f"{own}_{k + 1}" for k in range(segments)),
        at, "thumb" if finger == "thumb" else "finger", least=1, most=MOST_SEGMENTS, part="hand",
    )  # fmt: skip


def bent(kit: Kit, bends: bool = True) -> Kit:
    """A finger's kit with a peg at its second knuckle, or without; the joints stay the same."""
    if kit.kind != "finger" or bends == (len(kit.pegs) == 3):
        return kit
    _, s, finger = kit.id.rsplit(".", 2)
    new = finger_kit(kit.id, s, kit.attach, finger, len(kit.joints), prefix=_prefix(kit), bent=bends)
    return replace(kit, pegs=new.pegs, at=new.at)


def _prefix(kit: Kit) -> str:
    _, s, finger = kit.id.rsplit(".", 2)
    return kit.pegs[0][len(s) + 1 : -len(f"{finger}_base")]


def toe_names(count: int) -> tuple[str, ...]:
    """Which toes a foot with `count` of them has, the inner one first. Raises ShapeError but for 0 and 2 to 5."""
    known = {0: (), 2: (0, 4), 3: (0, 1, 4), 4: (0, 1, 2, 4), 5: (0, 1, 2, 3, 4)}
    if count not in known:
        raise ShapeError(f"a foot has 2 to 5 single toes or none, not {count}")
    return tuple(TOES[k] for k in known[count])


def toe_kit(kit_id: str, s: str, attach: str, toe: str, segments: int = 2, *, prefix: str = "") -> Kit:
    """The kit of one toe. prefix: put before the toe in names, where another foot has the plain ones."""
    own = f"{s}_{prefix}{toe}_toe"
    return Kit(
        kit_id, "toe", SIDES[s], attach, (f"{own}_base", f"{own}_tip"), tuple(f"{kit_id}.{k + 1}" for k in range(segments)),
        tuple(f"{own}_{k + 1}" for k in range(segments)), tuple(k / segments for k in range(segments)), "level", least=1,
        most=MOST_SEGMENTS, part="foot",
    )  # fmt: skip


def shown_kits(kits: tuple[Kit, ...], pegs: Container[str]) -> tuple[Kit, ...]:
    """A pattern's kits with what a mesh shows beside: a peg more in fingers that are bent, and single toes.

    pegs : names of the pegs found.
    """
    hands = tuple(bent(kit, any(f"{s}_{kit.pegs[0][2:-5]}_bend" in pegs for s in "lr")) if kit.kind == "finger" else kit
                  for kit in kits)  # fmt: skip
    joints = {joint for kit in kits for joint in kit.joints}
    toes = [
        toe_kit(f"toes.{s}.{toe}", s, f"leg.{s}.toes", toe)
        for s in "lr" for toe in TOES if f"{s}_{toe}_toe_base" in pegs and f"leg.{s}.toes" in joints
    ]  # fmt: skip
    return (*hands, *toes)


def pairs_of(plan: Mapping[str, Any], pairs: int) -> list[Kit]:
    """Pairs of legs, numbered from the front."""
    if not 1 <= pairs <= 30:
        raise ShapeError(f"1 to 30 pairs of legs can be made, not {pairs}")
    result = []
    for number in range(1, pairs + 1):
        own = f"{plan['id']}{number}"
        changed = dict(plan) | {
            "kit": "leg", "id": own, "pegs": [f"{own}_{p}" for p in plan["pegs"]],
            "names": [f"{own}_{n}" for n in plan["names"]], "goal": own, "pole": own,
        }  # fmt: skip
        result += [kit_of(changed, s) for s in ("l", "r")]
    return result


def resized(kit: Kit, count: int) -> Kit:
    """The kit with another number of joints on the same pegs; first and last keep their ids.

    Raises ShapeError outside what the kit allows.
    """
    if count == len(kit.joints):
        return kit
    if not kit.least <= count <= kit.most:
        raise ShapeError(f"{kit.id} has {kit.least} to {kit.most} joints, not {count}")
    if kit.kind == "finger":
        _, s, finger = kit.id.rsplit(".", 2)
        new = finger_kit(kit.id, s, kit.attach, finger, count, prefix=_prefix(kit), bent=len(kit.pegs) == 3)
        return replace(new, roll=kit.roll)
    numbered = kit.joints[0].rsplit(".", 1)[-1] == "1"
    closed = kit.at[-1] >= len(kit.pegs) - 1
    steps = np.linspace(0.0, len(kit.pegs) - 1, count + (0 if closed else 1))[:count] if count > 1 else np.zeros(1)
    if count == len(kit.pegs) - (0 if closed else 1):
        steps = np.arange(count, dtype=np.float64)
    first, last = kit.joints[0], kit.joints[-1]
    head, tail = kit.names[0], kit.names[-1]
    if numbered and last.rsplit(".", 1)[-1].isdigit():
        stem, label = first.rsplit(".", 1)[0], head.rsplit("_", 1)[0]
        joints = [f"{stem}.{k + 1}" for k in range(count)]
        names = [f"{label}_{k + 1}" for k in range(count)]
    elif count == 1:
        joints, names = [first], [head]
    else:
        middle = list(kit.joints[1:-1]) + [f"{first}{k}" for k in range(2, count + 2)]
        labels = list(kit.names[1:-1]) + [f"{head}_{k}" for k in range(2, count + 2)]
        middle = list(dict.fromkeys(middle))
        joints = [first, *middle[: count - 2], last] if len(kit.joints) > 1 else [first, *middle[: count - 1]]
        names = [head, *labels[: count - 2], tail] if len(kit.joints) > 1 else [head, *labels[: count - 1]]
    return replace(kit, joints=tuple(joints), names=tuple(names), at=tuple(float(v) for v in steps))


def other_kit_id(kit_id: str) -> str | None:
    """`arm.l` <-> `arm.r`; None for a kit on the middle."""
    pieces = kit_id.split(".")
    swapped = [{"l": "r", "r": "l"}.get(p, p) for p in pieces]
    return ".".join(swapped) if swapped != pieces else None
