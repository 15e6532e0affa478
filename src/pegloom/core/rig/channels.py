"""Channels: the numbers an animator changes, each with its unit, rest and limits."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum
from math import pi


class Quantity(Enum):
    """What a channel's number is. Inside: metres, radians, plain factors and shares."""

    LENGTH = "length"
    ANGLE = "angle"
    FACTOR = "factor"
    """A multiple of the own size, 1 at rest."""
    SHARE = "share"
    """0 to 1."""
    NUMBER = "number"
    SWITCH = "switch"
    """0 or 1."""
    CHOICE = "choice"
    """One of some options, by its number from 0."""

    @property
    def on_screen(self) -> float:
        """How many units of the screen make one inside: centimetres, degrees, else the same."""
        return {Quantity.LENGTH: 100.0, Quantity.ANGLE: 180.0 / pi}.get(self, 1.0)


@dataclass(frozen=True, slots=True)
class Channel:
    """One number of a pose.

    key : its name in curves and references.
    rest : its value where nothing is posed.
    low, high : limits that hold whatever asks for more.
    soft : how far before a limit it starts to ease in.
    locked : nobody changes it by hand.
    shown : whether it stands among its control's values.
    opposed : whether it runs the other way in a mirror, as a turn about a line does; move and rotate are told by frames.
    options : of a choice, by name.
    """

    key: str
    title: str
    quantity: Quantity
    rest: float = 0.0
    low: float | None = None
    high: float | None = None
    soft: float = 0.0
    locked: bool = False
    shown: bool = True
    opposed: bool = False
    options: tuple[str, ...] = ()


MOVE = ("move_x", "move_y", "move_z")
ROTATE = ("rotate_x", "rotate_y", "rotate_z")
SCALE = "scale"
BLEND = "blend"
TRANSFORM = (*MOVE, *ROTATE, SCALE)
"""Channels that place a control on its base, in the order the kernels take them."""
LEAST_SCALE = 0.01

USUAL = {
    **{k: Channel(k, f"move {k[-1]}", Quantity.LENGTH) for k in MOVE},
    **{k: Channel(k, f"rotate {k[-1]}", Quantity.ANGLE) for k in ROTATE},
    SCALE: Channel(SCALE, "scale", Quantity.FACTOR, 1.0, low=LEAST_SCALE),
    BLEND: Channel(BLEND, "blend", Quantity.SHARE, 0.0, low=0.0, high=1.0),
}
"""The channels the recipe makes, by key."""


def channels_of(keys: Iterable[str], *, blend: float = 0.0) -> tuple[Channel, ...]:
    """The usual channels of those keys. blend: where a limb's blend rests."""
    return tuple(replace(USUAL[k], rest=blend) if k == BLEND else USUAL[k] for k in keys)
