"""Follow-through in time: what a clip's springs remember at any moment, whatever way it was come to.

Springs go on in ticks of 1/120 second from the clip's first frame, where they hang and go as what carries them goes: a clip
that begins at full speed does not jerk them. A state is therefore a function of
rig, clip and time alone: played, scrubbed, jumped to or baked, at any frame rate, a moment looks the same. Between two ticks
their states are mixed.
"""

from __future__ import annotations

import threading
import time as clock

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.memo import of_the_latest
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import joints_at
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.plan import Plan, make_plan
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.springs import NUMBERS
from pegloom.core.skeleton.joints import Skeleton

TICK = 1.0 / 120.0
KEPT = 8
"""Every so many ticks the state is kept; those between are gone through again."""
AT_ONCE = 240
"""Ticks gone through at once."""
STILL = Pose()


class SpringTrack:
    """States of a clip's springs, worked out as far as somebody asked."""

    def __init__(self, skeleton: Skeleton, rig: ControlRig, clip: Clip, base: Pose) -> None:
        self.plan, self.rig, self.clip, self.base = make_plan(skeleton, rig), rig, clip, base
        self.lock = threading.Lock()
        self.kept = [self._first()]

    def _first(self) -> FloatArray:
        state = np.zeros(self.plan.state)
        values = values_at(self.clip, np.zeros(1), self.rig, self.base)[0]
        walk.walk(*self.plan.arrays, values, np.empty(self.plan.local.shape), state, -1.0)
        after = np.zeros(self.plan.state)
        walk.walk(*self.plan.arrays, values_at(self.clip, np.array([TICK]), self.rig, self.base)[0], np.empty(self.plan.local.shape), after, -1.0)
        here, there = state.reshape(-1, NUMBERS), after.reshape(-1, NUMBERS)
        here[:, 3:6] = (there[:, :3] - here[:, :3]) / TICK
        return state

    def reaches(self, time: float) -> bool:
        """Whether the state at a time (seconds) is known without going on."""
        return (len(self.kept) - 1) * KEPT * TICK >= time

    def go_on(self, time: float, seconds: float = np.inf) -> bool:
        """Go on until a time (seconds) of the clip; stop after `seconds` of work. Whether it got there."""
        begun = clock.monotonic()
        while not self.reaches(time):
            with self.lock:
                if not self.reaches(time):
                    done = (len(self.kept) - 1) * KEPT
                    states = self._ticks(self.kept[-1], done, AT_ONCE)
                    self.kept += list(states[KEPT::KEPT])
            if clock.monotonic() - begun > seconds:
                return self.reaches(time)
        return True

    def _ticks(self, state: FloatArray, done: int, count: int) -> FloatArray:
        """States (count + 1, s) from one after `done` ticks on."""
        times = np.asarray((done + 1 + np.arange(count)) * TICK, dtype=np.float64)
        states = np.empty((count + 1, self.plan.state))
        states[0] = state
        walk.walk_ticks(*self.plan.arrays, values_at(self.clip, times, self.rig, self.base), states, TICK)
        return states

    def at(self, time: float) -> FloatArray:
        """The state (s,) at a time (seconds); before the clip begins that of its first frame."""
        ticks = max(time, 0.0) / TICK
        whole = int(np.floor(ticks + 1e-9))
        share = max(ticks - whole, 0.0)
        self.go_on((whole + 1) * TICK)
        block = whole // KEPT
        more = whole - block * KEPT
        states = self._ticks(self.kept[block], block * KEPT, more + 1)
        return np.asarray(states[more] if share < 1e-9 else (1.0 - share) * states[more] + share * states[more + 1])

    def many(self, times: FloatArray) -> FloatArray:
        """`at` of many times (k,): (k, s). What lies close together is gone through once."""
        result = np.empty((len(times), self.plan.state))
        if not len(times):
            return result
        ticks = np.maximum(times, 0.0) / TICK
        whole = np.floor(ticks + 1e-9).astype(np.int64)
        share = np.maximum(ticks - whole, 0.0)
        share[share < 1e-9] = 0.0
        self.go_on(float(whole.max() + 1) * TICK)
        order = np.argsort(whole, kind="stable")
        at = 0
        while at < len(order):
            first = int(whole[order[at]]) // KEPT * KEPT
            # As many as lie within one stretch, which ends with the last of them.
            end = at + int(np.searchsorted(whole[order[at:]], first + AT_ONCE))
            rows = order[at:end]
            states = self._ticks(self.kept[first // KEPT], first, int(whole[rows[-1]]) - first + 1)
            here, part = whole[rows] - first, share[rows, None]
            result[rows] = (1.0 - part) * states[here] + part * states[here + 1]
            at = end
        return result


@of_the_latest(12)
def track_of(skeleton: Skeleton, rig: ControlRig, clip: Clip, base: Pose) -> SpringTrack:
    """The one track of a clip on a rig, over the pose that channels without keys have."""
    return SpringTrack(skeleton, rig, clip, base)


def has_springs(skeleton: Skeleton | None, rig: ControlRig | None, clip: Clip | None) -> bool:
    """Whether a clip has something that follows through."""
    return skeleton is not None and rig is not None and bool(rig.springs) and clip is not None and not clip.tracks


def state_at(skeleton: Skeleton | None, rig: ControlRig | None, clip: Clip | None, base: Shown, time: float) -> FloatArray:
    """What springs remember at a time of a clip (s,); empty where nothing follows through."""
    if not has_springs(skeleton, rig, clip):
        return walk.SETTLED
    return track_of(skeleton, rig, clip, _controls(base)).at(time)


def _controls(base: Shown) -> Pose:
    return base if isinstance(base, Pose) else STILL


def nodes_of(skeleton: Skeleton, rig: ControlRig, clip: Clip, times: FloatArray, base: Shown) -> FloatArray:
    """Controls, then joints (k, c + j, 4, 4) of a clip on controls at some times (k,), springs and all."""
    plan, values = make_plan(skeleton, rig), values_at(clip, times, rig, base)
    last = len(rig.controls) + len(skeleton.joints)
    result = np.empty((len(times), last, 4, 4))
    if not plan.state:
        walk.walk_many(*plan.arrays, values, 0, last, result)
        return result
    return _shown(plan, values, _states(skeleton, rig, clip, times, base), result)


def joints_of(skeleton: Skeleton, rig: ControlRig, clip: Clip, times: FloatArray, base: Shown) -> FloatArray:
    """character_from_joint (k, j, 4, 4) alone, as `nodes_of` has it."""
    if not rig.springs:
        return joints_at(skeleton, rig, values_at(clip, times, rig, base))
    return nodes_of(skeleton, rig, clip, times, base)[:, len(rig.controls) :]


def _states(skeleton: Skeleton, rig: ControlRig, clip: Clip, times: FloatArray, base: Shown) -> FloatArray:
    return track_of(skeleton, rig, clip, _controls(base)).many(times)


def _shown(plan: Plan, values: FloatArray, states: FloatArray, result: FloatArray) -> FloatArray:
    walk.walk_shown(*plan.arrays, values, states, result)
    return result
