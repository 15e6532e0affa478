"""What brushes do and how they are set."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class BrushMode(Enum):
    ADD = "Add"
    TAKE = "Subtract"
    SET = "Set"
    SCALE = "Scale"
    EVEN = "Smooth"
    SHARPEN = "Sharpen"
    ALONG = "Around"

    @property
    def says(self) -> str:
        """What a stroke does, for a person."""
        return {
            BrushMode.ADD: "add weight",
            BrushMode.TAKE: "take weight away",
            BrushMode.SET: "bring to the ladder's value",
            BrushMode.SCALE: "multiply: over .5 on the ladder grows, under it shrinks",
            BrushMode.EVEN: "even out toward the neighbours",
            BrushMode.SHARPEN: "make the blend crisper",
            BrushMode.ALONG: "one weight around each ring of the limb",
        }[self]


class Painting(Enum):
    """What a stroke changes."""

    WEIGHTS = "weights"
    DUAL = "dual quaternion share"
    RELAX = "surface relax share"


@dataclass(frozen=True, slots=True)
class Brush:
    """How the brush is set.

    radius : share of the height.
    strength : of one dab, 0 to 1.
    value : what Set aims at, 0 to 1.
    hardness : share of the radius at full force.
    front : only vertices turned to the eye are painted.
    through : the far side under the pointer is painted as well.
    """

    mode: BrushMode = BrushMode.ADD
    radius: float = 0.045
    strength: float = 0.5
    value: float = 1.0
    hardness: float = 0.25
    front: bool = True
    through: bool = False
