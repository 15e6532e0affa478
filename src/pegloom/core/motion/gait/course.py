"""How a gait goes on in time: evenly, or from standing and to a stand."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.retarget.turns import smooth

HOLD = 0.15
"""Strides for which it stands before the first foot leaves and after the last has come down, at least."""
WEIGHT = 0.4
"""Strides before the start at which the weight begins to go over, and after the end at which it is back."""
RAMP = 0.8
"""Strides it takes to come to its speed, and to a stand."""
SETTLE = 0.15
"""Strides the body goes on after the last foot has come down."""


@dataclass(frozen=True, slots=True)
class Course:
    """strides : how many. period : seconds of one. length : metres of one at full speed. start, stop : whether it begins and
    ends standing. before, after : strides it stands there. Phases are strides, 0 where the first foot falls, or would."""

    strides: float
    period: float
    length: float
    start: bool = False
    stop: bool = False
    before: float = 0.3
    after: float = 0.3

    @property
    def first(self) -> float:
        """The phase it begins at."""
        return -self.before if self.start else 0.0

    @property
    def last(self) -> float:
        """The phase it ends at."""
        return self.strides + (SETTLE + self.after if self.stop else 0.0)

    @property
    def seconds(self) -> float:
        return (self.last - self.first) * self.period

    def phases(self, times: FloatArray) -> FloatArray:
        """Phases (k,) at times (k,), seconds from its beginning."""
        return np.asarray(self.first + times / self.period)

    def along(self, phases: FloatArray) -> FloatArray:
        """Metres gone (k,) at phases (k,)."""
        gone = np.asarray(phases, dtype=np.float64)
        if self.start:
            gone = _eased(gone, 0.0)
        if self.stop:
            gone = gone - _eased(np.asarray(phases, dtype=np.float64), self.strides + SETTLE - RAMP)
        return np.asarray(self.length * gone)

    def share(self, phases: FloatArray, ahead: float = 0.0) -> FloatArray:
        """How much of the gait is on (k,), 0 standing to 1. ahead : strides it comes on sooner and goes later."""
        result = np.ones_like(phases)
        if self.start:
            result = result * smooth(phases, -0.05 - ahead, 0.55 - ahead)
        if self.stop:
            end = self.strides + SETTLE
            result = result * smooth(phases, end + 0.05 + ahead, end - 0.55 + ahead)
        return result

    def numbers(self, fall: float, stands: float) -> tuple[float, float]:
        """The first and the last stance of a foot that falls and stands at shares of a stride: what it stands in at the
        beginning and at the end, where it stands there at all. It leaves before the body is further on than it is as the foot
        leaves at full speed, and comes down last as near to where the body stops."""
        most = _phase_of(0.5 * stands)
        first = np.ceil(most - 1.0 + 1e-9 - fall - stands) if self.start else -np.inf
        last = np.ceil(self.strides + SETTLE - most - 1e-9 - fall) if self.stop else np.inf
        return float(first), float(max(last, first + 1.0))

    def held(self, falls: Iterable[tuple[float, float]]) -> Course:
        """The course with time to stand for feet that fall and stand at shares of a stride."""
        ends = [(fall, stands, *self.numbers(fall, stands)) for fall, stands in falls]
        # A foot rolls off, and the weight goes over the other, before it leaves.
        before = max((0.45 * stands - (first + fall + stands) for fall, stands, first, _ in ends), default=0.0) if self.start else 0.0
        after = max((last + fall - self.strides - SETTLE for fall, _, _, last in ends), default=0.0) if self.stop else 0.0
        return replace(self, before=max(before, WEIGHT) + HOLD, after=max(after + HOLD, WEIGHT) + HOLD)


def _eased(phases: FloatArray, begin: float) -> FloatArray:
    """The integral of a rise from 0 to 1 over RAMP strides."""
    u = np.clip((phases - begin) / RAMP, 0.0, 1.0)
    return np.asarray(RAMP * (u**3 - 0.5 * u**4) + np.maximum(phases - begin - RAMP, 0.0))


def _phase_of(gone: float) -> float:
    """The phase at which a start has gone so many strides."""
    phases = np.linspace(0.0, 2.0 * RAMP, 400)
    return float(np.interp(gone, _eased(phases, 0.0), phases))
