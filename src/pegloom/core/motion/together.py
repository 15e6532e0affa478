"""How several characters of one document stand in a world, and what they play on one common time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import compose, decompose

SMALLEST, LARGEST = 1e-4, 1e4
"""Sizes a figure may stand at, as factors of its own."""
MOST_STANDS = 200
"""Stands of one figure."""


@dataclass(frozen=True, slots=True)
class Stance:
    """Where something stands in something else. at : metres. turn : quaternion x y z w. scale : even."""

    at: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    scale: float = 1.0

    @property
    def matrix(self) -> FloatArray:
        """parent_from_child, 4x4."""
        return compose(self.at, self.turn, (self.scale,) * 3)

    @property
    def heading(self) -> float:
        """Radians it is turned about the upright: where its own +Z looks."""
        x, _, z = self.matrix[:3, 2] / self.scale
        return float(np.arctan2(x, z))


def stance_of(matrix: FloatArray) -> Stance:
    """The stance a matrix (4, 4) of place, turn and even scale tells."""
    at, turn, scale = decompose(matrix)
    x, y, z = (float(v) for v in at)
    a, b, c, d = (float(v) for v in turn)
    return Stance((x, y, z), (a, b, c, d), float(np.mean(scale)))


@dataclass(frozen=True, slots=True)
class Stand:
    """From a moment on, a figure stands in the world or is carried by another one.

    start : seconds of the common time; the first of a figure's counts before it, too.
    carrier : id of the character that carries it; "" for the world.
    joint : of the carrier, whose place and rotation it follows; "" for the carrier itself.
    stance : in the world, or in the joint.
    """

    start: float = 0.0
    carrier: str = ""
    joint: str = ""
    stance: Stance = Stance()


@dataclass(frozen=True, slots=True)
class StandIn:
    """A control that stands in for something of another character: what follows it follows that.

    control : id of a helper of one's own, whose channels are worked out from the other's motion.
    character, joint : ids of what it stands in for; joint "" for the character itself.
    """

    control: str
    character: str
    joint: str = ""


@dataclass(frozen=True, slots=True)
class Figure:
    """A character's part in its document's world.

    shown : whether it is seen, filmed and exported with the others.
    stands : one after the other in time, at least one.
    clip : id of the one it plays beside the others; "" for its pose.
    start : seconds of the common time at which that clip begins. loops : it begins anew at its end.
    """

    shown: bool = True
    stands: tuple[Stand, ...] = (Stand(),)
    clip: str = ""
    start: float = 0.0
    loops: bool = False

    def stand_at(self, time: float) -> int:
        """The number of the stand that counts at a time (seconds)."""
        later = [k for k, one in enumerate(self.stands) if one.start <= time + 1e-9]
        return later[-1] if later else 0

    def own_time(self, time: float, length: float) -> float:
        """Seconds within its clip, of a length (seconds), at a common time."""
        own = time - self.start
        if self.loops and length > 1e-9:
            return own % length
        return min(max(own, 0.0), length)


ALONE = Figure()
"""Of a character nobody has put anywhere."""


def rigid(matrix: FloatArray) -> FloatArray:
    """Place and rotation (4, 4) of a joint, without what it is stretched or scaled by: a thing in a hand keeps its size."""
    at, turn, _ = decompose(matrix)
    return compose(at, turn)
