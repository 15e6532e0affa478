"""Which chain of one skeleton is which of another: found by how both bodies hang together, names only hint."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.memo import by_identity
from pegloom.core.motion.retarget.chains import LIMBS, kind_of, other_part, part_title, parts_of
from pegloom.core.motion.retarget.source import known_words
from pegloom.core.skeleton.joints import Side, Skeleton, Vector, side_of_name
from pegloom.core.skeleton.uses import Use, told_uses

SURE_FROM = 0.75
"""A pair at least this sure needs no look."""
STANDS_FOR = (("arm", "foreleg"), ("wing", "arm"), ("wing", "foreleg"))
"""Limbs that may stand for one another where a body has no limb of the same kind."""
WORDS = {
    "arm": {"arm", "elbow", "forearm", "upperarm", "hand", "wrist", "humerus", "lowerarm"},
    "leg": {"leg", "thigh", "shin", "knee", "foot", "calf", "ankle", "toe", "toes", "upleg", "hock", "femur"},
    "trunk": {"spine", "hips", "pelvis", "chest", "waist", "abdomen", "torso", "thorax"},
    "neck": {"neck"}, "head": {"head", "skull"}, "tail": {"tail"},
    "shoulder": {"clavicle", "collar", "shoulder"},
}  # fmt: skip
"""What joints of a part are often called; a joint called after another part is worth a look."""
LIKE = {"foreleg": ("arm", "leg"), "wing": ("arm",), "blade": ("shoulder",), "hip": ("leg", "trunk"), "rear": ("trunk",), "shoulder": ("arm", "shoulder"), "arm": ("arm", "shoulder"), "trunk": ("trunk", "leg")}
ODD = 2.2
"""How many times as long a chain may be here as there, both told at one size, before it is doubtful."""


@dataclass(frozen=True, slots=True)
class ChainPair:
    """One part of both bodies.

    part : as in `parts_of`. source, target : joint ids, base first; an empty source leaves the part at rest.
    confidence : 0 to 1. why : what makes it doubtful, "" for nothing. by_hand : whether a person said it.
    amount : how much of the motion, about its mean, is taken over. turn : degrees x y z about the first bone's axes, put
    on the whole chain. reach : how far the end stands from the base, as a factor. planted : whether contacts hold it.
    """

    part: str
    source: tuple[str, ...]
    target: tuple[str, ...]
    confidence: float = 1.0
    why: str = ""
    by_hand: bool = False
    amount: float = 1.0
    turn: Vector = (0.0, 0.0, 0.0)
    reach: float = 1.0
    planted: bool = True

    @property
    def sure(self) -> bool:
        return self.confidence >= SURE_FROM


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Pairing:
    """How a source's skeleton and a character's go together.

    source, target : `sign_of` each. rest : the moment of the source's clip its rest is read from, seconds; None as found.
    """

    id: str
    name: str
    source: str
    target: str
    chains: tuple[ChainPair, ...] = ()
    rest: float | None = None

    def of(self, part: str) -> ChainPair | None:
        return next((c for c in self.chains if c.part == part), None)

    def with_chain(self, chain: ChainPair) -> Pairing:
        """With another chain of that part."""
        kept = tuple(chain if c.part == chain.part else c for c in self.chains)
        return replace(self, chains=kept if self.of(chain.part) is not None else (*kept, chain))


@by_identity
def sign_of(skeleton: Skeleton) -> str:
    """What tells a skeleton again: its joints' names and what each hangs on. Places and sizes do not count."""
    lines = sorted(f"{j.name}<{skeleton.joint(j.parent).name if j.parent else ''}" for j in skeleton.joints)
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:16]


def pair(source: Skeleton, target: Skeleton, *, own: Skeleton | None = None, name: str = "") -> Pairing:
    """Pair the parts of two bodies, both standing at rest, Y up and facing +Z.

    source : stood up (`Stood.skeleton`). own : the source's own skeleton where `source` is a posed one, for its sign.
    Joints that no part holds are paired by name.
    """
    theirs, ours = parts_of(source), parts_of(target)
    ratio = _size(source) / _size(target)
    chains: list[ChainPair] = []
    for part, joints in ours.items():
        there = _counterpart(part, theirs, ours)
        if there is None:
            chains.append(ChainPair(part, (), joints, 0.0, "nothing like it in the source"))
            continue
        chains.append(_judged(ChainPair(part, theirs[there], joints), there, source, target, ratio))
    chains = [_both_sides(c, chains) for c in chains]
    used = {j for c in chains for j in c.source}, {j for c in chains for j in c.target}
    chains += _by_name(source, target, *used)
    return Pairing("", name, sign_of(own or source), sign_of(target), tuple(chains))


def _size(skeleton: Skeleton) -> float:
    return max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-9)


def _counterpart(part: str, theirs: Mapping[str, tuple[str, ...]], ours: Mapping[str, tuple[str, ...]]) -> str | None:
    if part in theirs:
        return part
    stem, _, side = part.partition(".")
    for a, b in STANDS_FOR:
        for mine, other in ((a, b), (b, a)):
            # One of theirs that is paired with its own kind stands for nothing else.
            if stem == mine and f"{other}.{side}" in theirs and f"{other}.{side}" not in ours:
                return f"{other}.{side}"
            if stem == LIMBS[mine] and LIMBS[mine] != LIMBS[other] and f"{LIMBS[other]}.{side}" in theirs and f"{LIMBS[other]}.{side}" not in ours:
                return f"{LIMBS[other]}.{side}"
    return None


def _length(skeleton: Skeleton, chain: tuple[str, ...]) -> float:
    at = skeleton.positions[[skeleton.index[j] for j in chain]]
    return float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum())


def _judged(pair: ChainPair, there: str, source: Skeleton, target: Skeleton, ratio: float) -> ChainPair:
    """With its confidence, and the first reason to doubt it."""
    doubts: list[tuple[float, str]] = []
    if kind_of(there) != kind_of(pair.part):
        doubts.append((0.35, f"{part_title(there)} stands for {part_title(pair.part)}"))
    theirs, ours = _length(source, pair.source), _length(target, pair.target)
    if len(pair.source) > 1 and len(pair.target) > 1 and kind_of(pair.part) not in ("tail", "neck", "trunk", "rope"):
        odd = theirs / max(ours * ratio, 1e-9)
        if not 1.0 / ODD < odd < ODD:
            doubts.append((0.3, f"{'longer' if odd > 1 else 'shorter'} than here by a factor of {max(odd, 1 / odd):.1f}"))
    kind = kind_of(there)
    for joint in pair.source:
        side = side_of_name(source.joint(joint).name)
        if there.endswith((".l", ".r")) and side is not Side.CENTRE and (side is Side.LEFT) != there.endswith(".l"):
            doubts.append((0.5, f"{source.joint(joint).name} is called after the other side"))
            break
    for joint in pair.source:
        own = known_words(source, joint)
        called = {part for part, known in WORDS.items() if own & known}
        if called and not called & {kind, *LIKE.get(kind, ())}:
            doubts.append((0.4, f"{source.joint(joint).name} is called after another part"))
            break
    if len(pair.source) < min(len(pair.target), 3) and kind in LIMBS:
        doubts.append((0.35, f"only {len(pair.source)} joints there"))
    confidence = max(1.0 - sum(d for d, _ in doubts), 0.05)
    return replace(pair, confidence=confidence, why=max(doubts)[1] if doubts else "")


def _both_sides(pair: ChainPair, chains: list[ChainPair]) -> ChainPair:
    """A limb whose twin found nothing is doubtful."""
    across = other_part(pair.part)
    twin = next((c for c in chains if c.part == across), None)
    if across is None or not pair.source or twin is None or twin.source:
        return pair
    return replace(pair, confidence=max(pair.confidence - 0.3, 0.05), why=pair.why or f"{part_title(across)} is not there")


def _by_name(source: Skeleton, target: Skeleton, taken: set[str], held: set[str]) -> list[ChainPair]:
    """Jaws, ears, eyes, straps: joints of no part, called the same on both."""

    def plain(name: str) -> str:
        return "".join(c for c in name.rsplit(":", 1)[-1].lower() if c.isalnum())

    helpers = {j for j, use in told_uses(source).items() if use is not Use.BONE}
    theirs = {plain(j.name): j.id for j in source.joints if j.id not in taken and j.id not in helpers}
    found = []
    for joint in target.joints:
        there = theirs.get(plain(joint.name))
        if joint.id in held or there is None or len(plain(joint.name)) < 3 or joint.parent is None:
            continue
        found.append(ChainPair(f"as.{joint.name}", (there,), (joint.id,), 0.8))
    return found


def refusal(pairing: Pairing, part: str, chain: tuple[str, ...], source: Skeleton) -> str | None:
    """Why a chain of the source's joints cannot stand for a part; None where it can.

    source : stood up.
    """
    if not chain:
        return None
    unknown = [j for j in chain if j not in source.index]
    if unknown:
        return f"there is no joint {unknown[0]} in the source"
    names = [source.joint(j).name for j in chain]
    if len(set(chain)) != len(chain):
        return "a joint stands in it twice"
    for a, b, below in zip(chain, chain[1:], names[1:], strict=False):
        if not _hangs_on(source, b, a):
            return f"{below} does not hang on {source.joint(a).name}; a chain runs from its base outward"
    for other in pairing.chains:
        shared = set(chain) & set(other.source)
        if other.part != part and shared:
            name = source.joint(next(j for j in chain if j in shared)).name
            return f"{name} is the {part_title(other.part)} already; take it out there first"
    side = part.rpartition(".")[2]
    if side in ("l", "r"):
        middle = _middle(source)
        size = _size(source)
        off = [(source.joint(j).position[0] - middle) * (1 if side == "l" else -1) for j in chain]
        if min(off) < -0.03 * size:
            wrong = names[int(np.argmin(off))]
            return f"{wrong} stands on the {'right' if side == 'l' else 'left'} of the body"
    kind = kind_of(part)
    if kind == "leg" and len(chain) >= 3:
        at = source.positions[[source.index[j] for j in chain]]
        if at[-1, 1] > at[0, 1]:
            return f"{names[-1]} stands higher than {names[0]}; a leg goes down"
    trunk = pairing.of("trunk")
    if kind in LIMBS and trunk is not None and trunk.source:
        inside = set(trunk.source) & set(chain)
        if inside:
            return f"{source.joint(next(iter(inside))).name} is part of the trunk"
        if any(_hangs_on(source, trunk.source[0], j) for j in chain):
            return f"the trunk hangs on {names[0]}; a limb hangs on the trunk"
    return None


def _middle(source: Skeleton) -> float:
    trunk = parts_of(source).get("trunk", ())
    places = source.positions[[source.index[j] for j in trunk]] if trunk else source.positions
    return float(np.median(places[:, 0]))


def _hangs_on(skeleton: Skeleton, joint: str, above: str) -> bool:
    here = skeleton.joint(joint).parent
    while here is not None:
        if here == above:
            return True
        here = skeleton.joint(here).parent
    return False


def said(pairing: Pairing, part: str, chain: tuple[str, ...], source: Skeleton, target: Skeleton, *, both_sides: bool = True) -> Pairing:
    """A person's word on a part: these joints of the source, or none. Raises EditError with the reason where it cannot be.

    A single joint takes the joints below it, as many as the part has here; the other side follows by what is mirrored.
    """
    old = pairing.of(part)
    if old is None:
        raise EditError(f"this character has no {part_title(part)}")
    wanted = filled(chain[0], len(old.target), source) if len(chain) == 1 and len(old.target) > 1 else chain
    emptied = pairing.with_chain(replace(old, source=()))
    reason = refusal(emptied, part, wanted, source)
    if reason is not None:
        raise EditError(f"this cannot be the {part_title(part)}: {reason}")
    result = pairing.with_chain(replace(old, source=wanted, confidence=1.0 if wanted else 0.0, why="" if wanted else "left out by hand", by_hand=True))
    across = other_part(part)
    twin = pairing.of(across) if across is not None and both_sides else None
    if twin is None or across is None:
        return result
    there = tuple(_mirrored(source, j) for j in wanted)
    mirrored = tuple(j for j in there if j is not None)
    if len(mirrored) == len(wanted) and refusal(result.with_chain(replace(twin, source=())), across, mirrored, source) is None:
        result = result.with_chain(replace(twin, source=mirrored, confidence=1.0 if mirrored else 0.0, why="" if mirrored else "left out by hand", by_hand=True))
    return result


def _mirrored(skeleton: Skeleton, joint: str) -> str | None:
    """The joint across the middle: by name, else the one that stands mirrored."""
    found = skeleton.other_side(joint)
    if found is not None and found != joint:
        return found
    middle = _middle(skeleton)
    at = skeleton.positions.copy()
    at[:, 0] -= middle
    wanted = at[skeleton.index[joint]] * [-1.0, 1.0, 1.0]
    gaps = np.linalg.norm(at - wanted, axis=1)
    best = int(np.argmin(gaps))
    return skeleton.joints[best].id if gaps[best] < 0.03 * _size(skeleton) and skeleton.joints[best].id != joint else None


def filled(first: str, count: int, skeleton: Skeleton) -> tuple[str, ...]:
    """A joint and those below it the longest way, so many at most; ends of bones and helpers are left out."""
    uses = told_uses(skeleton)
    chain = [first]
    while len(chain) < count:
        below = [c.id for c in skeleton.children(chain[-1]) if uses.get(c.id, Use.BONE) is Use.BONE]
        if not below:
            break
        chain.append(max(below, key=lambda j: _reach(skeleton, j)))
    return tuple(chain)


def _reach(skeleton: Skeleton, joint: str) -> float:
    own = skeleton.joint(joint)
    bone = float(np.linalg.norm(np.subtract(own.position, skeleton.joint(own.parent).position))) if own.parent else 0.0
    return bone + max((_reach(skeleton, c.id) for c in skeleton.children(joint)), default=0.0)
