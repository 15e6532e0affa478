"""Follow-through, compiled: a chain's tips pulled along by springs.

A spring's state is where its tip is, how fast it goes, and where it belonged, nine numbers a joint; nothing else is
remembered. A tick is the closed form of a damped oscillator about a target that goes on evenly for the tick: no setting and
no length of a tick makes it run away. What is damped is how the tip goes against what carries it, so a body that goes
evenly, however fast, does not trail it.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    at,
    flip,
    least_turn,
    norm,
    on,
    product,
    size_of,
    times,
    turn_vector,
    vector_turn,
)

FARTHEST = 2.0
"""Lengths of its bone a tip strays from where it belongs at most."""
NEAREST = 0.05
"""Lengths of its bone from the joint within which a tip gives no direction."""
LEAST_MASS = 1e-6


@njit(cache=True)
def swung(offset, speed, mass, stiffness, damping, seconds):
    """An offset and its speed (each one number) after some seconds of mass x'' = -stiffness x - damping x'."""
    decay = damping / (2.0 * mass)
    square = stiffness / mass
    under = square - decay * decay
    fading = np.exp(-min(decay * seconds, 700.0))
    if under > 1e-12 * (square + 1.0):
        w = np.sqrt(under)
        c, s = np.cos(w * seconds), np.sin(w * seconds)
        a, b = offset, (speed + decay * offset) / w
        return fading * (a * c + b * s), fading * ((b * w - a * decay) * c - (a * w + b * decay) * s)
    if under > -1e-12 * (square + 1.0):
        b = speed + decay * offset
        return fading * (offset + b * seconds), fading * (b - decay * (offset + b * seconds))
    w = np.sqrt(-under)
    slow, fast = -decay + w, -decay - w
    if square <= 0.0:
        slow, fast = 0.0, -2.0 * decay
    elif decay > 0.0:
        # The small one of two unlike roots from the other: their difference would lose it.
        slow = square / fast
    b = (speed - slow * offset) / (fast - slow)
    a = offset - b
    e, g = np.exp(max(slow * seconds, -700.0)), np.exp(max(fast * seconds, -700.0))
    return a * e + b * g, a * slow * e + b * fast * g


@njit(cache=True)
def spring(world, ints, values, floats, state, seconds):
    """A spring's joints, in place, from base to tip; each begins with where its joint stands stiff.

    ints : slots of amount, swing, drift (-1: 1, 1, 0), mass, stiffness, damping, gravity; where its state begins; whether
    its joints stand by themselves (1: each is carried by the one before); how many joints; the joints.
    floats : a joint each its tip in its own axes (3) and its turn at rest (9).
    state : empty: settled. seconds : less than 0 puts every tip where it belongs, at rest; 0 shows the state; more
    goes on from it, in place.
    """
    amount, swing, drift = at(values, ints[0], 1.0), at(values, ints[1], 1.0), at(values, ints[2], 0.0)
    mass, stiffness = max(values[ints[3]], LEAST_MASS), max(values[ints[4]], 0.0)
    damping, gravity = max(values[ints[5]], 0.0), values[ints[6]]
    begin, carried, count = ints[7], ints[8] == 1, ints[9]
    stiff_before, before = np.eye(4), np.eye(4)
    for k in range(count):
        node, f = ints[10 + k], 12 * k
        here = world[node].copy()
        if carried and k > 0:
            # What worked the chain out placed it stiff: it is hung on the one before as that swings now.
            stiff = here.copy()
            here = product(before, product(_undone(stiff_before), stiff))
            stiff_before = stiff
        elif carried:
            stiff_before = here.copy()
        size = size_of(here)
        turn = here[:3, :3] / size
        place = here[:3, 3].copy()
        reach = on(turn, floats[f : f + 3]) * size
        length = norm(reach)
        belongs = place + reach
        if gravity != 0.0 and length > 0.0:
            belongs = belongs + _sag(turn, floats[f + 3 : f + 12], gravity * size, mass, stiffness, 0.9 * length)
        tip = belongs.copy()
        if len(state) > 0:
            s = begin + 9 * k
            if seconds < 0.0:
                state[s : s + 3] = belongs
                state[s + 3 : s + 6] = 0.0
                state[s + 6 : s + 9] = belongs
            elif seconds > 0.0:
                for a in range(3):
                    carried_on = (belongs[a] - state[s + 6 + a]) / seconds
                    gone, speed = swung(state[s + a] - state[s + 6 + a], state[s + 3 + a] - carried_on, mass, stiffness, damping, seconds)
                    state[s + a], state[s + 3 + a], state[s + 6 + a] = belongs[a] + gone, carried_on + speed, belongs[a]
                gap = state[s : s + 3] - belongs
                far = norm(gap)
                if far > FARTHEST * length:
                    state[s : s + 3] = belongs + gap * (FARTHEST * length / far)
                    outward = max(np.sum(state[s + 3 : s + 6] * gap) / far, 0.0)
                    state[s + 3 : s + 6] -= gap / far * outward
            tip = state[s : s + 3].copy()
        to_tip = tip - place
        span = norm(to_tip)
        if amount > 0.0 and length > 0.0 and span > NEAREST * length:
            bend = turn_vector(least_turn(reach / length, to_tip / span)) * (amount * swing)
            turn = times(vector_turn(bend), turn)
        place = place + (tip - (here[:3, 3] + reach)) * (amount * drift)
        for i in range(3):
            for j in range(3):
                world[node, i, j] = turn[i, j] * size
            world[node, i, 3] = place[i]
        before = world[node].copy()


@njit(cache=True)
def _sag(turn, rest, gravity, mass, stiffness, most):
    """How far weight pulls a tip from where it hangs at rest: what of the pull has another direction there."""
    away = times(turn, flip(rest.reshape(3, 3)))
    pull = np.array([0.0, -gravity, 0.0])
    gap = (pull - on(away, pull)) * (mass / max(stiffness, 1e-9))
    far = norm(gap)
    # Eased, so that a soft spring hangs and does not fall out of itself.
    return gap * (most * np.tanh(far / most) / far) if far > 1e-15 else gap


@njit(cache=True)
def _undone(m):
    """The inverse of a place (4, 4) that turns, scales evenly and moves."""
    size = size_of(m)
    back = flip(m[:3, :3]) / (size * size)
    out = np.eye(4)
    out[:3, :3] = back
    out[:3, 3] = -on(back, m[:3, 3])
    return out
