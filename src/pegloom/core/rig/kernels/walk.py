"""The compiled walk through a plan: one row a step, for one moment or many.

Nothing is kept between two calls: the values it limits and the places it works out belong to whoever calls, so that one
plan may be walked on several threads at once.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import at, put_channels, put_product
from pegloom.core.rig.kernels.bend import bend
from pegloom.core.rig.kernels.body import body, limited_chain
from pegloom.core.rig.kernels.chain import chain
from pegloom.core.rig.kernels.formula import couple
from pegloom.core.rig.kernels.halfway import halfway
from pegloom.core.rig.kernels.hold import hold
from pegloom.core.rig.kernels.limb import limb
from pegloom.core.rig.kernels.spline import spline
from pegloom.core.rig.kernels.spring import spring
from pegloom.core.rig.kernels.twist import twist

LIMIT, RIDE, TURN, LIMB, BEND, CHAIN, LIMITED, SPLINE, BODY, HOLD, COUPLE, TWIST, SPRING, HALFWAY = range(14)
"""What a step does: bring a slot within its limits; place a node on its parent; put a control's channels on its base;
solve a limb of two bones, of three, a chain, a chain with limits, a curve, a whole body; bring a node to its targets;
drive a slot; spread a twist; let a chain follow through; turn a helper joint part of the way.
How many numbers a step has in the pools, its kernel knows."""


SETTLED = np.zeros(0)
"""No state: what follows through hangs still."""


@njit(cache=True)
def limited(value, low, high, soft):
    """The value within its limits; over the last `soft` before one it eases into it and never goes past."""
    if soft > 0.0 and np.isfinite(low) and value < low + soft:
        value = low + soft * np.exp((value - low - soft) / soft)
    if soft > 0.0 and np.isfinite(high) and value > high - soft:
        value = high - soft * np.exp((high - soft - value) / soft)
    return min(max(value, low), high)


@njit(cache=True, nogil=True)
def walk(steps, ints, floats, local, values, world, state, seconds):
    """Places of all nodes into world (n, 4, 4) for the values of one moment (v,), which are driven and limited in place.

    state, seconds : of what follows through, see `spring`; empty: settled.
    """
    turn = np.empty((4, 4))
    for s in range(len(steps)):
        op, out, base, i, f = steps[s, 0], steps[s, 1], steps[s, 2], steps[s, 3], steps[s, 4]
        if op == RIDE:
            if base < 0:
                world[out] = local[out]
            else:
                put_product(world[out], world[base], local[out])
        elif op == TURN:
            put_channels(
                turn,
                at(values, ints[i], 0.0), at(values, ints[i + 1], 0.0), at(values, ints[i + 2], 0.0),
                at(values, ints[i + 3], 0.0), at(values, ints[i + 4], 0.0), at(values, ints[i + 5], 0.0),
                at(values, ints[i + 6], 1.0),
            )  # fmt: skip
            put_product(world[out], world[base], turn)
        elif op == LIMIT:
            values[out] = limited(values[out], floats[f], floats[f + 1], floats[f + 2])
        elif op == LIMB:
            limb(world, ints[i:], values, floats[f:])
        elif op == BEND:
            bend(world, ints[i:], values, floats[f:])
        elif op == CHAIN:
            chain(world, ints[i:], values, floats[f:])
        elif op == LIMITED:
            limited_chain(world, ints[i:], values, floats[f:])
        elif op == SPLINE:
            spline(world, ints[i:], values, floats[f:])
        elif op == BODY:
            body(world, ints[i:], values, floats[f:])
        elif op == HOLD:
            hold(world, ints[i:], values, floats[f:])
        elif op == COUPLE:
            couple(world, ints[i:], values, floats[f:], out)
        elif op == TWIST:
            twist(world, ints[i:], values, floats[f:], out)
        elif op == SPRING:
            spring(world, ints[i:], values, floats[f:], state, seconds)
        elif op == HALFWAY:
            halfway(world, ints[i], ints[i + 1], floats[f:], out)


@njit(cache=True, nogil=True)
def walk_many(steps, ints, floats, local, values, first, last, out):
    """`walk` for many moments (k, v): nodes first to last into out (k, last - first, 4, 4)."""
    world = np.empty(local.shape)
    for m in range(len(values)):
        walk(steps, ints, floats, local, values[m].copy(), world, np.empty(0), 0.0)
        out[m] = world[first:last]


@njit(cache=True, nogil=True)
def walk_shown(steps, ints, floats, local, values, states, out):
    """`walk` for many moments (k, v) in as many states (k, s): the first nodes into out (k, n, 4, 4)."""
    world = np.empty(local.shape)
    for m in range(len(values)):
        walk(steps, ints, floats, local, values[m].copy(), world, states[m].copy(), 0.0)
        out[m] = world[: out.shape[1]]


@njit(cache=True, nogil=True)
def walk_values(steps, ints, floats, local, values):
    """What becomes of the values of many moments (k, v), in place: driven and limited."""
    world = np.empty(local.shape)
    for m in range(len(values)):
        walk(steps, ints, floats, local, values[m], world, np.empty(0), 0.0)


@njit(cache=True, nogil=True)
def walk_ticks(steps, ints, floats, local, values, states, seconds):
    """On from a state, tick by tick: values (k, v) at the end of each, states (k + 1, s), of which the first is given."""
    world = np.empty(local.shape)
    for m in range(len(values)):
        states[m + 1] = states[m]
        walk(steps, ints, floats, local, values[m].copy(), world, states[m + 1], seconds)


@njit(cache=True, nogil=True)
def channel_places(rows, values, out):
    """What some controls' channels do on their bases into out (k, 4, 4): slots rows (7,), values (k, v)."""
    for m in range(len(values)):
        v = values[m]
        put_channels(
            out[m], at(v, rows[0], 0.0), at(v, rows[1], 0.0), at(v, rows[2], 0.0), at(v, rows[3], 0.0),
            at(v, rows[4], 0.0), at(v, rows[5], 0.0), at(v, rows[6], 1.0),
        )  # fmt: skip
