"""Where a clip's motion was taken from, so that it can be told anew."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CarryOptions:
    """How motion is carried over.

    in_place : take the path out of the root. first, last : seconds of the source that are taken; None for all.
    plant : hold feet, and hands on the floor, where the source's stand. touch : hold hands to what they touch.
    limits : keep joints within their limits.
    """

    in_place: bool = False
    first: float | None = None
    last: float | None = None
    plant: bool = True
    touch: bool = True
    limits: bool = True


@dataclass(frozen=True, slots=True)
class Borrowed:
    """source, pairing : ids in the character. controls : whether the motion stands on controls; on_ik : limbs whose goals
    lead there, None as the rig rests. mark : what the result was, so that a change by hand is noticed."""

    source: str
    pairing: str
    options: CarryOptions = CarryOptions()
    controls: bool = False
    on_ik: tuple[str, ...] | None = None
    mark: str = ""
