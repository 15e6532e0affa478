"""The numbers of a gait, told in shares of the leg's length so that they suit any body.

Figures of the presets: relative stride by speed after R. McN. Alexander and A. S. Jayes, "A dynamic similarity hypothesis for
the gaits of quadrupedal mammals", Journal of Zoology 201, 1983; footfalls after M. Hildebrand, "Symmetrical gaits of horses",
Science 150, 1965; joint courses of people after D. A. Winter, "Biomechanics and Motor Control of Human Movement".
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from types import MappingProxyType
from typing import Any

from pegloom.core.errors import EditError

Both = tuple[float, float]
"""A left and a right value."""
GRAVITY = 9.81


@dataclass(frozen=True, slots=True)
class Gait:
    """Lengths in leg lengths, angles in degrees, shares 0 to 1.

    stride : from a footfall to the next of the same foot. period : seconds that takes; 0 for what suits the body's size and the
    stride. duty : share of it a foot stands. lift : how high a foot goes. bob : how far the body goes up and down, from the
    lowest to the highest. height : of the hips, 1 stretched legs; less crouches, more goes on tiptoe. lean : of the trunk ahead.
    sway : from side to side. hip_twist, shoulder_twist : of the hips and against them of the shoulders, each way. roll : how far
    a foot rolls over its heel and ball, 1 as people do. toe_out : of the feet. arm_swing : of the upper arms, each way. elbow :
    how far elbows are bent. steady : how much the head stays level. width : between the feet, 1 as the hips are wide.
    offset : of the right foot's fall in the stride, 0.5 even. feet : footfalls of a four-legged body: walk, trot, canter.
    """

    stride: Both = (1.45, 1.45)
    period: float = 0.0
    duty: Both = (0.62, 0.62)
    lift: Both = (0.08, 0.08)
    bob: float = 0.04
    height: float = 0.97
    lean: float = 3.0
    sway: float = 0.03
    hip_twist: float = 5.0
    shoulder_twist: float = 6.0
    roll: Both = (1.0, 1.0)
    toe_out: Both = (7.0, 7.0)
    arm_swing: Both = (24.0, 24.0)
    elbow: float = 18.0
    steady: float = 0.85
    width: float = 0.85
    offset: float = 0.5
    feet: str = "walk"

    def seconds(self, leg: float) -> float:
        """The period (seconds) of a body with legs of a length (metres): its own, or what that stride is walked at."""
        if self.period > 0.0:
            return self.period
        relative = 0.5 * (self.stride[0] + self.stride[1])
        # stride / leg = 2.4 Fr^0.34 below a Froude number of 1, 1.9 Fr^0.40 above.
        froude = (relative / 2.4) ** (1.0 / 0.34)
        if froude > 1.0:
            froude = (relative / 1.9) ** (1.0 / 0.40)
        return relative * leg / math.sqrt(max(froude, 1e-3) * GRAVITY * leg)


PRESETS: Mapping[str, Gait] = MappingProxyType({
    "walk": Gait(),
    "stroll": Gait(stride=(1.1, 1.1), duty=(0.66, 0.66), arm_swing=(14.0, 14.0), bob=0.03, hip_twist=4.0, sway=0.04),
    "run": Gait(stride=(2.6, 2.6), duty=(0.34, 0.34), lift=(0.3, 0.3), bob=0.09, height=0.94, lean=9.0, sway=0.01, hip_twist=9.0, shoulder_twist=10.0,
                roll=(0.35, 0.35), toe_out=(3.0, 3.0), arm_swing=(42.0, 42.0), elbow=85.0, width=0.5),
    "sneak": Gait(stride=(1.0, 1.0), period=1.9, duty=(0.72, 0.72), lift=(0.16, 0.16), bob=0.02, height=0.78, lean=22.0, sway=0.05, roll=(0.2, 0.2),
                  arm_swing=(10.0, 10.0), elbow=55.0),
    "limp": Gait(stride=(1.0, 1.0), period=1.35, duty=(0.5, 0.72), lift=(0.04, 0.07), bob=0.07, roll=(0.2, 0.9), arm_swing=(10.0, 22.0), sway=0.06, offset=0.4, lean=6.0),
    "tiptoe": Gait(stride=(0.9, 0.9), duty=(0.66, 0.66), height=1.06, roll=(0.0, 0.0), bob=0.02, lift=(0.1, 0.1), arm_swing=(8.0, 8.0), elbow=40.0),
    "amble": Gait(stride=(1.3, 1.3), duty=(0.68, 0.68), lift=(0.09, 0.09), bob=0.02, height=1.0, lean=0.0, sway=0.02, feet="walk", width=1.0, toe_out=(0.0, 0.0)),
    "trot": Gait(stride=(2.0, 2.0), duty=(0.46, 0.46), lift=(0.14, 0.14), bob=0.05, height=1.0, lean=0.0, sway=0.005, feet="trot", width=0.9, toe_out=(0.0, 0.0)),
    "canter": Gait(stride=(2.7, 2.7), duty=(0.36, 0.36), lift=(0.18, 0.18), bob=0.08, height=1.0, lean=0.0, sway=0.005, feet="canter", width=0.8, toe_out=(0.0, 0.0)),
})  # fmt: skip
FEET: Mapping[str, Mapping[str, float]] = MappingProxyType({
    "walk": MappingProxyType({"leg.l": 0.0, "foreleg.l": 0.25, "leg.r": 0.5, "foreleg.r": 0.75}),
    "trot": MappingProxyType({"leg.l": 0.0, "foreleg.r": 0.0, "leg.r": 0.5, "foreleg.l": 0.5}),
    "canter": MappingProxyType({"leg.r": 0.0, "leg.l": 0.28, "foreleg.r": 0.28, "foreleg.l": 0.56}),
})  # fmt: skip
"""When in the stride each foot of a four-legged body falls."""
LIMITS: Mapping[str, tuple[float, float]] = MappingProxyType({
    "stride": (0.05, 6.0), "period": (0.0, 30.0), "duty": (0.15, 0.9), "lift": (0.0, 1.0), "bob": (0.0, 0.5), "height": (0.5, 1.15), "lean": (-40.0, 60.0),
    "sway": (0.0, 0.4), "hip_twist": (0.0, 40.0), "shoulder_twist": (0.0, 50.0), "roll": (0.0, 1.5), "toe_out": (-40.0, 60.0), "arm_swing": (0.0, 90.0),
    "elbow": (0.0, 140.0), "steady": (0.0, 1.0), "width": (0.0, 3.0), "offset": (0.2, 0.8),
})  # fmt: skip


def gait_of(numbers: Mapping[str, Any], start: Gait | None = None) -> Gait:
    """A gait of numbers as JSON has them: `preset`, and any field; of those with two sides one number or a left and a right.

    Raises EditError for a number there is not, or one outside what makes sense: which, and between what.
    """
    told = dict(numbers)
    preset = told.pop("preset", None)
    if preset is not None and preset not in PRESETS:
        raise EditError(f"there is no gait {str(preset)[:40]}; there are {', '.join(PRESETS)}")
    result = PRESETS[preset] if preset is not None else (start or Gait())
    kinds = {f.name: f.type for f in fields(Gait)}
    for name, value in told.items():
        if name not in kinds:
            raise EditError(f"a gait has no number {str(name)[:40]}; it has {', '.join(kinds)}")
        if name == "feet":
            if value not in FEET:
                raise EditError(f"feet fall as {', '.join(FEET)}")
            result = replace(result, feet=value)
            continue
        low, high = LIMITS[name]
        two = kinds[name] == "Both"
        pair = value if isinstance(value, (list, tuple)) else [value] * (2 if two else 1)
        if len(pair) != (2 if two else 1) or not all(isinstance(v, (int, float)) and not isinstance(v, bool) and low <= v <= high for v in pair):
            raise EditError(f"{name} is {'one number, or a left and a right one,' if two else 'a number'} between {low:g} and {high:g}")
        told_value: Any = (float(pair[0]), float(pair[1])) if two else float(pair[0])
        result = replace(result, **{name: told_value})
    return result
