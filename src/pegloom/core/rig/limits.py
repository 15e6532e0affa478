"""How far a joint turns, and how easily."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from pegloom.core.skeleton.joints import Vector

FREE = 2.0 * pi
"""More than a joint's turn from rest ever is: no limit."""


@dataclass(frozen=True, slots=True)
class JointLimit:
    """Of one joint, where IK asks.

    low, high : radians of the rotation vector from rest, about the joint's own x, y and z axes.
    stiffness : of each axis, 0 free to 1 rigid.
    """

    joint: str
    low: Vector = (-FREE, -FREE, -FREE)
    high: Vector = (FREE, FREE, FREE)
    stiffness: Vector = (0.0, 0.0, 0.0)

    @property
    def free(self) -> bool:
        """Whether it asks for nothing."""
        bounds = (*(abs(v) for v in self.low), *(abs(v) for v in self.high))
        return min(bounds) >= pi and not any(self.stiffness)
