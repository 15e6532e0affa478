"""What a clip that was made from numbers was made from, so that it can be made anew."""

from __future__ import annotations

from dataclasses import dataclass, field

from pegloom.core.errors import EditError
from pegloom.core.motion.gait.numbers import Gait
from pegloom.core.motion.gait.path import Way

STRIDES, RATES = (0.5, 60.0), (10.0, 240.0)


@dataclass(frozen=True, slots=True)
class GaitTold:
    """preset : what it began with. strides : how many; rate : frames a second. start, stop : whether it begins and ends standing.
    in_place : the ground goes under it. to_the_end : as many strides as the way through points is long. controls : whether it is
    on controls. mark : what the result was, so that a change by hand is noticed.

    Raises EditError for strides or rates out of bounds.
    """

    gait: Gait = field(default_factory=Gait)
    preset: str = "walk"
    strides: float = 2.0
    rate: float = 30.0
    way: Way = field(default_factory=Way)
    start: bool = False
    stop: bool = False
    in_place: bool = False
    to_the_end: bool = True
    controls: bool = True
    mark: str = ""

    def __post_init__(self) -> None:
        if not STRIDES[0] <= self.strides <= STRIDES[1] or not RATES[0] <= self.rate <= RATES[1]:
            raise EditError(f"a gait goes on for {STRIDES[0]:g} to {STRIDES[1]:g} strides at {RATES[0]:g} to {RATES[1]:g} frames a second")
