"""Pegs: the landmarks a skeleton is built from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from pegloom.core.errors import ShapeError
from pegloom.core.skeleton.joints import Vector, other_side_name


@dataclass(frozen=True, slots=True)
class Peg:
    """A landmark. confidence 0..1 of an automatic placing, 1 once placed by hand."""

    name: str
    position: Vector
    confidence: float = 1.0
    by_hand: bool = False


@dataclass(frozen=True, eq=False)
class PegSet:
    """Pegs of one pattern, with the detail asked for."""

    pattern: str
    fingers: int
    pegs: tuple[Peg, ...]

    @property
    def by_name(self) -> Mapping[str, Peg]:
        return {peg.name: peg for peg in self.pegs}

    def position(self, name: str) -> Vector:
        """Place of one peg. Raises ShapeError naming a missing peg."""
        found = self.by_name.get(name)
        if found is None:
            raise ShapeError(f"the peg {name} is missing from the {self.pattern} pattern's pegs")
        return found.position


def move_peg(pegs: PegSet, name: str, position: Vector, *, both_sides: bool = True, middle: float = 0.0) -> PegSet:
    """Put a peg at `position`, and its partner at the mirrored place. A centre peg keeps to the middle."""
    if name not in pegs.by_name:
        raise ShapeError(f"there is no peg {name}")
    other = other_side_name(name)
    x, y, z = (float(v) for v in position)
    if other is None and both_sides:
        x = middle
    moved = {name: (x, y, z)}
    if both_sides and other is not None and other in pegs.by_name:
        moved[other] = (2 * middle - x, y, z)
    return replace(
        pegs,
        pegs=tuple(
            replace(peg, position=moved[peg.name], confidence=1.0, by_hand=True) if peg.name in moved else peg
            for peg in pegs.pegs
        ),
    )
