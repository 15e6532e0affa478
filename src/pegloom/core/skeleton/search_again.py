"""A search for landmarks in a body that has pegs: what of them stays."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

from pegloom.core.skeleton.joints import other_side_name
from pegloom.core.skeleton.kits import Kit, bent
from pegloom.core.skeleton.patterns import shipped_patterns
from pegloom.core.skeleton.pegs import PegSet


def added_kits(pegs: PegSet) -> tuple[Kit, ...]:
    """Kits that were hung on a body beside those of its pattern."""
    plan = shipped_patterns().get(pegs.pattern)
    if plan is None:
        return ()
    own = {kit.id for kit in plan.kits(fingers=pegs.fingers, pairs=30)}
    return tuple(kit for kit in pegs.kits if kit.id not in own and kit.kind not in ("finger", "toe"))


def found_again(old: PegSet, found: PegSet, *, keep_placed: bool = True, other_fingers: bool = False) -> PegSet:
    """What a search gives a body that has pegs: their kits as they are, and unless told otherwise what a hand placed.

    Of another pattern its kits take the old one's place; kits that were added stay.
    other_fingers : as many fingers as were asked for are in `found`, else the number stays while one was placed by hand.
    """
    same = old.pattern == found.pattern and bool(old.kits)
    own = {kit.id for kit in found.kits}
    if same:
        fingers_own = {peg for kit in old.kits if kit.kind == "finger" for peg in kit.pegs}
        placed = any(p.by_hand for p in old.pegs if p.name in fingers_own)
        fresh = other_fingers or (old.fingers != found.fingers and not (placed and keep_placed))
        hands = found.kits if fresh else old.kits
        known = {kit.id: kit for kit in old.kits}
        kits = [kit for kit in old.kits if kit.kind != "finger"]
        bends = {kit.id for kit in (*found.kits, *old.kits) if kit.kind == "finger" and len(kit.pegs) == 3}
        kits += [bent(known.get(kit.id, kit), kit.id in bends) for kit in hands if kit.kind == "finger"]
        fingers = found.fingers if fresh else old.fingers
    else:
        # Of the old pattern's own kits nothing stays; one added since hangs on what has its joint now, else on the root.
        stay = [kit for kit in added_kits(old) if kit.id not in own]
        kits, fingers = [*found.kits, *stay], found.fingers
        while stay:
            joints = {j for kit in kits for j in kit.joints}
            lost = [k for k, kit in enumerate(kits) if kit.attach and kit.attach not in joints]
            if not lost:
                break
            root = next((kit.joints[0] for kit in kits if kit.kind == "root"), "")
            for k in lost:
                kits[k] = replace(kits[k], attach=root)
    names = list(dict.fromkeys([p.name for p in found.pegs] + [p.name for p in old.pegs]))
    used = {peg for kit in kits for peg in kit.pegs}
    spare = {**old.spare, **old.by_name, **found.spare, **found.by_name}
    pegs, kept = [], set()
    for name in (n for n in [*names, *sorted(used - set(names))] if n in used and n in spare):
        before = old.by_name.get(name)
        if before is not None and (name not in found.by_name or (keep_placed and before.by_hand)):
            pegs.append(before)
            kept.add(name)
        else:
            pegs.append(spare[name])
    apart = (found.apart - kept) | (old.apart & kept)
    # A peg kept on one side and found on the other are no mirrored pair.
    apart |= {n for p in pegs for n in _both(p.name) if len(kept & set(_both(p.name))) == 1 and n in used}
    left = {name: peg for name, peg in spare.items() if name not in used}
    return PegSet(found.pattern, fingers, tuple(pegs), tuple(kits), MappingProxyType(left), frozenset(apart))


def _both(name: str) -> tuple[str, ...]:
    other = other_side_name(name)
    return (name,) if other is None else (name, other)
