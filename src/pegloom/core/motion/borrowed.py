"""Where a clip's motion was taken from, so that it can be told anew."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CarryOptions:
    """How motion is carried over.

    in_place : take the path out of the root. first, last : seconds of the source that are taken; None for all.
    plant : hold feet, and hands on the floor, where the source's stand. touch : hold hands to what they touch.
    limits : keep joints within their limits. at_zero : the source's ground is at its zero, and its rest stands there; else the ground
    is found by its feet. mirror : its other side.
    """

    in_place: bool = False
    first: float | None = None
    last: float | None = None
    plant: bool = True
    touch: bool = True
    limits: bool = True
    at_zero: bool = False
    mirror: bool = False


@dataclass(frozen=True, slots=True)
class Measured:
    """What a clip was found to be when it was made; see `Figures`.

    scale : target over source. worst_at : seconds of the clip. worst_part, worst : where, and what is wrong there.
    """

    scale: float = 1.0
    slide_mm: float = 0.0
    floor_mm: float = 0.0
    limit_deg: float = 0.0
    arms_deg: float = 0.0
    legs_deg: float = 0.0
    worst_at: float = 0.0
    worst_part: str = ""
    worst: str = ""


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
    measured: Measured | None = None
