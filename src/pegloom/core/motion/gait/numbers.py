"""The numbers of a gait, told in shares of the leg's length so that they suit any body.

Figures of the presets: relative stride by speed after R. McN. Alexander and A. S. Jayes, "A dynamic similarity hypothesis for
the gaits of quadrupedal mammals", Journal of Zoology 201, 1983; cadence of people who walk after N. Sekiya and H. Nagasaki,
"Reproducibility of the walking patterns of normal young adults", Gait and Posture 7, 1998 (the walk ratio), of people who run
after P. R. Cavanagh and R. Kram, "Stride length in distance running", Medicine and Science in Sports and Exercise 21, 1989;
footfalls of four legs after M. Hildebrand, "Symmetrical gaits
of horses", Science 150, 1965, of many legs after D. M. Wilson, "Insect walking", Annual Review of Entomology 11, 1966; joint
courses of people after D. A. Winter, "Biomechanics and Motor Control of Human Movement"; birds' heads that hold still and are
thrust on after B. J. Frost, "The optokinetic basis of head-bobbing in the pigeon", Journal of Experimental Biology 74, 1978.
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
Fall = tuple[str, float, float]
"""A foot's part, when in the stride it falls, and the share of the stride it stands."""
GRAVITY = 9.81
HUMAN_LEG = 0.9
"""Metres a grown person's hips are high."""
WALK_RATIO = 0.0065
"""Of a walking person: metres of a step over steps a minute."""
RUN_CADENCE = 168.0
"""Steps a minute of a running person, at nearly any speed."""
SIDES = ("left", "right")
LIMITS: Mapping[str, tuple[float, float]] = MappingProxyType({
    "stride": (0.0, 6.0), "cadence": (0.0, 600.0), "duty": (0.15, 0.9), "lift": (0.0, 1.0), "bob": (0.0, 0.5), "height": (0.5, 1.15), "lean": (-40.0, 60.0),
    "sway": (0.0, 0.4), "hip_twist": (0.0, 40.0), "shoulder_twist": (0.0, 50.0), "roll": (0.0, 1.5), "toe_out": (-40.0, 60.0), "arm_swing": (0.0, 90.0),
    "elbow": (0.0, 140.0), "steady": (0.0, 1.0), "width": (0.0, 3.0), "offset": (0.2, 0.8), "nod": (0.0, 1.0), "fold": (0.0, 1.0),
})  # fmt: skip
FEET: Mapping[str, Mapping[str, float]] = MappingProxyType({
    "walk": MappingProxyType({"hind.l": 0.0, "fore.l": 0.25, "hind.r": 0.5, "fore.r": 0.75}),
    "amble": MappingProxyType({"hind.l": 0.0, "fore.l": 0.18, "hind.r": 0.5, "fore.r": 0.68}),
    "pace": MappingProxyType({"hind.l": 0.0, "fore.l": 0.0, "hind.r": 0.5, "fore.r": 0.5}),
    "trot": MappingProxyType({"hind.l": 0.0, "fore.r": 0.0, "hind.r": 0.5, "fore.l": 0.5}),
    "canter": MappingProxyType({"hind.r": 0.0, "hind.l": 0.28, "fore.r": 0.28, "fore.l": 0.56}),
    "threes": MappingProxyType({}),
    "wave": MappingProxyType({}),
})  # fmt: skip
"""When in the stride each foot of a four-legged body falls, the left leading; many legs go by threes or in a wave."""


@dataclass(frozen=True, slots=True)
class Gait:
    """Lengths in leg lengths, angles in degrees, shares 0 to 1.

    stride : from a footfall to the next of the same foot. cadence : steps a minute, two to a stride; 0 for what suits the body's
    size and the stride. duty : share of it a foot stands. lift : how high a foot goes. bob : how far the body goes up and down, from
    the lowest to the highest. height : of the hips, 1 stretched legs; less crouches, more goes on tiptoe. lean : of the trunk ahead.
    sway : from side to side. hip_twist, shoulder_twist : of the hips and against them of the shoulders, each way. roll : how far
    a foot rolls over its heel and ball, 1 as people do. toe_out : of the feet. arm_swing : of the upper arms, each way. elbow :
    how far elbows are bent. steady : how much the head stays level. width : between the feet, 1 as the hips are wide.
    offset : of the other foot's fall in the stride, 0.5 even. nod : how much the head holds its place between steps, as birds'
    do. fold : how much wings are folded. feet : the order of footfalls of more than two legs. lead : the side that leads it.
    falls : feet whose fall and stand are their own.

    Raises EditError for a number outside what makes sense.
    """

    stride: Both = (1.56, 1.56)
    cadence: float = 0.0
    duty: Both = (0.62, 0.62)
    lift: Both = (0.08, 0.08)
    bob: float = 0.04
    height: float = 0.97
    lean: float = 3.0
    sway: float = 0.03
    hip_twist: Both = (5.0, 5.0)
    shoulder_twist: Both = (6.0, 6.0)
    roll: Both = (1.0, 1.0)
    toe_out: Both = (7.0, 7.0)
    arm_swing: Both = (24.0, 24.0)
    elbow: Both = (18.0, 18.0)
    steady: float = 0.85
    width: float = 0.85
    offset: float = 0.5
    nod: float = 0.0
    fold: float = 0.0
    feet: str = "walk"
    lead: str = "left"
    falls: tuple[Fall, ...] = ()

    def __post_init__(self) -> None:
        for name, (low, high) in LIMITS.items():
            held = getattr(self, name)
            if not all(low <= v <= high for v in (held if isinstance(held, tuple) else (held,))):
                raise EditError(f"{name} lies between {low:g} and {high:g}")
        if self.feet not in FEET:
            raise EditError(f"feet fall as {', '.join(FEET)}")
        if self.lead not in SIDES:
            raise EditError("the lead is left or right")
        low, high = LIMITS["duty"]
        if not all(0.0 <= fall < 1.0 and low <= stands <= high for _, fall, stands in self.falls):
            raise EditError(f"a foot falls at 0 to 1 of the stride, and stands {low:g} to {high:g} of it")

    def seconds(self, leg: float, body: str = "two") -> float:
        """The period (seconds) of a body with legs of a length (metres): its own, or what that stride is gone at."""
        if self.cadence > 0.0:
            return 120.0 / self.cadence
        relative = max(0.5 * (self.stride[0] + self.stride[1]), 0.3)
        if body == "two":
            # Pendulums: a leg half as long goes the quicker by the root of two.
            own = math.sqrt(HUMAN_LEG / leg)
            running = 0.5 * (self.duty[0] + self.duty[1]) < 0.5
            return 120.0 / (own * (RUN_CADENCE if running else max(0.5 * relative * HUMAN_LEG / WALK_RATIO, 40.0)))
        # stride / leg = 2.4 Fr^0.34 below a Froude number of 1, 1.9 Fr^0.40 above.
        froude = (relative / 2.4) ** (1.0 / 0.34)
        if froude > 1.0:
            froude = (relative / 1.9) ** (1.0 / 0.40)
        return relative * leg / math.sqrt(max(froude, 1e-3) * GRAVITY * leg)

    def across(self) -> Gait:
        """The same gait of the other side: a limp changes its leg."""
        both = {f.name: (getattr(self, f.name)[1], getattr(self, f.name)[0]) for f in fields(self) if f.type == "Both"}
        falls = tuple((f"{part[:-1]}{'r' if part.endswith('.l') else 'l'}", fall, stands) for part, fall, stands in self.falls)
        return replace(self, lead=SIDES[1 - SIDES.index(self.lead)], falls=falls, **both)  # type: ignore[arg-type]


_LIMP = Gait(stride=(1.0, 1.0), cadence=89.0, duty=(0.5, 0.72), lift=(0.04, 0.07), bob=0.07, roll=(0.2, 0.9), arm_swing=(10.0, 22.0), sway=0.06, offset=0.4, lean=6.0)
_FOUR: dict[str, Any] = {"height": 1.0, "lean": 0.0, "toe_out": (0.0, 0.0)}
_BIRD: dict[str, Any] = {"fold": 1.0, "height": 0.97, "lean": 0.0, "toe_out": (3.0, 3.0), "roll": (0.6, 0.6), "hip_twist": (3.0, 3.0), "shoulder_twist": (1.0, 1.0), "width": 0.8}
PRESETS: Mapping[str, Mapping[str, Gait]] = MappingProxyType({
    "two": MappingProxyType({
        "walk": Gait(),
        "stroll": Gait(stride=(1.25, 1.25), duty=(0.66, 0.66), arm_swing=(14.0, 14.0), bob=0.03, hip_twist=(4.0, 4.0), sway=0.04),
        "march": Gait(stride=(1.6, 1.6), cadence=116.0, duty=(0.6, 0.6), lift=(0.2, 0.2), lean=0.0, arm_swing=(42.0, 42.0), elbow=(12.0, 12.0), sway=0.015, hip_twist=(3.0, 3.0),
                      toe_out=(4.0, 4.0)),
        "jog": Gait(stride=(1.9, 1.9), duty=(0.42, 0.42), lift=(0.2, 0.2), bob=0.08, height=0.95, lean=6.0, sway=0.015, hip_twist=(7.0, 7.0), shoulder_twist=(9.0, 9.0),
                    roll=(0.5, 0.5), toe_out=(4.0, 4.0), arm_swing=(30.0, 30.0), elbow=(80.0, 80.0), width=0.6),
        "run": Gait(stride=(2.6, 2.6), duty=(0.34, 0.34), lift=(0.3, 0.3), bob=0.09, height=0.94, lean=9.0, sway=0.01, hip_twist=(9.0, 9.0), shoulder_twist=(10.0, 10.0),
                    roll=(0.35, 0.35), toe_out=(3.0, 3.0), arm_swing=(42.0, 42.0), elbow=(85.0, 85.0), width=0.5),
        "sneak": Gait(stride=(1.0, 1.0), cadence=63.0, duty=(0.72, 0.72), lift=(0.16, 0.16), bob=0.02, height=0.78, lean=22.0, sway=0.05, roll=(0.2, 0.2),
                      arm_swing=(10.0, 10.0), elbow=(55.0, 55.0)),
        "limp left": _LIMP,
        "limp right": _LIMP.across(),
        "shuffle": Gait(stride=(0.55, 0.55), cadence=84.0, duty=(0.74, 0.74), lift=(0.015, 0.015), bob=0.01, height=0.93, lean=14.0, sway=0.035, roll=(0.1, 0.1),
                        arm_swing=(5.0, 5.0), elbow=(35.0, 35.0), toe_out=(14.0, 14.0), width=1.1, steady=0.3),
        "tiptoe": Gait(stride=(0.9, 0.9), duty=(0.66, 0.66), height=1.06, roll=(0.0, 0.0), bob=0.02, lift=(0.1, 0.1), arm_swing=(8.0, 8.0), elbow=(40.0, 40.0)),
    }),
    "bird": MappingProxyType({
        "walk": Gait(stride=(1.2, 1.2), duty=(0.66, 0.66), lift=(0.2, 0.2), bob=0.025, sway=0.03, nod=0.8, **_BIRD),
        "stalk": Gait(stride=(1.1, 1.1), cadence=55.0, duty=(0.76, 0.76), lift=(0.32, 0.32), bob=0.01, sway=0.04, nod=0.9, **(_BIRD | {"height": 0.9, "lean": 6.0})),
        "run": Gait(stride=(2.2, 2.2), duty=(0.4, 0.4), lift=(0.3, 0.3), bob=0.05, sway=0.01, nod=0.0, **(_BIRD | {"lean": 8.0})),
    }),
    "four": MappingProxyType({
        "walk": Gait(stride=(1.2, 1.2), duty=(0.66, 0.66), lift=(0.1, 0.1), bob=0.02, sway=0.025, width=1.0, **_FOUR),
        "amble": Gait(stride=(1.3, 1.3), duty=(0.6, 0.6), lift=(0.09, 0.09), bob=0.02, sway=0.02, feet="amble", width=1.0, **_FOUR),
        "pace": Gait(stride=(1.8, 1.8), duty=(0.5, 0.5), lift=(0.12, 0.12), bob=0.03, sway=0.035, feet="pace", width=0.95, **_FOUR),
        "trot": Gait(stride=(2.0, 2.0), duty=(0.46, 0.46), lift=(0.14, 0.14), bob=0.05, sway=0.005, feet="trot", width=0.9, **_FOUR),
        "canter": Gait(stride=(2.7, 2.7), duty=(0.36, 0.36), lift=(0.18, 0.18), bob=0.08, sway=0.005, feet="canter", width=0.8, **_FOUR),
        "sneak": Gait(stride=(0.9, 0.9), cadence=60.0, duty=(0.74, 0.74), lift=(0.14, 0.14), bob=0.01, sway=0.02, **(_FOUR | {"height": 0.86, "lean": 4.0})),
    }),
    "many": MappingProxyType({
        "walk": Gait(stride=(0.9, 0.9), duty=(0.58, 0.58), lift=(0.16, 0.16), bob=0.01, sway=0.0, feet="threes", hip_twist=(1.5, 1.5), width=1.0, **_FOUR),
        "crawl": Gait(stride=(0.6, 0.6), cadence=60.0, duty=(0.84, 0.84), lift=(0.14, 0.14), bob=0.005, sway=0.0, feet="wave", hip_twist=(1.0, 1.0), width=1.0, **_FOUR),
        "run": Gait(stride=(1.4, 1.4), duty=(0.5, 0.5), lift=(0.2, 0.2), bob=0.02, sway=0.0, feet="threes", hip_twist=(2.0, 2.0), width=1.0, **_FOUR),
    }),
})  # fmt: skip
"""Gaits by how many legs a body has."""
ALSO: Mapping[str, str] = MappingProxyType({"limp": "limp left", "strut": "walk"})
"""Other names of presets."""


def gait_of(numbers: Mapping[str, Any], start: Gait | None = None, body: str = "two") -> Gait:
    """A gait of numbers as JSON has them: `preset`, and any field; of those with two sides one number or a left and a right;
    `period`, seconds of a stride, instead of a cadence.

    body : two, bird, four or many, see PRESETS. Raises EditError for a number there is not, or one outside what makes sense.
    """
    told = dict(numbers)
    preset = told.pop("preset", None)
    result = start or next(iter(PRESETS[body].values()))
    if preset is not None:
        known = PRESETS[body]
        name = str(preset) if str(preset) in known else ALSO.get(str(preset), str(preset))
        if name not in known:
            raise EditError(f"there is no gait {str(preset)[:40]} for this body; there are {', '.join(known)}")
        result = known[name]
    if "period" in told:
        period = told.pop("period")
        if not _is_number(period) or not (period == 0 or 0.2 <= period <= 30.0):
            raise EditError("period is a number between 0.2 and 30, or 0")
        told["cadence"] = 120.0 / period if period else 0.0
    kinds = {f.name: f.type for f in fields(Gait)}
    changed: dict[str, Any] = {}
    for name, value in told.items():
        if name not in kinds:
            raise EditError(f"a gait has no number {str(name)[:40]}; it has {', '.join(kinds)}")
        changed[name] = _value(name, kinds[name], value)
    return replace(result, **changed)


def _value(name: str, kind: Any, value: Any) -> Any:
    if kind == "str":
        if not isinstance(value, str):
            raise EditError(f"{name} is a word")
        return value
    if name == "falls":
        if not isinstance(value, Mapping) or not all(isinstance(v, (list, tuple)) and len(v) == 2 and all(_is_number(x) for x in v) for v in value.values()):
            raise EditError("falls are told by foot, each when it falls and how long it stands, shares of the stride")
        return tuple((str(part)[:40], float(v[0]), float(v[1])) for part, v in value.items())
    low, high = LIMITS[name]
    two = kind == "Both"
    pair = value if isinstance(value, (list, tuple)) else [value] * (2 if two else 1)
    if len(pair) != (2 if two else 1) or not all(_is_number(v) and low <= v <= high for v in pair):
        raise EditError(f"{name} is {'one number, or a left and a right one,' if two else 'a number'} between {low:g} and {high:g}")
    return (float(pair[0]), float(pair[1])) if two else float(pair[0])


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def plain_of(gait: Gait) -> dict[str, Any]:
    """A gait as JSON: what `gait_of` reads."""
    told = {f.name: getattr(gait, f.name) for f in fields(gait)}
    return {k: list(v) if f"{Gait.__annotations__[k]}" == "Both" else v for k, v in told.items() if k != "falls"} | {
        "falls": {part: [fall, stands] for part, fall, stands in gait.falls}
    }
