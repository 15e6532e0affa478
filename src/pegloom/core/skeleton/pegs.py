"""Pegs: the landmarks a skeleton is built from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from types import MappingProxyType

from pegloom.core.errors import ShapeError
from pegloom.core.skeleton.joints import Side, Vector, other_side_name
from pegloom.core.skeleton.kits import Kit

WEAK = 0.5
"""Confidence under which a found peg is a weak guess."""


LEADS: Mapping[str, Mapping[str, Vector]] = MappingProxyType({
    "chin": {"head": (0.0, 1.0, 0.4)},
    "crotch": {"hips": (0.0, 1.0, 0.0), "l_hip": (0.0, 1.0, 0.0), "r_hip": (0.0, 1.0, 0.0)},
})  # fmt: skip
"""Pegs that follow a landmark, by what share of its way along each axis: the skull's pivot its chin, the hips the crotch."""


@dataclass(frozen=True, slots=True)
class Peg:
    """A landmark. confidence 0..1 of an automatic placing, 1 once placed by hand."""

    name: str
    position: Vector
    confidence: float = 1.0
    by_hand: bool = False

    @property
    def weak(self) -> bool:
        """Whether its place is a guess that someone should look at."""
        return self.confidence < WEAK and not self.by_hand


@dataclass(frozen=True, eq=False)
class PegSet:
    """Pegs of one pattern and the kits that make joints of them.

    spare : places of pegs no kit uses now (fewer fingers), kept for when the detail is wanted again.
    apart : pegs, both of each pair, that are not each other's mirrored place, as the body is not even there.
    """

    pattern: str
    fingers: int
    pegs: tuple[Peg, ...]
    kits: tuple[Kit, ...] = ()
    spare: Mapping[str, Peg] = field(default_factory=lambda: MappingProxyType({}))
    apart: frozenset[str] = frozenset()

    @cached_property
    def by_name(self) -> Mapping[str, Peg]:
        return {peg.name: peg for peg in self.pegs}

    def position(self, name: str) -> Vector:
        """Place of one peg. Raises ShapeError naming a missing peg."""
        found = self.by_name.get(name)
        if found is None:
            raise ShapeError(f"the peg {name} is missing from the {self.pattern} pattern's pegs")
        return found.position

    @property
    def pairs_apart(self) -> tuple[str, ...]:
        """What the pairs that are apart are of ("wrist", "index tip"), in the pegs' order."""
        return tuple(p.name[2:].replace("_", " ") for p in self.pegs if p.name in self.apart and p.name[:2] == "l_")

    def kit(self, kit_id: str) -> Kit:
        """The kit of that id. Raises ShapeError for an unknown one."""
        for kit in self.kits:
            if kit.id == kit_id:
                return kit
        raise ShapeError(f"there is no kit {kit_id}")


def toes_of(pegs: PegSet) -> int:
    """How many single toes each foot has."""
    return sum(kit.kind == "toe" and kit.side is Side.LEFT for kit in pegs.kits)


def move_peg(pegs: PegSet, name: str, position: Vector, *, both_sides: bool = True, middle: float = 0.0) -> PegSet:
    """Put a peg at `position`, and its partner at the mirrored place. A centre peg keeps to the middle.

    Of a pair that is apart one alone is moved.
    """
    if name not in pegs.by_name:
        raise ShapeError(f"there is no peg {name}")
    other = other_side_name(name)
    x, y, z = (float(v) for v in position)
    if other is None and both_sides:
        x = middle
    moved = {name: (x, y, z)}
    led = _led(pegs, name, (x, y, z))
    if both_sides and other is not None and other in pegs.by_name and name not in pegs.apart:
        moved[other] = (2 * middle - x, y, z)
    placed = place_pegs(pegs, moved)
    return placed if not led else replace(placed, pegs=tuple(led.get(peg.name, peg) for peg in placed.pegs))


def _led(pegs: PegSet, name: str, place: Vector) -> dict[str, Peg]:
    """What goes along with a landmark that is moved, but for what a hand has placed."""
    before, found = pegs.by_name[name].position, {}
    for other, shares in LEADS.get(name, {}).items():
        peg = pegs.by_name.get(other)
        if peg is not None and not peg.by_hand:
            x, y, z = (p + share * (now - then) for p, share, now, then in zip(peg.position, shares, place, before, strict=True))
            found[other] = replace(peg, position=(x, y, z))
    return found


def place_pegs(pegs: PegSet, places: Mapping[str, Vector]) -> PegSet:
    """Put several pegs where they are wanted, as if by hand."""
    return replace(
        pegs,
        pegs=tuple(
            replace(peg, position=places[peg.name], confidence=1.0, by_hand=True) if peg.name in places else peg
            for peg in pegs.pegs
        ),
    )
