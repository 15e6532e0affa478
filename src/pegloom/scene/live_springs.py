"""Follow-through while a hand moves something: springs that go on by the clock on the wall. A preview, never kept."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.follow_through import TICK
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.springs import NUMBERS
from pegloom.core.skeleton.joints import Skeleton

LEAST_STEP = 0.008
"""Seconds within which it is not asked twice."""
MOST_TICKS = 24
"""Ticks caught up at once: after a stall they go on from where they are."""
STILL = 1e-4
"""Heights a tip goes in a second, and stands off, where it hangs still."""


class LiveSprings:
    """Springs over a pose that changes."""

    def __init__(self, skeleton: Skeleton, rig: ControlRig, pose: Pose, now: float) -> None:
        self.plan = make_plan(skeleton, rig)
        self.rig, self.now = rig, now
        self.values = rig.slots.vector(pose)
        self.state = self._hanging(self.values)
        self.still = False

    def _hanging(self, values: FloatArray) -> FloatArray:
        state = np.zeros(self.plan.state)
        walk.walk(*self.plan.arrays, values.copy(), np.empty(self.plan.local.shape), state, -1.0)
        return state

    def at(self, pose: Pose, now: float) -> FloatArray:
        """The state (s,) at a moment (seconds of any steady clock), the pose having come to `pose` by then."""
        if now - self.now < LEAST_STEP:
            return self.state
        ticks = min(int((now - self.now) / TICK), MOST_TICKS)
        if ticks < 1:
            return self.state
        goes_to = self.rig.slots.vector(pose)
        share = (1 + np.arange(ticks))[:, None] / ticks
        states = np.empty((ticks + 1, self.plan.state))
        states[0] = self.state
        walk.walk_ticks(*self.plan.arrays, self.values + share * (goes_to - self.values), states, TICK)
        self.state, self.values, self.now = states[-1].copy(), goes_to, now
        hangs, size = self._hanging(goes_to).reshape(-1, NUMBERS), self.plan.rests.height
        gap = np.abs(self.state.reshape(-1, NUMBERS) - hangs).max(initial=0.0)
        self.still = bool(gap < STILL * size)
        return self.state
